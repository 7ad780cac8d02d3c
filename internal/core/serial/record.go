package serial

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"
)

// A Saying is a piece of what a line said, at one moment.
type Saying struct {
	At   time.Time
	Text []byte
}

// A Part is what a line said for a while, as it is kept. The zero Part is empty.
type Part struct {
	Said  []Saying
	Bytes int // that it takes, before it is compressed
}

// Sizes of parts.
const (
	PartBytes   = 64 << 10  // a part that has so many is full, at the end of a line
	partMost    = 128 << 10 // and at the latest with so many
	partFor     = time.Hour
	sayingTakes = 4                     // bytes beside its text
	together    = 20 * time.Millisecond // what comes so soon after is the same saying
)

// Add adds what was said. p is copied.
func (p *Part) Add(text []byte, at time.Time) {
	at = at.UTC().Truncate(time.Millisecond)
	p.Bytes += len(text)
	if n := len(p.Said); n > 0 {
		last := &p.Said[n-1]
		if at.Before(last.At) { // the clock was set back
			at = last.At
		}
		if at.Sub(last.At) < together {
			last.Text = append(last.Text, text...)
			return
		}
	}
	p.Said = append(p.Said, Saying{at, bytes.Clone(text)})
	p.Bytes += sayingTakes
}

// Began is when the first of it was said.
func (p *Part) Began() time.Time { return p.Said[0].At }

// Ended is when the last of it was said.
func (p *Part) Ended() time.Time { return p.Said[len(p.Said)-1].At }

// Full says whether another part is to be begun.
func (p *Part) Full(now time.Time) bool {
	if len(p.Said) == 0 {
		return false
	}
	last := p.Said[len(p.Said)-1].Text
	return p.Bytes >= partMost || now.Sub(p.Began()) >= partFor || p.Bytes >= PartBytes && bytes.HasSuffix(last, []byte("\n"))
}

// Encode writes a part: its beginning in milliseconds since 1970, and of each saying the
// milliseconds since the one before, its length and its bytes; numbers as varints; all of
// it compressed (RFC 1951).
func (p *Part) Encode() []byte {
	if len(p.Said) == 0 {
		return nil
	}
	var out bytes.Buffer
	w, err := flate.NewWriter(&out, flate.BestSpeed)
	if err != nil {
		panic(err) // the level is a constant
	}
	last := p.Began().UnixMilli()
	head := binary.AppendVarint(nil, last)
	for _, s := range p.Said {
		at := s.At.UnixMilli()
		head = binary.AppendUvarint(head, uint64(at-last))
		head = binary.AppendUvarint(head, uint64(len(s.Text)))
		_, _ = w.Write(head) // into memory
		_, _ = w.Write(s.Text)
		head, last = head[:0], at
	}
	_ = w.Close()
	return out.Bytes()
}

// ErrPart: what was kept is not what a part is written as.
var ErrPart = errors.New("a part of what the line said cannot be read")

// DecodePart reads what Encode has written. Its error is ErrPart.
func DecodePart(kept []byte) (*Part, error) {
	raw, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(kept)), 4*partMost))
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrPart, err)
	}
	began, n := binary.Varint(raw)
	if n <= 0 {
		return nil, ErrPart
	}
	p, at, raw := &Part{}, began, raw[n:]
	for len(raw) > 0 {
		later, n := binary.Uvarint(raw)
		if n <= 0 || later > uint64(48*time.Hour/time.Millisecond) {
			return nil, ErrPart
		}
		raw = raw[n:]
		size, n := binary.Uvarint(raw)
		if n <= 0 || size > uint64(len(raw)-n) {
			return nil, ErrPart
		}
		at += int64(later)
		p.Said = append(p.Said, Saying{time.UnixMilli(at).UTC(), raw[n : n+int(size)]})
		p.Bytes += int(size) + sayingTakes
		raw = raw[n+int(size):]
	}
	if len(p.Said) == 0 {
		return nil, ErrPart
	}
	return p, nil
}
