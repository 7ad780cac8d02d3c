package act

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/core/wiring"
	"plumbbob/internal/durable"
	"plumbbob/internal/store"
)

const (
	wiringHold = 9 * time.Second // for three questions to everybody to go unanswered
	wiringBack = 5 * time.Minute // the longest that is waited for everybody to be back
)

// ErrWiringRuns says that a check of that site is running already.
var ErrWiringRuns = errors.New("a wiring check of this site is running already")

// checkRun is one wiring check while it is carried out. The next outlet waits until
// everybody is back.
type checkRun struct {
	*durable.Runner[wiring.Check, wiring.Event, wiring.Command]
	a *Actor
	c *wiring.Check
}

func (a *Actor) startCheck(c *wiring.Check) {
	r := &checkRun{a: a, c: c}
	r.Runner = durable.New(r)
	a.checks.Start(a.ctx, &a.work, c.ID, r.Runner, wiring.Started{At: time.Now().UTC()})
}

func (r *checkRun) Step(in wiring.Event) []wiring.Command { return r.c.Step(in) }
func (r *checkRun) Copied() *wiring.Check                 { return r.c.Clone() }

// Woken is never needed: a check waits for nothing but its own commands.
func (r *checkRun) Woken(time.Time, time.Time) wiring.Event { return nil }

func (r *checkRun) CarryOut(ctx context.Context, cmds []wiring.Command) (more []wiring.Event, _ time.Time, over bool) {
	if r.a.Lease.Other() {
		return nil, time.Time{}, true // it is that one's to go on with
	}
	for _, cmd := range cmds {
		switch cmd := cmd.(type) {
		case wiring.Save:
			if r.c.Over() {
				continue // its end is recorded as one
			}
			if err := durable.Insist(ctx, r.a.Health, "record of wiring check "+r.c.ID, func() error { return r.a.Store.SaveCheck(ctx, r.c) }); err != nil {
				return nil, time.Time{}, false
			}
			r.Show()
		case wiring.Try:
			r.try(ctx, cmd.Outlet, r.c.Clone())
		case wiring.Finish:
			entry := r.a.checkEntry(r.c, r.c.Ended, "done", "Wiring of %s checked by switching: %d outlets, %d not as the estate says", r.c.Site, len(r.c.Findings), r.c.Wrong())
			_ = durable.Insist(ctx, r.a.Health, "record of wiring check "+r.c.ID, func() error { return r.a.Store.EndCheck(ctx, r.c, entry) }) // or at the next start
			r.Show()
			r.a.written()
			return nil, time.Time{}, true
		}
	}
	return nil, time.Time{}, false
}

func (a *Actor) checkEntry(c *wiring.Check, at time.Time, result, format string, args ...any) store.Entry {
	return store.Entry{At: at, Site: c.Site, Who: c.By.By(), Kind: store.EntryWiring, Why: c.Consent.Why, Result: result, Text: fmt.Sprintf(format, args...)}
}

// try tries one outlet beside the machine, so that it can be told to stop meanwhile.
func (r *checkRun) try(ctx context.Context, end estate.End, c *wiring.Check) {
	r.a.work.Go(func() {
		r.a.afterInterruption(ctx, c)
		f := r.a.tryOutlet(ctx, end, c, func() bool { return r.View().CancelBy != "" })
		if ctx.Err() == nil { // otherwise the next start says that it was interrupted
			_ = r.Tell(ctx, wiring.Tried{At: time.Now().UTC(), Finding: f})
		}
	})
}

// afterInterruption waits until what was being tried when the service died is on, and
// what hangs on it is back.
func (a *Actor) afterInterruption(ctx context.Context, c *wiring.Check) {
	last := len(c.Findings) - 1
	if last < 0 || c.Findings[last].Text != wiring.Interrupted {
		return
	}
	end := c.Findings[last].Outlet
	for a.isBusy(end) && durable.Pause(ctx, durable.LookAgain) {
	}
	a.awaitBack(ctx, a.Keeper.Estate().Fed(end), func() bool { return false })
}

func (a *Actor) isBusy(end estate.End) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.busy[end] != ""
}

// resumeChecks takes up the checks that have not ended.
func (a *Actor) resumeChecks(ctx context.Context) (complete bool, err error) {
	list, err := a.Store.UnendedChecks(ctx)
	if err != nil {
		return false, err
	}
	for _, c := range list {
		if a.checks.Reserve(c.ID) {
			a.Log.Warn("a wiring check is taken up again", "site", c.Site, "tried", len(c.Findings), "of", len(c.Outlets))
			a.startCheck(c)
		}
	}
	return true, nil
}

// WiringOf returns the check of a site that runs, or the newest; nil when there was
// none.
func (a *Actor) WiringOf(ctx context.Context, site estate.Key) (*wiring.Check, error) {
	if c := a.checkAt(site); c != nil {
		return c, nil
	}
	c, err := a.Store.NewestCheck(ctx, site)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return c, err
}

// checkAt is the check of a site that runs, or nil.
func (a *Actor) checkAt(site estate.Key) *wiring.Check {
	for _, c := range a.checks.All() {
		if c.Site == site && !c.Over() {
			return c
		}
	}
	return nil
}

// CheckWiring begins a check of some outlets at a site. What has interlocks that
// consent does not lift is skipped, and says so.
func (a *Actor) CheckWiring(ctx context.Context, site estate.Key, outlets []estate.End, consent operation.Consent, by operation.Asker) error {
	if err := a.mayBegin(); err != nil {
		return err
	}
	a.mu.Lock()
	running := a.ctx
	a.mu.Unlock()
	if running == nil || running.Err() != nil {
		return ErrNotReady
	}
	if !a.checks.Reserve(string(site)) { // of two at once one is the second
		return ErrWiringRuns
	}
	defer a.checks.Drop(string(site))
	if a.checkAt(site) != nil {
		return ErrWiringRuns
	}
	c := &wiring.Check{ID: durable.NewID(), Site: site, By: by, Consent: consent, Outlets: outlets, Began: time.Now().UTC()}
	a.checks.Reserve(c.ID)
	if err := a.Store.CreateCheck(ctx, c, a.checkEntry(c, c.Began, "asked", "Wiring check by switching begun at %s", site)); err != nil {
		a.checks.Drop(c.ID)
		return err
	}
	a.written()
	a.startCheck(c)
	return nil
}

// StopWiring ends a check once the outlet that it is at is on again.
func (a *Actor) StopWiring(ctx context.Context, site estate.Key, by string) error {
	c := a.checkAt(site)
	if c == nil {
		return nil
	}
	_, err := a.checks.Cancel(ctx, c.ID, wiring.StopAsked{At: time.Now().UTC(), By: by}, a.Store.Check)
	if errors.Is(err, ErrEnded) {
		return nil
	}
	return err
}

// tryOutlet cycles one outlet and sees what comes of it.
func (a *Actor) tryOutlet(ctx context.Context, end estate.End, c *wiring.Check, stopped func() bool) wiring.Finding {
	e := a.Keeper.Estate()
	device := end.Device
	if fed := e.Fed(end); len(fed) > 0 {
		device = fed[0]
	}
	skipped := func(why string) wiring.Finding {
		return wiring.Finding{Outlet: end, Expected: e.Fed(end), Verdict: wiring.Skipped, Text: why}
	}
	in := operation.Intent{Kind: operation.Cycle, Device: device, Means: operation.ByOutlet, Outlets: []estate.End{end}, Hold: wiringHold}
	by, err := a.asNow(ctx, c.By)
	if err != nil {
		return skipped(err.Error())
	}
	p, err := a.Preview(ctx, in, by)
	if err != nil {
		return skipped(err.Error())
	}
	if p.ByGear {
		return skipped("it would cut our own way to its gear")
	}
	measured, leave := a.Bus.Measured.Queue(measuredMost)
	defer leave()
	o, err := a.Request(ctx, Request{Intent: in, Digest: p.Digest, Consent: c.Consent, By: by})
	var refused *RefusedError
	switch {
	case errors.As(err, &refused):
		return skipped(refused.Interlocks[0].Reason)
	case err != nil:
		return skipped(err.Error())
	}
	heard := a.listen(o.ID, measured)
	ended, err := a.Find(context.WithoutCancel(ctx), o.ID)
	if err != nil {
		return skipped(err.Error())
	}
	t := heard.trial(e, end, ended)
	a.awaitBack(ctx, t.Silent, stopped)
	return wiring.Judge(e, t)
}

// earshot is who fell silent and who answered while an outlet was off.
type earshot struct {
	silent map[estate.Key]time.Time // when the first unanswered question was sent
	heard  map[estate.Key]time.Time // the newest answer
}

// listen gathers what is observed until the operation has ended: one that is
// under way is not left alone because the check is to stop.
func (a *Actor) listen(id string, events <-chan operation.Event) earshot {
	x := earshot{map[estate.Key]time.Time{}, map[estate.Key]time.Time{}}
	look := time.NewTicker(durable.LookAgain)
	defer look.Stop()
	for {
		select {
		case <-a.ctx.Done():
			return x
		case ev := <-events:
			switch ev := ev.(type) {
			case operation.Unheard:
				if _, known := x.silent[ev.Device]; !known && !a.explained(ev.Device, id) {
					x.silent[ev.Device] = ev.At
				}
			case operation.Heard:
				x.heard[ev.Device] = ev.At
			}
			continue
		case <-look.C:
		}
		if o, err := a.Find(a.ctx, id); err == nil && o.State != operation.Running {
			return x
		}
	}
}

// trial puts what was heard beside what was measured.
func (x earshot) trial(e *estate.Estate, end estate.End, o *operation.Operation) wiring.Trial {
	t := wiring.Trial{Outlet: end}
	var off, on time.Time
	for i := range o.Steps {
		s := &o.Steps[i]
		if s.Outlet != end {
			continue
		}
		switch {
		case s.Kind == operation.SwitchOff && s.MaySent:
			off = s.Sent
			t.BeforeW, t.OffW = metered(s.Before), metered(s.After)
		case s.Kind == operation.SwitchOn:
			on = s.Began
		}
	}
	for i := range e.Devices {
		k := e.Devices[i].Key
		since, silent := x.silent[k]
		switch {
		case off.IsZero():
		case silent && since.After(off.Add(-time.Second)) && (on.IsZero() || since.Before(on)):
			t.Silent = append(t.Silent, k)
		case x.heard[k].After(off.Add(2 * time.Second)):
			t.Kept = append(t.Kept, k)
		}
	}
	return t
}

func metered(r *operation.Reading) *float64 {
	if r == nil || !r.Metered {
		return nil
	}
	return &r.W
}

// awaitBack waits until everybody who fell silent answers again, or it is to stop.
func (a *Actor) awaitBack(ctx context.Context, silent []estate.Key, stopped func() bool) {
	ctx, cancel := context.WithTimeout(ctx, wiringBack)
	defer cancel()
	defer a.Watcher.Closely(ctx, silent)()
	for {
		back := true
		for _, k := range silent {
			switch a.Keeper.Verdict(k).State {
			case verdict.Steady, verdict.Strained:
			default:
				back = false
			}
		}
		if back || stopped() || !durable.Pause(ctx, durable.LookAgain) {
			return
		}
	}
}
