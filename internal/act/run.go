package act

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
	"plumbbob/internal/store"
)

// sendWithin is how long one command may take with all its tries.
const sendWithin = 15 * time.Second

// run is one operation while it is carried out. Its goroutine owns the
// machine; others see copies.
type run struct {
	a      *Actor
	o      *operation.Operation
	events chan operation.Event
	done   chan struct{}
	seen   atomic.Pointer[operation.Operation]
}

func newRun(a *Actor, o *operation.Operation) *run {
	r := &run{a: a, o: o, events: make(chan operation.Event), done: make(chan struct{})}
	r.seen.Store(o.Clone())
	return r
}

func (r *run) view() *operation.Operation { return r.seen.Load() }

// Run takes up what an earlier run left unfinished, and then carries out what
// is asked for until ctx ends. Operations that are unfinished then stay so on
// record, for the next start.
func (a *Actor) Run(ctx context.Context) error {
	a.mu.Lock()
	a.ctx = ctx
	a.mu.Unlock()
	if err := a.takeUp(ctx); err != nil {
		return err
	}
	a.replayUntil(ctx)
	a.work.Wait()
	return context.Cause(ctx)
}

// takeUp takes up every operation and every group that is on record as
// unfinished. What cannot be known while the database is away is taken up when it
// is back: power may be owed.
func (a *Actor) takeUp(ctx context.Context) error {
	operations, err := a.resume(ctx)
	if err != nil {
		return fmt.Errorf("take up unfinished operations: %w", err)
	}
	groups, err := a.resumeGroups(ctx)
	if err != nil {
		return fmt.Errorf("take up unfinished groups: %w", err)
	}
	a.mu.Lock()
	a.tookUp = operations && groups
	a.mu.Unlock()
	return nil
}

// resume takes up every operation that is on record as running, by the database
// or, newer, by the ledger. complete is false when there may be more.
func (a *Actor) resume(ctx context.Context) (complete bool, err error) {
	unfinished := map[string]*operation.Operation{}
	ops, err := a.Store.Operations(ctx, store.OperationFilter{State: operation.Running, Limit: 1000})
	if complete = err == nil; err != nil && !errors.Is(err, store.ErrAway) {
		return false, err
	}
	for _, o := range ops {
		unfinished[o.ID] = o
	}
	for _, o := range a.ledger.newest() {
		if was := unfinished[o.ID]; was == nil || o.Saved.After(was.Saved) {
			unfinished[o.ID] = o
		}
	}
	for _, o := range unfinished {
		a.mu.Lock()
		runs := a.running[o.ID] != nil
		a.mu.Unlock()
		if o.State != operation.Running || runs {
			continue // ended while the database was away: the replay records that
		}
		r := newRun(a, o)
		if err := a.claim(r); err != nil { // somebody has begun another on it meanwhile
			a.Log.Error("an operation waits to be taken up again", "operation", o.ID, "because", err)
			complete = false
			continue
		}
		a.Log.Warn("an operation is taken up again", "operation", o.ID, "device", o.Device, "kind", o.Kind)
		a.start(r)
	}
	return complete, nil
}

func (a *Actor) start(r *run) {
	a.work.Go(func() {
		defer a.release(r)
		defer close(r.done)
		r.run(a.ctx)
	})
}

// touched lists all devices whose power the operation touches.
func (r *run) touched() []estate.Key {
	all := []estate.Key{r.o.Device}
	for _, k := range r.o.Dark {
		if k != r.o.Device {
			all = append(all, k)
		}
	}
	return all
}

// run feeds the machine until it says that it has finished, or ctx ends.
func (r *run) run(ctx context.Context) {
	began := time.Now().UTC() // before anybody is asked, so that the first answer counts
	sub := r.a.Keeper.Subscribe()
	defer sub.Close()
	watched := append(r.touched(), r.o.Bystanders...)
	for _, end := range r.o.Claims() {
		watched = append(watched, end.Device)
		if d := r.a.Keeper.Estate().Device(end.Device); d != nil && end.Port == estate.PanelPort {
			for _, lead := range d.Panel {
				watched = append(watched, lead.Device)
			}
		}
	}
	defer r.a.Watcher.Closely(ctx, watched)()
	defer r.a.Keeper.SetOperating(r.touched(), "")

	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	var deadline time.Time
	var in operation.Event = operation.Started{At: began}
	for {
		wake, finished := r.carryOut(ctx, r.o.Step(in))
		if finished || ctx.Err() != nil {
			return
		}
		if !wake.IsZero() {
			deadline = wake
			timer.Reset(time.Until(wake))
		}
		r.a.Keeper.SetOperating(r.touched(), r.o.Doing())
		for in = nil; in == nil; {
			select {
			case <-ctx.Done():
				return
			case in = <-r.events:
			case in = <-sub.C:
				if !r.telling(in) {
					in = nil
				}
			case <-timer.C:
				in = operation.Expired{At: time.Now().UTC(), Deadline: deadline}
			}
		}
	}
}

// telling says whether an observation is about this operation. That another
// device fell silent tells something only once it is judged and not explained
// by something else, such as another operation, or a break further up.
func (r *run) telling(in operation.Event) bool {
	u, ok := in.(operation.Unheard)
	if !ok || u.Device == r.o.Device {
		return true
	}
	switch r.a.Keeper.Verdict(u.Device).State {
	case verdict.Hung, verdict.Dark, verdict.Unknown:
		return true
	}
	return false
}

// carryOut does what the machine says, in order, and stops at a record that
// cannot be made: nothing is sent that is not on record.
func (r *run) carryOut(ctx context.Context, cmds []operation.Command) (wake time.Time, finished bool) {
	if slices.Contains(cmds, operation.Command(operation.Finish{})) {
		r.finish(ctx) // records the end, and all that led to it, as one
		return wake, true
	}
	for _, c := range cmds {
		switch c := c.(type) {
		case operation.Save:
			for err := r.a.save(ctx, r.o); err != nil; err = r.a.save(ctx, r.o) {
				r.a.Log.Error("an operation cannot be recorded, so it waits", "operation", r.o.ID, "because", err)
				select {
				case <-ctx.Done():
					return wake, false
				case <-time.After(time.Second):
				}
			}
			r.show()
		case operation.Send:
			r.send(ctx, c)
		case operation.Wake:
			wake = c.At
		}
	}
	return wake, false
}

func (r *run) show() {
	r.seen.Store(r.o.Clone())
	r.a.Changed(r.view())
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
		select {
		case r.events <- ev:
		case <-r.done:
		}
	})
}

func (r *run) command(ctx context.Context, c operation.Send) error {
	ctx, cancel := context.WithTimeout(ctx, sendWithin)
	defer cancel()
	return r.a.Command(ctx, c)
}

// finish records the end, and what follows from it for the verdicts.
func (r *run) finish(ctx context.Context) {
	r.o.Proof.After = r.a.facts(r.o.Device)
	for err := r.a.end(ctx, r.o); err != nil; err = r.a.end(ctx, r.o) {
		r.a.Log.Error("the end of an operation cannot be recorded, so it waits", "operation", r.o.ID, "because", err)
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
	}
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
	r.show()
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
