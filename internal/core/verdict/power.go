package verdict

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
)

// DefaultIdleW is the draw at or below which a device shows no sign of life,
// when the estate does not say: the noise of a meter, not of a device.
const DefaultIdleW = 0.5

// stalePolls is how many polls may be missed before a reading is stale.
const stalePolls = 3

type powered uint8

const (
	powerUnknown powered = iota
	powerYes
	powerNo
)

// power is what is known about the power of one device, best evidence first.
type power struct {
	state   powered
	stale   bool // there is evidence, but it is too old to count
	metered bool
	off     bool // its chassis is off, whatever reaches it
	w       float64
	since   time.Time  // when power returned, when that was seen
	at      time.Time  // when the oldest reading in it was taken that counts
	read    time.Time  // when the newest was
	dead    time.Time  // when it was confirmed that no feed carries anything; zero when it is not
	lost    []Reason   // feeds that carry nothing although it has power
	cause   estate.Key // of no power: what takes it along, or empty
	reasons []Reason
}

// Fresh says whether a reading that was taken at this time from the gear's
// card still counts.
func Fresh(ep estate.Endpoint, at, now time.Time) bool {
	return !at.IsZero() && now.Before(staleAt(ep, at))
}

func staleAt(ep estate.Endpoint, at time.Time) time.Time {
	return at.Add(stalePolls*ep.Every + ep.Timeout + 1)
}

func (m *Moment) fresh(ep estate.Endpoint, at time.Time) bool {
	return !at.IsZero() && !m.past(staleAt(ep, at))
}

// Idle is the draw in W at or below which a device shows no sign of life.
func Idle(d *estate.Device) float64 {
	if d.IdleW > 0 {
		return d.IdleW
	}
	if _, ok := d.Controller(); ok {
		return DefaultControllerIdleW
	}
	if len(d.Panel) > 0 {
		return DefaultStandbyW
	}
	return DefaultIdleW
}

// power weighs everything that says whether a device has power.
func (m *Moment) power(d *estate.Device) *power {
	m.look(stateOf, d)
	p, known := m.powers.of(d)
	if !known {
		was := m.as(d.Index())
		*p = m.withChassis(d, m.withPanel(d, *m.feeds(d)))
		p.reasons = slices.Clip(p.reasons) // it is shared: who adds to it must copy it
		m.at = was
	}
	return p
}

// feeds weighs the feeds of a device: it is powered while enough of them carry
// current, or, where they are not metered, are on. One of several feeds may
// carry little while the others carry it all, so the sum counts.
func (m *Moment) feeds(d *estate.Device) *power {
	p, known := m.fed.of(d)
	if !known {
		was := m.as(d.Index())
		*p = m.addFeeds(d)
		p.reasons = slices.Clip(p.reasons)
		m.at = was
	}
	return p
}

func (m *Moment) addFeeds(d *estate.Device) power {
	var p power
	live, dead, unknown := 0, 0, 0
	meteredYes, meteredNo := false, true
	confirmed := true
	for i := range d.Power {
		f := m.feed(d, &d.Power[i])
		p.reasons = append(p.reasons, f.reasons...)
		p.stale = p.stale || f.stale
		p.metered = p.metered || f.metered
		p.w += f.w
		if f.read.After(p.read) {
			p.read = f.read
		}
		if f.since.After(p.since) {
			p.since = f.since
		}
		if f.state != powerUnknown && (p.at.IsZero() || f.at.Before(p.at)) {
			p.at = f.at
		}
		switch f.state {
		case powerYes:
			live++
			meteredYes = meteredYes || f.metered
		case powerNo:
			dead++
			meteredNo = meteredNo && f.metered
			confirmed = confirmed && !f.dead.IsZero()
			if f.dead.After(p.dead) {
				p.dead = f.dead
			}
			p.lost = append(p.lost, f.reasons...)
			p.cause = cmp.Or(p.cause, f.cause)
		default:
			unknown++
		}
	}
	need := max(1, d.NeedsFeeds)
	// What decides has to be measured: a relay that nobody meters is no measurement.
	switch {
	case live >= need:
		p.state, p.metered, p.cause = powerYes, meteredYes, ""
	case dead > 0 && live+unknown < need:
		p.state, p.metered = powerNo, meteredNo
	}
	if !confirmed {
		p.dead = time.Time{}
	}
	return p
}

// feed weighs one power cable.
func (m *Moment) feed(d *estate.Device, c *estate.PowerCable) power {
	pdu := m.e.Device(c.From.Device)
	if pdu == nil {
		return m.utilityFeed(d)
	}
	if c.From.Kind() == estate.Whole {
		return m.supplyFeed(pdu)
	}
	if kind, _ := c.From.Source(); kind == estate.USB {
		return m.hostFeed(pdu, c.From)
	}
	at := placed(c.From)
	out, known := m.ev.Outlets[c.From]
	ep, ok := pdu.OutletEndpoint()
	if m.powerless(pdu) {
		return power{state: powerNo, at: m.now, cause: cmp.Or(m.power(pdu).cause, pdu.Key), reasons: []Reason{{Stance: For, Text: Say("%s carries nothing: %s has no power itself", at, pdu.Key)}}}
	}
	if !known || !ok {
		return power{reasons: []Reason{{Text: Say("whether %s carries power is not known", at)}}}
	}
	if !m.fresh(ep, out.At) {
		was := "off"
		if out.On {
			was = "on" + wattsIf(", ", out)
		}
		return power{stale: true, reasons: []Reason{{
			Text: Say("%s was last seen %s, but that is stale: its card does not answer", at, was),
			At:   out.At,
		}}}
	}
	f := power{metered: out.Metered, w: out.W, since: out.OnSince, at: out.At, read: out.At, dead: out.Dead.confirmed}
	switch {
	case out.Metered && out.W > Idle(d):
		// Current is measured, so it beats what the relay is said to be.
		f.state = powerYes
		text := Say("draws %.1f W on %s", out.W, (*fromOf)(c))
		if !out.On {
			text = Say("draws %.1f W on %s, although that outlet is reported off", out.W, (*fromOf)(c))
		}
		f.reasons = []Reason{{Stance: For, Text: text, At: out.At}}
	case out.Metered && out.W > DefaultIdleW && d.IdleW == 0:
		// Between nothing and a running host: only its controller can tell.
		f.reasons = []Reason{{Text: Say("draws %.1f W on %s, which may be its standby power alone", out.W, (*fromOf)(c)), At: out.At}}
	case !out.On:
		f.state = powerNo
		f.reasons = []Reason{{Stance: For, Text: Say("%s is off%s", at, wattsIf(" and carries ", out)), At: out.At}}
	case out.Metered:
		f.state = powerNo
		f.reasons = []Reason{{Stance: For, Text: Say("%s is on, but only %.1f W is drawn from it", at, out.W), At: out.At}}
		if g, lost := m.lostGroup(pdu, c.From.Outlet()); lost {
			f.cause = pdu.Key
			f.reasons = append(f.reasons, Reason{Stance: For, Text: Say("as from all of %s since one moment", g), At: out.Dead.since, Since: true})
		}
	case out.Giving != nil && !*out.Giving:
		f.state = powerNo
		text := Say("%s is on, but nothing takes power from it", at)
		if out.Trouble != "" {
			text = Say("%s is on, but gives no power: %s", at, out.Trouble)
		}
		f.reasons = []Reason{{Stance: For, Text: text, At: out.At}}
	case out.Giving != nil:
		f.state = powerYes
		f.reasons = []Reason{{Stance: For, Text: Say("takes power from %s", at), At: out.At}}
	default:
		f.state = powerYes
		f.reasons = []Reason{{Stance: For, Text: Say("%s is on (it has no meter)", at), At: out.At}}
	}
	return f
}

// hostFeed weighs a USB port: it gives power while its host has it.
func (m *Moment) hostFeed(host *estate.Device, from estate.End) power {
	m.look(factsOf, host) // and when that was read
	p := m.power(host)
	switch {
	case p.state == powerYes || m.hears(host).answers:
		return power{state: powerYes, at: p.at, reasons: []Reason{{Stance: For, Text: Say("%s gives power: %s is on", placed(from), host.Key), At: p.at}}}
	case p.state == powerNo:
		return power{state: powerNo, at: p.at, reasons: []Reason{{Stance: For, Text: Say("%s gives none: %s is off", placed(from), host.Key), At: p.at}}}
	}
	return power{stale: p.stale, reasons: []Reason{{Text: Say("whether %s gives power is not known", placed(from))}}}
}

func wattsIf(before string, o Outlet) string {
	if !o.Metered {
		return ""
	}
	return fmt.Sprintf("%s%.1f W", before, o.W)
}

// unusual says that a device draws far from what is usual at this hour: a note, as nobody
// can know why.
func (m *Moment) unusual(d *estate.Device) []Reason {
	usual, known := m.ev.Usual[d.Key]
	f := m.feeds(d)
	if !known || !f.metered || f.stale || !usual.Far(f.w) {
		return nil
	}
	return []Reason{{Stance: Note, At: f.read, Text: Say("draws %s, where %s is usual at this hour (%d days)", watts(f.w), watts(usual.W), usual.Days)}}
}
