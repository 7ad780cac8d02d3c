package picture

import "math/bits"

// Tile is the side of a tile, in pixels.
const Tile = 64

// Kinds of tile (RFC 6143, section 7.7.6). Up to 16 colours are packed; beyond that lies what
// is run-length encoded.
const (
	TileRaw        = 0
	TileSolid      = 1
	MostPacked     = 16
	TileRuns       = 128
	TilePaletteRun = 128 // and the number of colours
	MostPalette    = 127
)

// A Tiler writes parts of pictures as tiles. It may be used again, and not be shared.
type Tiler struct {
	Bytes int                                   // of a pixel
	Pixel func(out []byte, pixel uint32) []byte // writes one
	Mask  uint32                                // what of a pixel counts; 0: all of it

	pix     [Tile * Tile]uint32
	palette palette
}

// RGB writes pixels as three bytes.
func RGB(out []byte, c uint32) []byte { return append(out, byte(c>>16), byte(c>>8), byte(c)) }

// Append writes a part of a picture, which is within, as tiles from left to right and top to
// bottom.
func (t *Tiler) Append(out []byte, p *Picture, r Rect) []byte {
	for y := r.Y; y < r.Y+r.H; y += Tile {
		for x := r.X; x < r.X+r.W; x += Tile {
			out = t.tile(out, p, Rect{x, y, min(Tile, r.X+r.W-x), min(Tile, r.Y+r.H-y)})
		}
	}
	return out
}

func (t *Tiler) tile(out []byte, p *Picture, r Rect) []byte {
	pix := t.pix[:r.W*r.H]
	for y := range r.H {
		copy(pix[y*r.W:], p.Row(r.X, r.Y+y, r.W))
	}
	if t.Mask != 0 {
		for i := range pix {
			pix[i] &= t.Mask
		}
	}
	runs, single := t.survey(pix)
	n := len(t.palette.colours)
	few := n <= MostPalette && !t.palette.over
	switch {
	case n == 1:
		return t.Pixel(append(out, TileSolid), pix[0])
	case few && n <= MostPacked && t.packedSize(n, r) <= n*t.Bytes+single+2*(runs-single):
		return t.packed(out, pix, r)
	case few && n*t.Bytes+single+2*(runs-single) < min(len(pix)*t.Bytes, runs*(t.Bytes+1)):
		return t.paletteRuns(out, pix)
	case runs*(t.Bytes+1) < len(pix)*t.Bytes:
		return t.runs(append(out, TileRuns), pix)
	}
	out = append(out, TileRaw)
	for _, c := range pix {
		out = t.Pixel(out, c)
	}
	return out
}

// survey finds the colours of a tile, and counts its runs, and those of one pixel.
func (t *Tiler) survey(pix []uint32) (runs, single int) {
	t.palette.clear()
	for i := 0; i < len(pix); {
		j := i + 1
		for j < len(pix) && pix[j] == pix[i] {
			j++
		}
		if runs++; j == i+1 {
			single++
		}
		t.palette.add(pix[i])
		i = j
	}
	return runs, single
}

// PerIndex is how many bits an index into a packed palette takes.
func PerIndex(colours int) int {
	switch {
	case colours <= 2:
		return 1
	case colours <= 4:
		return 2
	}
	return 4
}

func (t *Tiler) packedSize(n int, r Rect) int {
	return n*t.Bytes + r.H*((r.W*PerIndex(n)+7)/8)
}

func (t *Tiler) colours(out []byte) []byte {
	for _, c := range t.palette.colours {
		out = t.Pixel(out, c)
	}
	return out
}

func (t *Tiler) packed(out []byte, pix []uint32, r Rect) []byte {
	n := len(t.palette.colours)
	size := PerIndex(n)
	out = t.colours(append(out, byte(n)))
	for y := range r.H {
		have, filled := byte(0), 0
		for _, c := range pix[y*r.W : (y+1)*r.W] {
			have = have<<size | t.palette.index(c)
			if filled += size; filled == 8 {
				out = append(out, have)
				have, filled = 0, 0
			}
		}
		if filled > 0 {
			out = append(out, have<<(8-filled))
		}
	}
	return out
}

func (t *Tiler) paletteRuns(out []byte, pix []uint32) []byte {
	out = t.colours(append(out, byte(TilePaletteRun+len(t.palette.colours))))
	for i := 0; i < len(pix); {
		j := i + 1
		for j < len(pix) && pix[j] == pix[i] {
			j++
		}
		if at := t.palette.index(pix[i]); j == i+1 {
			out = append(out, at)
		} else {
			out = runLength(append(out, at|128), j-i)
		}
		i = j
	}
	return out
}

func (t *Tiler) runs(out []byte, pix []uint32) []byte {
	for i := 0; i < len(pix); {
		j := i + 1
		for j < len(pix) && pix[j] == pix[i] {
			j++
		}
		out = runLength(t.Pixel(out, pix[i]), j-i)
		i = j
	}
	return out
}

func runLength(out []byte, n int) []byte {
	for n--; n >= 255; n -= 255 {
		out = append(out, 255)
	}
	return append(out, byte(n))
}

// palette finds the index of a colour.
type palette struct {
	colours []uint32
	over    bool // there are more than it holds
	slots   [256]uint8
	used    [256]bool
	room    [MostPalette]uint32
	last    uint32
	lastAt  uint8
}

func (p *palette) clear() {
	p.colours, p.over, p.used = p.room[:0], false, [256]bool{}
}

func slot(c uint32) uint8 { return uint8(bits.RotateLeft32(c*2654435761, 8)) }

func (p *palette) add(c uint32) {
	if p.over {
		return
	}
	at := slot(c)
	for p.used[at] {
		if p.colours[p.slots[at]] == c {
			return
		}
		at++
	}
	if len(p.colours) == MostPalette {
		p.over = true
		return
	}
	p.used[at], p.slots[at] = true, uint8(len(p.colours))
	p.colours = append(p.colours, c)
	p.last, p.lastAt = p.colours[0], 0
}

func (p *palette) index(c uint32) uint8 {
	if c == p.last {
		return p.lastAt
	}
	at := slot(c)
	for p.colours[p.slots[at]] != c {
		at++
	}
	p.last, p.lastAt = c, p.slots[at]
	return p.lastAt
}
