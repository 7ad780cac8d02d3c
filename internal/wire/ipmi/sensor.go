package ipmi

import (
	"context"
	"errors"
	"fmt"

	"plumbbob/internal/wire/cursor"
)

// A Reading is the reply to Get Sensor Reading (section 35.14). Unavailable
// and not scanned are states of their own, never a zero.
type Reading struct {
	Raw         uint8
	Unavailable bool   // it cannot be read now
	Scanning    bool   // it is being measured
	Events      bool   // its changes go to the event log
	States      uint16 // of a threshold sensor: which thresholds it is beyond; else: its states
}

const (
	readingEvents      = 0x80
	readingScanning    = 0x40
	readingUnavailable = 0x20
)

// Decode leaves m untouched unless the whole message is sound.
func (m *Reading) Decode(r *cursor.Reader) error {
	raw, status := r.U8(), r.U8()
	got := Reading{
		Raw: raw, Unavailable: status&readingUnavailable != 0, Scanning: status&readingScanning != 0, Events: status&readingEvents != 0,
	}
	if r.Len() > 0 {
		got.States = uint16(r.U8())
	}
	if r.Len() > 0 {
		got.States |= uint16(r.U8()&0x7f) << 8
	}
	r.Rest()
	if err := ended(r, "sensor reading"); err != nil {
		return err
	}
	*m = got
	return nil
}

// Append is the inverse of Decode.
func (m Reading) Append(b []byte) []byte {
	return append(b, m.Raw, bit(m.Unavailable, readingUnavailable)|bit(m.Scanning, readingScanning)|bit(m.Events, readingEvents), byte(m.States), byte(m.States>>8)|0x80)
}

// Present says whether the reading means anything.
func (m Reading) Present() bool { return !m.Unavailable && m.Scanning }

// Read reads one sensor. Sensors of another owner than the controller itself
// cannot be read through it directly: they give ErrElsewhere.
func (c *Client) Read(ctx context.Context, s *SensorRecord) (Reading, error) {
	var m Reading
	err := c.ReadInto(ctx, s, &m)
	return m, err
}

// ErrElsewhere: the sensor belongs to another controller.
var ErrElsewhere = errors.New("ipmi: the sensor belongs to another controller")

// controllerOwner is the owner id of the sensors of the controller itself.
const controllerOwner = 0x20

// ReadInto is Read for those who read very many.
func (c *Client) ReadInto(ctx context.Context, s *SensorRecord, m *Reading) error {
	if s.Owner != controllerOwner {
		return ErrElsewhere
	}
	return c.doLUN(ctx, s.LUN, GetSensorReading, []byte{s.Number}, m)
}

// ValueOf converts a reading, asking for factors where the sensor is not linear.
func (c *Client) ValueOf(ctx context.Context, s *SensorRecord, m Reading) (v float64, ok bool, err error) {
	if !m.Present() {
		return 0, false, nil
	}
	f := s.Factors
	if s.Linear >= NonLinear && s.Format != NotAnalog {
		if f, err = c.factors(ctx, s, m.Raw); err != nil {
			return 0, false, err
		}
	}
	v, ok = s.value(m.Raw, f)
	return v, ok, nil
}

// Decode reads the reply to Get Sensor Thresholds (section 35.9). Those that
// the mask does not name are absent, whatever their byte says.
func (t *RawThresholds) Decode(r *cursor.Reader) error {
	mask := r.U8()
	var got RawThresholds
	for n := range got.Value {
		got.Value[n], got.Has[n] = r.U8(), mask&(1<<n) != 0
	}
	if err := ended(r, "thresholds"); err != nil {
		return err
	}
	*t = got
	return nil
}

// Append is the inverse of Decode.
func (t RawThresholds) Append(b []byte) []byte {
	mask := byte(0)
	for n, has := range t.Has {
		mask |= bit(has, 1<<n)
	}
	b = append(b, mask)
	return append(b, t.Value[:]...)
}

// Thresholds reads the thresholds that hold now, which may differ from those
// in the record.
func (c *Client) Thresholds(ctx context.Context, s *SensorRecord) (t RawThresholds, err error) {
	return t, c.doLUN(ctx, s.LUN, GetThresholds, []byte{s.Number}, &t)
}

// SetThresholds sets the thresholds that t has, and reads them back (section 35.8).
func (c *Client) SetThresholds(ctx context.Context, s *SensorRecord, t RawThresholds) error {
	if err := c.doLUN(ctx, s.LUN, SetThresholds, t.Append([]byte{s.Number}), nil); err != nil {
		return err
	}
	got, err := c.Thresholds(ctx, s)
	if err != nil {
		return err
	}
	for n, has := range t.Has {
		if has && got.Value[n] != t.Value[n] {
			return &NotTakenError{"a threshold of " + s.Name, fmt.Sprint(t.Value[n]), fmt.Sprint(got.Value[n])}
		}
	}
	return nil
}

// Hysteresis is how far a reading must come back before a threshold is not
// exceeded any more, in raw counts (section 35.7).
type Hysteresis struct{ Up, Down uint8 }

// Decode leaves h untouched unless the whole message is sound.
func (h *Hysteresis) Decode(r *cursor.Reader) error {
	got := Hysteresis{r.U8(), r.U8()}
	if err := ended(r, "hysteresis"); err != nil {
		return err
	}
	*h = got
	return nil
}

// Hysteresis reads the hysteresis of a sensor.
func (c *Client) Hysteresis(ctx context.Context, s *SensorRecord) (h Hysteresis, err error) {
	return h, c.doLUN(ctx, s.LUN, GetHysteresis, []byte{s.Number, 0xff}, &h)
}
