package rfb

import (
	"encoding/binary"
	"io"
	"unsafe"

	"plumbbob/internal/core/picture"
)

// raw is pixel by pixel (section 7.7.1).
func (v *Viewer) raw(r picture.Rect) error {
	if r.Empty() {
		return nil
	}
	if v.format.isPlain && asInMemory {
		return v.rawInPlace(r)
	}
	per := r.W * v.format.bytes
	rows := max(1, readerBytes/per)
	for y := 0; y < r.H; y += rows {
		n := min(rows, r.H-y)
		p, err := v.peek(n * per)
		if err != nil {
			return err
		}
		for i := range n {
			v.format.pixels(v.pic.Row(r.X, r.Y+y+i, r.W), p[i*per:(i+1)*per])
		}
		if _, err := v.r.Discard(v.peeked); err != nil {
			return err
		}
	}
	return nil
}

// asInMemory says whether this machine keeps a pixel as the plain format has it.
var asInMemory = binary.NativeEndian.Uint16([]byte{1, 0}) == 1

// rawInPlace reads pixels to where they belong, a few rows at a time, and clears the byte of each
// that is none of a colour.
func (v *Viewer) rawInPlace(r picture.Rect) error {
	rows := 1
	if r.W == v.pic.W { // they are one behind the other
		rows = max(1, readerBytes/(4*r.W))
	}
	for y := 0; y < r.H; y += rows {
		at := (r.Y+y)*v.pic.W + r.X
		pix := v.pic.Pix[at : at+min(rows, r.H-y)*r.W]
		if _, err := io.ReadFull(v.r, unsafe.Slice((*byte)(unsafe.Pointer(&pix[0])), 4*len(pix))); err != nil {
			return unexpected(err)
		}
		clearHigh(pix)
	}
	return nil
}

func clearHigh(pix []uint32) {
	if uintptr(unsafe.Pointer(&pix[0]))%8 != 0 {
		pix[0] &= 0xffffff
		pix = pix[1:]
	}
	if len(pix)%2 != 0 {
		pix[len(pix)-1] &= 0xffffff
	}
	const mask = 0x00ffffff_00ffffff
	twos := unsafe.Slice((*uint64)(unsafe.Pointer(unsafe.SliceData(pix))), len(pix)/2)
	for ; len(twos) >= 8; twos = twos[8:] {
		e := (*[8]uint64)(twos)
		e[0] &= mask
		e[1] &= mask
		e[2] &= mask
		e[3] &= mask
		e[4] &= mask
		e[5] &= mask
		e[6] &= mask
		e[7] &= mask
	}
	for i := range twos {
		twos[i] &= mask
	}
}

// copyRect is what is elsewhere in the picture (section 7.7.2).
func (v *Viewer) copyRect(r picture.Rect) error {
	p, err := v.take(4)
	if err != nil {
		return err
	}
	from := picture.Rect{X: int(binary.BigEndian.Uint16(p)), Y: int(binary.BigEndian.Uint16(p[2:])), W: r.W, H: r.H}
	if !from.Within(v.pic.W, v.pic.H) {
		return wrong("it copies from outside of the picture")
	}
	v.pic.Move(r, from.X, from.Y)
	return nil
}

// rre is a background, and rectangles on it (section 7.7.3).
func (v *Viewer) rre(r picture.Rect) error {
	b := v.format.bytes
	p, err := v.take(4 + b)
	if err != nil {
		return err
	}
	n := binary.BigEndian.Uint32(p)
	if uint64(n) > uint64(r.W)*uint64(r.H) {
		return wrong("it draws %d rectangles on %d × %d pixels", n, r.W, r.H)
	}
	v.pic.Fill(r, v.format.pixel(p[4:]))
	for ; n > 0; n-- {
		p, err := v.take(b + 8)
		if err != nil {
			return err
		}
		if err := v.fillIn(r, rectOf(p[b:]), v.format.pixel(p)); err != nil {
			return err
		}
	}
	return nil
}

// fillIn fills a part of a rectangle.
func (v *Viewer) fillIn(r, sub picture.Rect, c uint32) error {
	if !sub.Within(r.W, r.H) {
		return wrong("it draws outside of its rectangle")
	}
	sub.X, sub.Y = sub.X+r.X, sub.Y+r.Y
	v.pic.Fill(sub, c)
	return nil
}

// What a tile of Hextile may have (section 7.7.4).
const (
	hexRaw        = 1
	hexBackground = 2
	hexForeground = 4
	hexSubrects   = 8
	hexColoured   = 16

	hexTile = 16
)

// hextile is tiles of 16 × 16 pixels, each a background and rectangles on it.
func (v *Viewer) hextile(r picture.Rect) error {
	var back, fore uint32
	for y := r.Y; y < r.Y+r.H; y += hexTile {
		for x := r.X; x < r.X+r.W; x += hexTile {
			t := picture.Rect{X: x, Y: y, W: min(hexTile, r.X+r.W-x), H: min(hexTile, r.Y+r.H-y)}
			kind, err := v.r.ReadByte()
			if err != nil {
				return err
			}
			if kind&hexRaw != 0 {
				err = v.raw(t)
			} else {
				err = v.hexTile(t, kind, &back, &fore)
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

func (v *Viewer) hexTile(t picture.Rect, kind byte, back, fore *uint32) error {
	b := v.format.bytes
	for _, c := range []struct {
		bit byte
		to  *uint32
	}{{hexBackground, back}, {hexForeground, fore}} {
		if kind&c.bit != 0 {
			p, err := v.take(b)
			if err != nil {
				return err
			}
			*c.to = v.format.pixel(p)
		}
	}
	v.pic.Fill(t, *back)
	if kind&hexSubrects == 0 {
		return nil
	}
	n, err := v.r.ReadByte()
	if err != nil {
		return err
	}
	each := 2
	if kind&hexColoured != 0 {
		each += b
	}
	p, err := v.take(int(n) * each)
	if err != nil {
		return err
	}
	for ; len(p) > 0; p = p[2:] {
		c := *fore
		if kind&hexColoured != 0 {
			c, p = v.format.pixel(p), p[b:]
		}
		sub := picture.Rect{X: int(p[0] >> 4), Y: int(p[0] & 15), W: int(p[1]>>4) + 1, H: int(p[1]&15) + 1}
		if err := v.fillIn(t, sub, c); err != nil {
			return err
		}
	}
	return nil
}

// peek reads ahead, as far as possible without a copy; what was read has to be discarded.
func (v *Viewer) peek(n int) ([]byte, error) {
	if n <= v.r.Size() {
		v.peeked = n
		p, err := v.r.Peek(n)
		if len(p) == n {
			return p, nil
		}
		return nil, unexpected(err)
	}
	v.peeked = 0
	p, err := v.take(n)
	return p, unexpected(err)
}

func unexpected(err error) error {
	if err == io.EOF { //nolint:errorlint // readers return it as it is
		return io.ErrUnexpectedEOF
	}
	return err
}
