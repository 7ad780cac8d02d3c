package broker

import (
	"context"
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
)

// tendEvery is how often a screen is tended at which somebody sits.
const tendEvery = 2 * time.Second

// tend says which displays a screen has and when next to nothing is on it, and keeps its device
// awake where somebody has asked for that.
func (s *screen) tend(ctx context.Context) {
	tick := time.NewTicker(tendEvery)
	defer tick.Stop()
	var of *canvas.Canvas
	var seen uint64
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		s.mu.Lock()
		c, sits := s.canvas, len(s.seats.All) > 0
		s.nudge(time.Now())
		s.split()
		s.mu.Unlock()
		if c == nil || !sits || c == of && c.Now() == seen || !c.Drawn() {
			continue
		}
		of, seen = c, c.Now()
		bare := s.isBare(c)
		s.mu.Lock()
		if s.bare != bare {
			s.bare = bare
			s.tell()
		}
		s.mu.Unlock()
	}
}

// split takes in which displays there are on the picture. mu is held.
func (s *screen) split() {
	var all []picture.Rect
	if x, is := s.gear.(gear.Split); is {
		all = x.Displays()
	}
	if len(all) < 2 {
		all = nil
	}
	if !slices.Equal(s.displays, all) {
		s.displays = all
		s.tell()
	}
}

// isBare says whether next to nothing is on a picture: no text that can be read, and almost all of
// it of one colour.
func (s *screen) isBare(c *canvas.Canvas) bool {
	p := c.Picture()
	if !p.Bare() {
		return false
	}
	rows, is := s.room.text(p)
	return !is || len(said(rows)) == 0
}

// awake is that somebody has asked to keep a device awake.
type awake struct {
	who   string
	seat  string
	until time.Time
	next  time.Time
	right bool // the pointer has gone there, and is to go back
}

// How often a device is kept awake, and for how long at the most.
const (
	nudgeEvery = 45 * time.Second
	mostAwake  = 8 * time.Hour
)

// Awake keeps the device awake for a while, or ends that with 0: the pointer moves by a pixel and
// back, as long as whoever asks sits there and nobody else works.
func (v *View) Awake(d time.Duration) error {
	s := v.s
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case d < 0 || d > mostAwake:
		return &seat.NoError{Text: fmt.Sprintf("a device is kept awake for up to %s", mostAwake)}
	case d == 0:
		if s.awake != nil {
			s.announce(v.who, "%s has ended it that %s is kept awake", v.who, s.device)
		}
		s.awake = nil
		return nil
	case s.gear != nil && !s.gear.Takes().Pointer:
		return &seat.NoError{Text: "it cannot be kept awake: its gear takes no pointer"}
	}
	now := time.Now()
	if err := s.seats.Types(v.ID, now); err != nil {
		return err
	}
	s.awake = &awake{who: v.who, seat: v.ID, until: now.Add(d), next: now}
	s.announce(v.who, "%s has %s kept awake until %s", v.who, s.device, s.awake.until.UTC().Format("15:04 MST"))
	return nil
}

// nudge moves the pointer by a pixel, or ends that. mu is held.
func (s *screen) nudge(now time.Time) {
	a := s.awake
	if a == nil {
		return
	}
	here := slices.ContainsFunc(s.seats.All, func(x seat.Seat) bool { return x.ID == a.seat })
	if !here || now.After(a.until) {
		s.awake = nil
		s.announce(a.who, "%s: it is over that %s is kept awake", a.who, s.device)
		return
	}
	if now.Before(a.next) || s.gear == nil || s.seats.Keyboard != a.seat || len(s.down) > 0 {
		return
	}
	a.next, a.right = now.Add(nudgeEvery), !a.right
	x := s.pointer.x + 1
	if !a.right {
		x = s.pointer.x
	}
	_ = s.gear.Point(x, s.pointer.y, 0) // what is lost ends by itself
}
