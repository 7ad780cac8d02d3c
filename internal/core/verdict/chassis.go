package verdict

import (
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// DefaultControllerIdleW is DefaultIdleW for a device with a controller, which
// goes on drawing while the host is off.
const DefaultControllerIdleW = 20

// DefaultStandbyW is the same for a device whose power light can be seen.
const DefaultStandbyW = 8

// chassis returns what a device's controller says of it, while that is fresh.
func (m *Moment) chassis(d *estate.Device) (Chassis, bool) {
	ep, ok := d.Controller()
	c, known := m.ev.Chassis[d.Key]
	return c, ok && known && m.fresh(ep, c.At)
}

// asleep: its own power management has put it to sleep, which is not hanging.
func (m *Moment) asleep(d *estate.Device) (Verdict, bool) {
	if v, asleep := m.sleepDraw(d); asleep {
		return v, true
	}
	c, ok := m.chassis(d)
	if !ok || !c.Asleep {
		return Verdict{}, false
	}
	return Verdict{State: Parked, Reasons: []Reason{{
		Stance: For, At: c.At, Text: Say("its controller says %s, and its own power management did it", c.State),
	}}}, true
}

// sleepDraw: it takes what it takes while it sleeps, and that was read after it
// fell silent.
func (m *Moment) sleepDraw(d *estate.Device) (Verdict, bool) {
	p := m.feeds(d)
	if d.SleepW <= 0 || p.read.IsZero() || p.stale || p.w <= DefaultIdleW || p.w > d.SleepW || p.read.Before(m.hears(d).since) {
		return Verdict{}, false
	}
	return Verdict{State: Parked, Reasons: append([]Reason{{
		Stance: For, At: p.read, Text: Say("draws %.1f W, which is what it takes while it sleeps: its own power management did it", p.w),
	}}, noted(p.reasons)...)}, true
}

// withChassis weighs what the controller says against what is measured at the
// feeds: a draw that is measured beats a report, and a report beats a relay.
func (m *Moment) withChassis(d *estate.Device, p power) power {
	c, ok := m.chassis(d)
	if !ok {
		return p
	}
	said := Reason{Stance: For, Text: Say("its chassis is off"), At: c.At}
	switch {
	case c.On && c.Watts != nil:
		said.Text = Say("its chassis is on and draws %s by its controller", watts(*c.Watts))
	case c.On:
		said.Text = Say("its chassis is on")
	}
	return p.with(said, c.On, c.OnSince)
}

// withPanel does the same with the light on its front.
func (m *Moment) withPanel(d *estate.Device, p power) power {
	light, known := m.ev.Panels[d.Key]
	for _, lead := range d.Panel {
		if ep, ok := m.e.Device(lead.Device).CardEndpoint(); known && ok && m.fresh(ep, light.At) {
			said := Reason{Stance: For, Text: Say("its power light is off"), At: light.At}
			if light.On {
				said.Text = Say("its power light is on")
			}
			return p.with(said, light.On, light.OnSince)
		}
	}
	return p
}

// with weighs what is reported of a box against what is measured at its feeds.
func (p power) with(said Reason, on bool, onSince time.Time) power {
	state := powerNo
	if on {
		state = powerYes
	}
	if p.state != state && p.state != powerUnknown && p.metered {
		said.Stance = Against
		p.reasons = append(p.reasons, said)
		return p
	}
	if p.state == powerUnknown || !p.metered || said.At.Before(p.at) {
		p.at = said.At
	}
	if p.state != state {
		p.state = state
		p.reasons = append([]Reason{said}, noted(p.reasons)...)
	} else {
		p.reasons = append(p.reasons, said)
	}
	p.off = !on
	if onSince.After(p.since) {
		p.since = onSince
	}
	return p
}

// What the outlets and the controller may measure differently before they
// cannot be of the same box: losses, and meters that are read at other moments.
const (
	mismatchW     = 30
	mismatchShare = 0.5
)

// mismatch compares what is drawn from the outlets with what the controller
// measures: when they tell of different boxes, the cables, or the controller,
// are not where the estate says.
func (m *Moment) mismatch(d *estate.Device) (Reason, bool) {
	c, ok := m.chassis(d)
	feeds := m.feeds(d)
	// Not while it starts, and not from readings of different moments.
	settled := c.OnSince.IsZero() || m.past(c.OnSince.Add(BootTime(d)+1))
	if !ok || c.Watts == nil || !c.On || !settled || !feeds.metered || feeds.stale || len(d.Power) == 0 {
		return Reason{}, false
	}
	for _, cable := range d.Power {
		if o, known := m.ev.Outlets[cable.From]; !known || !o.Metered {
			return Reason{}, false
		}
	}
	off := feeds.w - *c.Watts
	if off < 0 {
		off = -off
	}
	if off < mismatchW || off < mismatchShare*max(feeds.w, *c.Watts) {
		delete(m.ev.Odd, d.Key)
		return Reason{}, false
	}
	// Both have to be read once more, or they may tell of different moments.
	since, known := m.ev.Odd[d.Key]
	if !known {
		since = c.At
		if feeds.read.After(since) {
			since = feeds.read
		}
		m.ev.Odd[d.Key] = since
	}
	if !c.At.After(since) || !feeds.at.After(since) {
		return Reason{}, false
	}
	return Reason{At: c.At, Text: Say("its controller measures %s and its outlets %s: are its cables and its controller where the estate says?", watts(*c.Watts), watts(feeds.w))}, true
}

// within says what is wrong inside the box, and what may act on it by itself.
func (m *Moment) within(d *estate.Device, strain func(Severity, Reason)) {
	m.supplyTroubles(d, strain)
	a := m.ev.Ailing[d.Key]
	old := !a.At.IsZero() && m.past(a.At.Add(a.Good+1))
	if r, ok := m.unread(d, a, old); ok {
		strain(Warning, r)
	}
	for _, x := range a.List { // bad news stays until it is contradicted
		severity := Warning
		if x.Level == reading.Critical {
			severity = Critical
		}
		r := Reason{Text: Say(x.Text), At: a.At}
		if old {
			r.Text = Say("%s, as was last read", x.Text)
		}
		strain(severity, r)
	}
}

// readWithin is how long the sensors of an endpoint that answers may take to be read at all.
const readWithin = 5 * time.Minute

// unread says that sensors cannot be read although who has them answers: no news is no
// good news.
func (m *Moment) unread(d *estate.Device, a Ailments, old bool) (Reason, bool) {
	i := slices.IndexFunc(d.Endpoints, func(ep estate.Endpoint) bool { return ep.Sensors > 0 })
	if i < 0 {
		return Reason{}, false
	}
	why := ""
	if a.Failed != "" {
		why = ": " + a.Failed
	}
	switch p := m.endpoint(d, d.Endpoints[i].Name); {
	case !p.Answers() || p.Refused:
		return Reason{}, false // which is said of itself
	case old:
		return Reason{Text: Say("its sensors cannot be read any more%s", why), At: a.At, Since: true}, true
	case a.At.IsZero() && a.Failed != "" && m.past(p.UpSince.Add(readWithin+1)):
		return Reason{Text: Say("its sensors cannot be read%s", why), At: p.UpSince, Since: true}, true
	}
	return Reason{}, false
}

// health says how the inside of a hung box is: fine, or what is wrong with it.
func (m *Moment) health(d *estate.Device) []Reason {
	if _, ok := m.chassis(d); !ok {
		return nil
	}
	var rs []Reason
	m.within(d, func(_ Severity, r Reason) { rs = append(rs, r) })
	if len(rs) == 0 {
		rs = []Reason{{Stance: For, Text: Say("its controller answers and finds nothing wrong inside")}}
	}
	return append(rs, m.secondActor(d)...)
}

// secondActor tells of what may act by itself: a watchdog that restarts the host,
// and a controller that is busy with itself.
func (m *Moment) secondActor(d *estate.Device) (rs []Reason) {
	c, ok := m.chassis(d)
	if ok && c.Updating {
		rs = append(rs, Reason{Stance: Note, At: c.At, Text: Say("its controller is starting up, or its firmware is being updated: leave its power alone")})
	}
	if !ok || c.Watchdog == nil {
		return rs
	}
	w := c.Watchdog
	left := w.Left - m.now.Sub(c.At)
	return append(rs, Reason{Stance: Note, At: c.At, Text: Say("its watchdog is armed: unless its %s is heard of within %d s, it does a %s by itself", w.For, int(max(0, left).Seconds()), w.Action)})
}

// ControllerWatts is the draw of a device as its controller measures it.
func (m *Moment) ControllerWatts(k estate.Key) (float64, bool) {
	d := m.e.Device(k)
	if d == nil {
		return 0, false
	}
	c, ok := m.chassis(d)
	if !ok || c.Watts == nil {
		return 0, false
	}
	return *c.Watts, true
}
