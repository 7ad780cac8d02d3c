package tell

import (
	"context"
	"errors"
	"time"

	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/store"
)

// serviceCall writes to the maker or the dealer of what is broken.
func (o *Outbox) serviceCall(ctx context.Context, n store.NoteRow, now time.Time) error {
	plan, _ := o.Plan()
	person, known := plan.People[n.Person]
	i, err := o.Find(ctx, n.Incident)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if _, n.State = o.item(ctx, plan, &n, i, known, now); n.State != telling.Sending {
		return o.Store.SaveNotes(ctx, []store.NoteRow{n})
	}
	p, is := o.Patient(i.Device)
	if !is {
		n.State, n.Says = telling.Dropped, "its device is not in the estate any more"
		return o.Store.SaveNotes(ctx, []store.NoteRow{n})
	}
	m := telling.ServiceCall(n.ID, p, plan.Remark(n.Note), now)
	told := []store.NoteRow{n}
	o.sends(ctx, person, m, told, now)
	return o.sent(ctx, person, m, []*incident.Incident{i}, told, nil, now)
}
