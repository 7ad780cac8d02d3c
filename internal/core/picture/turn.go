package picture

import (
	"cmp"
	"slices"
)

// A Turn is what somebody has been sent of a picture whose link does not take all that changes.
// First goes what is where they point, then what is new, the newest first; what moves all the time
// comes last, in turns, and holds up nothing else.
type Turn struct {
	resized uint64
	sent    []uint64 // the moment at which each cell was sent
	moves   []uint8  // how often it was new of late
	taken   []bool
	left    bool
}

// How often a cell has to be new of late to be one that moves all the time, what a turn in which
// it is new adds to that, and the most.
const (
	movesAlways = 24
	movesMore   = 4
	movesMost   = 64
)

// Begin begins with somebody who has seen a picture as it was at a moment.
func (t *Turn) Begin(c *Changing, seen uint64) {
	if seen < c.Resized {
		seen = 0
	}
	t.resized, t.left = c.Resized, false
	t.sent, t.moves, t.taken = make([]uint64, len(c.at)), make([]uint8, len(c.at)), make([]bool, len(c.at))
	for i := range t.sent {
		t.sent[i] = seen
	}
}

// Left says whether anything was left over.
func (t *Turn) Left() bool { return t.left }

// Next is what goes next: all that is new around a place, and as much of the rest as there is room
// for, in cells of 16 × 16 pixels. They are rectangles that do not overlap.
func (t *Turn) Next(c *Changing, around Rect, room int) []Rect {
	if t.resized != c.Resized || len(t.sent) != len(c.at) {
		t.Begin(c, 0)
	}
	var fresh []int
	for i, at := range c.at {
		t.taken[i] = false
		if at <= t.sent[i] {
			t.moves[i] -= min(t.moves[i], 1)
			continue
		}
		t.moves[i] = min(t.moves[i]+movesMore, movesMost)
		fresh = append(fresh, i)
	}
	rank := func(i int) int {
		x, y := i%c.columns*cell, i/c.columns*cell
		switch {
		case !around.and(Rect{x, y, cell, cell}).Empty():
			return 0
		case t.moves[i] < movesAlways:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(fresh, func(a, b int) int {
		ra, rb := rank(a), rank(b)
		switch {
		case ra != rb:
			return ra - rb
		case ra == 2: // or the same ones would come each time
			return cmp.Compare(t.sent[a], t.sent[b])
		}
		return cmp.Compare(c.at[b], c.at[a])
	})
	n := 0
	for n < len(fresh) && (n < room || rank(fresh[n]) == 0) {
		t.taken[fresh[n]] = true
		t.sent[fresh[n]] = c.Now
		n++
	}
	t.left = n < len(fresh)
	return c.rects(func(i int) bool { return t.taken[i] })
}
