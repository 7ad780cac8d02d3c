package orders

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/durable"
	"plumbbob/internal/store"
)

// run is one run while it is carried out.
type run struct {
	*durable.Runner[routine.Run, routine.Event, routine.Command]
	r      *Room
	x      *routine.Run
	ticked time.Time
	holds  func(expr string, with map[string]string) (bool, error) // a condition, by the clocks of its order's site

	mu    sync.Mutex
	stops map[string]context.CancelFunc // of what is done for it, by id
	rest  bool                          // of a climb: its ladder is at its end altogether
}

func (r *Room) start(x *routine.Run, again bool) {
	w := &run{r: r, x: x, stops: map[string]context.CancelFunc{}}
	site := estate.Key("")
	if l := r.Ladder(x.Routine); x.Ladder && l != nil {
		site = l.Site
	} else if o := r.Find(x.Routine); o != nil {
		site = o.Site
	}
	w.holds = func(expr string, with map[string]string) (bool, error) { return r.holds(site, expr, with) }
	x.Judge(w.holds)
	w.Runner = durable.New(w)
	r.runs.Start(r.ctx, &r.work, x.ID, w.Runner, routine.Started{At: time.Now().UTC(), Again: again})
}

// resume takes up what has not ended; false says that it is to be tried again.
func (r *Room) resume(ctx context.Context) bool {
	if !r.Acts() || len(r.Keeper.Estate().Devices) == 0 { // it has not been read yet
		return false
	}
	if err := r.Refresh(ctx); err != nil {
		r.trouble(ctx, err)
		return false
	}
	all, err := r.Store.Runs(ctx, store.RunFilter{Unended: true, Limit: 1000})
	if err != nil {
		r.trouble(ctx, err)
		return false
	}
	for _, x := range all {
		if r.runs.Reserve(x.ID) {
			r.Log.Warn("a routine is taken up again", "routine", x.Routine, "run", x.ID)
			r.start(x, len(x.Threads) > 0)
		}
	}
	return true
}

// Step implements durable.Work.
func (w *run) Step(in routine.Event) []routine.Command { return w.x.Step(in) }

// Copied implements durable.Work.
func (w *run) Copied() *routine.Run { return w.x.Clone() }

// Woken implements durable.Work.
func (w *run) Woken(now, _ time.Time) routine.Event { return routine.Tick{At: now} }

// CarryOut implements durable.Work.
func (w *run) CarryOut(ctx context.Context, cmds []routine.Command) (more []routine.Event, wake time.Time, over bool) {
	r := w.r
	if r.Lease.Other() {
		return nil, wake, true // it is that one's to go on with
	}
	ends := slices.Contains(cmds, routine.Command(routine.Finish{}))
	for _, c := range cmds {
		switch c := c.(type) {
		case routine.Save:
			if ends {
				continue // its end is recorded as one
			}
			if err := durable.Insist(ctx, r.Health, "record of routine "+w.x.Routine, func() error { return r.Store.SaveRun(ctx, w.x) }); err != nil {
				return more, wake, false
			}
		case routine.Begin:
			if in := w.do(ctx, c); in != nil {
				more = append(more, in)
			}
		case routine.Halt:
			w.halt(ctx, c.ID)
		case routine.Finish:
			w.callAbout(ctx)
			entry := r.entry(w.x, w.x.Ended, nameOf(w.x)+": "+runWords(w.x), string(w.x.State))
			_ = durable.Insist(ctx, r.Health, "record of routine "+w.x.Routine, func() error { return w.ended(ctx, entry) }) // or at the next start
			w.Show()
			r.written()
			return more, wake, true
		}
	}
	w.Show()
	return more, wake, false
}

// callAbout tells those who want to know it that a run has failed, before its end is recorded: a crash in
// between has it told under the same identity.
func (w *run) callAbout(ctx context.Context) {
	o := w.r.Find(w.x.Routine)
	if w.x.Ladder || w.x.State != routine.Failed || o == nil || len(o.Call) == 0 {
		return
	}
	if _, err := w.tell(ctx, "failed."+w.x.ID, o.Call, fmt.Sprintf("The routine %s has failed: %s", w.x.Routine, w.x.Note)); err != nil {
		w.r.Log.Warn("nobody was told that a routine has failed", "routine", w.x.Routine, "because", err)
	}
}

// ended records the end of a run: a climb that has failed holds its ladder at that device.
func (w *run) ended(ctx context.Context, entry store.Entry) error {
	if !w.x.Ladder {
		return w.r.Store.EndRun(ctx, w.x, entry)
	}
	why := ""
	if w.x.State == routine.Failed {
		why = w.x.Note
		for _, l := range w.x.Log {
			if !l.OK && l.Note != "" {
				why = l.Path + ": " + l.Note
			}
		}
	}
	at := w.x.Device
	w.mu.Lock()
	if w.rest {
		at = ""
	}
	w.mu.Unlock()
	err := w.r.Store.EndClimb(ctx, w.x, at, why, entry)
	if err == nil && why != "" {
		err = w.r.Refresh(ctx)
	}
	return err
}

func runWords(x *routine.Run) string {
	took := x.Ended.Sub(x.Began).Round(time.Second)
	switch x.State {
	case routine.Stopped:
		return fmt.Sprintf("stopped by %s after %s", x.StopBy, took)
	case routine.Failed:
		return fmt.Sprintf("failed after %s: %s", took, x.Note)
	}
	return fmt.Sprintf("done in %s", took)
}

func (r *Room) entry(x *routine.Run, at time.Time, text, result string) store.Entry {
	site := estate.Key("")
	if o := r.Find(x.Routine); o != nil {
		site = o.Site
	}
	kind := store.EntryRoutine
	if x.Ladder {
		kind = store.EntryLadder
		if d := r.Keeper.Estate().Device(x.Device); d != nil {
			site = d.Site
		}
	}
	return store.Entry{At: at, Site: site, Device: x.Device, Who: x.By.By(), Kind: kind, Text: text, Result: result, OperationID: x.ID}
}

func nameOf(x *routine.Run) string {
	if x.Ladder {
		return fmt.Sprintf("Ladder %s at %s", x.Routine, x.Device)
	}
	return "Routine " + x.Routine
}

func (r *Room) written() { r.Bus.Journal.Publish(bus.NewEntry{}) }

// halt stops what is done for a run.
func (w *run) halt(ctx context.Context, id string) {
	w.mu.Lock()
	stop := w.stops[id]
	w.mu.Unlock()
	if stop != nil {
		stop()
		return
	}
	if _, err := w.r.Actor.Cancel(ctx, id, w.x.StopBy); err != nil && !errors.Is(err, durable.ErrEnded) && !errors.Is(err, store.ErrNotFound) {
		w.r.Log.Warn("an operation of a routine could not be cancelled", "operation", id, "because", err)
	}
}

// Look implements durable.Looker: it sees how the operations are that are under way, and lets time
// pass.
func (w *run) Look(ctx context.Context, now time.Time) (out []routine.Event) {
	if w.r.Lease.Other() {
		return []routine.Event{routine.Tick{At: now}} // so that it is seen
	}
	for i := range w.x.Threads {
		t := &w.x.Threads[i]
		if t.Doing == "" || w.x.Ops[t.At].Do != routine.Do(routine.Operate) {
			continue
		}
		o, err := w.r.Actor.Find(ctx, t.Doing)
		if err != nil || o.Ended.IsZero() {
			continue // under way, or the database is away: it is looked for again
		}
		note := strings.TrimRight(o.Outcome(w.r.Keeper.Estate().Zone(o.Device)), ".")
		out = append(out, routine.Finished{At: now, ID: o.ID, OK: o.State == "done", Note: note})
	}
	if now.Sub(w.ticked) >= lookEvery || now.Before(w.ticked) {
		w.ticked = now
		out = append(out, routine.Tick{At: now})
	}
	return out
}
