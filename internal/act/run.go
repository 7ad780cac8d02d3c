package act

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/durable"
	"plumbbob/internal/gear"
	"plumbbob/internal/store"
)

// measuredMost is how much of what is measured may wait for an operation. What does
// not fit is dropped: the same is observed again half a second later.
const measuredMost = 1024

// sendWithin is how long one command may take with all its tries.
const sendWithin = 15 * time.Second

// run is one operation while it is carried out.
type run struct {
	*durable.Runner[operation.Operation, operation.Event, operation.Command]
	a        *Actor
	o        *operation.Operation
	measured <-chan operation.Event

	offAt  time.Time // when this process has last sent something that cuts power
	fenced bool      // another service goes on with it
}

func newRun(a *Actor, o *operation.Operation) *run {
	r := &run{a: a, o: o}
	r.Runner = durable.New(r)
	return r
}

func (r *run) Step(in operation.Event) []operation.Command { return r.o.Step(in) }
func (r *run) Copied() *operation.Operation                { return r.o.Clone() }

func (r *run) Woken(now, wake time.Time) operation.Event {
	return operation.Expired{At: now, Deadline: wake}
}

// Run takes up what an earlier run left unfinished, and then carries out what
// is asked for until ctx ends. Operations that are unfinished then stay so on
// record, for the next start.
func (a *Actor) Run(ctx context.Context) error {
	a.mu.Lock()
	a.ctx = ctx
	a.mu.Unlock()
	if err := a.waitForLease(ctx); err != nil {
		return err
	}
	a.reload(ctx)
	a.work.Go(func() { a.keepDraws(ctx) })
	a.takeUp(ctx)
	a.replayUntil(ctx)
	a.work.Wait()
	return context.Cause(ctx)
}

// waitForLease waits for it, and says so when something is under way meanwhile.
func (a *Actor) waitForLease(ctx context.Context) error {
	var waits []string
	for _, o := range append(a.ledger.newest(), a.copies.newest()...) {
		if o.State == operation.Running {
			waits = append(waits, fmt.Sprintf("operation %s on %s", o.ID, o.Device))
		}
	}
	if why := a.Lease.Holds(); why != nil && len(waits) > 0 {
		slices.Sort(waits)
		a.Health.Grave("under way", fmt.Sprintf("%s: %s, so power that it has switched off stays off", strings.Join(slices.Compact(waits), ", "), why))
	}
	err := a.Lease.Wait(ctx)
	a.Health.Well("under way")
	return err
}

// reload brings in what another service may have changed.
func (a *Actor) reload(ctx context.Context) {
	if a.Lease == nil || a.Reload == nil {
		return
	}
	if err := a.Reload(ctx); err != nil && ctx.Err() == nil {
		a.Health.Grave("reload", "what another service has changed could not be read: "+err.Error())
		return
	}
	a.Health.Well("reload")
}

// takeUp takes up every operation, every group and every change of settings that is
// on record as unfinished: operations first, because power may be owed. What cannot
// be known now, for whatever reason, is asked for again; none waits for another.
func (a *Actor) takeUp(ctx context.Context) {
	complete := true
	for _, x := range []struct {
		what   string
		resume func(context.Context) (complete bool, err error)
	}{
		{"operations", a.resume}, {"groups", a.resumeGroups}, {"changes of settings", a.resumeSettings}, {"wiring checks", a.resumeChecks},
	} {
		all, err := x.resume(ctx)
		complete = complete && all && err == nil
		switch name := "unfinished " + x.what; {
		case ctx.Err() != nil:
			return
		case err != nil:
			a.Health.Grave(name, fmt.Sprintf("what is unfinished of %s is not known yet, so it waits: %s", x.what, err))
		case all:
			a.Health.Well(name)
		}
	}
	a.mu.Lock()
	a.tookUp = complete
	a.mu.Unlock()
}

// resume takes up every operation that is on record as running, by the database
// or, newer, by the ledger. complete is false when there may be more.
func (a *Actor) resume(ctx context.Context) (complete bool, err error) {
	unfinished := map[string]*operation.Operation{}
	ops, unreadable, err := a.Store.Unfinished(ctx)
	complete = err == nil
	for _, o := range ops {
		unfinished[o.ID] = o
	}
	a.compare(err, unfinished, unreadable)
	for _, o := range a.ledger.newest() {
		if was := unfinished[o.ID]; was == nil || o.Saved.After(was.Saved) {
			unfinished[o.ID] = o
		}
	}
	for _, o := range unfinished {
		if o.State != operation.Running || a.operations.Get(o.ID) != nil {
			continue // ended while the database was away: the replay records that
		}
		r := newRun(a, o)
		if err := a.claim(r); err != nil { // somebody has begun another on it meanwhile
			a.Health.Grave("operation "+o.ID, fmt.Sprintf("operation %s on %s waits to be taken up again: %s", o.ID, o.Device, err))
			complete = false
			continue
		}
		a.Health.Well("operation " + o.ID)
		a.Log.Warn("an operation is taken up again", "operation", o.ID, "device", o.Device, "kind", o.Kind)
		a.start(r)
	}
	for _, u := range unreadable {
		if unfinished[u.ID] == nil { // the ledger has not got it either
			a.setAside(ctx, u)
		}
	}
	return complete, err
}

// compare looks at the copies of what was under way. With the database away, or a record
// in it that cannot be read, they stand for that: they go on in the ledger, which is
// brought over later. Otherwise what is not under way any more is dropped.
func (a *Actor) compare(err error, unfinished map[string]*operation.Operation, unreadable []*store.UnreadableError) {
	broken := map[string]bool{}
	for _, u := range unreadable {
		broken[u.ID] = true
	}
	for _, o := range a.copies.newest() {
		if unfinished[o.ID] != nil || a.operations.Get(o.ID) != nil {
			continue
		}
		switch {
		case err == nil && !broken[o.ID]:
			a.dropCopy(o.ID)
		case (broken[o.ID] || errors.Is(err, store.ErrAway)) && !a.ledger.has(o.ID):
			if err := a.ledger.write(o); err != nil {
				a.Health.Grave("ledger", fmt.Sprintf("operation %s on %s cannot be recorded: %s", o.ID, o.Device, err))
			}
			unfinished[o.ID] = o
		}
	}
}

// setAside lets go of what an operation held that cannot be read, and says so: what
// it has switched may still be off.
func (a *Actor) setAside(ctx context.Context, u *store.UnreadableError) {
	text := fmt.Sprintf("Operation %s on %s was under way and cannot be read any more, so it is set aside: see whether what it switched is on", u.ID, u.Device)
	a.Health.Grave("record "+u.ID, text+": "+u.Err.Error())
	e := store.Entry{At: time.Now().UTC(), Device: u.Device, Who: serviceName, Kind: store.EntryService, Text: text, Result: "failed", OperationID: u.ID}
	if d := a.Keeper.Estate().Device(u.Device); d != nil {
		e.Site = d.Site
	}
	if err := a.Store.SetAside(ctx, u.ID, e); err != nil && !errors.Is(err, store.ErrConflict) {
		a.Log.Error("an operation that cannot be read could not be set aside", "operation", u.ID, "because", err)
		return
	}
	a.written()
}

// serviceName stands in the journal for what nobody did.
const serviceName = "plumbd"

func (a *Actor) start(r *run) {
	// Before anybody is asked, so that the first answer counts.
	a.operations.Start(a.ctx, &a.work, r.o.ID, r.Runner, operation.Started{At: time.Now().UTC()})
}

// touched lists all devices whose power the operation touches.
func (r *run) touched() []estate.Key { return touched(r.o) }

func touched(o *operation.Operation) []estate.Key {
	all := []estate.Key{o.Device}
	for _, k := range o.Dark {
		if k != o.Device {
			all = append(all, k)
		}
	}
	return all
}

// explained says whether another operation than the one with this id takes a device
// down meanwhile, or cuts the only way to it: then its silence tells nothing of where a
// cable is. The verdict may not know it yet, as those behind a device can be missed
// before it is missed itself.
func (a *Actor) explained(k estate.Key, id string) bool {
	down := map[estate.Key]bool{}
	for _, o := range a.operations.All() {
		if o.ID != id {
			for _, d := range touched(o) {
				down[d] = true
			}
		}
	}
	if len(down) == 0 || down[k] {
		return down[k]
	}
	cut, _ := a.Keeper.Estate().CutOff(down)
	return cut[k]
}

// Prepare has all that the operation touches watched closely, and said to be its doing.
func (r *run) Prepare(ctx context.Context) (undo func()) {
	measured, leave := r.a.Bus.Measured.Queue(measuredMost)
	r.measured = measured
	watched := append(r.touched(), r.o.Bystanders...)
	for _, end := range r.o.Claims() {
		watched = append(watched, end.Device)
		if d := r.a.Keeper.Estate().Device(end.Device); d != nil && end.Kind() == estate.Panel {
			for _, lead := range d.Panel {
				watched = append(watched, lead.Device)
			}
		}
	}
	relax := r.a.Watcher.Closely(ctx, watched)
	if r.o.Kind == operation.Reset {
		r.a.Watcher.Again(ctx, r.o.Device) // so that what is new afterwards is known to be
	}
	return func() {
		r.a.Keeper.SetOperating(r.touched(), "")
		relax()
		leave()
		r.a.release(r)
	}
}

func (r *run) Waiting()                     { r.a.Keeper.SetOperating(r.touched(), r.o.Doing()) }
func (r *run) Hear() <-chan operation.Event { return r.measured }

// Telling says whether an observation is about this operation. That another
// device fell silent tells something only once it is judged and not explained
// by something else, such as another operation, or a break further up.
func (r *run) Telling(in operation.Event) bool {
	u, ok := in.(operation.Unheard)
	if !ok || u.Device == r.o.Device {
		return true
	}
	switch r.a.Keeper.Verdict(u.Device).State {
	case verdict.Hung, verdict.Silent, verdict.Dark, verdict.Unknown:
		return slices.Contains(r.o.Bystanders, u.Device) && !r.a.explained(u.Device, r.o.ID)
	}
	return false
}

// CarryOut does what the machine says, in order, and stops at a record that
// cannot be made: nothing is sent that is not on record.
func (r *run) CarryOut(ctx context.Context, cmds []operation.Command) (more []operation.Event, wake time.Time, over bool) {
	if slices.Contains(cmds, operation.Command(operation.Finish{})) {
		r.finish(ctx) // records the end, and all that led to it, as one
		return nil, wake, true
	}
	for _, c := range cmds {
		switch c := c.(type) {
		case operation.Save:
			if !r.record(ctx, cmds) {
				return nil, wake, r.fenced
			}
			r.tellAll()
		case operation.Send:
			if why := r.a.retired.Load(); why != nil && c.Do != operation.SwitchOn {
				more = append(more, operation.Answered{At: time.Now().UTC(), Outcome: sending.NotSent, Why: (*why).Error()})
				continue
			}
			if !r.may(ctx, c) {
				return nil, wake, r.fenced
			}
			r.send(ctx, c)
		case operation.Wake:
			wake = c.At
		}
	}
	return more, wake, false
}

// record makes the record ahead of what follows, however often that has to be
// tried. What switches power on that we owe does not wait for it: that we have
// switched it off is on record, so a restart would do the same again.
func (r *run) record(ctx context.Context, cmds []operation.Command) bool {
	name := "record of operation " + r.o.ID
	for {
		err := r.a.save(ctx, r.o)
		if err == nil {
			r.a.Health.Well(name)
			return true
		}
		if errors.Is(err, store.ErrFenced) {
			r.fenced = true
			return false
		}
		if r.paysBack(cmds) {
			r.a.Health.Grave(name, fmt.Sprintf("operation %s cannot be recorded; it goes on all the same, because power is owed to %s: %s", r.o.ID, r.o.Device, err))
			return true
		}
		r.a.Health.Grave(name, fmt.Sprintf("operation %s on %s cannot be recorded, so it waits: %s", r.o.ID, r.o.Device, err))
		if !durable.Pause(ctx, durable.RecordAgain) {
			return false
		}
	}
}

// owedFor is for how long, beyond the time that it was to stay off, power that this
// process has switched off is switched on by it although its lease has run out.
const owedFor = 10 * time.Minute

// may waits until a command may be sent. Without the lease that is only what
// switches on what this very process has switched off, for a while, and never when
// another service is known to have taken over.
func (r *run) may(ctx context.Context, c operation.Send) bool {
	name := "lease of operation " + r.o.ID
	for {
		why := r.a.Lease.Holds()
		if why == nil {
			r.a.Health.Well(name)
			if c.Do == operation.SwitchOff || c.Do == operation.GearCycle {
				r.offAt = time.Now()
			}
			return true
		}
		if r.a.Lease.Other() {
			r.fenced = true
			r.a.Health.Well(name)
			r.a.Log.Warn("another service goes on with an operation", "operation", r.o.ID, "because", why)
			return false
		}
		if c.Do == operation.SwitchOn && r.o.Owes(c.Outlet) && !r.offAt.IsZero() && time.Since(r.offAt) < r.o.Hold+owedFor {
			r.a.Health.Grave(name, fmt.Sprintf("operation %s switches %s on again, although the lease has run out: %s", r.o.ID, c.Outlet.Place(), why))
			return true
		}
		r.a.Health.Grave(name, fmt.Sprintf("operation %s on %s waits: %s", r.o.ID, r.o.Device, why))
		if !durable.Pause(ctx, durable.RecordAgain) {
			return false
		}
	}
}

// paysBack says whether all that follows is on the way to power that is owed.
func (r *run) paysBack(cmds []operation.Command) bool {
	s := r.o.Current()
	if s == nil || s.Kind != operation.SwitchOn || !r.o.Owes(s.Outlet) {
		return false
	}
	for _, c := range cmds {
		if send, ok := c.(operation.Send); ok && send.Do != operation.SwitchOn {
			return false
		}
	}
	return true
}

func (r *run) tellAll() {
	r.Show()
	r.a.Bus.Operations.Publish(r.View())
}

// send has the gear do one thing. Its answer comes back as an event.
func (r *run) send(ctx context.Context, c operation.Send) {
	r.a.work.Go(func() {
		err := r.command(ctx, c)
		ev := operation.Answered{At: time.Now().UTC(), Outcome: gear.OutcomeOf(err)}
		if err != nil {
			ev.Why = err.Error()
			r.a.Log.Warn("a command was not answered as hoped", "operation", r.o.ID, "outlet", c.Outlet.String(), "do", c.Do, "because", err)
		}
		_ = r.Tell(context.WithoutCancel(ctx), ev) // it may have ended
		if c.Do == operation.StepReset {
			r.lookForStart(ctx)
		}
	})
}

// lookForStart has what tells of a start read soon, twice: a system that starts faster than
// anybody looks is never missed.
func (r *run) lookForStart(ctx context.Context) {
	for range 2 {
		if !durable.Pause(ctx, startShows) {
			return
		}
		r.a.Watcher.Again(ctx, r.o.Device)
	}
}

// startShows is how long after a reset its log or its uptime may tell of that.
const startShows = 8 * time.Second

func (r *run) command(ctx context.Context, c operation.Send) error {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	return gear.Safely(func() error { return r.a.Command(ctx, c) })
}

// finish records the end, and what follows from it for the verdicts.
func (r *run) finish(ctx context.Context) {
	r.o.Proof.After = r.a.facts(r.o.Device, r.o.ID)
	name := "record of operation " + r.o.ID
	for err := r.a.end(ctx, r.o); err != nil; err = r.a.end(ctx, r.o) {
		if errors.Is(err, store.ErrFenced) {
			return // another service ends it
		}
		r.a.Health.Grave(name, fmt.Sprintf("the end of operation %s on %s cannot be recorded, so it waits: %s", r.o.ID, r.o.Device, err))
		if !durable.Pause(ctx, durable.RecordAgain) {
			return
		}
	}
	r.a.Health.Well(name)
	for _, k := range r.touched() {
		switch {
		case r.o.LeavesOff():
			r.park(ctx, k)
		case r.o.State == operation.Failed, r.o.Kind == operation.Restart, r.o.Kind == operation.NMI:
		default:
			r.unpark(ctx, k)
		}
	}
	r.a.release(r) // whoever sees that it has ended may ask for the next at once
	r.tellAll()
}

func (r *run) park(ctx context.Context, k estate.Key) {
	r.a.Keeper.Park(k, verdict.Parking{By: r.o.By, Why: r.o.Why, Since: r.o.Ended})
	err := r.a.Store.Park(ctx, store.Parked{Device: k, Site: r.o.Site, Who: r.o.By, Why: r.o.Why, Since: r.o.Ended})
	if err != nil {
		r.a.Log.Warn("that a device is meant to be off could not be recorded", "device", k, "because", err)
	}
}

func (r *run) unpark(ctx context.Context, k estate.Key) {
	r.a.Keeper.Unpark(k)
	if err := r.a.Store.Unpark(ctx, k); err != nil {
		r.a.Log.Warn("that a device is not meant to be off any more could not be recorded", "device", k, "because", err)
	}
}
