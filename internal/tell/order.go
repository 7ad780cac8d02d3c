package tell

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/telling"
	"plumbbob/internal/store"
)

// Say notes what a standing order tells people, teams and rotas; under the same id it is noted once.
// It returns who will be told. Its error says that nobody is, or is that of the store.
func (o *Outbox) Say(ctx context.Context, id, order string, names []string, text string) ([]string, error) {
	plan, _ := o.Plan()
	now := time.Now().UTC()
	those := plan.Those(names, now)
	if len(those) == 0 {
		return nil, fmt.Errorf("nobody is told: %s is nobody that plumb telling export knows, or nobody is on duty", strings.Join(names, ", "))
	}
	who := slices.Sorted(maps.Keys(those))
	var all []store.NoteRow
	for _, w := range who {
		n := store.NoteRow{Note: telling.Note{ID: id + "." + w, Person: w, What: telling.Order, Rule: order, Due: those[w]}, Subject: text, Text: fmt.Sprintf("%s\n\nThe standing order %s says so.\n", text, order)}
		if n.Due.After(now) {
			n.Held = "quiet hours"
		}
		all = append(all, n)
	}
	if err := o.Store.NoteAlone(ctx, all); err != nil {
		return nil, err
	}
	o.poke()
	return who, nil
}

// order sends what an order tells one person.
func (o *Outbox) order(ctx context.Context, n store.NoteRow, now time.Time) error {
	plan, _ := o.Plan()
	person, known := plan.People[n.Person]
	if !known {
		n.State, n.Says = telling.Dropped, "nobody of that name is told any more"
		return o.Store.SaveNotes(ctx, []store.NoteRow{n})
	}
	told := []store.NoteRow{n}
	m := telling.Message{ID: n.ID, At: now, Severity: telling.Warning, Subject: n.Subject, Text: n.Text}
	o.sends(ctx, person, m, told, now)
	return o.sent(ctx, person, m, told, nil, now)
}
