// Package video is what a made-up computer has on its screen: text, and a desktop. It has no
// clock; the lab lends it one.
package video

import (
	"strconv"
	"strings"

	"golang.org/x/image/font/inconsolata"

	"plumbbob/internal/core/picture"
)

// The size of a screen of text, in characters and in pixels.
const (
	Columns, Rows = 80, 25
	glyphW        = 8
	glyphH        = 16
)

const (
	grey  = 0xaaaaaa
	white = 0xffffff
	black = 0x000000
)

// A Terminal draws what a serial line says as text: as far as the lab's machines say it
// (ECMA-48: CUP, ED, SGR 0, 1 and 7).
type Terminal struct {
	cells    [Rows][Columns]cell
	row, col int
	inverse  bool
	bold     bool
	esc      []byte
}

type cell struct {
	b       byte
	inverse bool
	bold    bool
}

// Write takes what was said.
func (t *Terminal) Write(p []byte) (int, error) {
	for _, b := range p {
		t.byte(b)
	}
	return len(p), nil
}

func (t *Terminal) byte(b byte) {
	switch {
	case len(t.esc) > 0:
		t.esc = append(t.esc, b)
		if len(t.esc) > 2 && b >= '@' && b <= '~' || len(t.esc) > 16 {
			t.control(string(t.esc[2:len(t.esc)-1]), b)
			t.esc = nil
		}
	case b == 0x1b:
		t.esc = []byte{b}
	case b == '\n':
		t.line()
	case b == '\r':
		t.col = 0
	case b == '\b':
		t.col = max(0, t.col-1)
	case b >= ' ' && b < 0x7f:
		if t.col == Columns {
			t.col = 0
			t.line()
		}
		t.cells[t.row][t.col] = cell{b, t.inverse, t.bold}
		t.col++
	}
}

func (t *Terminal) line() {
	if t.row++; t.row == Rows {
		copy(t.cells[:], t.cells[1:])
		t.cells[Rows-1] = [Columns]cell{}
		t.row = Rows - 1
	}
}

func (t *Terminal) control(args string, end byte) {
	var n []int
	for _, a := range strings.Split(args, ";") {
		v, _ := strconv.Atoi(a)
		n = append(n, v)
	}
	switch end {
	case 'H':
		n = append(n, 1, 1)
		t.row, t.col = min(max(1, n[0]), Rows)-1, min(max(1, n[1]), Columns)-1
	case 'J':
		t.cells = [Rows][Columns]cell{}
	case 'm':
		for _, v := range n {
			switch v {
			case 0:
				t.inverse, t.bold = false, false
			case 1:
				t.bold = true
			case 7:
				t.inverse = true
			}
		}
	}
}

// Text is what stands there, line by line.
func (t *Terminal) Text() string {
	var b strings.Builder
	for _, row := range t.cells {
		for _, c := range row {
			b.WriteByte(max(c.b, ' '))
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// Draw draws the text; cursor says whether the cursor is lit.
func (t *Terminal) Draw(cursor bool) *picture.Picture {
	p := picture.New(Columns*glyphW, Rows*glyphH)
	for y := range Rows {
		for x := range Columns {
			c := t.cells[y][x]
			fore, back := uint32(grey), uint32(black)
			if c.bold {
				fore = white
			}
			if c.inverse {
				fore, back = back, fore
			}
			glyph(p, x*glyphW, y*glyphH, c.b, fore, back)
		}
	}
	if cursor && t.col < Columns {
		p.Fill(picture.Rect{X: t.col * glyphW, Y: t.row*glyphH + glyphH - 3, W: glyphW, H: 2}, grey)
	}
	return p
}

// glyphs are the characters of the font, a byte for each row; what is not in it is empty.
var glyphs = func() (all [128][glyphH]byte) {
	face := inconsolata.Regular8x16
	for _, r := range face.Ranges {
		for c := r.Low; c < r.High && c < 128; c++ {
			for y := range glyphH {
				for x := range glyphW {
					if _, _, _, a := face.Mask.At(x, (r.Offset+int(c-r.Low))*(face.Ascent+face.Descent)+y).RGBA(); a > 0x7fff {
						all[c][y] |= 0x80 >> x
					}
				}
			}
		}
	}
	return all
}()

// glyph draws one character.
func glyph(p *picture.Picture, x, y int, b byte, fore, back uint32) {
	for j, bits := range glyphs[b&127] {
		row := p.Row(x, y+j, glyphW)
		for i := range row {
			row[i] = back
			if bits&(0x80>>i) != 0 {
				row[i] = fore
			}
		}
	}
}

// Text draws a line of text.
func Text(p *picture.Picture, x, y int, text string, fore, back uint32) {
	for i := range len(text) {
		if x+glyphW > p.W || y+glyphH > p.H {
			return
		}
		glyph(p, x, y, text[i], fore, back)
		x += glyphW
	}
}

// NoSignal is what a KVM shows of a box that sends it nothing.
func NoSignal() *picture.Picture {
	p := picture.New(640, 480)
	p.Fill(picture.Rect{W: p.W, H: p.H}, 0x101418)
	Text(p, 284, 232, "no signal", 0x8090a0, 0x101418)
	return p
}
