package video

import (
	"time"

	"plumbbob/internal/core/picture"
)

// A Cupboard is what a camera sees that hangs in one: boxes on shelves, and, in the dark, their
// lights alone.
type Cupboard struct {
	Title string
	At    time.Time
	Light bool
	Boxes []Box
}

// A Box stands in it.
type Box struct {
	Name string
	Lit  bool // its power light is on
}

const (
	cupboardW, cupboardH = 640, 480
	shelfH               = 74
	perShelf             = 2
)

const (
	wood    = 0x6b5236
	wall    = 0x3a3026
	casing  = 0x4a545c
	lamp    = 0x38e070
	lampOff = 0x202820
	dark    = 0x050607
)

// Draw draws it.
func (c *Cupboard) Draw() *picture.Picture {
	p := picture.New(cupboardW, cupboardH)
	back, shelf, box, words := uint32(wall), uint32(wood), uint32(casing), uint32(paper)
	if !c.Light {
		back, shelf, box, words = dark, dark, dark, dark
	}
	p.Fill(picture.Rect{W: p.W, H: p.H}, back)
	for i, b := range c.Boxes {
		x, y := 30+i%perShelf*300, 44+i/perShelf*shelfH
		if y+shelfH > p.H {
			break
		}
		p.Fill(picture.Rect{X: x - 20, Y: y + 50, W: 320, H: 8}.Clip(p.W, p.H), shelf)
		p.Fill(picture.Rect{X: x, Y: y, W: 260, H: 50}, box)
		Text(p, x+12, y+17, b.Name, words, box)
		light := uint32(lampOff)
		if b.Lit {
			light = lamp
		} else if !c.Light {
			light = dark
		}
		p.Fill(picture.Rect{X: x + 236, Y: y + 20, W: 10, H: 10}, light)
	}
	c.grain(p)
	Text(p, 12, 8, c.Title+"  "+c.At.UTC().Format("2006-01-02 15:04:05"), white, back)
	return p
}

// grain is the noise of what the camera sees with.
func (c *Cupboard) grain(p *picture.Picture) {
	n := uint32(c.At.UnixNano()) | 1
	for i, was := range p.Pix {
		n ^= n << 13
		n ^= n >> 17
		n ^= n << 5
		p.Pix[i] = was + n&0x070707 // no colour of it is so bright that it would overflow
	}
}
