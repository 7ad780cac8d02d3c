package bmc

import (
	"math"
	"math/bits"
	"net/netip"
	"time"

	"plumbbob/internal/wire/ipmi"
)

// look finds a sensor by its number; those that share a record count on.
func (c *Controller) look(r request) *sensor {
	if r.lun != 0 {
		return nil
	}
	for i := range c.sensors {
		s := &c.sensors[i]
		if n := int(r.data[0]) - int(s.Number); n == 0 || n > 0 && n < s.share {
			if s.kind == ipmi.EventOnly {
				return nil
			}
			return s
		}
	}
	return nil
}

// measure is what a sensor reads in a state of the box.
func (c *Controller) measure(s *sensor, in State) ipmi.Reading {
	m := ipmi.Reading{Scanning: true, Events: true}
	if !s.idle && (!in.On || in.Asleep) {
		m.Unavailable = true
		return m
	}
	if s.states != nil {
		m.States = s.states(in)
		return m
	}
	m.Raw = s.raw(s.value(in))
	m.States = s.beyond(m.Raw)
	return m
}

// raw is the raw reading nearest to a value.
func (s *sensor) raw(v float64) uint8 {
	if s.curve == nil {
		raw, _ := s.Raw(v)
		return raw
	}
	best, off := uint8(0), math.Inf(1)
	for n := range 256 {
		f := s.curve(uint8(n))
		got := (float64(f.M)*float64(n) + float64(f.B)) * math.Pow10(int(f.RExp))
		if d := math.Abs(got - v); d < off {
			best, off = uint8(n), d
		}
	}
	return best
}

// beyond says which thresholds a raw reading has crossed.
func (s *sensor) beyond(raw uint8) (states uint16) {
	v := s.Format.Raw(raw)
	for n, has := range s.Thresholds.Has {
		t := s.Format.Raw(s.Thresholds.Value[n])
		if has && (n >= ipmi.UpperNonCritical && v >= t || n < ipmi.UpperNonCritical && v <= t) {
			states |= 1 << n
		}
	}
	return states
}

func (c *Controller) reading(r request) (ipmi.CompletionCode, []byte) {
	s := c.look(r)
	if s == nil {
		return ipmi.NotPresent, nil
	}
	return ipmi.OK, c.measure(s, c.box.State(r.now)).Append(nil)
}

func (c *Controller) factors(r request) (ipmi.CompletionCode, []byte) {
	s := c.look(r)
	switch {
	case s == nil:
		return ipmi.NotPresent, nil
	case s.states != nil:
		return ipmi.IllegalForSensor, nil
	case s.curve != nil:
		return ipmi.OK, ipmi.AppendFactors(nil, s.curve(r.data[1]))
	}
	return ipmi.OK, ipmi.AppendFactors(nil, s.Factors)
}

func (c *Controller) thresholds(r request) (ipmi.CompletionCode, []byte) {
	s := c.look(r)
	switch {
	case s == nil:
		return ipmi.NotPresent, nil
	case s.states != nil:
		return ipmi.IllegalForSensor, nil
	}
	return ipmi.OK, s.Thresholds.Append(nil)
}

func (c *Controller) setThresholds(r request) (ipmi.CompletionCode, []byte) {
	s := c.look(r)
	if s == nil {
		return ipmi.NotPresent, nil
	}
	for n := range s.Thresholds.Has {
		if r.data[1]&(1<<n) == 0 {
			continue
		}
		if !s.Thresholds.Has[n] {
			return ipmi.InvalidField, nil
		}
		s.Thresholds.Value[n] = r.data[2+n]
	}
	return ipmi.OK, nil
}

func (c *Controller) hysteresis(r request) (ipmi.CompletionCode, []byte) {
	s := c.look(r)
	if s == nil {
		return ipmi.NotPresent, nil
	}
	return ipmi.OK, []byte{s.Positive, s.Negative}
}

// Tick does what the controller does by itself: it notes what has changed in
// the event log, sends alerts, and lets the watchdog act.
func (c *Controller) Tick(now time.Time) {
	c.mu.Lock()
	in := c.box.State(now)
	for i := range c.sensors {
		s := &c.sensors[i]
		if s.kind == ipmi.EventOnly {
			continue
		}
		m := c.measure(s, in)
		if m.Unavailable {
			continue
		}
		was, known := c.was[s.Number]
		c.was[s.Number] = m.States
		if known {
			c.note(s, m, was, now)
		}
	}
	act := ipmi.WatchdogNothing
	if w := &c.watchdog; w.Running && now.Sub(w.started) >= w.Initial {
		w.Running, act = false, w.Action
		c.add(ipmi.Event{
			Type: ipmi.WatchdogType, Event: ipmi.SensorSpecific, Sensor: ipmi.SensorKey{Owner: 0x20, Number: numberWatchdog}, Data: [3]byte{0xc0 | byte(act), w.Use, 0xff},
		}, now)
	}
	c.mu.Unlock()
	switch act {
	case ipmi.WatchdogReset:
		c.box.Control(ipmi.HardReset, now)
	case ipmi.WatchdogOff:
		c.box.Control(ipmi.PowerDown, now)
	case ipmi.WatchdogCycle:
		c.box.Control(ipmi.PowerCycle, now)
	}
}

// note writes an event for each state that has begun or ended.
func (c *Controller) note(s *sensor, m ipmi.Reading, was uint16, now time.Time) {
	for changed := m.States ^ was; changed != 0; changed &= changed - 1 {
		n := uint8(bits.TrailingZeros16(changed))
		e := ipmi.Event{Type: s.Type, Event: s.Event, Sensor: s.SensorKey, Gone: m.States&(1<<n) == 0, Data: [3]byte{n, 0xff, 0xff}}
		if s.Event == ipmi.ThresholdEvents {
			const readingAndThreshold = 0x50
			offset := 2 * n
			if n >= ipmi.UpperNonCritical {
				offset++ // rising
			}
			e.Data = [3]byte{readingAndThreshold | offset, m.Raw, s.Thresholds.Value[n]}
		}
		c.add(e, now)
	}
}

// raise sends an alert where a filter matches an event (section 17.7).
func (c *Controller) raise(e ipmi.Event, now time.Time) {
	t := &c.pefTable
	if t.values[1][0]&1 == 0 || t.values[2][0]&1 == 0 || e.Gone {
		return
	}
	for _, f := range t.filters {
		const enabled, alert, anyKind = 0x80, 1, 0xff
		if f[1]&enabled == 0 || f[2]&alert == 0 || f[8] != anyKind && f[8] != byte(e.Type) {
			continue
		}
		for _, p := range t.policies {
			if p[1]&0x08 != 0 && p[1]>>4 == f[3]&0x0f {
				c.alert(p[2]&0x0f, e, now)
			}
		}
		return
	}
}

func (c *Controller) alert(n uint8, e ipmi.Event, now time.Time) {
	d := c.dest[n]
	if d == nil || c.alerts == nil {
		return
	}
	to := d.addressOf()
	if to == (netip.AddrFrom4([4]byte{})) {
		return
	}
	c.trapNo++
	begin := time.Date(1998, 1, 1, 0, 0, 0, 0, time.UTC)
	const critical, warning = 0x10, 0x08
	severity := byte(warning)
	if e.Gravity() == ipmi.Critical {
		severity = critical
	}
	community := string(c.lan[16])
	for i := range community {
		if community[i] == 0 {
			community = community[:i]
			break
		}
	}
	send, trap := c.alerts, ipmi.Trap{
		GUID: c.guid, Sequence: c.trapNo, Seconds: uint32(c.clock(now).Sub(begin) / time.Second), Severity: severity, Event: e,
	}
	go send(to, community, trap) // it may ask the controller in turn
}
