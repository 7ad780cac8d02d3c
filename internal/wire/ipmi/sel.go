package ipmi

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/wire/cursor"
)

// EventLogInfo is the reply to Get SEL Info (section 31.2).
type EventLogInfo struct {
	Entries       uint16
	Room          uint16 // bytes that still fit
	Added, Erased uint32 // the controller's own times
	Reserve       bool
	Overflow      bool // entries have been dropped
}

const selOverflow = 0x80

// Decode leaves m untouched unless the whole message is sound.
func (m *EventLogInfo) Decode(r *cursor.Reader) error {
	r.U8() // version
	got := EventLogInfo{Entries: r.U16(), Room: r.U16(), Added: r.U32(), Erased: r.U32()}
	can := r.U8()
	got.Reserve, got.Overflow = can&canReserve != 0, can&selOverflow != 0
	if err := ended(r, "event log info"); err != nil {
		return err
	}
	*m = got
	return nil
}

// Append is the inverse of Decode.
func (m EventLogInfo) Append(b []byte) []byte {
	b = append(b, sdrVersion)
	b = append(b, le16(m.Entries)...)
	b = append(b, le16(m.Room)...)
	b = append(b, le32(m.Added)...)
	b = append(b, le32(m.Erased)...)
	return append(b, bit(m.Reserve, canReserve)|bit(m.Overflow, selOverflow))
}

// EventKind is the kind of an event log record (section 32.1 to 32.3).
type EventKind uint8

// The kinds.
const (
	SystemEventRecord EventKind = 0x02
	OEMTimed          EventKind = 0xc0 // and up to DFh
	OEMUntimed        EventKind = 0xe0 // and up
)

// An Event is one record of the event log.
type Event struct {
	ID        uint16
	Kind      EventKind
	Stamp     uint32 // as the controller wrote it
	Generator uint16
	Sensor    SensorKey
	Type      SensorType
	Event     EventType
	Gone      bool // deassertion: the state has ended
	Data      [3]byte
	Maker     uint32 // of OEM records with a time
	OEM       []byte // raw
}

// EventSize is the length of a record.
const EventSize = 16

// Decode leaves e untouched unless the whole message is sound.
func (e *Event) Decode(r *cursor.Reader) error {
	got := Event{ID: r.U16(), Kind: EventKind(r.U8())}
	switch {
	case got.Kind >= OEMUntimed:
		got.OEM = append([]byte(nil), r.Bytes(13)...)
	case got.Kind >= OEMTimed:
		got.Stamp, got.Maker = r.U32(), r.U24()
		got.OEM = append([]byte(nil), r.Bytes(6)...)
	default:
		got.Stamp, got.Generator = r.U32(), r.U16()
		r.U8() // format of the message
		got.Type = SensorType(r.U8())
		got.Sensor = SensorKey{Owner: uint8(got.Generator), LUN: uint8(got.Generator>>8) & 3, Number: r.U8()}
		dir := r.U8()
		got.Gone, got.Event = dir&0x80 != 0, EventType(dir&0x7f)
		r.Copy(got.Data[:])
	}
	if err := ended(r, "event"); err != nil {
		return err
	}
	*e = got
	return nil
}

// Append is the inverse of Decode.
func (e Event) Append(b []byte) []byte {
	b = append(append(b, le16(e.ID)...), byte(e.Kind))
	switch {
	case e.Kind >= OEMUntimed:
		return append(b, e.OEM...)
	case e.Kind >= OEMTimed:
		b = append(b, le32(e.Stamp)...)
		b = append(b, byte(e.Maker), byte(e.Maker>>8), byte(e.Maker>>16))
		return append(b, e.OEM...)
	}
	const format = 0x04
	b = append(append(b, le32(e.Stamp)...), le16(e.Generator)...)
	b = append(b, format, byte(e.Type), e.Sensor.Number, byte(e.Event)|bit(e.Gone, 0x80))
	return append(b, e.Data[:]...)
}

const (
	unspecifiedTime = 0xffffffff
	beforeClock     = 0x20000000 // stamps below count from the controller's start (section 37)
)

// Time is when the event was, by the controller's clock. ok is false when the
// stamp says nothing; since is then how long after the controller's start it
// was, where that is what the stamp counts.
func (e Event) Time() (at time.Time, since time.Duration, ok bool) {
	return StampTime(e.Stamp, e.Kind)
}

// StampTime reads a time stamp (section 37).
func StampTime(stamp uint32, kind EventKind) (at time.Time, since time.Duration, ok bool) {
	switch {
	case stamp == unspecifiedTime || kind >= OEMUntimed:
		return time.Time{}, -1, false
	case stamp <= beforeClock:
		return time.Time{}, time.Duration(stamp) * time.Second, false
	}
	return time.Unix(int64(stamp), 0).UTC(), -1, true
}

// Offset is the state that the event is about.
func (e Event) Offset() uint8 { return e.Data[0] & 0x0f }

// Starts says whether the event is that the system started, or was restarted (table 42-3,
// sensor types 11h, 1Dh and 23h).
func (e Event) Starts() bool {
	if e.Kind != SystemEventRecord || e.Gone || e.Event != SensorSpecific {
		return false
	}
	switch e.Type {
	case RestartType:
		return e.Offset() <= 2 || e.Offset() == 7
	case firmwareWatchdogType:
		return e.Offset() == 0 || e.Offset() == 1 || e.Offset() == 3
	case WatchdogType:
		return e.Offset() == 1 || e.Offset() == 3
	}
	return false
}

// What the second and third data bytes mean (table 29-6).
const (
	byteMask      = 3
	second        = 6 // shift
	third         = 4
	triggerData   = 1 // of threshold events: reading, and threshold
	previousState = 1 // of discrete events: in the second byte
	oemByte       = 2
	specificByte  = 3

	unspecifiedByte = 0xff
)

// Words put the event into a sentence about its sensor. s is the sensor's
// record, from which values come, or nil.
func (e Event) Words(s *SensorRecord) string {
	switch {
	case e.Kind >= OEMUntimed:
		return fmt.Sprintf("maker's own record %02Xh: % x", uint8(e.Kind), e.OEM)
	case e.Kind >= OEMTimed:
		return fmt.Sprintf("maker's own record %02Xh of maker %d: % x", uint8(e.Kind), e.Maker, e.OEM)
	}
	text := StateWord(e.Type, e.Event, e.Offset())
	if other, ok := e.opposite(); ok {
		return StateWord(e.Type, e.Event, other) + e.more()
	}
	if e.Event == ThresholdEvents {
		text += e.trigger(s)
	} else {
		text += e.more()
	}
	if e.Gone {
		return "no longer " + text
	}
	return text
}

// opposite is the state that holds now that this one has gone: of a sensor that
// has two, that is the other one.
func (e Event) opposite() (offset uint8, ok bool) {
	if !e.Gone || e.Event == SensorSpecific || len(States(e.Type, e.Event)) != 2 || e.Offset() > 1 {
		return 0, false
	}
	return 1 - e.Offset(), true
}

// trigger adds the reading and the threshold of a threshold event.
func (e Event) trigger(s *SensorRecord) string {
	if s == nil || s.Linear >= NonLinear {
		return "" // its factors are those of each raw value, and only the controller has them
	}
	text := ""
	if e.Data[0]>>second&byteMask == triggerData {
		if v, ok := s.Value(e.Data[1]); ok {
			text += fmt.Sprintf(": %s", Quantity(v, s))
		}
	}
	if e.Data[0]>>third&byteMask == triggerData {
		if v, ok := s.Value(e.Data[2]); ok {
			text += fmt.Sprintf(" (threshold %s)", Quantity(v, s))
		}
	}
	return text
}

// more adds what the data bytes of a discrete event say: each by its own two bits.
func (e Event) more() string {
	text, own := "", ""
	switch e.Data[0] >> second & byteMask {
	case previousState:
		if was := e.Data[1] & 0x0f; was != 0x0f && was != e.Offset() {
			text = ", was " + StateWord(e.Type, e.Event, was)
		}
	case specificByte:
		text = e.specific()
	case oemByte:
		own += fmt.Sprintf(" %02X", e.Data[1])
	}
	switch e.Data[0] >> third & byteMask {
	case specificByte:
		if e.Event == SensorSpecific && e.Type == Memory && e.Data[2] != unspecifiedByte {
			text += fmt.Sprintf(", module %d", e.Data[2])
		}
	case oemByte:
		own += fmt.Sprintf(" %02X", e.Data[2])
	}
	if own != "" {
		text += " (maker's own data" + own + ")"
	}
	return text
}

// specific explains the second data byte of the few types where people need it
// (table 42-3).
func (e Event) specific() string {
	switch {
	case e.Event != SensorSpecific:
	case e.Type == EventLogState && e.Offset() == 0 && e.Data[1] != unspecifiedByte:
		return fmt.Sprintf(", module %d", e.Data[1])
	case e.Type == SystemEvent && e.Offset() == 5:
		if e.Data[1]&0x80 == 0 {
			return ", before"
		}
		return ", after"
	case e.Type == RestartType:
		return " by " + RestartCause(e.Data[1]&0x0f).String()
	case e.Type == WatchdogType:
		return fmt.Sprintf(", set for the %s", Watchdog{Use: min(e.Data[1]&0x0f, 5)}.UseWords())
	}
	return ""
}

// Gravity says how bad the event was when it happened.
func (e Event) Gravity() Gravity {
	switch {
	case e.Kind != SystemEventRecord:
		return Fine
	case e.Gone:
		if other, ok := e.opposite(); ok {
			return GravityOf(e.Type, e.Event, 1<<other)
		}
		if PresentState(e.Type, e.Event) == 1<<e.Offset() {
			return Warning // it has been taken out
		}
		return Fine
	case e.Event != ThresholdEvents:
		return GravityOf(e.Type, e.Event, 1<<e.Offset())
	case e.Offset()/2 == LowerNonCritical || e.Offset()/2 == UpperNonCritical:
		return Warning
	}
	return Critical
}

// Digits is how many digits behind the decimal point of a sensor's values mean
// something.
func Digits(s *SensorRecord) int {
	digits := 0
	for step := s.Step(128); step > 0 && step < 0.95 && digits < 3; step *= 10 {
		digits++
	}
	return digits
}

// Quantity writes a value with its unit, and as many digits as the sensor has.
func Quantity(v float64, s *SensorRecord) string {
	if u := s.Units.String(); u != "" {
		return fmt.Sprintf("%.*f %s", Digits(s), v, u)
	}
	return fmt.Sprintf("%.*f", Digits(s), v)
}

// EventLogInfo asks how full the log is, and when it last changed.
func (c *Client) EventLogInfo(ctx context.Context) (m EventLogInfo, err error) {
	return m, c.Do(ctx, GetSELInfo, nil, &m)
}

// eventReply is the reply to Get SEL Entry (section 31.5).
type eventReply struct {
	next uint16
	Event
}

// Decode leaves m untouched unless the whole message is sound.
func (m *eventReply) Decode(r *cursor.Reader) error {
	next := r.U16()
	var e Event
	if err := e.Decode(r); err != nil {
		return err
	}
	*m = eventReply{next, e}
	return nil
}

// An EventLog is the log as far as it has been read.
type EventLog struct {
	Info   EventLogInfo
	Events []Event // oldest first
	Anew   bool    // it was read from the start: it had been cleared, or had wrapped
}

const wholeEntry = 0xff

// EventLog reads what has been added to the log since known, which may be nil.
// A log that has been cleared, or in which the record read last stands no
// longer, is read from the start.
func (c *Client) EventLog(ctx context.Context, known *EventLog) (*EventLog, error) {
	info, err := c.EventLogInfo(ctx)
	if err != nil {
		return nil, err
	}
	if known != nil && known.Info == info {
		return known, nil
	}
	if known != nil && len(known.Events) > 0 && known.Info.Erased == info.Erased && int(info.Entries) >= len(known.Events) {
		if out, err := c.newEvents(ctx, known, info); out != nil || err != nil {
			return out, err
		}
	}
	out := &EventLog{Info: info, Anew: true}
	if info.Entries == 0 {
		return out, nil
	}
	out.Events, err = c.eventsFrom(ctx, 0)
	return out, err
}

// newEvents reads on from the newest record that is known; nil when the log
// does not have it any more.
func (c *Client) newEvents(ctx context.Context, known *EventLog, info EventLogInfo) (*EventLog, error) {
	last := known.Events[len(known.Events)-1]
	var m eventReply
	if err := c.Do(ctx, GetSELEntry, entryRequest(last.ID), &m); err != nil {
		if refused, ok := errors.AsType[*CompletionError](err); ok && refused.Code != InsufficientPrivilege {
			return nil, nil
		}
		return nil, err
	}
	if string(m.Append(nil)) != string(last.Append(nil)) {
		return nil, nil
	}
	out := &EventLog{Info: info, Events: known.Events[:len(known.Events):len(known.Events)]}
	if m.next == lastRecord {
		return out, nil
	}
	more, err := c.eventsFrom(ctx, m.next)
	out.Events = append(out.Events, more...)
	return out, err
}

// entryRequest needs no reservation: whole records are read.
func entryRequest(id uint16) []byte {
	return []byte{0, 0, byte(id), byte(id >> 8), 0, wholeEntry}
}

func (c *Client) eventsFrom(ctx context.Context, id uint16) ([]Event, error) {
	var out []Event
	seen := map[uint16]bool{}
	for id != lastRecord {
		if seen[id] || len(out) >= maxRecords {
			return out, fmt.Errorf("ipmi: the event log runs in a circle at record %d", id)
		}
		seen[id] = true
		var m eventReply
		if err := c.Do(ctx, GetSELEntry, entryRequest(id), &m); err != nil {
			if refused, ok := errors.AsType[*CompletionError](err); ok && refused.Code == NotPresent {
				return out, nil // emptied while it was being read
			}
			return out, err
		}
		out = append(out, m.Event)
		id = m.next
	}
	return out, nil
}

// The actions of Clear SEL (section 31.9).
const (
	eraseStart  = 0xaa
	eraseStatus = 0x00
	eraseDone   = 1
	erasePause  = 100 * time.Millisecond
)

// ClearEventLog erases the log and waits until that is done. known is what was
// read of it: when there is more by now, nothing is erased.
func (c *Client) ClearEventLog(ctx context.Context, known *EventLog) error {
	var reservation tail
	if err := c.Do(ctx, ReserveSEL, nil, &reservation); err != nil {
		return err
	}
	if len(reservation) < 2 {
		return errors.New("ipmi: reservation of the event log cut off")
	}
	// Looked at under the reservation, which a new entry would end.
	info, err := c.EventLogInfo(ctx)
	if err != nil {
		return err
	}
	if info != known.Info {
		return ErrLogMoved
	}
	req := func(action byte) []byte {
		return []byte{reservation[0], reservation[1], 'C', 'L', 'R', action}
	}
	var progress tail
	cmd := ClearSEL
	for action := byte(eraseStart); ; action = eraseStatus {
		if err := c.Do(ctx, cmd, req(action), &progress); err != nil {
			if refused, ok := errors.AsType[*CompletionError](err); ok && refused.Code == ReservationLost {
				return ErrLogMoved
			}
			return err
		}
		if len(progress) > 0 && progress[0]&0x0f == eraseDone {
			return nil
		}
		cmd.Once = false // asking how far it is may be repeated
		if err := pause(ctx, erasePause); err != nil {
			return err
		}
	}
}

// ErrLogMoved: the log has changed since it was read.
var ErrLogMoved = errors.New("ipmi: the event log has changed since it was read: read it again")

// Clock reads the clock of the event log, which is the controller's.
func (c *Client) Clock(ctx context.Context) (time.Time, error) {
	var b tail
	if err := c.Do(ctx, GetSELTime, nil, &b); err != nil {
		return time.Time{}, err
	}
	r := cursor.New(b)
	stamp := r.U32()
	if err := r.Err(); err != nil {
		return time.Time{}, fmt.Errorf("ipmi: clock: %w", err)
	}
	return time.Unix(int64(stamp), 0).UTC(), nil
}

// SetClock sets the controller's clock, in whole seconds.
func (c *Client) SetClock(ctx context.Context, t time.Time) error {
	return c.Do(ctx, SetSELTime, le32(uint32(t.Unix())), nil)
}
