package ipmi

import (
	"context"
	"errors"
	"fmt"

	"plumbbob/internal/wire/cursor"
)

// RepositoryInfo is the reply to Get SDR Repository Info (section 33.9). The
// two times are the controller's own: they change when the records do.
type RepositoryInfo struct {
	Records       uint16
	Added, Erased uint32
	Reserve       bool // it knows reservations
}

const canReserve = 0x02

// Decode leaves m untouched unless the whole message is sound.
func (m *RepositoryInfo) Decode(r *cursor.Reader) error {
	r.U8() // version
	got := RepositoryInfo{Records: r.U16()}
	r.U16() // free space
	got.Added, got.Erased = r.U32(), r.U32()
	got.Reserve = r.U8()&canReserve != 0
	if err := ended(r, "SDR repository info"); err != nil {
		return err
	}
	*m = got
	return nil
}

// Append is the inverse of Decode.
func (m RepositoryInfo) Append(b []byte) []byte {
	b = append(b, sdrVersion)
	b = append(b, le16(m.Records)...)
	b = append(b, 0xff, 0xff)
	b = append(b, le32(m.Added)...)
	b = append(b, le32(m.Erased)...)
	return append(b, bit(m.Reserve, canReserve))
}

// A Repository is all sensor data records of a controller.
type Repository struct {
	Info    RepositoryInfo
	Records []Record
	Broken  []error // records that could not be read; the others could
}

// Sensors returns the sensor records.
func (r *Repository) Sensors() []*SensorRecord {
	var out []*SensorRecord
	for _, rec := range r.Records {
		if rec.Sensor != nil {
			out = append(out, rec.Sensor)
		}
	}
	return out
}

// Readable returns the records of the sensors that can be read: not of those that
// do nothing but send events.
func (r *Repository) Readable() []*SensorRecord {
	var out []*SensorRecord
	for _, rec := range r.Records {
		if rec.Sensor != nil && rec.Type != EventOnly {
			out = append(out, rec.Sensor)
		}
	}
	return out
}

// Sensor finds a sensor by whom it belongs to and its number.
func (r *Repository) Sensor(k SensorKey) *SensorRecord {
	for _, rec := range r.Records {
		if rec.Sensor != nil && rec.Sensor.Owner == k.Owner && rec.Sensor.Number == k.Number && rec.Sensor.LUN == k.LUN {
			return rec.Sensor
		}
	}
	return nil
}

const (
	lastRecord   = 0xffff
	maxRecords   = 4096 // of a repository or an event log: no controller has more
	firstPiece   = 32   // bytes asked for at a time, until the controller refuses
	minPiece     = 4
	reservations = 8 // that may get lost during one walk
)

// Repository returns the records of the controller: those of before, when
// known is from the same state of the repository.
func (c *Client) Repository(ctx context.Context, known *Repository) (*Repository, error) {
	var info RepositoryInfo
	if err := c.Do(ctx, GetSDRInfo, nil, &info); err != nil {
		return nil, err
	}
	if known != nil && known.Info == info {
		return known, nil
	}
	out := &Repository{Info: info}
	w := walker{c: c, piece: firstPiece, get: GetSDR, reserve: ReserveSDR, reserves: info.Reserve}
	seen := map[uint16]bool{}
	for id := uint16(0); id != lastRecord; {
		if seen[id] || len(seen) > maxRecords {
			return nil, fmt.Errorf("ipmi: the SDR repository runs in a circle at record %d", id)
		}
		seen[id] = true
		b, next, err := w.record(ctx, id)
		if err != nil {
			return nil, fmt.Errorf("ipmi: SDR %d: %w", id, err)
		}
		if recs, err := DecodeRecord(b); err != nil {
			out.Broken = append(out.Broken, err)
		} else {
			out.Records = append(out.Records, recs...)
		}
		id = next
	}
	return out, nil
}

// walker reads records in pieces, under a reservation. A piece that is too
// large for the controller is made smaller for all that follow.
type walker struct {
	c            *Client
	get, reserve Command
	reserves     bool
	reservation  uint16
	reserved     bool
	lost         int
	piece        int
}

// pieceReply is the reply to Get SDR.
type pieceReply struct {
	next uint16
	data []byte
}

// Decode copies the data: the buffer of the client is used again.
func (m *pieceReply) Decode(r *cursor.Reader) error {
	m.next = r.U16()
	m.data = append(m.data[:0], r.Rest()...)
	return r.Done()
}

func (w *walker) record(ctx context.Context, id uint16) (b []byte, next uint16, err error) {
	b, next, err = w.read(ctx, id, nil, recordHeader)
	if err != nil {
		return nil, 0, err
	}
	if len(b) < recordHeader {
		return nil, 0, errors.New("header cut off")
	}
	b, _, err = w.read(ctx, id, b, recordHeader+int(b[recordHeader-1]))
	return b, next, err
}

// read reads a record until it has total bytes.
func (w *walker) read(ctx context.Context, id uint16, b []byte, total int) ([]byte, uint16, error) {
	var part pieceReply
	for len(b) < total {
		if w.reserves && !w.reserved {
			var t tail
			if err := w.c.Do(ctx, w.reserve, nil, &t); err != nil {
				return nil, 0, err
			}
			if len(t) < 2 {
				return nil, 0, errors.New("reservation cut off")
			}
			w.reservation, w.reserved = uint16(t[0])|uint16(t[1])<<8, true
		}
		n := min(total-len(b), w.piece)
		req := append(le16(w.reservation), byte(id), byte(id>>8), byte(len(b)), byte(n))
		err := w.c.Do(ctx, w.get, req, &part)
		if err != nil {
			if !w.adapts(err) {
				return nil, 0, err
			}
			continue
		}
		if len(part.data) == 0 || len(part.data) > n {
			return nil, 0, fmt.Errorf("%d bytes instead of %d", len(part.data), n)
		}
		b = append(b, part.data...)
	}
	return b, part.next, nil
}

// adapts says whether trying again may help, after what it has changed.
func (w *walker) adapts(err error) bool {
	refused, ok := errors.AsType[*CompletionError](err)
	if !ok {
		return false
	}
	switch refused.Code {
	case ReservationLost:
		w.reserved = false
		w.lost++
		return w.reserves && w.lost <= reservations
	case CannotReturnSoMany, LengthExceeded, BadLength, OutOfRange, InvalidField, Unspecified:
		if w.piece <= minPiece {
			return false
		}
		w.piece = max(minPiece, w.piece/2)
		return true
	}
	return false
}
