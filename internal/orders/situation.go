package orders

import (
	"context"
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/ladder"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
)

const week = 7 * 24 * time.Hour

// situation is all that a gate goes by. What cannot be found out speaks against acting.
func (r *Room) situation(ctx context.Context, l *Ladder, rung int, k estate.Key, but string, now time.Time) *ladder.Situation {
	e := r.Keeper.Estate()
	s := &ladder.Situation{Now: now, Device: e.Device(k), Verdict: r.Keeper.Verdict(k), Started: r.acted}
	if s.Device == nil {
		return s
	}
	s.Feeds = feedsOf(e, k)
	if l.Uplink != nil {
		r.wayOut(l, s)
	}
	r.supplies(s, e)
	var err error
	if s.Acts, err = r.Store.Acts(ctx, now.Add(-week), but); err != nil {
		s.Unless = append(s.Unless, "what ladders did cannot be read: "+err.Error())
	}
	under := map[string]bool{}
	for _, x := range r.runs.All() {
		under[x.ID] = true
	}
	for i := range s.Acts {
		s.Acts[i].Over = !under[s.Acts[i].Climb]
	}
	r.goingOn(ctx, l, s, k)
	r.preview(ctx, l, rung, s, k)
	return s
}

// feedsOf are what feeds a device: its gear, and its UPSes.
func feedsOf(e *estate.Estate, k estate.Key) (out []estate.Key) {
	for _, end := range e.FeedsOf(k) {
		if end.Device != k && !slices.Contains(out, end.Device) {
			out = append(out, end.Device)
		}
	}
	for _, ups := range e.SuppliesOf(k) {
		if !slices.Contains(out, ups) {
			out = append(out, ups)
		}
	}
	return out
}

// supplies says which UPS of it is on battery, and when the utility came back.
func (r *Room) supplies(s *ladder.Situation, e *estate.Estate) {
	r.Keeper.See(func(_ *estate.Estate, ev *verdict.Evidence, _ map[estate.Key]verdict.Verdict, _ time.Time) {
		for _, ups := range e.SuppliesOf(s.Device.Key) {
			if x, known := ev.Supplies[ups]; known && x.OnBattery() {
				s.Battery = ups
			}
		}
		for _, d := range e.Supplies(s.Device.Site) {
			if x, known := ev.Supplies[d.Key]; known && !x.OnBattery() && x.Since.After(s.Returned) {
				s.Returned = x.Since
			}
		}
	})
}

// goingOn says what goes on around the device, and which conditions of the ladder speak against it.
func (r *Room) goingOn(ctx context.Context, l *Ladder, s *ladder.Situation, k estate.Key) {
	around, err := r.Actor.AroundOf(ctx, k)
	if err != nil {
		s.Unless = append(s.Unless, "it is not known what goes on around it: "+err.Error())
	}
	s.InUse, s.Window, s.Busy = around.InUse, around.Window, around.Busy
	if r.AtLine != nil && s.InUse == "" {
		if who := r.AtLine(k); len(who) > 0 {
			s.InUse = who[0]
		}
	}
	with := map[string]string{"device": string(k)}
	if l.If != "" {
		if yes, err := r.holds(l.Site, l.If, with); err != nil {
			s.If = "it cannot be told whether " + l.If + ": " + err.Error()
		} else if !yes {
			s.If = "it is not so that " + l.If
		}
	}
	for _, x := range l.Unless {
		if yes, err := r.holds(l.Site, x, with); err != nil {
			s.Unless = append(s.Unless, "it cannot be told whether "+x+": "+err.Error())
		} else if yes {
			s.Unless = append(s.Unless, "not while "+x)
		}
	}
}

// preview works out what a rung would do, and whether its cables are proved.
func (r *Room) preview(ctx context.Context, l *Ladder, rung int, s *ladder.Situation, k estate.Key) {
	x := l.Rungs[rung]
	if x.Routine != "" {
		return
	}
	p, err := r.Actor.Preview(ctx, operation.Intent{Kind: x.Kind, Device: k, Means: x.Means, Hold: x.Hold}, asOrder(l.Row.Name))
	if err != nil {
		s.Refused = err.Error()
		return
	}
	if stand := p.Unlifted(operation.Consent{Role: operation.Operator}); len(stand) > 0 {
		s.Refused = fmt.Sprintf("it would be refused (%s): %s", stand[0].Name, stand[0].Reason)
	}
	s.Preview = p
	s.Proved = x.Cuts(p) && r.proved(ctx, p, k)
}

// proved says whether it was seen, since the estate was last changed, that these outlets feed the
// device.
func (r *Room) proved(ctx context.Context, p *operation.Preview, k estate.Key) bool {
	v, err := r.Store.Estate(ctx)
	if err != nil {
		return false
	}
	ops, err := r.Store.Operations(ctx, store.OperationFilter{Device: k, State: operation.Done, Limit: 200})
	if err != nil {
		return false
	}
	for _, o := range p.Outlets {
		if !slices.ContainsFunc(ops, func(op *operation.Operation) bool { return op.Asked.After(v.At) && shows(op, o.End) }) {
			return false
		}
	}
	return len(p.Outlets) > 0
}

// shows says whether an operation has shown that an outlet feeds its device: that fell silent without
// it, or did not answer before and did when its power was back. One at which others fell silent, or
// that went on answering, has failed.
func shows(o *operation.Operation, end estate.End) bool {
	if o.Kind != operation.Cycle && o.Kind != operation.Off || len(o.Trouble) > 0 || !slices.Contains(o.Outlets, end) {
		return false
	}
	return !o.SilentAt.IsZero() || !o.Answered && !o.HeardAt.IsZero()
}
