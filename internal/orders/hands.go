package orders

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/durable"
	"plumbbob/internal/store"
)

// do does what an instruction says, or begins it; what has come of it at once is an event.
func (w *run) do(ctx context.Context, c routine.Begin) routine.Event {
	if c.Op.Do == routine.Do(routine.Operate) {
		return w.operate(ctx, c)
	}
	if c.Again && c.Op.Do == routine.Do(routine.Keys) {
		return routine.Finished{At: time.Now().UTC(), ID: c.ID, Note: "the service ended in the middle of it: it may have been typed, or not, and is not typed again"}
	}
	ctx, stop := context.WithCancel(ctx)
	w.mu.Lock()
	w.stops[c.ID] = stop
	w.mu.Unlock()
	w.r.work.Go(func() {
		in := w.aside(ctx, c)
		w.mu.Lock()
		delete(w.stops, c.ID)
		w.mu.Unlock()
		stop()
		_ = w.Tell(w.r.ctx, in) // or we end, and it is taken up at the next start
	})
	return nil
}

// aside does what is no operation, and says how it ended.
func (w *run) aside(ctx context.Context, c routine.Begin) routine.Finished {
	if c.Op.Do == routine.Ask {
		return w.mayClimb(ctx, c)
	}
	note, err := w.beside(ctx, c)
	in := routine.Finished{At: time.Now().UTC(), ID: c.ID, OK: err == nil, Note: note}
	switch {
	case err != nil && ctx.Err() != nil:
		in.Note = "stopped"
	case err != nil:
		in.Note = err.Error()
	}
	return in
}

// How long what is done beside operations may take, unless its step says so.
const (
	pictureWithin = time.Minute
	typeWithin    = 10 * time.Minute
	lookAtScreen  = time.Second
	drillWithin   = 10 * time.Minute
)

// tell tells somebody: a message that cannot be noted now is noted when the database is back.
func (w *run) tell(ctx context.Context, id string, who []string, text string) (string, error) {
	for {
		told, err := w.r.Say(ctx, id, w.x.Routine, who, text)
		if err == nil {
			return strings.Join(told, ", "), nil
		}
		if !errors.Is(err, store.ErrAway) || !durable.Pause(ctx, durable.RecordAgain) {
			return "", err
		}
	}
}

// beside does what is no operation.
func (w *run) beside(ctx context.Context, c routine.Begin) (note string, err error) {
	op, r := c.Op, w.r
	within := func(d time.Duration) (context.Context, context.CancelFunc) {
		return context.WithTimeoutCause(ctx, d, errors.New("not within "+plain.Span(d)))
	}
	switch routine.StepKind(op.Do) {
	case routine.Tell:
		told, err := w.tell(ctx, c.ID, op.Who, op.Text)
		if err != nil {
			return "", err
		}
		return "to " + told, nil
	case routine.Batch:
		return w.batch(ctx, c)
	case routine.Drill:
		ctx, cancel := within(drillWithin)
		defer cancel()
		found, err := r.Drill(ctx, op.Text, asOrder(w.x.Routine).By())
		if err == nil && len(op.Who) > 0 {
			_, err = w.tell(ctx, c.ID, op.Who, found)
		}
		return found, err
	case routine.Picture:
		ctx, cancel := within(pictureWithin)
		defer cancel()
		return "kept", r.Picture(ctx, op.Device, "by the routine "+w.x.Routine)
	case routine.Text:
		ctx, cancel := within(op.Time)
		defer cancel()
		return w.text(ctx, op)
	case routine.Keys:
		d := typeWithin
		if op.Time > 0 {
			d = op.Time
		}
		ctx, cancel := within(d)
		defer cancel()
		return "to its end", r.Play(ctx, op.Device, op.Text)
	}
	return "", fmt.Errorf("this program cannot %q", op.Do)
}

// text waits for one on a line, from now on, or on a screen.
func (w *run) text(ctx context.Context, op routine.Op) (string, error) {
	match, err := regexp.Compile(op.Text)
	if err != nil {
		return "", err
	}
	if !op.Screen {
		return "it said so", cause(ctx, w.r.Line(ctx, op.Device, match.MatchString))
	}
	for {
		said, err := w.r.Screen(ctx, op.Device)
		if err == nil && match.MatchString(said) {
			return "it says so", nil
		}
		if !durable.Pause(ctx, lookAtScreen) {
			if err == nil {
				err = errors.New("the screen did not say so")
			}
			return "", fmt.Errorf("%w: %w", context.Cause(ctx), err)
		}
	}
}

// cause makes the end of a context what it was for.
func cause(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// operate asks for an operation under an id, once. One that is on record was asked for before we
// died.
func (w *run) operate(ctx context.Context, c routine.Begin) routine.Event {
	no := func(why string) routine.Event {
		return routine.Finished{At: time.Now().UTC(), ID: c.ID, Note: why}
	}
	if c.Again {
		found, err := w.found(ctx, c.ID)
		if found || err != nil {
			return nil
		}
		if late := time.Since(w.since(c.ID)); late > group.MissedAfter {
			return no(fmt.Sprintf("not begun, because its turn came %s ago", verdict.Age(late)))
		}
	}
	for !w.r.Acts() || w.r.Lease.Holds() != nil {
		if w.r.Lease.Other() || !durable.Pause(ctx, durable.RecordAgain) {
			return nil
		}
	}
	if err := w.r.request(ctx, w.x.By, c); err != nil {
		if ctx.Err() != nil {
			return nil // it is looked for at the next start
		}
		return no(err.Error())
	}
	return nil
}

// since is when a thread began to have something done.
func (w *run) since(id string) time.Time {
	for _, t := range w.x.Threads {
		if t.Doing == id {
			return t.Since
		}
	}
	return time.Time{}
}

// asksAgain is how often an operation is previewed anew because something has changed meanwhile.
const asksAgain = 3

// request asks for what a step says, with what its order goes ahead against.
func (r *Room) request(ctx context.Context, by operation.Asker, c routine.Begin) error {
	if len(c.Op.Lift) > 0 {
		by.Role = operation.Steward // whoever laid it down was one
	}
	var err error
	for range asksAgain {
		var p *operation.Preview
		if p, err = r.Actor.Preview(ctx, *c.Op.Intent, by); err != nil {
			return err
		}
		err = r.ask(ctx, act.Request{Intent: *c.Op.Intent, Digest: p.Digest, Consent: operation.Consent{Override: c.Op.Lift, Why: c.Op.Why}, By: by, ID: c.ID})
		var changed *act.ChangedError
		if !errors.As(err, &changed) {
			return err
		}
	}
	return err
}

// ask asks for it, and waits while the service is only just starting.
func (r *Room) ask(ctx context.Context, req act.Request) error {
	for {
		_, err := r.Actor.Request(ctx, req)
		if !errors.Is(err, act.ErrNotReady) || !durable.Pause(ctx, durable.RecordAgain) {
			return err
		}
	}
}

// found says whether an operation is on record, and waits for the database to say so: what may have
// been asked for is not asked for again on a guess.
func (w *run) found(ctx context.Context, id string) (bool, error) {
	for {
		_, err := w.r.Actor.Find(ctx, id)
		switch {
		case err == nil:
			return true, nil
		case errors.Is(err, store.ErrNotFound):
			return false, nil
		}
		if !durable.Pause(ctx, durable.RecordAgain) {
			return false, context.Cause(ctx)
		}
	}
}
