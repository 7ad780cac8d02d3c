// Package glyph reads text off pictures of screens that draw it with a font of fixed cells: text
// modes of firmware, and consoles.
//
//	glyph.go  reading
//	learn.go  characters that people say
//	nine.go   what is drawn otherwise in cells of nine pixels
//	psf.go    fonts of the Linux console
package glyph

import (
	"strings"

	"plumbbob/internal/core/picture"
)

// A Font says how characters are drawn in one size of cell.
type Font struct {
	Name  string
	W, H  int
	chars map[string]rune // by their rows, a bit for each pixel, the left one first
}

// NewFont returns one without characters, of up to 16 pixels a row.
func NewFont(name string, w, h int) *Font {
	return &Font{Name: name, W: w, H: h, chars: map[string]rune{}}
}

// Add says how a character is drawn: its rows, each of as many bytes as it needs.
func (f *Font) Add(rows []byte, r rune) { f.add(string(rows), r) }

// add keeps the plainest of what is drawn alike.
func (f *Font) add(bits string, r rune) {
	if was, known := f.chars[bits]; (!known || r < was) && r >= ' ' {
		f.chars[bits] = r
	}
}

// Unknown stands where a cell has something that is no character of the font.
const Unknown = '▯'

// Text is what was read.
type Text struct {
	Rows    []string // without blanks at their ends
	Font    string
	Known   int // cells that were recognised, blank ones left out
	Unknown int // cells that were not
}

// How much of a screen has to be text for it to be one of text.
const (
	leastKnown  = 8
	knownShares = 3 // of four cells that are not blank
)

// Read reads a picture with the font that fits best. It says whether the picture is one of text.
func Read(p *picture.Picture, fonts []*Font) (best Text, is bool) {
	for _, f := range fonts {
		for _, wide := range []int{f.W, f.W + 1} { // text modes put a pixel between characters
			if p.W%wide != 0 || p.H%f.H != 0 || p.W/wide > 400 {
				continue
			}
			if t := f.read(p, wide); t.Known-t.Unknown > best.Known-best.Unknown {
				best = t
			}
		}
	}
	return best, best.Known >= leastKnown && 4*best.Known >= knownShares*(best.Known+best.Unknown)
}

func (f *Font) read(p *picture.Picture, wide int) Text {
	t := Text{Font: f.Name}
	var also map[string]rune
	if wide == nineWide && f.H == nineRows {
		also = nine
	}
	var row strings.Builder
	for y := 0; y < p.H; y += f.H {
		row.Reset()
		for x := 0; x < p.W; x += wide {
			r := f.cell(p, x, y, also)
			switch r {
			case ' ':
			case Unknown:
				t.Unknown++
			default:
				t.Known++
			}
			row.WriteRune(r)
		}
		t.Rows = append(t.Rows, strings.TrimRight(row.String(), " "))
	}
	for len(t.Rows) > 0 && t.Rows[len(t.Rows)-1] == "" {
		t.Rows = t.Rows[:len(t.Rows)-1]
	}
	return t
}

// cell reads one cell: of one colour it is blank, and of more than two no character. Either of
// the two may be the background.
func (f *Font) cell(p *picture.Picture, x, y int, also map[string]rune) rune {
	lit, dark, colours := f.drawn(p, x, y)
	switch colours {
	case 1:
		return ' '
	case 2:
	default:
		return Unknown
	}
	per := (f.W + 7) / 8
	for _, bits := range [][]byte{lit, dark} {
		if r, ok := f.chars[string(bits)]; ok {
			return r
		}
		if r, ok := also[string(bits)]; ok {
			return r
		}
		if f.underlined(bits, per) {
			if r, ok := f.chars[string(bits)]; ok || blank(bits) {
				return max(r, ' ')
			}
		}
	}
	return Unknown
}

// drawn says how a cell is drawn: what of it has another colour than its upper left corner, what
// has the same, and whether there is one colour, two, or more.
func (f *Font) drawn(p *picture.Picture, x, y int) (lit, dark []byte, colours int) {
	per := (f.W + 7) / 8
	first, second := p.Row(x, y, 1)[0], uint32(0)
	colours = 1
	lit, dark = make([]byte, per*f.H), make([]byte, per*f.H)
	for j := range f.H {
		for i, c := range p.Row(x, y+j, f.W) {
			at, bit := j*per+i/8, byte(0x80>>(i%8))
			switch {
			case c == first:
				dark[at] |= bit
			case colours == 2 && c != second:
				return nil, nil, 3
			default:
				second, colours = c, 2
				lit[at] |= bit
			}
		}
	}
	return lit, dark, colours
}

// cursorRows is how far up from the bottom of a cell a cursor may be.
const cursorRows = 4

// underlined takes a cursor away, and says whether there was one: whole rows near the bottom.
func (f *Font) underlined(bits []byte, per int) (was bool) {
	for j := max(0, f.H-cursorRows); j < f.H; j++ {
		whole := true
		for i := range f.W {
			whole = whole && bits[j*per+i/8]&(0x80>>(i%8)) != 0
		}
		if whole {
			clear(bits[j*per : (j+1)*per])
			was = true
		}
	}
	return was
}

func blank(bits []byte) bool {
	for _, b := range bits {
		if b != 0 {
			return false
		}
	}
	return true
}
