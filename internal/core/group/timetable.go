package group

import (
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

// A Slot is when a member is expected to begin, and to be up, counted from the
// beginning of the group.
type Slot struct {
	Device estate.Key
	Begins time.Duration
	Up     time.Duration
}

// A Point of the load curve: from then on so much is drawn, in W.
type Point struct {
	At time.Duration
	W  float64
}

// surgeLasts is how long an inrush is drawn in the load curve.
const surgeLasts = time.Second

// Timetable runs the machine itself through a group in which everything takes as
// long as it usually does.
func (g *Group) Timetable() []Slot {
	sim := g.Clone()
	start := time.Unix(0, 0)
	sim.At, sim.State, sim.LastSent = time.Time{}, Running, time.Time{}
	slots := make([]Slot, len(sim.Members))
	now := start
	var feed func(in Event)
	feed = func(in Event) {
		for _, c := range sim.Step(in) {
			if b, ok := c.(Begin); ok {
				feed(Begun{At: now, Device: b.Device})
			}
		}
	}
	feed(Started{At: now})
	for range 8*len(sim.Members) + 8 { // bounded, whatever the machine says
		if sim.Final() {
			break
		}
		now = sim.soonest(now)
		for i := range sim.Members {
			switch m := &sim.Members[i]; {
			case m.Over || m.State != MemberRunning && m.State != Settling && m.State != MemberDone:
			case !now.Before(m.Began.Add(m.Expect)):
				feed(Progress{At: now, Device: m.Device, Powered: true, State: operation.Done})
			case !now.Before(m.Began.Add(powerAfter)):
				feed(Progress{At: now, Device: m.Device, Powered: true, State: operation.Running})
			}
		}
		feed(Expired{now})
	}
	for i, m := range sim.Members {
		slots[i] = Slot{m.Device, m.Began.Sub(start), m.Ended.Sub(start)}
	}
	return slots
}

// powerAfter is how long it takes until power has been read back.
const powerAfter = 2 * time.Second

// soonest is when the next thing happens of itself.
func (g *Group) soonest(now time.Time) time.Time {
	next := now.Add(time.Hour)
	at := func(t time.Time) {
		if t.After(now) && t.Before(next) {
			next = t
		}
	}
	at(g.LastSent.Add(g.Order.Gap))
	for i := range g.Members {
		m := &g.Members[i]
		if !m.Over && !m.Began.IsZero() {
			at(m.Began.Add(m.Expect))
			at(m.Began.Add(powerAfter))
			at(m.PowerAt.Add(g.Order.Wait))
		}
	}
	return next
}

// Curve is what is drawn meanwhile, beginning with what is drawn now, in W.
func (g *Group) Curve(slots []Slot, now float64) []Point {
	type change struct {
		at time.Duration
		w  float64
	}
	var changes []change
	for i, s := range slots {
		m := g.Members[i]
		switch {
		case goesDown(g.Intent.Kind):
			changes = append(changes, change{s.Up, -m.W})
		case g.Intent.Kind == operation.On:
			changes = append(changes, change{s.Begins, m.Surge}, change{s.Begins + surgeLasts, m.W - m.Surge})
		case g.Intent.Kind == operation.Cycle:
			hold := s.Begins + g.Intent.Hold
			changes = append(changes, change{s.Begins, -m.W}, change{hold, m.Surge}, change{hold + surgeLasts, m.W - m.Surge})
		}
	}
	slices.SortStableFunc(changes, func(a, b change) int { return int(a.at - b.at) })
	out := []Point{{0, now}}
	for _, c := range changes {
		now = max(0, now+c.w)
		if last := &out[len(out)-1]; last.At == c.at {
			last.W = now
		} else {
			out = append(out, Point{c.at, now})
		}
	}
	return out
}

// Peak is the most that is drawn.
func Peak(curve []Point) (most float64) {
	for _, p := range curve {
		most = max(most, p.W)
	}
	return most
}
