package watch

import (
	"context"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/profile"
)

// A Finding is one thing that a profile reads, or does not.
type Finding struct{ Name, Text string }

// Findings is what gear says when it is read with a profile.
type Findings struct {
	Matches string // what the gear says that it is
	Found   []Finding
	Missing []Finding // what the profile names, and the gear does not have
}

func (f *Findings) found(name, format string, args ...any) {
	f.Found = append(f.Found, Finding{name, fmt.Sprintf(format, args...)})
}

func (f *Findings) missing(name, format string, args ...any) {
	f.Missing = append(f.Missing, Finding{name, fmt.Sprintf(format, args...)})
}

// A Trial is gear that is tried without being in the estate.
type Trial = garage.Trial

// Try reads gear with a profile, and changes nothing. The profile need not be
// known, and the gear need not be in the estate.
func (w *Watcher) Try(ctx context.Context, t Trial) (Findings, error) {
	var f Findings
	d, err := w.from.Garage.OpenTrial(t)
	if err != nil {
		return f, err
	}
	defer func() { _ = d.Close() }()
	return f, gear.Safely(func() error { return try(ctx, d, t.Profile, &f) })
}

func try(ctx context.Context, d gear.Driver, p *profile.Profile, f *Findings) error {
	if err := identify(ctx, d, p, f); err != nil {
		return err
	}
	if o, ok := gear.As[gear.Outlets](d); ok {
		if err := tryOutlets(ctx, o, p, f); err != nil {
			return err
		}
	}
	trySupply(ctx, d, f)
	trySensors(ctx, d, f)
	tryCard(ctx, d, p, f)
	return nil
}

func identify(ctx context.Context, d gear.Driver, p *profile.Profile, f *Findings) error {
	s, ok := gear.As[gear.Identified](d)
	if !ok {
		return nil
	}
	id, err := s.Identify(ctx)
	if err != nil {
		return err
	}
	f.Matches = fmt.Sprintf("%s (%s)", id.Description, id.ObjectID)
	if p.Matches != "" && id.ObjectID != p.Matches && !strings.HasPrefix(id.ObjectID, p.Matches+".") {
		f.missing("matches", "the gear says that it is %s, and the profile is for %s", id.ObjectID, p.Matches)
	}
	return nil
}

func tryOutlets(ctx context.Context, o gear.Outlets, p *profile.Profile, f *Findings) error {
	got, err := o.ReadOutlets(ctx)
	if err != nil {
		return err
	}
	for _, m := range got.Meters {
		name := m.Kind + " " + m.Name
		for what, v := range map[string]*float64{"A": m.A, "V": m.V, "W": m.W, "Wh": m.Wh} {
			if v != nil {
				f.found(name, "%s %s", verdict.Figure(*v), what)
			}
		}
	}
	metered, named := 0, 0
	for _, x := range got.Outlets {
		state := map[bool]string{true: "on", false: "off"}[x.On]
		if !x.Switched {
			state += ", cannot be switched"
		}
		if x.Metered {
			metered++
			state += fmt.Sprintf(", %.1f W", x.W)
		}
		if x.Name != "" {
			named++
			state += ", " + x.Name
		}
		if x.AfterLoss != "" {
			state += ", after a power loss " + string(x.AfterLoss)
		}
		f.found(fmt.Sprintf("outlet %d", x.Number), "%s", state)
	}
	if p.Outlets != nil && p.Outlets.Power != nil && metered < len(got.Outlets) {
		f.missing("outlets power", "%d of %d outlets have none", len(got.Outlets)-metered, len(got.Outlets))
	}
	if p.Outlets != nil && p.Outlets.Name != nil && named == 0 {
		f.missing("outlets name", "no outlet has one")
	}
	if p.Totals.Power != nil && got.TotalW == nil {
		f.missing("totals power", "there is nothing at %s%s", p.Totals.Power.OID, p.Totals.Power.At)
	}
	return nil
}

func trySupply(ctx context.Context, d gear.Driver, f *Findings) {
	u, ok := gear.As[gear.Supply](d)
	if !ok {
		return
	}
	s, err := u.ReadSupply(ctx)
	if err != nil {
		f.missing("ups", "%s", err)
		return
	}
	f.found("ups", "%s %s, %s", s.Maker, s.Model, s.State())
	for name, v := range map[string]*float64{"charge %": s.Battery.Charge, "minutes": s.Battery.Minutes, "battery V": s.Battery.V, "temperature °C": s.Battery.C} {
		if v == nil {
			f.missing("ups "+name, "it does not say")
		} else {
			f.found("ups "+name, "%s", verdict.Figure(*v))
		}
	}
}

func trySensors(ctx context.Context, d gear.Driver, f *Findings) {
	x, ok := gear.As[gear.Sensors](d)
	if !ok {
		return
	}
	list, err := x.ReadSensors(ctx)
	if err != nil {
		f.missing("sensors", "%s", err)
	}
	for _, s := range list {
		if s.Value == nil && s.Words == "cannot be read" {
			f.missing("sensor "+s.Name, "%s", s.Words)
			continue
		}
		f.found("sensor "+s.Name, "%s", s.Text())
	}
}

func tryCard(ctx context.Context, d gear.Driver, p *profile.Profile, f *Findings) {
	if x, ok := gear.As[gear.Inventory](d); ok {
		s, err := x.ReadSheet(ctx)
		if err != nil {
			f.missing("sheet", "%s", err)
		}
		for _, v := range []Finding{{"maker", s.Maker}, {"product", s.Product}, {"serial", s.Serial}, {"firmware", s.Firmware}} {
			if v.Text != "" {
				f.Found = append(f.Found, v)
			}
		}
	}
	if x, ok := gear.As[gear.Clock](d); ok {
		if at, err := x.ReadClock(ctx); err != nil || at.IsZero() {
			f.missing("clock", "it does not say")
		} else {
			f.found("clock", "%s", at.Format(time.RFC3339))
		}
	}
	if x, ok := gear.As[gear.EventLog](d); ok {
		if log, err := x.ReadEvents(ctx); err != nil {
			f.missing("log", "%s", err)
		} else {
			f.found("log", "%d entries", len(log.Events))
		}
	}
	if x, ok := gear.As[gear.Neighbours](d); ok {
		if list, err := x.ReadNeighbours(ctx); err != nil {
			f.missing("neighbours", "%s", err)
		} else {
			f.found("neighbours", "%d ports", len(list))
		}
	}
	if c := p.Outlets; c != nil && c.Command == nil {
		f.missing("outlets command", "the profile says nothing of how outlets are switched")
	}
}
