package picture

import (
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
	text, err := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), most))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrFrame, err)
	}
	t := layer{text: text, form: form}
	for _, r := range parts {
		for y := r.Y; y < r.Y+r.H; y += Tile {
			for x := r.X; x < r.X+r.W; x += Tile {
				t.tile(p, Rect{x, y, min(Tile, r.X+r.W-x), min(Tile, r.Y+r.H-y)})
				if t.bad {
					return ErrFrame
				}
			}
		}
	}
	return nil
}

// layer reads tiles. What is not there reads as nothing, and is bad.
type layer struct {
	text []byte
	form Form
	bad  bool
	pix  [Tile * Tile]uint32
}

func (t *layer) byte() byte {
	if len(t.text) == 0 {
		t.bad = true
		return 0
	}
	b := t.text[0]
	t.text = t.text[1:]
	return b
}

func (t *layer) colour() uint32 {
	if t.form == InFull {
		return uint32(t.byte())<<16 | uint32(t.byte())<<8 | uint32(t.byte())
	}
	c := uint32(t.byte())
	wide := func(v, most uint32) uint32 { return (2*v*255 + most) / (2 * most) } // rounded
	return wide(c>>5, 7)<<16 | wide(c>>2&7, 7)<<8 | wide(c&3, 3)
}

func (t *layer) palette(n int) []uint32 {
	all := make([]uint32, n)
	for i := range all {
		all[i] = t.colour()
	}
	return all
}

func (t *layer) tile(p *Picture, r Rect) {
	pix := t.pix[:r.W*r.H]
	switch kind := t.byte(); {
	case kind == TileRaw:
		for i := range pix {
			pix[i] = t.colour()
		}
	case kind == TileSolid:
		c := t.colour()
		for i := range pix {
			pix[i] = c
		}
	case kind <= MostPacked:
		t.packed(pix, r, t.palette(int(kind)))
	case kind == TileRuns:
		t.runs(pix, nil)
	case kind >= TilePaletteRun+2:
		t.runs(pix, t.palette(int(kind)-TilePaletteRun))
	default:
		t.bad = true
	}
	for y := range r.H {
		copy(p.Row(r.X, r.Y+y, r.W), pix[y*r.W:])
	}
}

func (t *layer) packed(pix []uint32, r Rect, palette []uint32) {
	bits := PerIndex(len(palette))
	for y := range r.H {
		have, left := byte(0), 0
		for x := range r.W {
			if left == 0 {
				have, left = t.byte(), 8
			}
			left -= bits
			pix[y*r.W+x] = t.of(palette, int(have>>left)&(1<<bits-1))
		}
	}
}

func (t *layer) of(palette []uint32, i int) uint32 {
	if i >= len(palette) {
		t.bad = true
		return 0
	}
	return palette[i]
}

func (t *layer) runs(pix, palette []uint32) {
	for done := 0; done < len(pix) && !t.bad; {
		c, n := uint32(0), 1
		if palette == nil {
			c = t.colour()
			n += t.length()
		} else {
			i := t.byte()
			c = t.of(palette, int(i&0x7f))
			if i&0x80 != 0 {
				n += t.length()
			}
		}
		if n > len(pix)-done {
			t.bad = true
			return
		}
		for i := range n {
			pix[done+i] = c
		}
		done += n
	}
}

func (t *layer) length() (n int) {
	for !t.bad && n <= Tile*Tile {
		b := t.byte()
		n += int(b)
		if b != 0xff {
			return n
		}
	}
	t.bad = true
	return 0
}
