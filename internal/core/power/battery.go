package power

import (
	"math"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
)

// A Discharge is one time that a UPS lived on its battery.
type Discharge struct {
	Device   estate.Key
	Began    time.Time
	Ended    time.Time
	W        float64 // mean load
	From, To float64 // charge, %
}

// peukert is how much faster than in proportion a lead battery empties under a
// higher load.
const peukert = 1.15

// A discharge says something when it was longer and deeper than this.
const (
	tellingTime   = 20 * time.Second
	tellingCharge = 2 // %
)

// Estimate works out from past discharges how long a battery lasts at a charge
// (%) and a load (W). Deeper discharges count for more. ok is false without any
// that tells something.
func Estimate(past []Discharge, charge, watts float64) (left time.Duration, ok bool) {
	if watts <= 0 {
		return 0, false
	}
	sum, weight := 0.0, 0.0
	for _, d := range past {
		drained := d.From - d.To
		took := d.Ended.Sub(d.Began)
		if took < tellingTime || drained < tellingCharge || d.W <= 0 {
			continue
		}
		perPercent := took.Minutes() / drained
		sum += perPercent * math.Pow(d.W, peukert) * drained
		weight += drained
	}
	if weight == 0 {
		return 0, false
	}
	minutes := charge * sum / weight / math.Pow(watts, peukert)
	return time.Duration(minutes * float64(time.Minute)), true
}

// Battery is how long a UPS lasts, as it says and as its past does.
type Battery struct {
	W          *float64 // load
	Charge     *float64 // %
	Says       *time.Duration
	ByPast     *time.Duration
	Discharges int // that it is worked out from
	// Shed is what hangs on it that is not essential, the greatest load first,
	// and how long it lasts without that.
	Shed       []Hanger
	ShedW      float64
	AfterShed  *time.Duration
	Disagree   bool // the two tell of different batteries
	LowMinutes float64
}

// disagreement is how far what a UPS says and what its past says may be apart.
const disagreement = 1.5

// DefaultLowMinutes is when a battery is low, where nobody has said.
const DefaultLowMinutes = 5

// Battery works out how long a UPS lasts.
func (w World) Battery(d *estate.Device, past []Discharge) Battery {
	b := Battery{LowMinutes: DefaultLowMinutes}
	if d.Supply != nil && d.Supply.LowMinutes > 0 {
		b.LowMinutes = d.Supply.LowMinutes
	}
	s, fresh := w.supply(d)
	if !fresh {
		return b
	}
	b.Charge = s.Battery.Charge
	if watts, known := s.W(); known {
		b.W = &watts
	}
	if s.Battery.Minutes != nil {
		b.Says = new(time.Duration(*s.Battery.Minutes * float64(time.Minute)))
	}
	for _, p := range past {
		if p.From-p.To >= tellingCharge && p.Ended.Sub(p.Began) >= tellingTime {
			b.Discharges++
		}
	}
	b.Shed = w.shed(d.Key)
	for _, h := range b.Shed {
		if h.W != nil {
			b.ShedW += *h.W
		}
	}
	if b.W == nil || b.Charge == nil {
		return b
	}
	if left, ok := Estimate(past, *b.Charge, *b.W); ok {
		b.ByPast = &left
	}
	b.AfterShed = b.without(past)
	if b.Says != nil && b.ByPast != nil {
		ratio := b.Says.Minutes() / max(0.1, b.ByPast.Minutes())
		b.Disagree = ratio > disagreement || ratio < 1/disagreement
	}
	return b
}

// without is how long it lasts once what is not essential has been shed.
func (b Battery) without(past []Discharge) *time.Duration {
	rest := *b.W - b.ShedW
	if b.ShedW <= 0 || rest <= 0 {
		return nil
	}
	if left, ok := Estimate(past, *b.Charge, rest); ok {
		return &left
	}
	if b.Says == nil {
		return nil
	}
	return new(time.Duration(float64(*b.Says) * math.Pow(*b.W/rest, peukert)))
}

// shed lists what hangs on a UPS, however far below it, that is not essential.
func (w World) shed(ups estate.Key) []Hanger {
	var out []Hanger
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		if d.Essential {
			continue
		}
		for _, c := range d.Power {
			if c.From.Device != ups && !slices.Contains(w.Estate.SuppliesOf(c.From.Device), ups) {
				continue
			}
			h := Hanger{Device: d.Key, From: c.From, Feed: c.Feed}
			if watts, known := w.Carried(d, c); known {
				h.W = &watts
			}
			out = append(out, h)
		}
	}
	slices.SortStableFunc(out, func(a, b Hanger) int {
		switch x, y := value(a.W), value(b.W); {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	return out
}
