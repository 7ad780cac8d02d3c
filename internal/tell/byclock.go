package tell

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/telling"
	"plumbbob/internal/store"
)

// reportLate is how late a report may be: after that it is of another day.
const reportLate = 2 * time.Hour

// reports notes the report of the day, once.
func (o *Outbox) reports(ctx context.Context, now time.Time) error {
	plan, _ := o.Plan()
	id := plan.ReportID(now, reportLate)
	if id == "" {
		return nil
	}
	var all []store.NoteRow
	for _, who := range plan.Readers(now) {
		all = append(all, store.NoteRow{Note: telling.Note{ID: id + "." + who, Person: who, What: telling.Daily, Due: now}})
	}
	return o.Store.NoteAlone(ctx, all)
}

// report sends one.
func (o *Outbox) report(ctx context.Context, n store.NoteRow, now time.Time) error {
	plan, _ := o.Plan()
	person, known := plan.People[n.Person]
	if !known || now.Sub(n.Noted) > reportLate {
		n.State, n.Says = telling.Dropped, "its day is over, or nobody of that name is told any more"
		return o.Store.SaveNotes(ctx, []store.NoteRow{n})
	}
	since := now.Add(-24 * time.Hour)
	all, err := o.Store.Incidents(ctx, store.IncidentFilter{Open: true, EndedSince: since, Limit: mostReported})
	if err != nil {
		return err
	}
	unsent, err := o.Store.CountNotes(ctx, telling.Failed, since)
	if err != nil {
		return err
	}
	m := telling.ComposeReport(n.ID, all, since, unsent, cmp.Or(person.Zone, plan.Zone), now)
	told := []store.NoteRow{n}
	o.sends(ctx, person, m, told, now)
	return o.sent(ctx, person, m, told, nil, now)
}

// mostReported bounds what is read for a report.
const mostReported = 5000

// beats sends the heartbeat until ctx ends, beside whatever else goes out.
func (o *Outbox) beats(ctx context.Context) {
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	for {
		if o.Acts() {
			o.beat(ctx, time.Now())
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// beat sends it, when it is time: what of it fails is not sent again, since the next one
// comes.
func (o *Outbox) beat(ctx context.Context, now time.Time) {
	plan, _ := o.Plan()
	h := plan.Heartbeat
	if h == nil {
		o.Health.Well("heartbeat")
		return
	}
	if now.Sub(o.beaten) < h.Every {
		return
	}
	o.beaten = now
	m := telling.Message{
		ID: fmt.Sprintf("heartbeat.%d", now.Unix()), At: now, Severity: telling.Warning, Subject: "Plumb Bob is at work",
		Text: fmt.Sprintf("Another message like this comes within %s. When it does not, look at the service itself.\n", h.Every),
	}
	var failed []string
	for _, w := range h.By {
		if _, err := o.Send(ctx, w.Channel, w.To, m); err != nil && ctx.Err() == nil {
			failed = append(failed, w.Channel+": "+err.Error())
		}
	}
	if len(failed) > 0 {
		o.Health.Ails("heartbeat", "the heartbeat did not go out: "+strings.Join(failed, "; "))
		return
	}
	o.Health.Well("heartbeat")
}
