package broker

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"plumbbob/internal/core/seat"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// A Trial is another display that a KVM pretends to be until somebody says yes, or it goes back.
type Trial struct {
	Is    string
	Until time.Time
}

// How long another display is tried, how long it is tried to go back, and how long a pause is
// between those tries.
const (
	triedFor   = 15 * time.Second
	backWithin = time.Minute
	backEvery  = time.Second
)

// trial is one that runs.
type trial struct {
	Trial
	was string
	yes chan struct{} // closed by who has seen a picture
}

// readPretence reads which display the gear pretends to be.
func (s *screen) readPretence(ctx context.Context, edid gear.Pretending) {
	if edid == nil {
		return
	}
	now, err := edid.Pretends(ctx)
	if err != nil {
		return // it is offered to nobody then
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.pretence = now
	s.tell()
}

// Pretend has the gear be another display to its host, for a while. It goes back by itself unless
// somebody says with Keep that there is a picture.
func (v *View) Pretend(ctx context.Context, name string) error {
	s := v.s
	var edid gear.Pretending
	var was string
	var t *trial
	busy := false
	err := v.typing(func(gear.Attached) error {
		edid, was, busy = s.edid, s.pretence.Is, s.trial != nil
		if edid != nil && was != "" && !busy && name != was {
			t = &trial{Trial{name, time.Now().Add(cmp.Or(s.room.TryDisplay, triedFor))}, was, make(chan struct{})}
			s.trial = t
			s.announce(v.who, "%s has what shows %s pretend to be a display %s, and not %s: it goes back at %s unless somebody keeps it", v.who, s.device, name, was, t.Until.UTC().Format("15:04:05 MST"))
		}
		return nil
	})
	switch {
	case err != nil:
		return err
	case edid == nil || was == "":
		return &seat.NoError{Text: "nothing was done: its gear pretends to be no other display"}
	case busy:
		return &seat.NoError{Text: "nothing was done: another display is being tried; say whether it is kept"}
	case t == nil: // it is that already
		return nil
	}
	err = edid.Pretend(ctx, name)
	if oc := gear.OutcomeOf(err); err != nil && (oc == sending.NotSent || oc == sending.Refused) {
		s.tried(t, was, "")
		return err
	}
	s.room.mu.Lock()
	defer s.room.mu.Unlock()
	serves := s.room.ctx
	s.room.work.Go(func() { s.try(serves, edid, t) })
	return err
}

// try waits for a yes, and else has the gear be again what it was: also when the service ends.
func (s *screen) try(ctx context.Context, edid gear.Pretending, t *trial) {
	select {
	case <-t.yes:
		s.tried(t, t.Is, fmt.Sprintf("the display %s is kept", t.Is))
		return
	case <-ctx.Done():
	case <-time.After(time.Until(t.Until)):
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), backWithin)
	defer cancel()
	for {
		err := edid.Pretend(ctx, t.was)
		if err == nil {
			s.tried(t, t.was, fmt.Sprintf("nobody kept the display %s: it is %s again", t.Is, t.was))
			return
		}
		select {
		case <-ctx.Done():
			s.tried(t, t.Is, fmt.Sprintf("what shows %s may still pretend to be a display %s: it could not be had back to %s: %s", s.device, t.Is, t.was, err))
			return
		case <-time.After(backEvery):
		}
	}
}

// tried is the end of a trial.
func (s *screen) tried(t *trial, is, words string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.trial, s.pretence.Is = nil, is
	s.tell()
	if words != "" {
		s.announce(byItself, "%s", words)
	}
}

// byItself stands in the journal where nobody in particular did something.
const byItself = "plumbd"

// Keep says that there is a picture on the display that is tried.
func (v *View) Keep() error {
	s := v.s
	s.mu.Lock()
	defer s.mu.Unlock()
	if err := s.seats.Types(v.ID, time.Now()); err != nil {
		return err
	}
	if s.trial == nil {
		return &seat.NoError{Text: "no display is being tried: it has gone back"}
	}
	select {
	case <-s.trial.yes:
	default:
		close(s.trial.yes)
	}
	return nil
}
