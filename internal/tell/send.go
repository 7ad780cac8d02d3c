package tell

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/store"
)

// send sends what is due, all of it.
func (o *Outbox) send(ctx context.Context, now time.Time) error {
	for {
		claimed, err := o.Store.ClaimNotes(ctx, now, now.Add(-lostAfter), claimMost)
		if err != nil || len(claimed) == 0 {
			return err
		}
		by := map[string][]store.NoteRow{}
		for _, n := range claimed {
			by[n.Person] = append(by[n.Person], n)
		}
		var work errgroup.Group // what fails with one ends nothing of the others
		work.SetLimit(atOnce)
		for _, who := range slices.Sorted(maps.Keys(by)) {
			for _, n := range by[who] {
				if alone := o.alone(n.What); alone != nil {
					work.Go(func() error { return alone(ctx, n, now) })
				}
			}
			by[who] = slices.DeleteFunc(by[who], func(n store.NoteRow) bool { return o.alone(n.What) != nil })
			for part := range slices.Chunk(by[who], mostItems) {
				work.Go(func() error { return o.tell(ctx, who, part, now) })
			}
		}
		if err := work.Wait(); err != nil || len(claimed) < claimMost {
			return err
		}
	}
}

// alone is how a note is sent that no other one is gathered with; nil for others.
func (o *Outbox) alone(what telling.What) func(context.Context, store.NoteRow, time.Time) error {
	switch what {
	case telling.Daily:
		return o.report
	case telling.Order:
		return o.order
	case telling.Service:
		return o.serviceCall
	}
	return nil
}

// tell tells one person what is due to them, in one message, and records what became of it.
func (o *Outbox) tell(ctx context.Context, who string, notes []store.NoteRow, now time.Time) error {
	plan, _ := o.Plan()
	person, known := plan.People[who]
	var items []telling.Item
	var told, left []store.NoteRow
	for _, n := range notes {
		item, state, err := o.item(ctx, plan, &n, known, now)
		if err != nil {
			return err
		}
		if state != telling.Sending {
			n.State = state
			left = append(left, n)
			continue
		}
		items, told = append(items, item), append(told, n)
	}
	if len(told) == 0 {
		return o.Store.SaveNotes(ctx, left)
	}
	m := telling.Compose(messageID(told), items, cmp.Or(person.Zone, time.UTC), now)
	if o.sends(ctx, person, m, told, now) {
		for n := range told {
			told[n].Kind, told[n].Size = items[n].Incident.Kind, len(items[n].Incident.Explains)
		}
	}
	return o.sent(ctx, person, m, told, left, now)
}

// sends sends a message, and notes in what it says what became of it; it says whether it has gone.
func (o *Outbox) sends(ctx context.Context, person telling.Person, m telling.Message, told []store.NoteRow, now time.Time) bool {
	channel, says, err := o.by(ctx, person, m)
	for n := range told {
		x := &told[n]
		x.Tries++
		x.Channel, x.Subject, x.Text = channel, m.Subject, m.Text
		if x.Says = says; err == nil {
			x.State, x.At = telling.Sent, now
			continue
		}
		x.Says = err.Error()
		if x.State, x.Due = telling.Queued, now.Add(retryIn(x.Tries)); now.Sub(x.Noted) > giveUpIn {
			x.State = telling.Failed
		}
	}
	o.reached(told[0].Person, err)
	return err == nil
}

// sent records what became of a message, and of notes that were left out of it.
func (o *Outbox) sent(ctx context.Context, person telling.Person, m telling.Message, told, left []store.NoteRow, now time.Time) error {
	var entries []store.Entry
	if told[0].State != telling.Queued {
		entries = append(entries, journalled(person, m, told[0], now))
	}
	// Also when the service is ending: it has been sent, and would be sent again.
	saving, cancel := context.WithTimeout(context.WithoutCancel(ctx), sendWithin)
	defer cancel()
	if err := o.Store.SaveNotes(saving, append(told, left...), entries...); err != nil {
		return err
	}
	for _, x := range m.Items {
		o.Bus.Incidents.Publish(x.Incident)
	}
	if len(entries) > 0 {
		o.Bus.Journal.Publish(bus.NewEntry{})
	}
	return nil
}

// item is what a note says, or what becomes of it instead. Its error says that neither can be told now.
func (o *Outbox) item(ctx context.Context, plan *telling.Plan, n *store.NoteRow, known bool, now time.Time) (telling.Item, telling.State, error) {
	drop := func(why string) (telling.Item, telling.State, error) {
		n.Says = why
		return telling.Item{}, telling.Dropped, nil
	}
	i, err := o.Find(ctx, n.Incident)
	switch {
	case ctx.Err() != nil:
		return telling.Item{}, n.State, ctx.Err()
	case errors.Is(err, store.ErrAway):
		return telling.Item{}, n.State, err
	case err != nil && !errors.Is(err, store.ErrNotFound): // a bad row spoils only itself
		n.Says = "its incident cannot be read: " + err.Error()
		return telling.Item{}, telling.Failed, nil
	case i == nil:
		return drop("its incident is gone")
	case !known:
		return drop("nobody of that name is told any more")
	}
	if why := n.Gone(i); why != "" {
		return drop(why)
	}
	if n.What == telling.Over {
		if was, err := o.toldBefore(ctx, n.Note); err != nil || !was {
			return drop("they had not been told that it was open")
		}
	}
	if until, why := plan.Wait(n.Note, o.Subject(i, now), now); !until.IsZero() {
		n.Due, n.Held = until, why
		return telling.Item{}, telling.Queued, nil
	}
	a := o.About(i)
	return telling.Item{Note: n.Note, Incident: i, Site: a.Site, Line: a.Line, Link: a.Link, Code: n.Code}, telling.Sending, nil
}

// toldBefore says whether somebody was told of an incident before a note of its end.
func (o *Outbox) toldBefore(ctx context.Context, n telling.Note) (bool, error) {
	rows, err := o.Store.Notes(ctx, store.NoteFilter{Incident: n.Incident, Person: n.Person, State: telling.Sent})
	return slices.ContainsFunc(rows, func(r store.NoteRow) bool { return r.What != telling.Over && r.What != telling.Service }), err
}

func messageID(told []store.NoteRow) string {
	if len(told) == 1 {
		return told[0].ID
	}
	return fmt.Sprintf("%s.and-%d", told[0].ID, len(told)-1)
}

func retryIn(tries int) time.Duration { return min(mostRetry, firstRetry<<min(tries-1, 10)) }

// by sends a message to somebody by the first of their ways that takes it.
func (o *Outbox) by(ctx context.Context, p telling.Person, m telling.Message) (channel, says string, err error) {
	var failed []string
	for _, w := range p.Ways {
		says, err := o.Send(ctx, w.Channel, w.To, m)
		if err == nil {
			return w.Channel, says, nil
		}
		channel = w.Channel
		failed = append(failed, w.Channel+": "+err.Error())
	}
	return channel, "", errors.New(strings.Join(failed, "; "))
}

// Send sends a message by a channel. Its error says what the channel did not take.
func (o *Outbox) Send(ctx context.Context, channel, to string, m telling.Message) (says string, err error) {
	o.mu.Lock()
	s, is := o.channels[channel]
	o.mu.Unlock()
	if !is {
		return "", fmt.Errorf("there is no channel %q", channel)
	}
	if len(m.Files) > 0 && s.Kind != Mail {
		return "", fmt.Errorf("the channel %s is of kind %s, and only mail takes files", channel, s.Kind)
	}
	if err := s.CheckTo(to); err != nil {
		return "", err
	}
	if s.Kind == Phone {
		return o.Text(ctx, s.Port, to, m.Short())
	}
	v, err := o.Secret(s.Secret)
	if err != nil {
		return "", err
	}
	return s.send(ctx, v, to, m)
}

// reached notes whether somebody could be told; that nobody can be is on the board.
func (o *Outbox) reached(who string, err error) {
	o.mu.Lock()
	if err != nil {
		o.silent[who] = err.Error()
	} else {
		delete(o.silent, who)
	}
	silent := maps.Clone(o.silent)
	o.mu.Unlock()
	if len(silent) == 0 {
		o.Health.Well("messages")
		return
	}
	first := slices.Min(slices.Collect(maps.Keys(silent)))
	o.Health.Grave("messages", fmt.Sprintf("messages to %s wait, no way to them works: plumb telling sent --waiting lists them; %s: %s", strings.Join(slices.Sorted(maps.Keys(silent)), ", "), first, silent[first]))
}

func journalled(p telling.Person, m telling.Message, n store.NoteRow, now time.Time) store.Entry {
	e := store.Entry{At: now, Who: "plumbd", Kind: store.EntryTelling, Result: "done", Text: fmt.Sprintf("Told %s by %s: %s", p.Title, n.Channel, m.Subject)}
	if n.State == telling.Failed {
		e.Result, e.Text = "failed", fmt.Sprintf("Could not tell %s: %s: %s", p.Title, m.Subject, n.Says)
	}
	if len(m.Items) == 1 {
		e.Device, e.Site = m.Items[0].Incident.Device, m.Items[0].Incident.Site
	}
	return e
}
