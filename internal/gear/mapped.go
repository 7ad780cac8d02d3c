package gear

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/profile"
)

// A Lookup returns the raw value of v, for a row of a table or with row 0 for
// none, as text. It is how a driver hands on what it has fetched.
type Lookup func(v *profile.Value, row int) (string, bool)

// number returns a value as a number in its unit.
func (l Lookup) number(v *profile.Value, row int) *float64 {
	if v == nil {
		return nil
	}
	raw, ok := l(v, row)
	if !ok {
		return nil
	}
	f, err := strconv.ParseFloat(strings.TrimSpace(raw), 64)
	if err != nil || math.IsNaN(f) || math.IsInf(f, 0) {
		return nil
	}
	f = v.Worth(f)
	return &f
}

func (l Lookup) text(v *profile.Value, row int) string {
	if v == nil {
		return ""
	}
	raw, _ := l(v, row)
	return v.Says(raw)
}

// truth returns whether a value says yes, and whether it says anything.
func (l Lookup) truth(v *profile.Value, row int) (yes, known bool) {
	if v == nil {
		return false, false
	}
	raw, ok := l(v, row)
	return ok && raw == v.Yes, ok
}

// Outlet maps one row of the outlets. It is false when the row has gone.
func (l Lookup) Outlet(p *profile.Outlets, n int) (reading.Outlet, bool) {
	on, known := l.truth(p.On, n)
	if !known {
		return reading.Outlet{}, false
	}
	r := reading.Outlet{Number: n, Name: l.text(p.Name, n), Switched: p.Command != nil, On: on}
	if p.Switched != nil {
		r.Switched, _ = l.truth(p.Switched, n)
	}
	if w := l.number(p.Power, n); w != nil {
		r.Metered, r.W = true, *w
	}
	if a := l.number(p.Current, n); a != nil {
		r.A = *a
	}
	if e := l.number(p.Energy, n); e != nil {
		r.Wh = *e
	}
	if p.AfterLoss != nil {
		r.AfterLoss = reading.AfterLoss(l.text(p.AfterLoss, n))
	}
	r.OnDelay, r.OffDelay = seconds(l.number(p.OnDelay, n)), seconds(l.number(p.OffDelay, n))
	return r, true
}

// Panel maps the lights of one lead. It is false when there are none.
func (l Lookup) Panel(p *profile.Panel, n int) (reading.Front, bool) {
	on, known := l.truth(p.Power, n)
	r := reading.Front{Lead: n, Power: on}
	if disk, known := l.truth(p.Disk, n); known {
		r.Disk = &disk
	}
	return r, known
}

// Channel maps the number of the port that a KVM shows.
func (l Lookup) Channel(p *profile.Channel) (port int, known bool) {
	n := l.number(p.Shown, 0)
	if n == nil || *n != math.Trunc(*n) || math.Abs(*n) > math.MaxInt16 {
		return 0, false
	}
	return int(*n), true
}

// Plugged maps whether the keyboard of a KVM is plugged in.
func (l Lookup) Plugged(p *profile.Keyboard) (in, known bool) { return l.truth(p.Plugged, 0) }

func seconds(s *float64) *time.Duration {
	if s == nil {
		return nil
	}
	d := time.Duration(*s * float64(time.Second))
	return &d
}

// Meters maps what carries current beside single outlets. The totals come
// first, as the inlet.
func (l Lookup) Meters(p *profile.Profile) []reading.Meter {
	var out []reading.Meter
	t := p.Totals
	if inlet := (reading.Meter{Kind: "inlet", A: l.number(t.Current, 0), V: l.number(t.Voltage, 0), W: l.number(t.Power, 0), Wh: l.number(t.Energy, 0)}); inlet != (reading.Meter{Kind: "inlet"}) {
		out = append(out, inlet)
	}
	for _, m := range p.Meters {
		x := reading.Meter{
			Kind: m.Kind, Name: m.Name, A: l.number(m.Current, 0), V: l.number(m.Voltage, 0), W: l.number(m.Power, 0), Wh: l.number(m.Energy, 0), RatingA: l.number(m.Rating, 0),
		}
		if closed, known := l.truth(m.Breaker, 0); known {
			x.BreakerClosed = &closed
		}
		out = append(out, x)
	}
	return out
}

// Sensors maps what measures the surroundings.
func (l Lookup) Sensors(p *profile.Profile) []reading.Sensor {
	var out []reading.Sensor
	for _, s := range p.Sensors {
		x := reading.Sensor{Name: s.Name, Series: Key(s.Name), Kind: s.Kind, Where: s.Where, Unit: s.Unit, Level: reading.Absent}
		raw, known := l(s.Value, 0)
		switch word := s.Value.Says(raw); {
		case !known:
			x.Words = "cannot be read"
		case s.Value.Words != nil:
			x.Words, x.Level = word, levelOf(word, s)
		default:
			x.Value = l.number(s.Value, 0)
			x.Digits = digits(s.Value.Scale)
			x.Limits = reading.Limits{LowWarning: s.Low, HighWarning: s.High}
			x.Level = x.Limits.Level(x.Value)
		}
		out = append(out, x)
	}
	return out
}

func levelOf(word string, s profile.Sensor) reading.Level {
	for _, w := range s.Critical {
		if w == word {
			return reading.Critical
		}
	}
	for _, w := range s.Warning {
		if w == word {
			return reading.Warning
		}
	}
	return reading.Fine
}

// digits is how many places behind the point a scale leaves.
func digits(scale float64) int {
	if scale <= 0 || scale >= 1 {
		return 0
	}
	return min(3, int(math.Ceil(-math.Log10(scale))))
}

// Sheet maps what stands on the type plate.
func (l Lookup) Sheet(p *profile.Profile) reading.Sheet {
	return reading.Sheet{Maker: l.text(p.Sheet.Maker, 0), Product: l.text(p.Sheet.Product, 0), Serial: l.text(p.Sheet.Serial, 0), Firmware: l.text(p.Sheet.Firmware, 0)}
}

// Log maps the gear's own log, oldest first.
func (l Lookup) Log(p *profile.Log, rows []int) reading.EventLog {
	var out reading.EventLog
	for _, n := range rows {
		e := reading.Event{ID: n, Text: l.text(p.Text, n), Level: reading.Fine}
		if at := l.number(p.At, n); at != nil && *at > 0 {
			t := time.Unix(int64(*at), 0).UTC()
			e.At = &t
		}
		out.Events = append(out.Events, e)
	}
	if n := len(rows); n > 0 {
		out.Version = fmt.Sprintf("%d-%d", n, rows[n-1])
	}
	return out
}

// maxText bounds what is kept of a text from gear.
const maxText = 64

// Clean takes from a text of gear's what could act on a terminal or a page,
// and bounds it.
func Clean(s string) string {
	runes := []rune(plain.Line(s))
	return string(runes[:min(len(runes), maxText)])
}

// Key makes a name fit for a key: "Rack 1 top" → "rack-1-top".
func Key(name string) string {
	var b strings.Builder
	for _, r := range strings.ToLower(name) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	return strings.TrimSuffix(b.String(), "-")
}
