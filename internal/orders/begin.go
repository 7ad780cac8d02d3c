package orders

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/durable"
	"plumbbob/internal/store"
)

// holding is for how long a condition has been what it is.
type holding struct {
	known, is bool
	since     time.Time
}

// lookBack is how far times are looked for that went by while nobody acted.
const lookBack = 31 * 24 * time.Hour

// look begins what is due.
func (r *Room) look(ctx context.Context, now time.Time) error {
	if !r.Acts() {
		return nil // it is for another service to begin
	}
	r.turn.Lock()
	defer r.turn.Unlock()
	r.mu.Lock()
	stale := r.estate != r.Keeper.Estate()
	r.mu.Unlock()
	if stale {
		if err := r.refresh(ctx); err != nil {
			return err
		}
	}
	open := r.Incidents()
	var errs []error
	for _, o := range r.acting() {
		for i := range o.When {
			if err := r.consider(ctx, o, i, open, now); err != nil {
				errs = append(errs, fmt.Errorf("%s: %w", o.Row.Name, err))
			}
		}
	}
	r.forget(open)
	errs = append(errs, r.climbs(ctx, now))
	return errors.Join(errs...)
}

// acting are the routines that begin by themselves.
func (r *Room) acting() (out []*Order) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, o := range r.orders {
		if !o.off() {
			out = append(out, o)
		}
	}
	slices.SortFunc(out, func(a, b *Order) int { return cmp.Compare(a.Row.Name, b.Row.Name) })
	return out
}

// forget forgets incidents that are over.
func (r *Room) forget(open []*incident.Incident) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if len(r.seen) < 1000 {
		return
	}
	keep := map[string]bool{}
	for _, i := range open {
		for name := range r.orders {
			if key := name + "\n" + i.ID; r.seen[key] {
				keep[key] = true
			}
		}
	}
	r.seen = keep
}

// consider sees whether one thing begins a routine now.
func (r *Room) consider(ctx context.Context, o *Order, i int, open []*incident.Incident, now time.Time) error {
	t := o.When[i]
	switch {
	case t.At != nil:
		return r.clock(ctx, o, t, now)
	case t.While != "":
		return r.while(ctx, o, i, now)
	case len(t.Kinds) > 0:
		return r.incidents(ctx, o, t, open, now)
	}
	return nil
}

// clock begins a routine whose time has come, or says that it was missed.
func (r *Room) clock(ctx context.Context, o *Order, t routine.Trigger, now time.Time) error {
	if o.Row.Dealt.After(now.Add(time.Minute)) { // the clock was set back: times count from here
		return r.deal(ctx, o, store.Dealt{At: &now})
	}
	from := o.Row.Dealt
	if old := now.Add(-lookBack); from.Before(old) {
		from = old
	}
	times, n := t.At.Between(from, now, 1)
	if n == 0 {
		return nil
	}
	due := times[0]
	why := fmt.Sprintf("the clock: %s, %s", t.At.Text, due.In(r.zone(o)).Format("Mon 2 Jan 15:04 MST"))
	dealt := store.Dealt{Name: o.Row.Name, At: &now}
	x := beginning{o: o, id: routine.NameOf(o.Row.Name, due.UTC().Format(time.RFC3339)), why: why, dealt: dealt, steps: o.Steps}
	switch late := now.Sub(due); {
	case late > t.Late:
		why += fmt.Sprintf(": missed, nothing here could begin it for %s", late.Round(time.Second))
		if n > 1 {
			why += fmt.Sprintf(", nor %d times before", n-1)
		}
		return r.missed(ctx, x, why, now)
	case r.running(o.Row.Name):
		return r.missed(ctx, x, why+": left out, it was still running", now)
	}
	return r.begin(ctx, x, now)
}

// while begins the steps of a routine when its condition has held for so long, and those after it when
// it has not held any more for so long. What cannot be told changes nothing.
func (r *Room) while(ctx context.Context, o *Order, i int, now time.Time) error {
	t := o.When[i]
	yes, err := r.holds(o.Site, t.While, o.With)
	r.mu.Lock()
	h := o.held[i]
	if h == nil || !h.known || h.is != yes || err != nil {
		h = &holding{known: err == nil, is: yes, since: now}
		o.held[i] = h
	}
	sure := h.known && now.Sub(h.since) >= t.For
	r.mu.Unlock()
	if !sure || o.Row.Held.Valid && o.Row.Held.Bool == yes || r.running(o.Row.Name) {
		return nil
	}
	x := beginning{
		o: o, id: durable.NewID(), why: t.While, steps: o.Steps,
		dealt: store.Dealt{Name: o.Row.Name, Held: &yes},
	}
	if t.For > 0 {
		x.why += ", for " + plain.Span(t.For)
	}
	if !yes {
		if !o.Follows() || !o.Row.Held.Valid { // it was never so
			return r.deal(ctx, o, x.dealt)
		}
		x.steps, x.why = o.After, x.why+": over"
	}
	return r.begin(ctx, x, now)
}

// tooOld is how long ago an incident may have opened that begins something: older ones were there
// when nobody acted.
const tooOld = 10 * time.Minute

// incidents begins a routine for each incident that has opened.
func (r *Room) incidents(ctx context.Context, o *Order, t routine.Trigger, open []*incident.Incident, now time.Time) error {
	fits := func(list []string, x string) bool { return len(list) == 0 || slices.Contains(list, x) }
	for _, i := range open {
		key := o.Row.Name + "\n" + i.ID
		r.mu.Lock()
		seen := r.seen[key]
		r.mu.Unlock()
		if seen || !slices.Contains(t.Kinds, i.Kind) || !fits(t.Sites, string(i.Site)) || !fits(t.Of, string(i.Device)) || i.Opened.Before(o.Row.SetAt) || now.Sub(i.Opened) > tooOld {
			continue
		}
		x := beginning{o: o, id: routine.NameOf(o.Row.Name, i.ID), why: fmt.Sprintf("incident %s: %s is %s", i.ID, i.Device, i.Kind), steps: o.Steps, dealt: store.Dealt{Name: o.Row.Name}}
		if _, takes := o.With["device"]; takes {
			x.with = map[string]string{"device": string(i.Device)}
		}
		if err := r.begin(ctx, x, now); err != nil {
			return err
		}
		r.mu.Lock()
		r.seen[key] = true
		r.mu.Unlock()
	}
	return nil
}

func (r *Room) zone(o *Order) *time.Location {
	if z := r.Around().Zone(o.Site); z != nil {
		return z
	}
	return time.UTC
}

// running says whether a routine is under way.
func (r *Room) running(name string) bool {
	return slices.ContainsFunc(r.runs.All(), func(x *routine.Run) bool { return x.Routine == name })
}

// deal records how far a routine was dealt with.
func (r *Room) deal(ctx context.Context, o *Order, d store.Dealt) error {
	d.Name = o.Row.Name
	if err := r.Store.Deal(ctx, d); err != nil {
		return err
	}
	r.dealt(o, d)
	return nil
}

func (r *Room) dealt(o *Order, d store.Dealt) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if d.At != nil {
		o.Row.Dealt = *d.At
	}
	if d.Held != nil {
		o.Row.Held.Valid, o.Row.Held.Bool = true, *d.Held
	}
}

// beginning is what is about to begin.
type beginning struct {
	o     *Order
	id    string
	why   string
	with  map[string]string
	by    operation.Asker // who begins it; nobody: it begins by itself
	steps []routine.Step
	dealt store.Dealt
}

// missed records that a routine was to begin, and did not.
func (r *Room) missed(ctx context.Context, x beginning, why string, now time.Time) error {
	run := routine.New(x.id, x.o.Routine, nil, nil, r.asker(x), why, now)
	run.State, run.Ended = routine.Missed, now
	_, err := r.create(ctx, run, x, "missed")
	return err
}

// create puts a run on record; fresh is false of one that is there already, which was begun before a
// crash.
func (r *Room) create(ctx context.Context, run *routine.Run, x beginning, result string) (fresh bool, err error) {
	err = r.Store.CreateRun(ctx, run, x.dealt, r.entry(run, run.Began, "Routine "+run.Routine+" begins: "+run.Why, result))
	if errors.Is(err, store.ErrConflict) {
		return false, r.deal(ctx, x.o, x.dealt)
	}
	if err != nil {
		return false, err
	}
	r.dealt(x.o, x.dealt)
	r.written()
	return true, nil
}

// begin begins a run. That it cannot be begun is on record as well: it is not tried each second.
func (r *Room) begin(ctx context.Context, x beginning, now time.Time) error {
	r.mu.Lock()
	ops, err := routine.Compile(x.o.Routine, x.steps, x.with, r.find)
	r.mu.Unlock()
	run := routine.New(x.id, x.o.Routine, ops, x.with, r.asker(x), x.why, now)
	if err != nil {
		run.State, run.Ended, run.Note = routine.Failed, now, err.Error()
		_, err := r.create(ctx, run, x, "failed")
		return err
	}
	if !r.runs.Reserve(run.ID) {
		return nil // it is under way
	}
	fresh, err := r.create(ctx, run, x, "asked") // on record before it begins
	if !fresh {
		r.runs.Drop(run.ID)
		return err
	}
	r.start(run, false)
	return nil
}

// asker is who a run acts as: the order itself, whoever began it.
func (r *Room) asker(x beginning) operation.Asker {
	by := asOrder(x.o.Row.Name)
	by.Via = x.by.Via
	return by
}

// asOrder is a standing order as who wants something done.
func asOrder(name string) operation.Asker {
	return operation.Asker{Kind: operation.StandingOrder, Name: name, Role: operation.Operator}
}

// ErrRunning says that a routine is under way already.
var ErrRunning = errors.New("it is running already: plumb routine runs shows it")

// Begin begins a routine for somebody, or for whoever has its token.
func (r *Room) Begin(ctx context.Context, name string, with map[string]string, by operation.Asker, why string) (string, error) {
	r.mu.Lock()
	o := r.orders[name]
	r.mu.Unlock()
	switch {
	case o == nil:
		return "", store.ErrNotFound
	case o.Routine == nil:
		return "", &operation.UsageError{Text: fmt.Sprintf("routine %s cannot be read: %s", name, o.Fault)}
	case !r.Acts():
		return "", &operation.UsageError{Text: "this service does not act: another one does, or it was started to be mended"}
	case r.running(name):
		return "", ErrRunning
	}
	r.mu.Lock()
	_, err := routine.Compile(o.Routine, o.Steps, with, r.find)
	r.mu.Unlock()
	if err != nil {
		return "", &operation.UsageError{Text: "routine " + name + ": " + err.Error()}
	}
	select {
	case <-r.begun:
	case <-ctx.Done():
		return "", context.Cause(ctx)
	}
	x := beginning{o: o, id: durable.NewID(), why: why, with: with, by: by, steps: o.Steps, dealt: store.Dealt{Name: name}}
	return x.id, r.begin(ctx, x, time.Now().UTC())
}
