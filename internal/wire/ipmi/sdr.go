package ipmi

import (
	"fmt"
	"strings"

	"plumbbob/internal/wire/cursor"
)

// RecordType is the kind of a sensor data record (section 43).
type RecordType uint8

// The kinds that are decoded; others are kept raw.
const (
	FullSensor        RecordType = 0x01 // 43.1
	CompactSensor     RecordType = 0x02 // 43.2
	EventOnly         RecordType = 0x03 // 43.3
	FRULocator        RecordType = 0x11 // 43.8
	ControllerLocator RecordType = 0x12 // 43.9
	OEMRecord         RecordType = 0xc0 // 43.12
)

// A Record is one sensor data record.
type Record struct {
	ID      uint16
	Type    RecordType
	Sensor  *SensorRecord // of full, compact and event-only records
	Locator *Locator      // of FRU and controller locators
	Raw     []byte        // the body, of any other kind
}

// SensorKey says which sensor of whom is meant. Number 0 is a legal one.
type SensorKey struct {
	Owner  uint8 // slave address, or software id with bit 0 set
	LUN    uint8
	Number uint8
}

// SensorRecord is what a record says about a sensor.
type SensorRecord struct {
	SensorKey
	Name     string
	Entity   uint8 // what it measures at (table 43-13)
	Instance uint8
	Type     SensorType
	Event    EventType // how its states are to be read

	Assertion   uint16 // states that make an entry in the event log
	Deassertion uint16
	Readable    uint16 // thresholds that can be read, or states that can be

	Units      Units
	Format     Format
	Linear     Linearization
	Factors    Factors
	Nominal    *uint8 // raw values; nil when not given
	NormalMin  *uint8
	NormalMax  *uint8
	Min, Max   uint8
	Thresholds RawThresholds
	Positive   uint8 // hysteresis, raw
	Negative   uint8
	Threshold  ThresholdAccess
	Scanning   bool // it is measured from the start
}

// ThresholdAccess is what can be done with a sensor's thresholds (table 43-1, byte 12).
type ThresholdAccess uint8

// The kinds of access.
const (
	NoThresholds       ThresholdAccess = 0
	ReadableThresholds ThresholdAccess = 1
	WritableThresholds ThresholdAccess = 2
	FixedThresholds    ThresholdAccess = 3
)

// RawThresholds are the six thresholds as raw readings, each with whether it
// is there at all.
type RawThresholds struct {
	Value [6]uint8
	Has   [6]bool
}

// The thresholds, in the order of the bits of every mask (table 35-9).
const (
	LowerNonCritical = iota
	LowerCritical
	LowerNonRecoverable
	UpperNonCritical
	UpperCritical
	UpperNonRecoverable
)

// Locator is where an inventory or another controller is.
type Locator struct {
	Name    string
	Address uint8 // of the controller that has it
	FRU     uint8 // of a logical FRU: its id
	Logical bool
	Entity  uint8
}

const (
	recordHeader = 5
	sdrVersion   = 0x51
	nameMask     = 0x1f // of a type/length byte in a record
	instanceMask = 0x7f
)

// DecodeRecord reads one record, header included. A kind that is not known is
// no error: its body is in Raw. Compact and event-only records that several
// sensors share give as many records.
func DecodeRecord(b []byte) ([]Record, error) {
	r := cursor.New(b)
	rec := Record{ID: r.U16()}
	r.U8() // version of the format
	rec.Type = RecordType(r.U8())
	body := r.Bytes(int(r.U8()))
	if err := r.Err(); err != nil {
		return nil, fmt.Errorf("ipmi: sensor data record: %w", err)
	}
	out := []Record{rec}
	var err error
	switch r := cursor.New(body); rec.Type {
	case FullSensor:
		out[0].Sensor, err = full(r)
	case CompactSensor:
		out, err = shared(rec, r, compact)
	case EventOnly:
		out, err = shared(rec, r, eventOnly)
	case FRULocator, ControllerLocator:
		out[0].Locator, err = locator(r, rec.Type)
	default:
		out[0].Raw = append([]byte(nil), body...)
	}
	if err != nil {
		return nil, fmt.Errorf("ipmi: sensor data record %d of type %02Xh: %w", rec.ID, uint8(rec.Type), err)
	}
	for i := range out {
		if s := out[i].Sensor; s != nil {
			s.Name = strings.TrimSpace(s.Name) // a shared one may end in the space before its number
		}
	}
	return out, nil
}

// key reads what all sensor records begin with.
func (s *SensorRecord) key(r *cursor.Reader) {
	s.Owner, s.LUN, s.Number = r.U8(), r.U8()&3, r.U8()
	s.Entity, s.Instance = r.U8(), r.U8()&instanceMask
}

const (
	initScanning    = 0x40
	accessShift     = 2
	accessMask      = 3
	thresholdMask   = 0x3f
	analogNominal   = 0x01
	analogNormalMax = 0x02
	analogNormalMin = 0x04
)

func full(r *cursor.Reader) (*SensorRecord, error) {
	s := &SensorRecord{}
	s.key(r)
	s.initial(r)
	s.Units = readUnits(r, &s.Format)
	s.Linear = Linearization(r.U8() & 0x7f)
	s.Factors = readFactors(r)
	given, nominal, normalMax, normalMin := r.U8(), r.U8(), r.U8(), r.U8()
	s.Max, s.Min = r.U8(), r.U8()
	s.Nominal, s.NormalMax, s.NormalMin = when(given&analogNominal, nominal), when(given&analogNormalMax, normalMax), when(given&analogNormalMin, normalMin)
	order := []int{UpperNonRecoverable, UpperCritical, UpperNonCritical, LowerNonRecoverable, LowerCritical, LowerNonCritical}
	for _, n := range order {
		s.Thresholds.Value[n] = r.U8()
		s.Thresholds.Has[n] = s.Event == ThresholdEvents && s.Readable&(1<<n) != 0
	}
	s.Positive, s.Negative = r.U8(), r.U8()
	r.Bytes(3) // reserved, OEM
	s.Name = readName(r)
	return s, r.Done()
}

// initial reads initialization, capabilities, type, and the three masks.
func (s *SensorRecord) initial(r *cursor.Reader) {
	init, caps := r.U8(), r.U8()
	s.Scanning = init&initScanning != 0
	s.Threshold = ThresholdAccess(caps >> accessShift & accessMask)
	s.Type, s.Event = SensorType(r.U8()), EventType(r.U8()&0x7f)
	s.Assertion, s.Deassertion, s.Readable = r.U16()&0x7fff, r.U16()&0x7fff, r.U16()
	if s.Event == ThresholdEvents {
		s.Readable &= thresholdMask
		if s.Threshold != ReadableThresholds && s.Threshold != WritableThresholds {
			s.Readable = 0
		}
	}
}

func when(given, v uint8) *uint8 {
	if given == 0 {
		return nil
	}
	return &v
}

// share is how several sensors stand in one record (table 43-2, bytes 24 and 25).
type share struct {
	count    int
	alpha    bool // "A", "B" instead of 1, 2
	instance bool // the entity's instance goes up as well
	offset   uint8
}

const maxShare = 15

func readShare(r *cursor.Reader) share {
	a, b := r.U8(), r.U8()
	return share{count: int(a & maxShare), alpha: a>>4&3 == 1, instance: b&0x80 != 0, offset: b & 0x7f}
}

func compact(r *cursor.Reader) (*SensorRecord, share, error) {
	s := &SensorRecord{}
	s.key(r)
	s.initial(r)
	s.Units = readUnits(r, &s.Format)
	sh := readShare(r)
	s.Positive, s.Negative = r.U8(), r.U8()
	r.Bytes(4) // reserved, OEM
	s.Name = readName(r)
	return s, sh, r.Done()
}

func eventOnly(r *cursor.Reader) (*SensorRecord, share, error) {
	s := &SensorRecord{}
	s.key(r)
	s.Type, s.Event = SensorType(r.U8()), EventType(r.U8()&0x7f)
	sh := readShare(r)
	r.Bytes(2) // reserved, OEM
	s.Name = readName(r)
	return s, sh, r.Done()
}

// shared writes out one record for each sensor that shares it.
func shared(rec Record, r *cursor.Reader, read func(*cursor.Reader) (*SensorRecord, share, error)) ([]Record, error) {
	s, sh, err := read(r)
	if err != nil {
		return nil, err
	}
	if sh.count <= 1 {
		rec.Sensor = s
		return []Record{rec}, nil
	}
	out := make([]Record, sh.count)
	for i := range out {
		one := *s
		one.Number += uint8(i)
		if sh.instance {
			one.Instance += uint8(i)
		}
		n := int(sh.offset) + i
		if sh.alpha {
			one.Name += string(rune('A' + n%26))
		} else {
			one.Name += fmt.Sprint(n)
		}
		out[i] = Record{ID: rec.ID, Type: rec.Type, Sensor: &one}
	}
	return out, nil
}

func locator(r *cursor.Reader, kind RecordType) (*Locator, error) {
	l := &Locator{Address: r.U8()}
	if kind == FRULocator {
		l.FRU = r.U8()
		l.Logical = r.U8()&0x80 != 0
		r.Bytes(4) // channel, reserved, type of device and modifier
	} else {
		r.Bytes(6) // channel, power state, capabilities, reserved
	}
	l.Entity = r.U8()
	r.Bytes(2) // instance, OEM
	l.Name = readName(r)
	return l, r.Done()
}

// readName reads a type/length byte and the text after it (section 43.15).
func readName(r *cursor.Reader) string {
	tl := r.U8()
	text := rawText(tl>>6, r.Bytes(int(tl&nameMask)))
	r.Rest() // some records are longer than they need
	return text
}
