package picture

import (
	"bufio"
	"fmt"
	"io"
)

// An Untiler draws tiles, as a Tiler writes them. It may be used again, and not be shared.
type Untiler struct {
	Bytes int                   // of a pixel
	Pixel func(p []byte) uint32 // reads one

	pix  [Tile * Tile]uint32
	rows Packed
	room []byte
}

// A TileError is tiles that make no sense. What goes wrong with reading them is an error of its own.
type TileError struct{ Text string }

func (e *TileError) Error() string { return e.Text }

func noTile(format string, args ...any) error { return &TileError{fmt.Sprintf(format, args...)} }

// Draw draws a part of a picture, which is within, from left to right and top to bottom.
func (u *Untiler) Draw(p *Picture, r Rect, in *bufio.Reader) error {
	for y := r.Y; y < r.Y+r.H; y += Tile {
		for x := r.X; x < r.X+r.W; x += Tile {
			if err := u.tile(p, Rect{x, y, min(Tile, r.X+r.W-x), min(Tile, r.Y+r.H-y)}, in); err != nil {
				return err
			}
		}
	}
	return nil
}

// tile reads one tile (RFC 6143, section 7.7.6).
func (u *Untiler) tile(p *Picture, t Rect, in *bufio.Reader) error {
	kind, err := in.ReadByte()
	if err != nil {
		return err
	}
	switch {
	case kind == TileRaw:
		for y := range t.H {
			if err := u.colours(in, p.Row(t.X, t.Y+y, t.W)); err != nil {
				return err
			}
		}
		return nil
	case kind == TileSolid:
		var c [1]uint32
		if err := u.colours(in, c[:]); err != nil {
			return err
		}
		p.Fill(t, c[0])
		return nil
	case kind <= MostPacked:
		return u.packed(p, t, in, int(kind))
	case kind == TileRuns:
		return u.runs(p, t, in, nil)
	case kind >= TilePaletteRun+2:
		var room [MostPalette]uint32
		palette := room[:kind-TilePaletteRun]
		if err := u.colours(in, palette); err != nil {
			return err
		}
		return u.runs(p, t, in, palette)
	}
	return noTile("it sends a tile of kind %d, which there is not", kind)
}

// colours reads pixels.
func (u *Untiler) colours(in *bufio.Reader, to []uint32) error {
	p, err := u.from(in, len(to)*u.Bytes)
	if err != nil {
		return err
	}
	for i := range to {
		to[i] = u.Pixel(p[i*u.Bytes:])
	}
	return nil
}

// from reads n bytes.
func (u *Untiler) from(in io.Reader, n int) ([]byte, error) {
	if cap(u.room) < n {
		u.room = make([]byte, n)
	}
	_, err := io.ReadFull(in, u.room[:n])
	return u.room[:n], err
}

func (u *Untiler) packed(p *Picture, t Rect, in *bufio.Reader, n int) error {
	var palette [MostPacked]uint32
	if err := u.colours(in, palette[:n]); err != nil {
		return err
	}
	wide := (t.W*PerIndex(n) + 7) / 8
	from, err := u.from(in, wide*t.H)
	if err != nil {
		return err
	}
	u.rows.Begin(palette[:n])
	for y := range t.H {
		if err := u.rows.Draw(p.Row(t.X, t.Y+y, t.W), from[y*wide:(y+1)*wide]); err != nil {
			return err
		}
	}
	return nil
}

// Packed is rows of indices into a palette, of so many bits each, the first one highest.
type Packed struct {
	palette []uint32
	bits    int
	fours   [16][4]uint32 // of two colours: the pixels that four bits stand for
}

// Begin begins rows of another palette, which stays the caller's.
func (k *Packed) Begin(palette []uint32) {
	k.palette, k.bits = palette, PerIndex(len(palette))
	if len(palette) != 2 {
		return
	}
	for four := range k.fours {
		for i := range k.fours[four] {
			k.fours[four][i] = palette[four>>(3-i)&1]
		}
	}
}

// Draw draws one row.
func (k *Packed) Draw(row []uint32, p []byte) error {
	if len(k.palette) == 2 {
		n := len(row) / 8
		for i, b := range p[:n] {
			eight := row[8*i : 8*i+8]
			*(*[4]uint32)(eight) = k.fours[b>>4]
			*(*[4]uint32)(eight[4:]) = k.fours[b&15]
		}
		if row, p = row[8*n:], p[n:]; len(row) == 0 {
			return nil
		}
	}
	mask, per := byte(1<<k.bits-1), 8/k.bits
	for _, b := range p {
		n := min(per, len(row))
		for i := range row[:n] {
			at := b >> (8 - k.bits - i*k.bits) & mask
			if int(at) >= len(k.palette) {
				return noTile("it draws in colour %d of %d", at, len(k.palette))
			}
			row[i] = k.palette[at]
		}
		row = row[n:]
	}
	return nil
}

// runs reads runs of a colour, or of an index into a palette; they go on over the ends of rows.
func (u *Untiler) runs(p *Picture, t Rect, in *bufio.Reader, palette []uint32) error {
	pix := u.pix[:t.W*t.H]
	for at := 0; at < len(pix); {
		c, n, err := u.run(in, palette)
		if err != nil {
			return err
		}
		if n > len(pix)-at {
			return noTile("it draws more than there is of a tile")
		}
		repeat(pix[at:at+n], c)
		at += n
	}
	for y := range t.H {
		copy(p.Row(t.X, t.Y+y, t.W), pix[y*t.W:])
	}
	return nil
}

func (u *Untiler) run(in *bufio.Reader, palette []uint32) (c uint32, n int, err error) {
	if palette == nil {
		var one [1]uint32
		if err := u.colours(in, one[:]); err != nil {
			return 0, 0, err
		}
		c = one[0]
	} else {
		i, err := in.ReadByte()
		if err != nil {
			return 0, 0, err
		}
		if int(i&127) >= len(palette) {
			return 0, 0, noTile("it draws in colour %d of %d", i&127, len(palette))
		}
		if c = palette[i&127]; i < 128 {
			return c, 1, nil
		}
	}
	for n = 1; ; {
		b, err := in.ReadByte()
		if err != nil {
			return 0, 0, err
		}
		if n += int(b); b != 255 {
			return c, n, nil
		}
		if n > Tile*Tile {
			return 0, 0, noTile("it draws more than there is of a tile")
		}
	}
}

// repeat fills a run.
func repeat(to []uint32, c uint32) {
	if len(to) == 0 {
		return
	}
	to[0] = c
	for n := 1; n < len(to); n *= 2 {
		copy(to[n:], to[:n])
	}
}
