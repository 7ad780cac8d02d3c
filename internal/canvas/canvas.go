// Package canvas is a picture that one draws, and many look at.
package canvas

import (
	"sync"

	"plumbbob/internal/core/picture"
)

// A Canvas may be shared between goroutines.
type Canvas struct {
	mu   sync.RWMutex
	c    *picture.Changing
	news chan struct{} // closed when anything is new
}

// Blank is the moment of a canvas on which nobody has drawn.
const Blank uint64 = 1

// New returns a black one.
func New(w, h int) *Canvas {
	return &Canvas{c: picture.NewChanging(picture.New(w, h)), news: make(chan struct{})}
}

// Take copies parts of a picture, which is of the same size; else it is copied as a whole.
func (c *Canvas) Take(p *picture.Picture, parts []picture.Rect) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if p.W != c.c.W || p.H != c.c.H {
		c.c.Replace(p.Clone())
	} else if !c.c.Take(p, parts) {
		return
	}
	close(c.news)
	c.news = make(chan struct{})
}

// Look shows the picture, and what of it is not as it was at a moment, while f runs; f must
// neither keep nor change it. What is returned is the moment that this one is.
func (c *Canvas) Look(since uint64, f func(p *picture.Picture, parts []picture.Rect)) uint64 {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if parts := c.c.Since(since); len(parts) > 0 {
		f(c.c.Picture, parts)
	}
	return c.c.Now
}

// LookInTurn shows what of the picture goes next to somebody, as Look does.
func (c *Canvas) LookInTurn(t *picture.Turn, around picture.Rect, room int, f func(p *picture.Picture, parts []picture.Rect)) uint64 {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if parts := t.Next(c.c, around, room); len(parts) > 0 {
		f(c.c.Picture, parts)
	}
	return c.c.Now
}

// BeginTurn begins with somebody who has seen it as it was at a moment.
func (c *Canvas) BeginTurn(t *picture.Turn, seen uint64) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	t.Begin(c.c, seen)
}

// Moment is the one that the picture has now; it may be asked for from within Look.
func (c *Canvas) Moment() uint64 { return c.c.Now }

// Now is the moment that the picture has.
func (c *Canvas) Now() uint64 {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.c.Now
}

// Drawn says whether anybody has drawn on it.
func (c *Canvas) Drawn() bool { return c.Now() > Blank }

// News is closed when the picture is not as it was at a moment any more.
func (c *Canvas) News(since uint64) <-chan struct{} {
	c.mu.RLock()
	defer c.mu.RUnlock()
	if c.c.Now > since {
		return already
	}
	return c.news
}

var already = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

// Picture is a copy of it.
func (c *Canvas) Picture() *picture.Picture {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.c.Clone()
}
