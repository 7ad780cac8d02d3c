package ipmi

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/wire/cursor"
)

// PowerReading is what the controller measures of the host's draw, in W
// (DCMI 6.6.1).
type PowerReading struct {
	Now, Min, Max, Mean uint16
	At                  time.Time
	Over                time.Duration // what min, max and mean are of
	Active              bool          // it is being measured now
}

// Decode leaves m untouched unless the whole message is sound.
func (m *PowerReading) Decode(r *cursor.Reader) error {
	got := PowerReading{Now: r.U16(), Min: r.U16(), Max: r.U16(), Mean: r.U16()}
	got.At = time.Unix(int64(r.U32()), 0).UTC()
	got.Over = time.Duration(r.U32()) * time.Millisecond
	got.Active = r.U8()&0x40 != 0
	if err := ended(r, "power reading"); err != nil {
		return err
	}
	*m = got
	return nil
}

// Append is the inverse of Decode, without the group.
func (m PowerReading) Append(b []byte) []byte {
	for _, v := range []uint16{m.Now, m.Min, m.Max, m.Mean} {
		b = append(b, le16(v)...)
	}
	b = append(b, le32(uint32(m.At.Unix()))...)
	b = append(b, le32(uint32(m.Over/time.Millisecond))...)
	return append(b, bit(m.Active, 0x40))
}

// Power asks what the host draws, as its controller measures it.
func (c *Client) Power(ctx context.Context) (m PowerReading, err error) {
	const systemPower = 1
	return m, c.Do(ctx, GetPowerReading, []byte{systemPower, 0, 0}, &m)
}

// PowerLimit keeps the host's draw below a number of watts (DCMI 6.6.2).
type PowerLimit struct {
	Active     bool
	Watts      uint16
	PowerOff   bool // when it cannot be kept: otherwise only an entry in the event log
	Correction time.Duration
	Sampling   time.Duration
}

// noLimit is the code for "there is one, but it is not active".
const noLimit = CompletionCode(0x80)

// Decode leaves m untouched unless the whole message is sound.
func (m *PowerLimit) Decode(r *cursor.Reader) error {
	r.Bytes(2)
	got := PowerLimit{Active: true, PowerOff: r.U8() == 1, Watts: r.U16(), Correction: time.Duration(r.U32()) * time.Millisecond}
	r.Bytes(2)
	got.Sampling = time.Duration(r.U16()) * time.Second
	if err := ended(r, "power limit"); err != nil {
		return err
	}
	*m = got
	return nil
}

// append writes what Set Power Limit takes, and Get Power Limit returns but
// for the order of two bytes.
func (m PowerLimit) append(b []byte, reserved int) []byte {
	const logOnly = 0x11
	action := byte(logOnly)
	if m.PowerOff {
		action = 1
	}
	b = append(b, make([]byte, reserved)...)
	b = append(b, action)
	b = append(b, le16(m.Watts)...)
	b = append(b, le32(uint32(m.Correction/time.Millisecond))...)
	b = append(b, 0, 0)
	return append(b, le16(uint16(m.Sampling/time.Second))...)
}

// Append is the inverse of Decode.
func (m PowerLimit) Append(b []byte) []byte { return m.append(b, 2) }

// Limit asks for the power limit.
func (c *Client) Limit(ctx context.Context) (m PowerLimit, err error) {
	err = c.Do(ctx, GetPowerLimit, []byte{0, 0}, &m)
	if refused, ok := errors.AsType[*CompletionError](err); ok && refused.Code == noLimit {
		return PowerLimit{}, nil
	}
	return m, err
}

// SetLimit sets and activates, or only deactivates, the power limit, and reads
// it back.
func (c *Client) SetLimit(ctx context.Context, m PowerLimit) error {
	if m.Active {
		m.Correction, m.Sampling = max(m.Correction, time.Second), max(m.Sampling, time.Second)
		if err := c.Do(ctx, SetPowerLimit, m.append(nil, 3), nil); err != nil {
			return err
		}
	}
	if err := c.Do(ctx, ActivatePowerLimit, []byte{bit(m.Active, 1), 0, 0}, nil); err != nil {
		return err
	}
	got, err := c.Limit(ctx)
	if err != nil {
		return err
	}
	if got.Active != m.Active || m.Active && got.Watts != m.Watts {
		return &NotTakenError{"the power limit", fmt.Sprintf("%d W (%t)", m.Watts, m.Active), fmt.Sprintf("%d W (%t)", got.Watts, got.Active)}
	}
	return nil
}

const (
	nameChunk = 16
	maxName   = 64 // of a controller (DCMI 6.4.6.1)
)

// Name reads the name of the controller (DCMI 6.4.6.1).
func (c *Client) Name(ctx context.Context) (string, error) {
	var name []byte
	for {
		var part tail
		if err := c.Do(ctx, GetControllerName, []byte{byte(len(name)), nameChunk}, &part); err != nil {
			return "", err
		}
		if len(part) < 2 {
			break
		}
		name = append(name, part[1:]...)
		if len(name) >= int(part[0]) || len(name) >= maxName {
			break
		}
	}
	for i, b := range name {
		if b == 0 {
			name = name[:i]
			break
		}
	}
	return printable(name), nil
}

// SetName writes the name of the controller and reads it back (DCMI 6.4.6.2).
func (c *Client) SetName(ctx context.Context, name string) error {
	if len(name) >= maxName {
		return fmt.Errorf("ipmi: a controller's name has at most %d bytes", maxName-1)
	}
	b := append([]byte(name), 0)
	for at := 0; at < len(b); at += nameChunk {
		part := b[at:min(at+nameChunk, len(b))]
		if err := c.Do(ctx, SetControllerName, append([]byte{byte(at), byte(len(part))}, part...), nil); err != nil {
			return err
		}
	}
	got, err := c.Name(ctx)
	if err != nil {
		return err
	}
	if got != name {
		return &NotTakenError{"the controller's name", name, got}
	}
	return nil
}
