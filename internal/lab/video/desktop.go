package video

import (
	"fmt"
	"time"

	"plumbbob/internal/core/picture"
)

// A Desktop is the screen of a box that people work at: a title, buttons, a field to type
// into, and something that moves all the time.
type Desktop struct {
	Title   string
	Two     bool // it has a second display, to the right
	x, y    int
	pressed int // the button that was pressed last, from 1; 0: none
	typed   []byte
}

const (
	deskW, deskH     = 1024, 768
	secondW, secondH = 800, 600

	mostTyped = 40
	buttonW   = 280
	buttonH   = 72
)

const (
	paper  = 0xe9e4d8
	ink    = 0x22303a
	sea    = 0x2f6f7e
	sand   = 0xd8cfb8
	chosen = 0xb5652b
)

var buttons = []string{"Inch Marrow, 11:20", "Ostrel Quay, 11:45", "Skarvoe, return", "Quill Ness, 13:10"}

// Point moves the pointer, and presses what it is on.
func (d *Desktop) Point(x, y int, down bool) {
	d.x, d.y = x, y
	for i := range buttons {
		if b := button(i); down && x >= b.X && x < b.X+b.W && y >= b.Y && y < b.Y+b.H {
			d.pressed = i + 1
		}
	}
}

// Key types a character, or wipes one with 8.
func (d *Desktop) Key(b byte) {
	switch {
	case b == '\b' || b == 0x7f:
		d.typed = d.typed[:max(0, len(d.typed)-1)]
	case b >= ' ' && b < 0x7f && len(d.typed) < mostTyped:
		d.typed = append(d.typed, b)
	}
}

func button(i int) picture.Rect {
	return picture.Rect{X: 60 + i%2*(buttonW+40), Y: 140 + i/2*(buttonH+32), W: buttonW, H: buttonH}
}

// Displays are its displays, where there are two.
func (d *Desktop) Displays() []picture.Rect {
	if !d.Two {
		return nil
	}
	return []picture.Rect{{W: deskW, H: deskH}, {X: deskW, W: secondW, H: secondH}}
}

// Draw draws it as it is at a moment.
func (d *Desktop) Draw(now time.Time) *picture.Picture {
	p := picture.New(deskW, deskH)
	if d.Two {
		p = picture.New(deskW+secondW, deskH)
		p.Fill(picture.Rect{X: deskW, W: secondW, H: secondH}, sea)
		Text(p, deskW+60, 60, "Tides at the slip: low 06:12, high 12:31, low 18:40", paper, sea)
	}
	p.Fill(picture.Rect{W: deskW, H: deskH}, paper)
	p.Fill(picture.Rect{W: deskW, H: 72}, sea)
	Text(p, 60, 28, d.Title, paper, sea)
	Text(p, deskW-140, 28, now.UTC().Format("15:04:05"), paper, sea)
	Text(p, 60, 100, "Where to?", ink, paper)
	for i, text := range buttons {
		r, fill := button(i), uint32(sand)
		if d.pressed == i+1 {
			fill = chosen
		}
		p.Fill(r, fill)
		Text(p, r.X+24, r.Y+28, text, ink, fill)
	}
	if d.pressed > 0 {
		Text(p, 60, 370, fmt.Sprintf("One ticket for %s", buttons[d.pressed-1]), ink, paper)
	}
	p.Fill(picture.Rect{X: 60, Y: 430, W: 400, H: 40}, 0xffffff)
	Text(p, 72, 442, "Name: "+string(d.typed)+"_", ink, 0xffffff)
	p.Fill(picture.Rect{Y: 600, W: deskW, H: deskH - 600}, sea)
	at := int(now.UnixMilli()/20) % (deskW + 160)
	p.Fill(picture.Rect{X: at - 160, Y: 576, W: 160, H: 30}.Clip(deskW, deskH), ink) // a ferry
	p.Fill(picture.Rect{X: at - 110, Y: 548, W: 60, H: 28}.Clip(deskW, deskH), ink)
	for i := range 14 { // the pointer
		p.Fill(picture.Rect{X: d.x, Y: d.y + i, W: min(i+1, 10), H: 1}.Clip(deskW, deskH), black)
	}
	return p
}

// Text is what was done at it.
func (d *Desktop) Text() string { return fmt.Sprintf("button %d, name %s", d.pressed, d.typed) }
