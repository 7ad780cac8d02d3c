package truth

import (
	"time"

	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/telling"
)

// A postbox is somebody who is told of everything, at once and by a channel that works.
type postbox struct {
	plan      *telling.Plan
	incidents map[string]*incident.Incident
	notes     map[string][]telling.Note
	sent      int
	first     time.Time // when the first message came; zero: none has
}

func newPostbox() *postbox {
	return &postbox{
		plan: &telling.Plan{
			Zone: time.UTC, People: map[string]telling.Person{"ann": {Zone: time.UTC}},
			Rules: []telling.Rule{{Name: "all", Steps: []telling.Step{{Who: []string{"ann"}}}}},
		},
		incidents: map[string]*incident.Incident{}, notes: map[string][]telling.Note{},
	}
}

// look notes what has changed, and sends what is due.
func (p *postbox) look(changes []incident.Change, now time.Time) {
	for _, c := range changes {
		p.incidents[c.ID] = c.Incident
	}
	for id, i := range p.incidents {
		c := p.plan.Next(telling.Subject{Incident: i}, p.notes[id], now)
		p.notes[id] = append(p.notes[id], c.Add...)
		for n := range p.notes[id] {
			p.send(&p.notes[id][n], c.Drop, i, now)
		}
	}
}

func (p *postbox) send(n *telling.Note, dropped []string, i *incident.Incident, now time.Time) {
	for _, id := range dropped {
		if n.ID == id {
			n.State = telling.Dropped
		}
	}
	switch {
	case n.State != telling.Queued || n.Due.After(now):
	case n.Gone(i) != "":
		n.State = telling.Dropped
	default:
		n.State, n.At, n.Kind, n.Size = telling.Sent, now, i.Kind, len(i.Explains)
		if p.sent++; p.first.IsZero() {
			p.first = now
		}
	}
}
