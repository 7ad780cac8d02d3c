package tell

import (
	"context"
	"time"

	"plumbbob/internal/core/telling"
	"plumbbob/internal/store"
)

// serviceCall writes to the maker or the dealer of what is broken.
func (o *Outbox) serviceCall(ctx context.Context, n store.NoteRow, now time.Time) error {
	plan, _ := o.Plan()
	person, known := plan.People[n.Person]
	item, state, err := o.item(ctx, plan, &n, known, now)
	if err != nil {
		return err
	}
	if n.State = state; state != telling.Sending {
		return o.Store.SaveNotes(ctx, []store.NoteRow{n})
	}
	p, is := o.Patient(item.Incident.Device)
	if !is {
		n.State, n.Says = telling.Dropped, "its device is not in the estate any more"
		return o.Store.SaveNotes(ctx, []store.NoteRow{n})
	}
	m := telling.ServiceCall(n.ID, p, plan.Remark(n.Note), now)
	m.Items = []telling.Item{item}
	told := []store.NoteRow{n}
	o.sends(ctx, person, m, told, now)
	return o.sent(ctx, person, m, told, nil, now)
}
