package operation

import (
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
)

// Power is the world as the arithmetic of the power graph sees it.
func (w World) Power() power.World {
	return power.World{Estate: w.Estate, Evidence: w.Evidence, Now: w.Now}
}

// loads works out what has to be carried afterwards: by the other feeds of what
// loses one, and by everything above what gets power.
func (p *Preview) loads(outlets []estate.End, w World) {
	switch {
	case p.Kind == On && p.Means != ByWake, p.Kind == Cycle:
		starts, _ := w.starts(p.gains(w))
		p.Burdens = w.Power().IfStarted(starts)
	}
	if p.Kind == Off && p.cuts() {
		p.Shifts = w.Power().IfCut(w.Estate.Unfed(outlets)).Shifts
	}
}

// gains are the devices that draw more once this is done than they do now: what
// is cycled draws already.
func (p *Preview) gains(w World) []estate.Key {
	if p.Kind == Cycle {
		return nil
	}
	back := []estate.Key{p.Device}
	for _, o := range p.Outlets {
		for _, k := range o.Feeds {
			if !slices.Contains(back, k) {
				back = append(back, k)
			}
		}
	}
	return slices.DeleteFunc(back, func(k estate.Key) bool {
		d := w.Estate.Device(k)
		watts, known := verdict.Draw(w.Estate, w.Evidence, k, w.Now)
		return d == nil || known && watts > verdict.Idle(d) // it runs
	})
}

// starts is what devices take when they get power; unknown are those of which
// that is not known.
func (w World) starts(ks []estate.Key) (starts []power.Start, unknown []estate.Key) {
	for _, k := range ks {
		if s, ok := power.StartOf(w.Estate.Device(k), w.Draws[k]); ok {
			starts = append(starts, s)
		} else {
			unknown = append(unknown, k)
		}
	}
	return starts, unknown
}

// atLines finds who else sits at the serial line of what is acted on, or goes dark.
func (p *Preview) atLines(w World) {
	if w.AtLine == nil {
		return
	}
	seen := map[estate.Key]bool{}
	look := func(k estate.Key) {
		if seen[k] {
			return
		}
		seen[k] = true
		for _, why := range w.AtLine(k, w.Asker.Name) {
			p.AtLine = append(p.AtLine, Using{k, why})
		}
	}
	look(p.Device)
	for _, l := range p.Loses {
		if l.Dark {
			look(l.Device)
		}
	}
}

// people finds whose work and whose way would be cut.
func (p *Preview) people(w World) {
	if p.Kind == On || p.Kind == Restart {
		return
	}
	p.atLines(w)
	for _, l := range p.Loses {
		if !l.Dark {
			continue
		}
		if why := w.InUse[l.Device]; why != "" {
			p.InUse = append(p.InUse, Using{l.Device, why})
		} else if why := verdict.InUse(w.Estate, w.Evidence, l.Device, w.Now); why != "" {
			p.InUse = append(p.InUse, Using{l.Device, why})
		}
	}
	if via := w.Asker.Via; via != "" {
		dark := p.darkSet()
		switch {
		case dark[via]:
			p.YourPath = via
		case slices.Contains(p.CutOff, via):
			for k := range dark {
				p.YourPath = k
			}
			for _, strand := range w.Estate.ReachLine(via, "") {
				for _, k := range strand {
					if dark[k] {
						p.YourPath = k
					}
				}
			}
		}
	}
}

// The charge and the time below which nothing is started on a battery.
const (
	startCharge  = 30 // %
	startMinutes = 2  // times what counts as low
)

// batteries names the UPSes that live on their battery and have too little left
// to start something on.
func (w World) batteries(k estate.Key) (ups estate.Key, text string) {
	for _, u := range w.Estate.SuppliesOf(k) {
		d := w.Estate.Device(u)
		s, known := w.Evidence.Supplies[u]
		ep, ok := d.OutletEndpoint()
		if !known || !ok || !verdict.Fresh(ep, s.At, w.Now) || s.Source != reading.SourceBattery {
			continue
		}
		low := d.Supply.LowMinutes
		if low == 0 {
			low = power.DefaultLowMinutes
		}
		switch {
		case s.Battery.Charge != nil && *s.Battery.Charge < startCharge:
			return u, fmt.Sprintf("its charge is %.0f %%", *s.Battery.Charge)
		case s.Battery.Minutes != nil && *s.Battery.Minutes < startMinutes*low:
			return u, fmt.Sprintf("%s are left", short(time.Duration(*s.Battery.Minutes*float64(time.Minute))))
		}
	}
	return "", ""
}

// sayLoads says what has to be carried afterwards.
func (p *Preview) sayLoads(add adder, w World) {
	for _, s := range p.Shifts {
		if s.AfterW-s.BeforeW >= 1 {
			add(LineLoad, "%s carries %s afterwards instead of %s%s", elementName(s.Element), verdict.Watts(s.AfterW), verdict.Watts(s.BeforeW), ofRating(s.RatingW))
		}
	}
	for _, b := range p.Burdens {
		add(LineLoad, "%s carries %s afterwards%s, and %s for a moment", elementName(b.Element), verdict.Watts(b.AfterW), ofRating(b.RatingW), verdict.Watts(b.SurgeW))
	}
	if _, unknown := w.starts(p.gains(w)); p.Kind == On && p.Means != ByWake && len(unknown) > 0 {
		add(LineUnknown, "What %s takes when it gets power is not known: it has not been measured running yet. inrush: in the estate says it", list(unknown))
	}
}

// Overload is the interlock of an element that would carry more than it may.
func Overload(b power.Burden) Interlock {
	return Interlock{
		Name: LockOverload, LiftBy: LiftByReason, Role: lifters[LockOverload],
		Reason: fmt.Sprintf("%s would have to carry %s once all of this runs, and may carry %s", elementName(b.Element), verdict.Watts(b.AfterW), verdict.Watts(b.RatingW)),
	}
}

func elementName(x power.Element) string {
	if x.Name == "" {
		return string(x.Device)
	}
	return fmt.Sprintf("%s %s of %s", x.Kind, x.Name, x.Device)
}

func ofRating(w float64) string {
	if w == 0 {
		return ""
	}
	return " of " + verdict.Watts(w)
}
