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
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/tell"
)

// newOutbox puts the outbox together: it is told of incidents as they are recorded.
func (s *Service) newOutbox(b *bus.Bus) *tell.Outbox {
	return tell.NewOutbox(tell.Parts{
		Store: s.Store, Bus: b, Health: s.health, Log: s.o.Log, Secret: s.garage.Secret, About: s.about,
		Open:    func() []*incident.Incident { return s.incidents.Open() },
		Find:    func(ctx context.Context, id string) (*incident.Incident, error) { return s.incidents.Find(ctx, id) },
		Patient: s.patient, Acts: s.acts, Text: s.ports.Text, TakeTexts: s.ports.TakeTexts,
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
		a.Broken = s.broken(ev, d.Key)
		if reach := verdict.At(e, ev, vs, now).LinesOf(d.Key).Reach; len(reach) > 0 {
			a.Line = drawn(reach[0])
		}
	})
	return a
}

// broken is the hardware of a device that is out of bounds; within See.
func (s *Service) broken(ev *verdict.Evidence, k estate.Key) []string {
	var sensors []reading.Sensor
	if in := s.keeper.InsideOf(k); in != nil {
		sensors = in.Sensors
	}
	var supply *reading.Supply
	if u, is := ev.Supplies[k]; is {
		supply = &u.Supply
	}
	return reading.Broken(sensors, supply)
}

// patient is what a maker or a dealer is written of a device.
func (s *Service) patient(k estate.Key) (telling.Patient, bool) {
	e, in, v := s.keeper.Estate(), s.keeper.Inside(k), s.keeper.Verdict(k)
	d := e.Device(k)
	if d == nil {
		return telling.Patient{}, false
	}
	p := telling.Patient{Device: string(k), Title: d.Title, Site: string(d.Site), Place: d.Place, Sheet: in.Sheet, Sensors: in.Sensors, Events: in.Events}
	if site := e.Site(d.Site); site != nil {
		p.Site = cmp.Or(site.Name, p.Site)
	}
	for _, r := range v.Reasons {
		if r.Stance == verdict.For && v.State != verdict.Steady {
			p.Wrong = append(p.Wrong, r.Text.String())
		}
	}
	return p, true
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
