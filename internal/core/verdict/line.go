package verdict

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
)

// HopState says how a hop of a line is drawn.
type HopState string

// The states of a hop.
const (
	HopSound   HopState = "sound"
	HopBroken  HopState = "broken"  // the line breaks here
	HopSlack   HopState = "slack"   // it hangs below a break
	HopUnknown HopState = "unknown" // there is no fresh evidence
)

// A Hop is one thing that a device hangs from, with its one telling number.
type Hop struct {
	Device estate.Key // empty for the utility
	Label  string
	State  HopState
	Text   string

	Carries bool // a UPS: it gives power although nothing may reach it
}

// Lines are what a device hangs from, strand by strand.
type Lines struct {
	Power [][]Hop
	Reach [][]Hop
}

// LinesOf draws the lines of one device.
func (m *Moment) LinesOf(k estate.Key) Lines {
	var l Lines
	for _, s := range m.e.PowerLine(k) {
		l.Power = append(l.Power, slacken(m.powerStrand(s)))
	}
	endpoint := ""
	d := m.e.Device(k)
	if len(d.Probes) == 0 && len(d.Endpoints) > 0 {
		endpoint = d.Endpoints[0].Name
	}
	for _, s := range m.e.ReachLine(k, endpoint) {
		l.Reach = append(l.Reach, slacken(m.reachStrand(s)))
	}
	return l
}

// WayLine draws the reach line of one endpoint.
func (m *Moment) WayLine(k estate.Key, endpoint string) []Hop {
	strands := m.e.ReachLine(k, endpoint)
	if len(strands) == 0 {
		return nil
	}
	return slacken(m.reachStrand(strands[0]))
}

// slacken lets everything below the first break hang slack, but for a UPS that
// carries on.
func slacken(hops []Hop) []Hop {
	broken := false
	for i := range hops {
		if hops[i].Carries {
			broken = false
		}
		if broken {
			hops[i].State = HopSlack
		}
		broken = broken || hops[i].State == HopBroken
	}
	return hops
}

func (m *Moment) powerStrand(strand []estate.End) []Hop {
	var hops []Hop
	for i, end := range strand {
		last := i == len(strand)-1
		switch {
		case end.Device == estate.Utility:
			hops = append(hops, m.utility(strand[i+1].Device))
		case !last && end.Kind() == estate.Whole:
			hops = append(hops, m.supplyHop(m.e.Device(end.Device)))
		case last && m.e.Device(end.Device).Supply != nil:
			hops = append(hops, m.supplyHop(m.e.Device(end.Device)))
		case last:
			hops = append(hops, m.poweredHop(end.Device))
		default:
			hops = append(hops, m.pduHop(end.Device), m.outletHop(end))
		}
	}
	return hops
}

// utility is measured by the UPSes of its site; without one it is known to be
// there while something that hangs on it can be heard.
func (m *Moment) utility(below estate.Key) Hop {
	if d := m.e.Device(below); d != nil {
		there, volts, known := m.Utility(d.Site)
		switch {
		case known && there:
			return Hop{Label: "utility", State: HopSound, Text: fmt.Sprintf("%.0f V", volts)}
		case known:
			return Hop{Label: "utility", State: HopBroken, Text: "gone"}
		}
	}
	if d := m.e.Device(below); d != nil && m.hears(d).answers {
		return Hop{Label: "utility", State: HopSound, Text: "present"}
	}
	return Hop{Label: "utility", State: HopUnknown, Text: "not measured"}
}

func (m *Moment) pduHop(k estate.Key) Hop {
	h := Hop{Device: k, Label: string(k), State: HopUnknown, Text: "its card is silent"}
	if w, known := m.Draw(k); known {
		h.State, h.Text = HopSound, Watts(w)
	}
	return h
}

func (m *Moment) outletHop(end estate.End) Hop {
	h := Hop{Device: end.Device, Label: end.Words(), State: HopUnknown, Text: "not read yet"}
	if kind, _ := end.Source(); kind == estate.USB {
		f := m.hostFeed(m.e.Device(end.Device), end)
		switch f.state {
		case powerYes:
			h.State, h.Text = HopSound, "on"
		case powerNo:
			h.State, h.Text = HopBroken, "off"
		}
		return h
	}
	o, seen := m.ev.Outlets[end]
	if !seen {
		return h
	}
	h.Text = "off"
	if o.On {
		h.Text = "on"
	}
	if o.Metered {
		h.Text += ", " + Watts(o.W)
	}
	switch {
	case o.Giving == nil || !o.On || *o.Giving:
	case o.Trouble != "":
		h.Text += ", gives none: " + o.Trouble
	default:
		h.Text += ", not taken"
	}
	ep, _ := m.e.Device(end.Device).OutletEndpoint()
	switch {
	case !m.fresh(ep, o.At):
		h.Text = "stale: was " + h.Text
	case o.On:
		h.State = HopSound
	default:
		h.State = HopBroken
	}
	return h
}

func (m *Moment) poweredHop(k estate.Key) Hop {
	d := m.e.Device(k)
	h := Hop{Device: k, Label: string(k), State: HopUnknown, Text: "not known"}
	switch p := m.power(d); {
	case p.off && !m.hears(d).answers:
		h.State, h.Text = HopBroken, "chassis off"
	case p.state == powerYes || m.hears(d).answers:
		h.State, h.Text = HopSound, "powered"
	case p.state == powerNo:
		h.State, h.Text = HopBroken, "no power"
	case p.stale:
		h.Text = "stale"
	}
	return h
}

func (m *Moment) reachStrand(strand []estate.Key) []Hop {
	var hops []Hop
	for i, k := range strand {
		d := m.e.Device(k)
		heard := m.hears(d)
		h := Hop{Device: k, Label: string(k), State: HopUnknown}
		switch {
		case k == m.e.Standpoint:
			h.State, h.Text = HopSound, "here"
		case heard.answers:
			h.State, h.Text = HopSound, Millis(m.rtt(d))
		case heard.silent && i < len(strand)-1 && m.passing(d) != "":
			h.Text = "silent, but passes traffic"
		case heard.silent:
			h.State, h.Text = HopBroken, "silent for "+Age(m.now.Sub(heard.since))
		case !heard.asked:
			h.Text = "not asked"
		default:
			h.Text = "unsure"
		}
		hops = append(hops, h)
	}
	return hops
}

// rtt is the round trip of the fastest probe that answers.
func (m *Moment) rtt(d *estate.Device) time.Duration {
	var best time.Duration
	vs := m.voices(d, nil)
	for i := range vs {
		v := &vs[i]
		if v.pulse.Answers() && (best == 0 || v.pulse.RTT < best) {
			best = v.pulse.RTT
		}
	}
	return best
}

// A Trouble is one thing that is wrong, with all that it explains.
type Trouble struct {
	Device   estate.Key
	Explains []estate.Key // devices that are cut off by it, or taken along
}

// Troubles sorts out what is wrong: what explains most comes first, and what
// is explained by something else does not come at all.
func Troubles(e *estate.Estate, vs map[estate.Key]Verdict) []Trouble {
	explains := map[estate.Key][]estate.Key{}
	for i := range e.Devices {
		k := e.Devices[i].Key
		by := takenBy(vs, k)
		if vs[k].State == CutOff {
			by = cutBy(vs, k)
			if root := takenBy(vs, by); root != "" {
				by = root
			}
		}
		if by != "" {
			explains[by] = append(explains[by], k)
		}
	}
	var out []Trouble
	for i := range e.Devices {
		k := e.Devices[i].Key
		v := vs[k]
		wrong := Wrong(v)
		if by := takenBy(vs, k); wrong && by != "" {
			continue
		}
		// What is cut off is no cause, nor what is not known yet, and what was cut off by
		// something that answers again is only waiting to be asked.
		well := v.State == Steady || v.State == Strained && !wrong || v.State == CutOff || v.State == Unknown
		if wrong || len(explains[k]) > 0 && !well {
			out = append(out, Trouble{k, explains[k]})
		}
	}
	rank := func(t Trouble) int { return slices.Index(States, vs[t.Device].State) }
	slices.SortStableFunc(out, func(a, b Trouble) int {
		if n := len(b.Explains) - len(a.Explains); n != 0 {
			return n
		}
		return rank(a) - rank(b)
	})
	return out
}

// Wrong says whether somebody has to see to a device.
func Wrong(v Verdict) bool {
	return v.State == Hung || v.State == Silent || v.State == Dark || v.State == Strained && v.Severity == Critical
}

// takenBy is what takes a device along that is wrong: something that is wrong itself, or
// somebody's doing. Empty when it is its own trouble.
func takenBy(vs map[estate.Key]Verdict, k estate.Key) estate.Key {
	root := estate.Key("")
	for range len(vs) {
		v := vs[k]
		if !Wrong(v) || v.By == "" || v.By == k {
			break
		}
		if by := vs[v.By]; by.State == CutOff {
			if cut := cutBy(vs, v.By); cut != k && Wrong(vs[cut]) {
				return cut // of what takes it along nothing is known, but what cuts that off
			}
		}
		by := vs[v.By]
		if !Wrong(by) && by.State != Waking && by.State != Parked {
			break
		}
		root, k = v.By, v.By
	}
	return root
}

// cutBy is what cuts a device off in the end: what cuts it off may be cut off
// itself, judged a moment earlier or later.
func cutBy(vs map[estate.Key]Verdict, k estate.Key) estate.Key {
	for range len(vs) {
		if v := vs[k]; v.State != CutOff || v.CutBy == "" {
			break
		}
		k = vs[k].CutBy
	}
	return k
}

// Watts writes a power as people read it: "11.2 W", "148 W", "2.31 kW".
func Watts(w float64) string {
	switch {
	case w < 100:
		return fmt.Sprintf("%.1f W", w)
	case w < 1000:
		return fmt.Sprintf("%.0f W", w)
	}
	return fmt.Sprintf("%.2f kW", w/1000)
}

// Figure writes a number as people read it: four digits where it has that many, and
// never with an exponent.
func Figure(v float64) string {
	whole := len(strconv.FormatFloat(math.Abs(v), 'f', 0, 64))
	text := strconv.FormatFloat(v, 'f', max(0, 4-whole), 64)
	if strings.Contains(text, ".") {
		text = strings.TrimRight(strings.TrimRight(text, "0"), ".")
	}
	return text
}

// Age writes how long ago something was: "12 s", "4 min", "3 h", "24 days".
func Age(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(max(0, d).Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}
