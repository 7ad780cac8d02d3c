package orders

import (
	"context"
	"errors"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/ladder"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
)

// witnesses are those of the ladder of an uplink.
func (l *Ladder) witnesses() []estate.Key {
	if l.Uplink == nil {
		return nil
	}
	return l.Uplink.Witnesses
}

// wayOut says how the witnesses of an uplink were heard last, and what it says of its own line.
func (r *Room) wayOut(l *Ladder, s *ladder.Situation) {
	var lost time.Time
	r.Keeper.See(func(e *estate.Estate, ev *verdict.Evidence, _ map[estate.Key]verdict.Verdict, now time.Time) {
		if why := l.Uplink.Weak(e, s.Device.Key); why != "" {
			s.Unless = append(s.Unless, why)
		}
		for _, k := range l.Uplink.Witnesses {
			w := ladder.Witness{Device: k}
			w.Answers, w.Silent, _, w.Since = verdict.Heard(e, ev, k, now)
			if w.Since.After(lost) {
				lost = w.Since
			}
			s.Witnesses = append(s.Witnesses, w)
		}
	})
	if l.Uplink.Line == "" {
		return
	}
	up, err := r.holds(l.Site, l.Uplink.Line, map[string]string{"device": string(s.Device.Key)})
	switch {
	case err != nil:
		s.Line = ladder.LineUntold
	case !r.Keeper.Inside(s.Device.Key).SensorsAt.After(lost):
		s.Line = ladder.LineStale
	case up:
		s.Line = ladder.LineUp
	default:
		s.Line = ladder.LineDown
	}
}

// heardAgain has the ladder of an uplink go on that was at its end: a witness has answered since.
func (r *Room) heardAgain(ctx context.Context, l *Ladder, now time.Time) error {
	if l.Uplink == nil {
		return nil
	}
	k := estate.Key(l.Match.Devices[0])
	s := &ladder.Situation{Now: now, Device: r.Keeper.Estate().Device(k)}
	if !l.rests(k) || s.Device == nil {
		return nil
	}
	r.wayOut(l, s)
	way, _, why := s.Way()
	if way != ladder.Through {
		return nil
	}
	entry := store.Entry{At: now, Site: s.Device.Site, Device: k, Who: asOrder(l.Row.Name).By(), Kind: store.EntryLadder, Text: "Ladder " + l.Row.Name + " goes on at " + string(k) + ": " + why, Result: "done"}
	if err := r.Store.ResetHold(ctx, l.Row.Name, k, now, entry); err != nil && !errors.Is(err, store.ErrConflict) {
		return err
	}
	r.written()
	return r.refresh(ctx) // the turn is ours
}
