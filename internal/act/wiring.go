package act

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/core/wiring"
	"plumbbob/internal/store"
)

// Wiring is a wiring check by switching: one outlet after the other is cycled
// by an ordinary operation, with all its interlocks, and it is seen who falls
// silent. The next one waits until everybody is back.
type Wiring struct {
	Site     estate.Key
	By       operation.Asker
	Why      string
	Began    time.Time
	Ended    time.Time // zero while it runs
	Outlets  []estate.End
	Findings []wiring.Finding // of those that are done
	Doing    string
}

const (
	wiringHold = 9 * time.Second // for three questions to everybody to go unanswered
	wiringBack = 5 * time.Minute // the longest that is waited for everybody to be back
)

// ErrWiringRuns says that a check of that site is running already.
var ErrWiringRuns = errors.New("a wiring check of this site is running already")

// checks are the wiring checks by site: the one that runs, or the newest.
type checks struct {
	mu     sync.Mutex
	bySite map[estate.Key]*Wiring
	stop   map[estate.Key]context.CancelFunc
}

// WiringOf returns the check of a site that runs, or the newest since the
// service started. ok is false when there is none.
func (a *Actor) WiringOf(site estate.Key) (w Wiring, ok bool) {
	a.checks.mu.Lock()
	defer a.checks.mu.Unlock()
	x := a.checks.bySite[site]
	if x == nil {
		return Wiring{}, false
	}
	w = *x
	w.Findings = slices.Clone(x.Findings)
	return w, true
}

// CheckWiring begins a check. What has interlocks that consent does not lift is
// skipped, and says so.
func (a *Actor) CheckWiring(w Wiring, c operation.Consent) error {
	a.mu.Lock()
	ctx := a.ctx
	a.mu.Unlock()
	if ctx == nil || ctx.Err() != nil {
		return ErrNotReady
	}
	a.checks.mu.Lock()
	defer a.checks.mu.Unlock()
	if was := a.checks.bySite[w.Site]; was != nil && was.Ended.IsZero() {
		return ErrWiringRuns
	}
	ctx, cancel := context.WithCancel(ctx)
	w.Began = time.Now().UTC()
	a.checks.bySite[w.Site], a.checks.stop[w.Site] = &w, cancel
	a.work.Go(func() {
		defer cancel()
		a.checkWiring(ctx, &w, c)
	})
	return nil
}

// StopWiring ends a check once the outlet that it is at is on again.
func (a *Actor) StopWiring(site estate.Key) {
	a.checks.mu.Lock()
	defer a.checks.mu.Unlock()
	if stop := a.checks.stop[site]; stop != nil {
		stop()
	}
}

func (a *Actor) checkWiring(ctx context.Context, w *Wiring, c operation.Consent) {
	say := func(f func()) {
		a.checks.mu.Lock()
		f()
		a.checks.mu.Unlock()
	}
	for i, end := range w.Outlets {
		if ctx.Err() != nil {
			break
		}
		say(func() { w.Doing = fmt.Sprintf("%d of %d: %s", i+1, len(w.Outlets), end.Place()) })
		f := a.tryOutlet(ctx, end, w, c)
		say(func() { w.Findings = append(w.Findings, f) })
	}
	say(func() { w.Doing, w.Ended = "", time.Now().UTC() })
	wrong := 0
	for _, f := range w.Findings {
		if f.Verdict == wiring.Wrong {
			wrong++
		}
	}
	entry := store.Entry{
		At: time.Now().UTC(), Site: w.Site, Who: w.By.Name, Kind: store.EntryWiring, Why: w.Why, Result: "done",
		Text: fmt.Sprintf("Wiring of %s checked by switching: %d outlets, %d not as the estate says", w.Site, len(w.Findings), wrong),
	}
	if err := a.Store.Write(context.WithoutCancel(ctx), entry); err != nil {
		a.Log.Error("that a wiring check has ended could not be recorded", "site", w.Site, "because", err)
	}
	a.Written()
}

// tryOutlet cycles one outlet and sees what comes of it.
func (a *Actor) tryOutlet(ctx context.Context, end estate.End, w *Wiring, c operation.Consent) wiring.Finding {
	e := a.Keeper.Estate()
	device := end.Device
	if fed := e.Fed(end); len(fed) > 0 {
		device = fed[0]
	}
	skipped := func(why string) wiring.Finding {
		return wiring.Finding{Outlet: end, Expected: e.Fed(end), Verdict: wiring.Skipped, Text: why}
	}
	in := operation.Intent{Kind: operation.Cycle, Device: device, Means: operation.ByOutlet, Outlets: []estate.End{end}, Hold: wiringHold}
	p, err := a.Preview(ctx, in, w.By)
	if err != nil {
		return skipped(err.Error())
	}
	if p.ByGear {
		return skipped("it would cut our own way to its gear")
	}
	sub := a.Keeper.Subscribe()
	defer sub.Close()
	o, err := a.Request(ctx, Request{Intent: in, Digest: p.Digest, Consent: operation.Consent{Names: c.Names, Override: c.Override, Why: w.Why}, By: w.By})
	var refused *RefusedError
	switch {
	case errors.As(err, &refused):
		return skipped(refused.Interlocks[0].Reason)
	case err != nil:
		return skipped(err.Error())
	}
	heard := a.listen(o.ID, sub.C)
	ended, err := a.Find(context.WithoutCancel(ctx), o.ID)
	if err != nil {
		return skipped(err.Error())
	}
	t := heard.trial(e, end, ended)
	a.awaitBack(ctx, t.Silent)
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
	look := time.NewTicker(200 * time.Millisecond)
	defer look.Stop()
	for {
		select {
		case <-a.ctx.Done():
			return x
		case ev := <-events:
			switch ev := ev.(type) {
			case operation.Unheard:
				if _, known := x.silent[ev.Device]; !known {
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

// awaitBack waits until everybody who fell silent answers again.
func (a *Actor) awaitBack(ctx context.Context, silent []estate.Key) {
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
		if back {
			return
		}
		if !pause(ctx, 200*time.Millisecond) {
			return
		}
	}
}
