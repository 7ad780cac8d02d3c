package picture

import (
	"fmt"
	"io"
)

// An Untiler draws tiles, as a Tiler writes them. It may be used again, and not be shared.
type Untiler struct {
	Bytes int                   // of a pixel
	Pixel func(p []byte) uint32 // reads one

	pix  [Tile * Tile]uint32
	room []byte
}

// Tiles is where tiles are read from.
type Tiles interface {
	io.Reader
	io.ByteReader
}

// A TileError is tiles that make no sense. What goes wrong with reading them is an error of its own.
type TileError struct{ Text string }

func (e *TileError) Error() string { return e.Text }

func noTile(format string, args ...any) error { return &TileError{fmt.Sprintf(format, args...)} }

// Draw draws a part of a picture, which is within, from left to right and top to bottom.
func (u *Untiler) Draw(p *Picture, r Rect, in Tiles) error {
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
func (u *Untiler) tile(p *Picture, t Rect, in Tiles) error {
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
func (u *Untiler) colours(in Tiles, to []uint32) error {
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

func (u *Untiler) packed(p *Picture, t Rect, in Tiles, n int) error {
	var palette [MostPacked]uint32
	if err := u.colours(in, palette[:n]); err != nil {
		return err
	}
	bits := PerIndex(n)
	wide := (t.W*bits + 7) / 8
	from, err := u.from(in, wide*t.H)
	if err != nil {
		return err
	}
	for y := range t.H {
		if err := Unpack(p.Row(t.X, t.Y+y, t.W), from[y*wide:(y+1)*wide], palette[:n], bits); err != nil {
			return err
		}
	}
	return nil
}

// eight draws eight pixels of two colours: one, and by how it is different the other.
func eight(row []uint32, b byte, one, other uint32) {
	_ = row[7]
	bits := uint32(b)
	row[0], row[1] = one^other&-(bits>>7), one^other&-(bits>>6&1)
	row[2], row[3] = one^other&-(bits>>5&1), one^other&-(bits>>4&1)
	row[4], row[5] = one^other&-(bits>>3&1), one^other&-(bits>>2&1)
	row[6], row[7] = one^other&-(bits>>1&1), one^other&-(bits&1)
}

// Unpack draws a row of indices into a palette, of so many bits each, the first one highest.
func Unpack(row []uint32, p []byte, palette []uint32, bits int) error {
	mask, per := byte(1<<bits-1), 8/bits
	for bits == 1 && len(palette) == 2 && len(row) >= 8 {
		eight(row[:8:8], p[0], palette[0], palette[0]^palette[1])
		row, p = row[8:], p[1:]
	}
	for _, b := range p {
		n := min(per, len(row))
		for i := range row[:n] {
			at := b >> (8 - bits - i*bits) & mask
			if int(at) >= len(palette) {
				return noTile("it draws in colour %d of %d", at, len(palette))
			}
			row[i] = palette[at]
		}
		row = row[n:]
	}
	return nil
}

// runs reads runs of a colour, or of an index into a palette; they go on over the ends of rows.
func (u *Untiler) runs(p *Picture, t Rect, in Tiles, palette []uint32) error {
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

func (u *Untiler) run(in Tiles, palette []uint32) (c uint32, n int, err error) {
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
