package orders

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/durable"
	"plumbbob/internal/store"
)

// intentOf is what a batch does to what hangs on a UPS. What is guarded is left as it is, and what somebody
// else has switched off stays off.
func intentOf(verb routine.Verb, ups estate.Key) act.GroupIntent {
	in := act.GroupIntent{Who: group.Selection{UPS: ups, Unguarded: true, LeaveParked: true}}
	switch verb {
	case routine.Shed:
		in.Intent.Kind, in.Who.Inessential = operation.Off, true
	case routine.TakeIn:
		in.Intent.Kind = operation.Shutdown
	case routine.BringUp:
		in.Intent.Kind = operation.On
	}
	return in
}

// batchEvery is how often it is looked how a batch is getting on, and whether what it is for still holds.
const batchEvery = time.Second

// batch has a group carried out, under the id of its step, so that it is asked for once, and waits for its
// end. When what it is for does not hold any more, nothing more of it is begun.
func (w *run) batch(ctx context.Context, c routine.Begin) (string, error) {
	r, op := w.r, c.Op
	if d := r.Keeper.Estate().Device(op.Device); d == nil || d.Supply == nil {
		return "", fmt.Errorf("%s is no UPS, as far as the estate says", op.Device)
	}
	if err := w.requestBatch(ctx, c); err != nil {
		var nothing *operation.UsageError
		if errors.As(err, &nothing) {
			return nothing.Text, nil // what is off already need not be switched off
		}
		return "", err
	}
	turned := ""
	for {
		g, err := r.Actor.FindGroup(ctx, c.ID)
		switch {
		case err == nil && g.Final():
			return batchWords(g, turned)
		case err == nil && turned == "" && op.Expr != "":
			// What cannot be told is no reason to turn round: the card of a UPS goes with its UPS.
			if holds, err := w.holds(op.Expr, w.x.With); err == nil && !holds {
				turned = "it is not so any more that " + op.Expr
				w.noMore(ctx, c.ID)
			}
		}
		if !durable.Pause(ctx, batchEvery) {
			if r.ctx.Err() == nil { // somebody stops the run, and we go on running
				w.noMore(r.ctx, c.ID)
			}
			return "", context.Cause(ctx)
		}
	}
}

func (w *run) requestBatch(ctx context.Context, c routine.Begin) error {
	in := intentOf(routine.Verb(c.Op.Text), c.Op.Device)
	by := w.x.By
	if len(c.Op.Lift) > 0 {
		by.Role = operation.Steward // whoever laid it down was one
	}
	consent := operation.Consent{Override: c.Op.Lift, Why: c.Op.Why}
	for tries := 0; ; {
		var p *act.GroupPreview
		_, err := w.r.Actor.FindGroup(ctx, c.ID)
		if err == nil {
			return nil // it was asked for before we died
		}
		if errors.Is(err, store.ErrNotFound) {
			if p, err = w.r.Actor.PreviewGroup(ctx, in, by); err == nil {
				_, err = w.r.Actor.RequestGroup(ctx, in, p.Digest, consent, by, c.ID)
			}
		}
		var changed *act.ChangedError
		switch {
		case errors.As(err, &changed) && tries < asksAgain:
			tries++
		case errors.Is(err, act.ErrNotReady), errors.Is(err, store.ErrAway):
			if !durable.Pause(ctx, durable.RecordAgain) {
				return context.Cause(ctx)
			}
		default:
			return err
		}
	}
}

func (w *run) noMore(ctx context.Context, id string) {
	if _, err := w.r.Actor.NoMoreOf(ctx, id, w.x.By.By()); err != nil && !errors.Is(err, durable.ErrEnded) {
		w.r.Log.Warn("a batch could not be stopped", "group", id, "because", err)
	}
}

func batchWords(g *group.Group, turned string) (string, error) {
	done := 0
	var failed []string
	for _, m := range g.Members {
		switch m.State {
		case group.MemberDone:
			done++
		case group.MemberFailed, group.Refused:
			failed = append(failed, fmt.Sprintf("%s: %s", m.Device, m.Note))
		}
	}
	words := fmt.Sprintf("%d of %d done", done, len(g.Members))
	if turned != "" {
		return words + ": " + turned, nil
	}
	for _, f := range failed {
		words += "; " + f
	}
	if g.State != group.Done {
		return words, errors.New(words)
	}
	return words, nil
}

// toDo keeps for a moment how long shutting down takes what hangs on a UPS: conditions ask again and again.
type toDo struct {
	mu sync.Mutex
	of map[estate.Key]estimate
}

type estimate struct {
	at   time.Time
	took time.Duration
}

// How old an estimate may be: one by which something is decided, and one that is only shown. Each takes a copy
// of all that is known.
const (
	estimateLasts = 5 * time.Second
	shownLasts    = time.Minute
)

// Left implements condition.Facts: by how the battery discharged before, or, where nothing is known of that,
// what the UPS says.
func (f facts) Left(k estate.Key) (left float64, err error) {
	past := f.keeper.Inside(k).Discharges
	err = f.see(k, func(e *estate.Estate, ev *verdict.Evidence, _ map[estate.Key]verdict.Verdict, now time.Time) error {
		d := e.Device(k)
		if d.Supply == nil {
			return fmt.Errorf("%s is no UPS", k)
		}
		b := power.World{Estate: e, Evidence: ev, Now: now}.Battery(d, past)
		switch {
		case b.ByPast != nil:
			left = b.ByPast.Minutes()
		case b.Says != nil:
			left = b.Says.Minutes()
		default:
			return fmt.Errorf("how long %s lasts is not known", k)
		}
		return nil
	})
	return left, err
}

// ToDo implements condition.Facts.
func (f facts) ToDo(k estate.Key) (float64, error) {
	took, err := f.toDo.take(f.ctx, f.actor, f.keeper.Estate(), k, estimateLasts)
	return took.Minutes(), err
}

// ToDo is how long it takes to shut down what hangs on a UPS, by how long each shutdown usually takes, in the
// order in which they depend on each other: to be shown.
func (r *Room) ToDo(ctx context.Context, ups estate.Key) (time.Duration, error) {
	return r.toDo.take(ctx, r.Actor, r.Keeper.Estate(), ups, shownLasts)
}

func (t *toDo) take(ctx context.Context, actor Actor, e *estate.Estate, k estate.Key, lasts time.Duration) (time.Duration, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if x, known := t.of[k]; known && time.Since(x.at) < lasts {
		return x.took, nil
	}
	x := estimate{at: time.Now()}
	p, err := actor.PreviewGroup(ctx, intentOf(routine.TakeIn, k), operation.Asker{Kind: operation.StandingOrder, Role: operation.Operator})
	var nothing *operation.UsageError
	switch d := e.Device(k); {
	case errors.As(err, &nothing) && d != nil && d.Supply != nil: // there is nothing to shut down
	case err != nil:
		return 0, err
	default:
		for _, s := range p.Slots {
			x.took = max(x.took, s.Up)
		}
	}
	if t.of == nil {
		t.of = map[estate.Key]estimate{}
	}
	t.of[k] = x
	return x.took, nil
}
