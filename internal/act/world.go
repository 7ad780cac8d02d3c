package act

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"plumbbob/internal/calendar"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/durable"
	"plumbbob/internal/keep"
	"plumbbob/internal/store"
)

// around is what previews rest on beside what is observed: whose time it is,
// what has been done lately, and what devices usually draw. It is read again
// when it is older than its parts keep; without the database what was read last
// counts, so that nobody is kept from acting.
type around struct {
	mu        sync.Mutex
	read      time.Time
	windows   []operation.Window
	calendars map[string]*calendar.Calendar
	draws     map[estate.Key]float64
	ran       map[estate.Key]float64 // what was seen last of a device that ran
}

const (
	drawsKeep  = 10 * time.Minute
	drawsAgain = 30 * time.Second // after they could not be read
	drawsOver  = 7 * 24 * time.Hour
)

// Forget has windows and calendars read again at the next preview.
func (a *Actor) Forget() {
	a.around.mu.Lock()
	defer a.around.mu.Unlock()
	a.around.read = time.Time{}
}

// world is all that a preview is worked out from.
func (a *Actor) world(ctx context.Context, by operation.Asker) (operation.World, error) {
	w := a.Keeper.World()
	w.Asker = by
	w.Gear = func(k estate.Key) operation.GearTraits { return a.Traits(w.Estate, k) }
	ctx, cancel := context.WithTimeout(ctx, recordWithin) // what it does not say in time is gone without
	defer cancel()
	recent, err := a.Store.RecentOperations(ctx, w.Now.Add(-time.Hour))
	if err == nil {
		w.Recent = recent
		err = a.refresh(ctx, w.Now)
	}
	if err != nil && !errors.Is(err, store.ErrAway) {
		return w, err
	}
	w.Newest = a.newest.all(ctx, a)
	a.around.mu.Lock()
	for _, x := range a.around.windows {
		if !x.From.After(w.Now) && x.Until.After(w.Now) {
			w.Windows = append(w.Windows, x)
		}
	}
	w.Draws = maps.Clone(a.around.draws)
	w.InUse = a.inUse(w)
	a.around.mu.Unlock()
	w.AtLine = a.AtLine
	a.mu.Lock()
	w.Busy = maps.Clone(a.busy)
	a.mu.Unlock()
	return w, nil
}

// World is all that previews are worked out from, for nobody in particular.
func (a *Actor) World(ctx context.Context) (operation.World, error) {
	return a.world(ctx, operation.Asker{Role: operation.Operator})
}

// Around is what goes on around a device, in words; empty where nothing does.
type Around struct {
	InUse  string // who works with it
	Window string // in which it is worked on
	Busy   string // the operation on it
}

// AroundOf says what goes on around a device now.
func (a *Actor) AroundOf(ctx context.Context, k estate.Key) (out Around, err error) {
	a.mu.Lock()
	out.Busy = a.busy[estate.ChassisEnd(k)]
	a.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, recordWithin)
	defer cancel()
	if err := a.refresh(ctx, time.Now()); err != nil && !errors.Is(err, store.ErrAway) {
		return out, err
	}
	a.Keeper.See(func(e *estate.Estate, ev *verdict.Evidence, _ map[estate.Key]verdict.Verdict, now time.Time) {
		d := e.Device(k)
		if d == nil {
			return
		}
		out.InUse = verdict.InUse(e, ev, k, now)
		a.around.mu.Lock()
		defer a.around.mu.Unlock()
		if c := a.around.calendars[d.Use.Calendar]; c != nil && out.InUse == "" {
			if text, _, busy := c.Busy(now); busy {
				out.InUse = fmt.Sprintf("by the calendar %s (%s)", d.Use.Calendar, text)
			}
		}
		for _, x := range a.around.windows {
			if !x.From.After(now) && x.Until.After(now) && x.Covers(d) {
				out.Window = cmp.Or(x.Why, "a window of "+x.By)
			}
		}
	})
	return out, nil
}

// Traits says what the gear of a device can do.
func (a *Actor) Traits(e *estate.Estate, k estate.Key) operation.GearTraits {
	return a.Garage.Traits(e, k)
}

// inUse asks the calendars, with the lock held.
func (a *Actor) inUse(w operation.World) map[estate.Key]string {
	out := map[estate.Key]string{}
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		c := a.around.calendars[d.Use.Calendar]
		if c == nil {
			continue
		}
		if text, until, busy := c.Busy(w.Now); busy {
			out[d.Key] = fmt.Sprintf("by the calendar %s (%s), until %s", d.Use.Calendar, text, until.In(w.Estate.Zone(d.Key)).Format("15:04"))
		}
	}
	return out
}

// refresh reads what has changed, or may have.
func (a *Actor) refresh(ctx context.Context, now time.Time) error {
	a.around.mu.Lock()
	defer a.around.mu.Unlock()
	if a.around.read.IsZero() || slices.ContainsFunc(a.around.windows, func(x operation.Window) bool { return x.Every != "" && !x.Until.After(now) }) {
		windows, err := a.Store.Windows(ctx, now)
		if err != nil {
			return err
		}
		texts, err := a.Store.Calendars(ctx)
		if err != nil {
			return err
		}
		calendars := map[string]*calendar.Calendar{}
		for _, t := range texts {
			c, err := calendar.Parse(t.Text, a.calendarZone(t.Name))
			if err != nil {
				a.Log.Error("a calendar is left out", "calendar", t.Name, "because", err)
				continue
			}
			calendars[t.Name] = c
		}
		a.around.windows, a.around.calendars, a.around.read = windows, calendars, now
	}
	a.seen()
	return nil
}

// keepDraws reads what devices draw usually again and again, beside whatever
// else goes on: it looks at a week of all of them.
func (a *Actor) keepDraws(ctx context.Context) {
	for {
		now := time.Now()
		draws, err := a.Store.UsualDraws(ctx, keep.DrawSeries, now.Add(-drawsOver))
		again := drawsKeep
		if err == nil {
			a.around.mu.Lock()
			a.around.draws = draws
			a.around.mu.Unlock()
		} else if again = drawsAgain; ctx.Err() == nil {
			a.Log.Warn("what devices usually draw cannot be read", "because", err)
		}
		if !durable.Pause(ctx, again) {
			return
		}
	}
}

// calendarZone is that of the first device which goes by a calendar.
func (a *Actor) calendarZone(name string) *time.Location {
	e := a.Keeper.Estate()
	for i := range e.Devices {
		if e.Devices[i].Use.Calendar == name {
			return e.Zone(e.Devices[i].Key)
		}
	}
	return time.UTC
}

// seen takes what devices draw that run now, where no past is known yet.
func (a *Actor) seen() {
	a.Keeper.See(func(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time) {
		m := verdict.At(e, ev, nil, now)
		for i := range e.Devices {
			d := &e.Devices[i]
			if s := vs[d.Key].State; s != verdict.Steady && s != verdict.Strained {
				continue
			}
			if w, known := m.Draw(d.Key); known && w > verdict.Idle(d) {
				a.around.ran[d.Key] = w
			}
		}
	})
	for k, w := range a.around.ran {
		if _, known := a.around.draws[k]; !known {
			a.around.draws[k] = w
		}
	}
}
