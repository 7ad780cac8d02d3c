package act

import (
	"context"
	"errors"
	"fmt"
	"time"

	"plumbbob/internal/core/operation"
	"plumbbob/internal/store"
)

// recordWithin is how long the database may take for one record of an operation before
// the ledger is used instead: somebody waits for power.
const recordWithin = 3 * time.Second

// create records a new operation. What the database cannot take now, the ledger does:
// being able to act is worth more then than being neat.
func (a *Actor) create(ctx context.Context, o *operation.Operation) error {
	brief, cancel := context.WithTimeout(ctx, recordWithin)
	defer cancel()
	err := a.Store.CreateOperation(brief, o, a.asked(o))
	switch {
	case err == nil:
		a.beside(o)
	case errors.Is(err, store.ErrConflict), errors.Is(err, store.ErrFenced), errors.Is(err, store.ErrRow), ctx.Err() != nil:
		return err
	default:
		a.Log.Warn("the database does not take the record of an operation: it is kept in a file", "operation", o.ID, "file", a.Ledger, "because", err)
		if err := errors.Join(a.ledger.write(o), a.noted(err)); err != nil {
			return err
		}
	}
	a.newest.note(o)
	a.written()
	return nil
}

// save records how far an operation has come.
func (a *Actor) save(ctx context.Context, o *operation.Operation) error {
	if a.ledger.has(o.ID) {
		return a.ledger.write(o) // in order: the replay brings it all over
	}
	a.beside(o)
	brief, cancel := context.WithTimeout(ctx, recordWithin)
	defer cancel()
	err := a.Store.SaveOperation(brief, o)
	if err != nil && ctx.Err() == nil && !errors.Is(err, store.ErrFenced) { // whatever it is: the file is as good
		return errors.Join(a.ledger.write(o), a.noted(err))
	}
	return err
}

// beside keeps a copy of an operation that is under way beside the database: with that
// away at the next start, power that is owed is known all the same.
func (a *Actor) beside(o *operation.Operation) {
	if err := a.copies.write(o); err != nil {
		a.Health.Ails("copies of operations", "an operation that is under way is on record in the database alone: "+err.Error())
		return
	}
	a.Health.Well("copies of operations")
}

// noted names an error of the database that is more than its being away, for which
// the ledger stands in, and is no error itself any more.
func (a *Actor) noted(err error) error {
	if !errors.Is(err, store.ErrAway) {
		a.Health.Ails("database", "operations are recorded in a file, because the database refuses: "+err.Error())
	}
	return nil
}

// end records the end of an operation and its outcome in the journal.
func (a *Actor) end(ctx context.Context, o *operation.Operation) error {
	err := a.recordEnd(ctx, o)
	if err == nil {
		a.dropCopy(o.ID)
	}
	return err
}

// dropCopy drops the copy of an operation whose end is on record; a copy that is left is
// looked at again at the next start.
func (a *Actor) dropCopy(id string) {
	if err := a.copies.ended(id); err != nil {
		a.Log.Warn("the copy of an operation that has ended is left", "operation", id, "because", err)
	}
}

func (a *Actor) recordEnd(ctx context.Context, o *operation.Operation) error {
	if a.ledger.has(o.ID) {
		return a.ledger.write(o)
	}
	brief, cancel := context.WithTimeout(ctx, recordWithin)
	defer cancel()
	err := a.Store.EndOperation(brief, o, a.ended(o))
	switch {
	case errors.Is(err, store.ErrConflict):
		return nil // recorded before, by a write whose answer was lost
	case err == nil:
		a.written()
		return nil
	case ctx.Err() != nil, errors.Is(err, store.ErrFenced):
		return err
	}
	return errors.Join(a.ledger.write(o), a.noted(err))
}

func (a *Actor) entry(o *operation.Operation, kind string, at time.Time) store.Entry {
	return store.Entry{At: at, Site: o.Site, Device: o.Device, Who: o.By, Kind: kind, Why: o.Why, OperationID: o.ID}
}

func (a *Actor) asked(o *operation.Operation) store.Entry {
	e := a.entry(o, store.EntryOperationAsked, o.Asked)
	begun := &operation.Operation{Order: operation.Order{Kind: o.Kind, Device: o.Device, Outlets: o.Outlets}, Progress: operation.Progress{State: operation.Running}}
	e.Text = begun.Outcome(time.UTC) // nothing has happened yet: the headline alone
	e.Result = "asked"
	return e
}

func (a *Actor) ended(o *operation.Operation) store.Entry {
	e := a.entry(o, store.EntryOperationEnded, o.Ended)
	e.Text = o.Outcome(a.Keeper.Estate().Zone(o.Device))
	e.Result = string(o.State)
	e.BeforeW, e.AfterW = o.Draws()
	return e
}

const replayEvery = 2 * time.Second

// replayUntil brings the ledger over into the database whenever that answers,
// until ctx ends.
func (a *Actor) replayUntil(ctx context.Context) {
	tick := time.NewTicker(replayEvery)
	defer tick.Stop()
	epoch := a.Lease.Epoch()
	for {
		_ = a.replay(ctx) // what it could not do, it has said
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if a.mayBegin() == nil {
			if err := a.ledger.keepRoom(); err != nil {
				a.Health.Ails("ledger", "no room can be kept for the ledger, which stands in for the database: "+err.Error())
			} else {
				a.Health.Well("ledger")
			}
		}
		if a.Lease.Holds() != nil {
			continue
		}
		now := a.Lease.Epoch()
		a.mu.Lock()
		tookUp := a.tookUp && now == epoch
		a.mu.Unlock()
		if now != epoch { // another has held it meanwhile, and may have left something
			a.reload(ctx)
			epoch = now
		}
		if tookUp {
			continue
		}
		a.takeUp(ctx)
	}
}

// replay brings over what it can: one operation that cannot be brought over holds
// up no other.
func (a *Actor) replay(ctx context.Context) error {
	var errs []error
	for _, o := range a.ledger.newest() {
		name := "ledger " + o.ID
		switch err := a.bringOver(ctx, o); {
		case err == nil:
			a.Health.Well(name)
		case errors.Is(err, store.ErrAway), errors.Is(err, store.ErrFenced), ctx.Err() != nil:
			return err
		default:
			a.Health.Grave(name, fmt.Sprintf("operation %s on %s stays in the file %s, because the database does not take it: %s", o.ID, o.Device, a.Ledger, err))
			errs = append(errs, err)
		}
	}
	if len(errs) == 0 {
		a.Health.Well("database")
	}
	return errors.Join(errs...)
}

func (a *Actor) bringOver(ctx context.Context, o *operation.Operation) error {
	_, err := a.Store.Operation(ctx, o.ID)
	if errors.Is(err, store.ErrNotFound) {
		begun := o.Clone()
		begun.State = operation.Running
		err = a.Store.CreateOperation(ctx, begun, a.asked(o))
	}
	var unreadable *store.UnreadableError
	if err != nil && !errors.As(err, &unreadable) { // what the file has can be read, and is newer
		return err
	}
	if o.State == operation.Running {
		err = a.Store.SaveOperation(ctx, o)
	} else if err = a.Store.EndOperation(ctx, o, a.ended(o)); errors.Is(err, store.ErrConflict) {
		err = nil
	}
	if err != nil {
		return err
	}
	if err := a.ledger.forget(o); err != nil {
		return err
	}
	a.Log.Info("an operation that was recorded in the file is in the database now", "operation", o.ID)
	a.written()
	return nil
}
