package service

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
)

// A moment is what two clocks say: that on the wall, which may be set, and one that
// only runs.
type moment struct {
	wall time.Time
	runs time.Duration
}

// set says by how much the clock on the wall was set between two moments.
func (was moment) set(now moment) time.Duration {
	return now.wall.Sub(was.wall) - (now.runs - was.runs)
}

const (
	clockEvery = 5 * time.Second
	clockLeast = 2 * time.Second // a clock that is disciplined moves by less
	clockSaid  = time.Hour       // for how long that is told
)

// watchClock says when the clock of this machine jumps, because somebody set it or the
// machine slept: what is asked for at a time goes
// by it, and so does the record. What waits for a duration does not.
func (s *Service) watchClock(ctx context.Context) error {
	began := time.Now()
	look := func() moment {
		now := time.Now()
		return moment{now.Round(0), now.Sub(began)} // Round takes the running clock away
	}
	var said time.Duration
	if s.lastAlive.After(began.Add(time.Minute)) {
		said = 1
		s.clockSet(ctx, fmt.Sprintf("the clock of this machine stands %s before when this service last ran: see whether it is right", verdict.Age(s.lastAlive.Sub(began))))
	}
	tick := time.NewTicker(clockEvery)
	defer tick.Stop()
	was := look()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
		now := look()
		by := was.set(now)
		switch {
		case by.Abs() >= clockLeast:
			s.clockSet(ctx, clockWords(by, now.wall))
			said = now.runs
		case said > 0 && now.runs-said > clockSaid:
			s.health.Well("clock")
			said = 0
		}
		was = now
	}
}

func clockWords(by time.Duration, now time.Time) string {
	way := "forward"
	if by < 0 {
		way = "back"
	}
	return fmt.Sprintf("the clock of this machine jumped %s by %s, to %s: what was asked for at a time goes by the new one", way, verdict.Age(by.Abs()), now.UTC().Format("2006-01-02 15:04:05 MST"))
}

func (s *Service) clockSet(ctx context.Context, text string) {
	s.health.Ails("clock", text)
	ctx, cancel := context.WithTimeout(ctx, keepKeyWithin)
	defer cancel()
	if err := s.Store.Write(ctx, store.Entry{At: time.Now().UTC(), Who: "plumbd", Kind: store.EntryService, Text: text, Result: "done"}); err != nil {
		s.o.Log.Warn("that the clock was set could not be recorded", "because", err)
	}
}
