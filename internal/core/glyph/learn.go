package glyph

import (
	"fmt"
	"maps"
	"unicode/utf8"

	"plumbbob/internal/core/picture"
)

// A Cell is a character as some screen draws it.
type Cell struct {
	W, H int
	Bits string // its rows, a bit for each pixel that is not coloured as the upper left one
	Char rune
}

// The sizes that cells can have.
const (
	leastWide, mostWide = 4, 16
	leastHigh, mostHigh = 6, 64
)

// A Grid is how many characters fit on a screen.
type Grid struct{ Columns, Lines int }

// cells is a font without characters of the size that cells of a grid have on a picture, and how
// far they are apart.
func (g Grid) cells(p *picture.Picture, fonts []*Font) (f *Font, wide int, err error) {
	if g.Columns < 1 || g.Lines < 1 || p.W == 0 || p.W%g.Columns != 0 || p.H%g.Lines != 0 {
		return nil, 0, fmt.Errorf("%d × %d pixels are no %d columns and %d lines: count how many characters fit on it", p.W, p.H, g.Columns, g.Lines)
	}
	wide, h := p.W/g.Columns, p.H/g.Lines
	if wide < leastWide || wide > mostWide || h < leastHigh || h > mostHigh {
		return nil, 0, fmt.Errorf("cells of %d × %d pixels cannot be read: they are %d × %d to %d × %d", wide, h, leastWide, leastHigh, mostWide, mostHigh)
	}
	w := wide
	if wide == nineWide { // the ninth column is between characters
		for _, x := range fonts {
			if x.W == nineWide-1 && x.H == h {
				w = nineWide - 1
			}
		}
	}
	return NewFont(fmt.Sprintf("taught, %d × %d", w, h), w, h), wide, nil
}

// Learn takes the characters of one row of a picture, from 0, that somebody says it reads as.
// Those that a font knows already are left out. Its error says what does not fit.
func Learn(p *picture.Picture, fonts []*Font, g Grid, row int, says string) ([]Cell, error) {
	f, wide, err := g.cells(p, fonts)
	switch {
	case err != nil:
		return nil, err
	case row < 0 || row >= g.Lines:
		return nil, fmt.Errorf("there is no row %d: there are 1 to %d", row+1, g.Lines)
	case utf8.RuneCountInString(says) > g.Columns:
		return nil, fmt.Errorf("the text has %d characters, and a row %d", utf8.RuneCountInString(says), g.Columns)
	}
	var out []Cell
	column := 0
	for _, r := range says {
		x, y := column*wide, row*f.H
		column++
		is := known(p, fonts, f, x, y)
		switch {
		case r < ' ' || r == utf8.RuneError || r == Unknown:
			return nil, fmt.Errorf("column %d: %q is no character that can be learnt", column, r)
		case is != Unknown && is != r:
			return nil, fmt.Errorf("column %d is known as %q, and not %q: is that the row?", column, is, r)
		case is == r:
			continue
		case r == ' ':
			return nil, fmt.Errorf("column %d is not blank: is that the row?", column)
		}
		bits, _, colours := f.drawn(p, x, y)
		if colours != 2 {
			return nil, fmt.Errorf("column %d has more than two colours: no character is read off that", column)
		}
		if was, taken := f.chars[string(bits)]; taken && was != r {
			return nil, fmt.Errorf("column %d looks like the %q before it, and cannot be %q", column, was, r)
		} else if !taken {
			f.chars[string(bits)] = r
			out = append(out, Cell{f.W, f.H, string(bits), r})
		}
	}
	return out, nil
}

// known is what fonts of a size make of a cell.
func known(p *picture.Picture, fonts []*Font, size *Font, x, y int) rune {
	if size.cell(p, x, y, nil) == ' ' {
		return ' '
	}
	for _, f := range fonts {
		if f.W == size.W && f.H == size.H {
			if r := f.cell(p, x, y, nil); r != Unknown {
				return r
			}
		}
	}
	return Unknown
}

// With are the fonts and what was learnt: each of a size knows all that was learnt of it, and a
// size that no font has is one of its own.
func With(fonts []*Font, learnt []Cell) []*Font {
	type size struct{ w, h int }
	of := map[size][]Cell{}
	for _, c := range learnt {
		of[size{c.W, c.H}] = append(of[size{c.W, c.H}], c)
	}
	out := make([]*Font, 0, len(fonts)+len(of))
	have := map[size]bool{}
	for _, f := range fonts {
		s := size{f.W, f.H}
		have[s] = true
		out = append(out, f.with(of[s]))
	}
	for s, cells := range of {
		if !have[s] {
			out = append(out, NewFont(fmt.Sprintf("taught, %d × %d", s.w, s.h), s.w, s.h).with(cells))
		}
	}
	return out
}

func (f *Font) with(learnt []Cell) *Font {
	if len(learnt) == 0 {
		return f
	}
	out := &Font{f.Name, f.W, f.H, maps.Clone(f.chars)}
	for _, c := range learnt {
		if _, known := out.chars[c.Bits]; !known {
			out.chars[c.Bits] = c.Char
		}
	}
	return out
}
