package picture

import "slices"

// cell is the side of a square that changes as a whole, in pixels: no smaller than a character.
const cell = 16

// A Changing is a picture that knows which parts of it have changed since when.
type Changing struct {
	*Picture
	Now     uint64 // counts changes
	Resized uint64 // when its size was another
	columns int
	at      []uint64 // of each cell
}

// NewChanging returns one that is new as a whole.
func NewChanging(p *Picture) *Changing {
	c := &Changing{}
	c.Replace(p)
	return c
}

// Replace has another picture take its place, of whatever size.
func (c *Changing) Replace(p *Picture) {
	c.Picture = p
	c.Now++
	c.Resized = c.Now
	c.columns = (p.W + cell - 1) / cell
	c.at = make([]uint64, c.columns*((p.H+cell-1)/cell))
	for i := range c.at {
		c.at[i] = c.Now
	}
}

// Take copies parts of a picture of the same size, and says whether anything in them was not
// there before.
func (c *Changing) Take(from *Picture, parts []Rect) (changed bool) {
	now := c.Now + 1
	for _, r := range parts {
		if r = r.Clip(c.W, c.H); r.Empty() {
			continue
		}
		for y := r.Y / cell; y*cell < r.Y+r.H; y++ {
			for x := r.X / cell; x*cell < r.X+r.W; x++ {
				in := r.and(Rect{x * cell, y * cell, cell, cell})
				if c.takeCell(from, in) {
					c.at[y*c.columns+x], changed = now, true
				}
			}
		}
	}
	if changed {
		c.Now = now
	}
	return changed
}

func (c *Changing) takeCell(from *Picture, in Rect) (changed bool) {
	for y := in.Y; y < in.Y+in.H; y++ {
		have, want := c.Row(in.X, y, in.W), from.Row(in.X, y, in.W)
		if !slices.Equal(have, want) {
			copy(have, want)
			changed = true
		}
	}
	return changed
}

// Since is what has changed after a moment, as few rectangles that do not overlap.
func (c *Changing) Since(then uint64) (all []Rect) {
	if then < c.Resized {
		return []Rect{{0, 0, c.W, c.H}}
	}
	if then >= c.Now {
		return nil
	}
	return c.rects(func(i int) bool { return c.at[i] > then })
}

// rects are cells as few rectangles that do not overlap.
func (c *Changing) rects(is func(cell int) bool) (all []Rect) {
	var above []Rect // of the row before, which may go on
	for y := 0; y*cell < c.H; y++ {
		var row []Rect
		from := y * c.columns
		for x := 0; x < c.columns; x++ {
			if !is(from + x) {
				continue
			}
			first := x
			for x < c.columns && is(from+x) {
				x++
			}
			row = append(row, Rect{first * cell, y * cell, min(x*cell, c.W) - first*cell, min(cell, c.H-y*cell)})
		}
		next := row[:0]
		for _, r := range row {
			if i := slices.IndexFunc(above, func(a Rect) bool { return a.X == r.X && a.W == r.W }); i >= 0 {
				r = Rect{r.X, above[i].Y, r.W, above[i].H + r.H}
				above = slices.Delete(above, i, i+1)
			}
			next = append(next, r)
		}
		all, above = append(all, above...), next
	}
	return append(all, above...)
}
