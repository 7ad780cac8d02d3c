package picture

import (
	"bufio"
	"bytes"
	"compress/flate"
	"encoding/binary"
	"errors"
	"fmt"
	"image/jpeg"
	"io"
)

// ErrFrame is a frame that cannot be read.
var ErrFrame = errors.New("that is no frame of a screen")

const (
	frameHead = 7
	rectBytes = 8
)

// Apply draws a frame, as a Framer writes it, and returns the picture: another one where its size
// has changed. nil is none yet. Nothing is drawn of a frame that cannot be read.
func Apply(p *Picture, frame []byte) (*Picture, error) {
	if len(frame) < frameHead {
		return nil, ErrFrame
	}
	at := func(i int) int { return int(binary.BigEndian.Uint16(frame[i:])) }
	w, h, form, n := at(0), at(2), frame[4], at(5)
	if !Fits(w, h) || len(frame) < frameHead+n*rectBytes {
		return nil, ErrFrame
	}
	parts, area := make([]Rect, n), 0
	for i := range parts {
		from := frameHead + i*rectBytes
		parts[i] = Rect{at(from), at(from + 2), at(from + 4), at(from + 6)}
		if !parts[i].Within(w, h) {
			return nil, ErrFrame
		}
		area += parts[i].W * parts[i].H
	}
	next := New(w, h)
	if p != nil && p.W == w && p.H == h {
		copy(next.Pix, p.Pix)
	}
	body := frame[frameHead+n*rectBytes:]
	var err error
	switch {
	case form == asPhoto && n == 1:
		err = develop(next, parts[0], body)
	case area > MostArea:
		err = ErrFrame
	case form == byte(InFull), form == byte(InFew):
		err = lay(next, parts, body, area, Form(form))
	default:
		err = ErrFrame
	}
	if err != nil {
		return nil, err
	}
	return next, nil
}

func develop(p *Picture, r Rect, text []byte) error {
	c, err := jpeg.DecodeConfig(bytes.NewReader(text))
	if err != nil || c.Width != r.W || c.Height != r.H {
		return ErrFrame
	}
	m, err := jpeg.Decode(bytes.NewReader(text))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrFrame, err)
	}
	p.Draw(r, m)
	return nil
}

// lay draws deflated tiles.
func lay(p *Picture, parts []Rect, packed []byte, area int, form Form) error {
	// No tile takes more than five bytes for a pixel, and a kind with its palette.
	most := int64(5*area + (area/Tile+2)*(3*MostPalette+1) + 1<<16)
	in := bufio.NewReader(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), most))
	u := Untiler{Bytes: 3, Pixel: fromRGB}
	if form == InFew {
		u.Bytes, u.Pixel = 1, fromFew
	}
	for _, r := range parts {
		if err := u.Draw(p, r, in); err != nil {
			return fmt.Errorf("%w: %w", ErrFrame, err)
		}
	}
	return nil
}

// fromRGB reads what RGB writes, and fromFew what few does.
func fromRGB(p []byte) uint32 { return uint32(p[0])<<16 | uint32(p[1])<<8 | uint32(p[2]) }

func fromFew(p []byte) uint32 {
	c := uint32(p[0])
	wide := func(v, most uint32) uint32 { return (2*v*255 + most) / (2 * most) } // rounded
	return wide(c>>5, 7)<<16 | wide(c>>2&7, 7)<<8 | wide(c&3, 3)
}
