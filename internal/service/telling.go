package service

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/tell"
)

// newOutbox puts the outbox together: it is told of incidents as they are recorded.
func (s *Service) newOutbox(b *bus.Bus) *tell.Outbox {
	return tell.NewOutbox(tell.Parts{
		Store: s.Store, Bus: b, Health: s.health, Log: s.o.Log, Secret: s.garage.Secret, About: s.about,
		Open: func() []*incident.Incident { return s.incidents.Open() },
		Find: func(ctx context.Context, id string) (*incident.Incident, error) { return s.incidents.Find(ctx, id) },
		Acts: s.acts, Text: s.ports.Text, TakeTexts: s.ports.TakeTexts,
		Ack: func(ctx context.Context, id, who, how string) error {
			_, err := s.incidents.Say(ctx, id, who, func(i *incident.Incident, now time.Time) (string, error) { return i.Acknowledge(who, how, now) })
			return err
		},
	})
}

// about is what is known of an incident beside itself.
func (s *Service) about(i *incident.Incident) (a tell.About) {
	a.Zone, a.Site = time.UTC, string(i.Site)
	a.Link = strings.TrimSuffix(cmp.Or(s.o.PublicURL, s.URL), "/") + "/incidents/" + i.ID
	s.keeper.See(func(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time) {
		a.Zone = e.Zone(i.Device)
		if site := e.Site(i.Site); site != nil {
			a.Site = cmp.Or(site.Name, a.Site)
		}
		d := e.Device(i.Device)
		if d == nil {
			return
		}
		a.Role, a.Tags = d.Role, d.Tags
		if reach := verdict.At(e, ev, vs, now).LinesOf(d.Key).Reach; len(reach) > 0 {
			a.Line = drawn(reach[0])
		}
	})
	return a
}

// drawn is a line in one line of text: up to where it is broken, and what hangs behind that.
func drawn(hops []verdict.Hop) string {
	var out strings.Builder
	for n, h := range hops {
		switch {
		case n == 0:
		case h.State == verdict.HopBroken:
			out.WriteString(" ✗ ")
		default:
			out.WriteString(" ─ ")
		}
		out.WriteString(h.Label)
	}
	return out.String()
}

// hasModem says why there is no modem of a name at this machine.
func (s *Service) hasModem(name string) error {
	is, err := s.ports.IsModem(name)
	if err == nil && !is {
		err = fmt.Errorf("at %s is no modem", name)
	}
	return err
}
