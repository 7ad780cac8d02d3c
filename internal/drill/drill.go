// Package drill says how devices could be rescued, and tries the ways without harm: it asks the gear that
// would do it anew, which logs in, and reads back what would be switched. No contact moves.
package drill

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/readiness"
	"plumbbob/internal/store"
)

// Parts is what it works with.
type Parts struct {
	Store *store.Store
	// World is all that previews are worked out from.
	World func(ctx context.Context) (operation.World, error)
	// LookAt has devices asked at once, and waits for that.
	LookAt func(ctx context.Context, devices []estate.Key) error
	// Written says that there is something new in the journal.
	Written func()
}

// Room looks and drills.
type Room struct {
	Parts

	drilling sync.Mutex // one at a time: each asks all that it is about
}

// New returns a room.
func New(p Parts) *Room { return &Room{Parts: p} }

// ErrDrilling says that a drill is under way.
var ErrDrilling = errors.New("a drill is under way: wait for it to end")

// remembered is how long it counts that a way was used.
const remembered = 400 * 24 * time.Hour

// which are the devices of a site, or one device, or, when it is empty, all. The error says that there is
// no such thing.
func which(e *estate.Estate, what string) (func(d *estate.Device) bool, error) {
	k := estate.Key(what)
	switch d := e.Device(k); {
	case what == "":
		return func(*estate.Device) bool { return true }, nil
	case d != nil && !readiness.Counts(e, d):
		return nil, &operation.UsageError{Text: fmt.Sprintf("%s cannot hang, as far as the estate says: it is asked nothing, or this service stands on it", k)}
	case d != nil:
		return func(d *estate.Device) bool { return d.Key == k }, nil
	case e.Site(k) != nil:
		return func(d *estate.Device) bool { return d.Site == k }, nil
	}
	return nil, &operation.UsageError{Text: fmt.Sprintf("there is no device and no site %q: plumb board lists them", what)}
}

// Ready says how devices could be rescued now, the worst first; what is as which has it.
func (r *Room) Ready(ctx context.Context, what string) ([]readiness.Device, error) {
	w, err := r.World(ctx)
	if err != nil {
		return nil, err
	}
	all, err := look(w, what)
	if err != nil {
		return nil, err
	}
	return all, r.remember(ctx, all, w.Now)
}

func look(w operation.World, what string) ([]readiness.Device, error) {
	meant, err := which(w.Estate, what)
	if err != nil {
		return nil, err
	}
	return readiness.All(w, meant), nil
}

type wayID struct {
	device estate.Key
	means  operation.Means
}

// remember adds when the ways were used and drilled. Without the database nothing is known of that.
func (r *Room) remember(ctx context.Context, all []readiness.Device, now time.Time) error {
	drills, err := r.Store.Drills(ctx)
	if err == nil {
		var used []store.Tried
		if used, err = r.Store.Used(ctx, now.Add(-remembered)); err == nil {
			add(all, used, func(w *readiness.Way, t *readiness.Test) { w.Used = t })
		}
		add(all, drills, func(w *readiness.Way, t *readiness.Test) { w.Proved = t })
	}
	if errors.Is(err, store.ErrAway) {
		return nil
	}
	return err
}

func add(all []readiness.Device, tried []store.Tried, set func(*readiness.Way, *readiness.Test)) {
	by := map[wayID]*readiness.Test{}
	for _, t := range tried {
		by[wayID{t.Device, t.Means}] = &readiness.Test{At: t.At, OK: t.OK, Why: t.Why, By: t.Who}
	}
	for i := range all {
		for j := range all[i].Ways {
			if w := &all[i].Ways[j]; by[wayID{all[i].Key, w.Means}] != nil {
				set(w, by[wayID{all[i].Key, w.Means}])
			}
		}
	}
}

// Drill asks all gear anew by which devices could be rescued, and records what came of it: a way is proved
// when its gear has answered since, let us in with what switching takes, and told what it would switch.
func (r *Room) Drill(ctx context.Context, what, by string) ([]readiness.Device, error) {
	if !r.drilling.TryLock() {
		return nil, ErrDrilling
	}
	defer r.drilling.Unlock()
	w, err := r.World(ctx)
	if err != nil {
		return nil, err
	}
	before, err := look(w, what)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	if gear := gearOf(before); len(gear) > 0 {
		if err := r.LookAt(ctx, gear); err != nil && ctx.Err() != nil {
			return nil, err
		} // who has not answered in time has not been proved
	}
	if w, err = r.World(ctx); err != nil {
		return nil, err
	}
	all, err := look(w, what)
	if err != nil {
		return nil, err
	}
	if err := r.record(ctx, all, what, by, began); err != nil {
		return nil, err
	}
	return all, r.remember(ctx, all, w.Now)
}

// gearOf are the devices that would have to switch something.
func gearOf(all []readiness.Device) (out []estate.Key) {
	seen := map[estate.Key]bool{}
	for _, d := range all {
		for _, way := range d.Ways {
			for _, id := range way.By {
				if !seen[id.Device] {
					seen[id.Device] = true
					out = append(out, id.Device)
				}
			}
		}
	}
	return out
}

func (r *Room) record(ctx context.Context, all []readiness.Device, what, by string, began time.Time) error {
	now := time.Now().UTC()
	var tried []store.Tried
	for _, d := range all {
		for _, way := range d.Ways {
			t := store.Tried{Device: d.Key, Means: way.Means, At: now, OK: way.Works && way.Heard.After(began), Why: way.Why, Who: by}
			if way.Works && !t.OK {
				t.Why = "its gear has not answered anew in time"
			}
			tried = append(tried, t)
		}
	}
	entry := store.Entry{At: now, Kind: store.EntryDrill, Who: by, Text: "Drill: " + readiness.Words(all), Result: "done"}
	if len(all) > 0 && what != "" {
		entry.Site = all[0].Site
		if len(all) == 1 {
			entry.Device = all[0].Key
		}
	}
	if err := r.Store.SaveDrills(ctx, tried, entry); err != nil {
		return err
	}
	r.Written()
	return nil
}
