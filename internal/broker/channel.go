package broker

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
)

// channels are those of KVMs that show one port at a time. Whose screen is seen there is nobody
// taken it from who sits at it, but by a keeper who says so.
type channels struct {
	mu   sync.Mutex
	held map[string]hold // by the endpoint of the KVM
}

// hold is a screen that is seen, or was the last that was.
type hold struct {
	by  *screen
	cut context.CancelCauseFunc // ends its connection
}

// waiting is why a screen is not there yet: nothing is broken.
type waiting struct{ text string }

func (e *waiting) Error() string { return e.text }

// Unwrap says what sort of error that is.
func (e *waiting) Unwrap() error { return &seat.NoError{Text: e.text} }

// waitsFor says who sits at the screen that is seen; nil: nobody does.
func waitsFor(p *gear.Port, by *screen) error {
	by.mu.Lock()
	defer by.mu.Unlock()
	var on []string
	for _, x := range by.seats.All {
		on = append(on, x.Who+" since "+x.Since.UTC().Format("15:04 MST"))
	}
	if len(on) == 0 {
		return nil
	}
	return &waiting{fmt.Sprintf("%s shows the screen of %s, at which is %s: one port is seen at a time, and this one is shown when they leave", p.KVM, by.device, strings.Join(on, ", "))}
}

func (c *channels) heldBy(p *gear.Port) *screen {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.held[p.KVM].by
}

// take gives a channel to a screen, and ends what was seen there before.
func (c *channels) take(p *gear.Port, h hold, why error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if was := c.held[p.KVM]; was.by != nil && was.by != h.by && was.cut != nil {
		was.cut(why)
	}
	if c.held == nil {
		c.held = map[string]hold{}
	}
	c.held[p.KVM] = h
}

func (c *channels) leave(s *screen) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for kvm, h := range c.held {
		if h.by == s {
			delete(c.held, kvm)
		}
	}
}

// claim has the channel of a port for this screen, if nobody sits at another one that is seen.
func (s *screen) claim(ctx context.Context, p *gear.Port, cut context.CancelCauseFunc) error {
	if p == nil {
		return nil
	}
	if !s.seated() {
		return &waiting{p.KVM + " shows one port at a time: none is brought up while nobody sits at it"}
	}
	if by := s.room.channels.heldBy(p); by != nil && by != s {
		if err := waitsFor(p, by); err != nil {
			s.mu.Lock()
			s.waits = p
			s.mu.Unlock()
			return err
		}
	}
	if err := s.notMoved(ctx, p); err != nil {
		return err
	}
	s.mu.Lock()
	s.waits = nil
	s.mu.Unlock()
	s.room.channels.take(p, hold{s, cut}, fmt.Errorf("%s shows the screen of %s now", p.KVM, s.device))
	return nil
}

// notMoved says why a port is not brought up again: somebody at the KVM wanted another one.
func (s *screen) notMoved(ctx context.Context, p *gear.Port) error {
	s.mu.Lock()
	moved := s.elsewhere
	s.mu.Unlock()
	if !moved {
		return nil
	}
	if is, err := isSeen(ctx, p); err != nil {
		return err
	} else if !is {
		return &waiting{fmt.Sprintf("somebody at %s has chosen another port; ask for the whole picture again to have it show this one", p.KVM)}
	}
	s.mu.Lock()
	s.elsewhere = false
	s.mu.Unlock()
	return nil
}

// isSeen says whether a port is the one that is seen, as far as that can be read back.
func isSeen(ctx context.Context, p *gear.Port) (bool, error) {
	if p.Shown == nil {
		return false, nil
	}
	shown, err := p.Shown(ctx)
	return shown == p.Name, err
}

func portWords(p *gear.Port) string {
	switch {
	case p == nil:
		return ""
	case p.Shown == nil:
		return fmt.Sprintf(", port %s, which cannot be read back: see whose screen it is before you type", p.Name)
	}
	return ", port " + p.Name
}

// How often it is read back which port is seen, and after how long without an answer people are told.
const (
	portEvery  = time.Second
	portUnread = 5 * time.Second
)

// keepPort ends a connection at which another port is seen: nobody types at a host that they do
// not mean.
func (s *screen) keepPort(ctx context.Context, p *gear.Port, cut context.CancelCauseFunc) {
	if p == nil || p.Shown == nil {
		return
	}
	tick := time.NewTicker(portEvery)
	defer tick.Stop()
	read, told := time.Now(), false
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		is, err := isSeen(ctx, p)
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			if !told && time.Since(read) > portUnread {
				told = true
				s.mu.Lock()
				s.tell(fmt.Sprintf("which port %s shows cannot be read any more (%s): see whose screen it is before you type", p.KVM, err))
				s.mu.Unlock()
			}
		case is:
			read, told = time.Now(), false
		default:
			s.mu.Lock()
			s.elsewhere = true
			s.mu.Unlock()
			cut(errors.New("another port was chosen at the KVM"))
			return
		}
	}
}

// Take takes the keyboard at once, for keepers, and the channel of the KVM where that shows
// somebody else's screen.
func (v *View) Take() error {
	s := v.s
	s.mu.Lock()
	p, has, may := s.waits, s.seats.Keyboard == v.ID, s.at(v.ID).MayTake
	s.mu.Unlock()
	if p == nil || !has || !may { // or it is refused with words
		if err := v.Sitting.Take(); err != nil || p == nil {
			return err
		}
	}
	s.room.channels.take(p, hold{by: s}, fmt.Errorf("%s has %s show the screen of %s", v.who, p.KVM, s.device))
	s.record(v.who, "Had %s show the screen of %s", p.KVM, s.device)
	return nil
}

// Ask asks for the keyboard, and those who sit at the screen that a KVM shows instead to leave it.
func (v *View) Ask() error {
	s := v.s
	s.mu.Lock()
	p := s.waits
	s.mu.Unlock()
	if p == nil {
		return v.Sitting.Ask()
	}
	by := s.room.channels.heldBy(p)
	if by == nil || by == s {
		return nil
	}
	by.mu.Lock()
	by.tell(fmt.Sprintf("%s would like to see the screen of %s, which %s shows on the same channel: leave this one, and it does", v.who, s.device, p.KVM))
	by.mu.Unlock()
	s.mu.Lock()
	s.tell(fmt.Sprintf("those at the screen of %s have been asked to leave it", by.device))
	s.mu.Unlock()
	return nil
}

// again has a screen shown again from which somebody at the KVM has gone away; it says whether
// that was so.
func (s *screen) again() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	was := s.elsewhere
	s.elsewhere = false
	return was
}
