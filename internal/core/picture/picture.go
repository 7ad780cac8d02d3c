// Package picture is the picture of a screen.
//
//	picture.go  pixels
//	changes.go  what of it has changed since when
//	turn.go     what of that goes first, on a link that is slow
//	image.go    from and to images of Go
//	strip.go    what a screen showed lately
//	frame.go    what is new, for somebody who looks; apply.go draws it
//	untile.go   how tiles are read
//	tiles.go    how parts of it are written: the tiles of RFC 6143, section 7.7.6
package picture

// A Rect is a part of a picture, in pixels from its upper left corner.
type Rect struct{ X, Y, W, H int }

// Empty says whether nothing is in it.
func (r Rect) Empty() bool { return r.W <= 0 || r.H <= 0 }

// Within says whether all of it is in a picture of that size.
func (r Rect) Within(w, h int) bool {
	return r.X >= 0 && r.Y >= 0 && r.W >= 0 && r.H >= 0 && r.X <= w-r.W && r.Y <= h-r.H
}

// Clip is what of it is in a picture of that size.
func (r Rect) Clip(w, h int) Rect { return r.and(Rect{W: w, H: h}) }

// and is what of it is in another.
func (r Rect) and(o Rect) Rect {
	x, y := max(r.X, o.X), max(r.Y, o.Y)
	return Rect{x, y, max(0, min(r.X+r.W, o.X+o.W)-x), max(0, min(r.Y+r.H, o.Y+o.H)-y)}
}

// Limits of a picture.
const (
	MostSide = 16384
	MostArea = 1 << 24 // pixels: 64 MiB
)

// Fits says whether a picture may have that size.
func Fits(w, h int) bool { return w > 0 && h > 0 && w <= MostSide && h <= MostSide && w*h <= MostArea }

// A Picture has its pixels row by row, each as 0x00RRGGBB.
type Picture struct {
	W, H int
	Pix  []uint32
}

// New returns a black picture.
func New(w, h int) *Picture { return &Picture{w, h, make([]uint32, w*h)} }

// All is the whole of it.
func (p *Picture) All() Rect { return Rect{W: p.W, H: p.H} }

// Row is a part of a row.
func (p *Picture) Row(x, y, w int) []uint32 { return p.Pix[y*p.W+x : y*p.W+x+w : y*p.W+x+w] }

// Fill makes a part of it, which is within, one colour.
func (p *Picture) Fill(r Rect, c uint32) {
	if r.Empty() {
		return
	}
	first := p.Row(r.X, r.Y, r.W)
	repeat(first, c)
	for y := r.Y + 1; y < r.Y+r.H; y++ {
		copy(p.Row(r.X, y, r.W), first)
	}
}

// Move copies what is at a place to a part; both are within, and may overlap.
func (p *Picture) Move(to Rect, x, y int) {
	if y < to.Y {
		for i := to.H - 1; i >= 0; i-- {
			copy(p.Row(to.X, to.Y+i, to.W), p.Row(x, y+i, to.W))
		}
		return
	}
	for i := range to.H {
		copy(p.Row(to.X, to.Y+i, to.W), p.Row(x, y+i, to.W))
	}
}

// Clone is a picture of its own.
func (p *Picture) Clone() *Picture { return &Picture{p.W, p.H, append([]uint32(nil), p.Pix...)} }

// How much of a picture that is bare is of other colours than most of it, and how many these are.
const (
	bareMost    = 100 // one pixel of so many
	bareColours = 8
)

// Bare says whether almost all of it is of one colour, and the rest of a few: a display of which
// nobody drives the picture, with a notice of the gear at the most.
func (p *Picture) Bare() bool {
	counts := map[uint32]int{}
	for i := 0; i < len(p.Pix); i++ {
		first := i
		for i+1 < len(p.Pix) && p.Pix[i+1] == p.Pix[i] {
			i++
		}
		if counts[p.Pix[i]] += i - first + 1; len(counts) > bareColours {
			return false
		}
	}
	for _, n := range counts {
		if n >= len(p.Pix)-len(p.Pix)/bareMost {
			return true
		}
	}
	return false
}
