package broker

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/core/seat"
)

// A Seat is one person at a line. One goroutine may wait for news while another types.
type Seat struct {
	*Sitting
	l  *line
	at int64 // owned by who calls Next
}

// State is how things are at a line.
type State struct {
	At
	Port string // how the serial port at the far end is, in words; empty: not known
	Sees bool   // what is said is shown to you
}

// News is what is new at a line: a part of it, or all.
type News struct {
	Said   []byte
	At     int64  // where Said begins
	Missed int64  // so many bytes before it are gone, or were not for you
	State  *State // nil while nothing has changed
	Notice []string
}

// mostAtOnce is how much is said in one piece.
const mostAtOnce = 16 << 10

// How a seat ends.
var (
	ErrGone = errors.New("your seat has ended")
	ErrOver = errors.New("the service is stopping") // it can be taken again when that is back
)

// Next waits for news. Its error is that of ctx, ErrGone or ErrOver.
func (s *Seat) Next(ctx context.Context) (News, error) {
	for {
		n, more, some := s.look()
		switch {
		case more == nil:
			return n, ErrOver
		case n.State != nil && n.State.You == "":
			return n, ErrGone
		case some:
			return n, nil
		}
		select {
		case <-more:
		case <-ctx.Done():
			return News{}, context.Cause(ctx)
		}
	}
}

// look takes what is new, and says what tells when there is more.
func (s *Seat) look() (n News, more <-chan struct{}, some bool) {
	l := s.l
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over {
		return n, nil, false
	}
	var changed bool
	if n.Notice, changed = s.told(); changed {
		n.State = &State{l.place.at(s.ID), l.port, l.seats.Sees(s.ID, time.Now())}
	}
	some = changed || len(n.Notice) > 0
	said, begins, next := l.shown(s.ID, s.at)
	if len(said) > 0 {
		n.Said, n.At, n.Missed, some = said, begins, begins-s.at, true
	}
	s.at = next
	return n, l.news, some
}

// shown is what a seat is shown from a place on, where that begins, and where to go on.
func (l *line) shown(seat string, from int64) (said []byte, begins, next int64) {
	end := l.log.End()
	for _, h := range l.hidden {
		switch {
		case h.seat == seat || h.to >= 0 && h.to <= from:
		case h.from <= from && h.to < 0:
			return nil, from, max(from, end)
		case h.from <= from:
			from = h.to
		default:
			end = min(end, h.from)
		}
		if end < l.log.End() {
			break
		}
	}
	said, begins = l.log.Since(from, mostAtOnce)
	if over := begins + int64(len(said)) - end; over > 0 {
		said = said[:max(0, int64(len(said))-over)]
	}
	return said, begins, begins + int64(len(said))
}

// typing returns the call that may be typed on.
func (s *Seat) typing() (*attach.Call, error) {
	l := s.l
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.seats.Types(s.ID, time.Now()); err != nil {
		return nil, err
	}
	if l.call == nil {
		return nil, &seat.NoError{Text: "nothing was sent: the line is " + l.state}
	}
	return l.call, nil
}

// Type sends what was typed.
func (s *Seat) Type(p []byte) error {
	c, err := s.typing()
	if err != nil {
		return err
	}
	if err := paced(c, p); err != nil {
		return &seat.NoError{Text: fmt.Sprintf("it may not have been sent: %s", err)}
	}
	return nil
}

// What comes in one piece, as what is pasted, goes to the line at the pace of a line: one of
// 9,600 bit/s loses two thirds of 200 bytes that come at once.
const (
	atOnce = 16 // bytes, as a key that is held down, or one of a keyboard's long sequences
	pace   = 2 * time.Millisecond
)

func paced(c io.Writer, p []byte) error {
	if len(p) <= atOnce {
		_, err := c.Write(p)
		return err
	}
	for i := range p {
		if _, err := c.Write(p[i : i+1]); err != nil {
			return err
		}
		time.Sleep(pace)
	}
	return nil
}

// Break presses the Break key.
func (s *Seat) Break() error {
	c, err := s.typing()
	if err != nil {
		return err
	}
	if err := c.Break(); err != nil {
		return &seat.NoError{Text: fmt.Sprintf("the break may not have been sent: %s", err)}
	}
	return s.did(func(who string) string { return who + " has sent a break" })
}

// SetPort sets the serial port at the far end, as "9600 8N1": for who has the keyboard.
func (s *Seat) SetPort(ctx context.Context, set string) error {
	c, err := s.typing()
	if err != nil {
		return err
	}
	if err := c.SetPort(ctx, set); err != nil {
		return &seat.NoError{Text: err.Error()}
	}
	return s.did(func(who string) string {
		s.l.record(who, "Set the port of the serial line of %s to %s", s.l.device, c.Port().Set)
		return fmt.Sprintf("%s has set the port to %s", who, c.Port().Set)
	})
}

// Resize tells the far end how large the terminal of who types is.
func (s *Seat) Resize(columns, rows int) error {
	l := s.l
	l.mu.Lock()
	c, holds := l.call, l.seats.Keyboard == s.ID
	l.mu.Unlock()
	if c == nil || !holds {
		return nil
	}
	return c.Resize(columns, rows)
}

// Sends tells everybody that something is about to be sent, as "a file of 70 bytes", where
// that is allowed.
func (s *Seat) Sends(what string) error {
	return s.does(func(x *seat.Table, now time.Time) ([]string, error) {
		said, err := x.Sends(s.ID, what, now)
		if err == nil {
			s.l.record(x.Holder().Who, "Sent %s to the serial line of %s", what, s.l.device)
		}
		return said, err
	})
}

// BeAlone hides what is said from the others for a time; none ends that.
func (s *Seat) BeAlone(d time.Duration) error {
	return s.does(func(x *seat.Table, now time.Time) ([]string, error) { return x.BeAlone(s.ID, d, now) })
}
