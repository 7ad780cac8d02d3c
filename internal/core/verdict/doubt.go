package verdict

import (
	"cmp"
	"time"

	"plumbbob/internal/core/estate"
)

// What speaks for and against a device that does not answer being hung: nobody is called
// so of whom it cannot be told.

// A draw that fell to this share or less of what it was when the device last answered
// has collapsed: it is off, asleep or broken, and does not hang.
const (
	collapsed   = 0.1
	collapsible = 2.0 // W; less than that tells nothing
)

// doubt says why a device that does not answer, on a sound path, cannot be called hung
// although power reaches it; or, where it is not known to, what would tell.
func (m *Moment) doubt(d *estate.Device, h *hearing, p *power, way path) (rs []Reason) {
	if r, ok := m.fell(d, h); ok {
		rs = append(rs, r)
	}
	if r, ok := m.portDown(d, h); ok {
		rs = append(rs, r)
	}
	if r, ok := m.sharedPort(d, h); ok {
		rs = append(rs, r)
	}
	if r, ok := m.gives(d); ok {
		rs = append(rs, r)
	}
	if way.weak != "" {
		rs = append(rs, Reason{Stance: For, At: m.hears(m.e.Device(way.weak)).since, Since: true, Text: Say("%s before it is silent, and of what is behind that as much is silent as answers", way.weak)})
	}
	if way.slow != "" {
		rs = append(rs, Reason{Stance: For, At: way.at, Text: Say("%s before it takes %s to answer, so what is behind it may answer too late", way.slow, millis(m.rtt(m.e.Device(way.slow))))})
	}
	if len(rs) == 0 && p.state != powerYes {
		text := Say("whether it has power is not known, so it may be hung, off or asleep, or on a broken cable")
		if len(d.Power) == 0 {
			text = Say("nothing measures whether it has power, so it may be hung or off")
		}
		rs = append(rs, Reason{Stance: For, Text: text})
	}
	return rs
}

// wouldTell lists what is wired so that it could tell more of a silent device, and is not read.
func (m *Moment) wouldTell(d *estate.Device, h *hearing) (rs []Reason) {
	unread := func(at time.Time, form string, args ...any) {
		rs = append(rs, Reason{Stance: Note, At: at, Text: Say(form, args...)})
	}
	if len(d.Panel) > 0 {
		board := m.e.Device(d.Panel[0].Device)
		ep, _ := board.CardEndpoint()
		if light, known := m.ev.Panels[d.Key]; !known {
			unread(time.Time{}, "its panel light would tell: wired to %s, not read yet", board.Key)
		} else if !m.fresh(ep, light.At) {
			unread(light.At, "its panel light would tell: it cannot be read any more from %s", board.Key)
		}
	}
	if ep, ok := d.Controller(); ok {
		if _, fresh := m.chassis(d); !fresh {
			if p := m.endpoint(d, ep.Name); p.Misses > 0 {
				unread(p.SilentSince, "its controller would tell whether it is on, and does not answer")
			} else {
				unread(time.Time{}, "its controller would tell whether it is on: not read yet")
			}
		}
	}
	if n, of, at, known := m.plug(d); known && !at.After(h.since) {
		unread(at, "port %s of %s would tell whether the cable is there: not read since", n.Port, of)
	}
	return rs
}

// fell: its draw collapsed when it fell silent.
func (m *Moment) fell(d *estate.Device, h *hearing) (Reason, bool) {
	f, was := m.feeds(d), m.ev.Lively[d.Key]
	if !f.metered || f.stale || was <= collapsible || f.w > collapsed*was || !f.read.After(h.since) {
		return Reason{}, false
	}
	return Reason{Stance: For, At: f.read, Text: Say("draws %s, and drew %s when it last answered: it is off, asleep or broken", watts(f.w), watts(was))}, true
}

// sharedPort: its controller fell silent with it, at the same place. A host that hangs
// leaves its controller alone.
func (m *Moment) sharedPort(d *estate.Device, h *hearing) (Reason, bool) {
	ep, ok := d.Controller()
	if !ok || len(d.Probes) == 0 || len(d.Network) != 1 {
		return Reason{}, false
	}
	way := m.e.PathOf(d.Key, ep.Name)
	p := m.ev.Endpoints[estate.EndpointID{Device: d.Key, Name: ep.Name}]
	beside := ep.Shared || len(way) == 1 && way[0].Via == d.Network[0].Via
	if !beside || !p.Silent() || apart(p.SilentSince, h.since) > atOnce+ep.Every {
		return Reason{}, false
	}
	text := Say("its controller fell silent with it: it may be its cables, or its power")
	if ep.Shared || way[0].Via.Port != "" {
		text = Say("its controller fell silent with it, on the same port: it may be the cable")
	}
	return Reason{Stance: For, At: p.SilentSince, Since: true, Text: text}, true
}

func apart(a, b time.Time) time.Duration { return a.Sub(b).Abs() }

// gives: something that hangs on it alone answers, so it works as a source of power,
// whatever its card does.
func (m *Moment) gives(d *estate.Device) (Reason, bool) {
	for _, k := range m.e.FedBy(d.Key) {
		x := m.e.Device(k)
		if m.hears(x).answers && len(x.Power) == 1 && m.lately(x).lastAnswer.After(m.hears(d).since) {
			return Reason{Stance: For, At: m.hears(x).lastAnswer, Text: Say("but it gives power: %s, which hangs on it alone, answers", k)}, true
		}
	}
	return Reason{}, false
}

// together names what a silent device fell silent with: what it hangs on is silent since
// the same moment, and so is all else that hangs there alone.
func (m *Moment) together(d *estate.Device, h *hearing) estate.Key {
	if len(d.Power) != 1 {
		return ""
	}
	from := m.e.Device(d.Power[0].From.Device)
	if from == nil {
		return ""
	}
	up := m.hears(from)
	if !up.silent || apart(up.since, h.since) > atOnce+m.slowest(from) {
		return ""
	}
	for _, k := range m.e.FedBy(from.Key) {
		if x := m.e.Device(k); len(x.Power) == 1 && m.hears(x).answers && m.lately(x).lastAnswer.After(up.since) {
			return ""
		}
	}
	return cmp.Or(m.together(from, up), from.Key)
}

// slowest is how rarely a device is asked: so much later its silence may be found.
func (m *Moment) slowest(d *estate.Device) (every time.Duration) {
	for _, p := range d.Probes {
		every = max(every, p.Every)
	}
	for _, ep := range d.Endpoints {
		every = max(every, ep.Every)
	}
	return every
}

// ownVoice: something of its own, that is no controller and hangs on no line, answered all
// through the silence. Then the way is broken, and not the device.
func (m *Moment) ownVoice(d *estate.Device, h *hearing) (Reason, bool) {
	if len(d.Probes) == 0 {
		return Reason{}, false
	}
	controller, _ := d.Controller()
	for _, ep := range d.Endpoints {
		if ep.Name == controller.Name || d.OverSerial(ep) {
			continue
		}
		if p := m.ev.Endpoints[estate.EndpointID{Device: d.Key, Name: ep.Name}]; p.Answers() && p.UpSince.Before(h.since) && p.LastAnswer.After(h.proven) {
			return Reason{Stance: For, At: p.LastAnswer, Text: Say("its %s answered all through that: the way to it is broken, and not the device", ep.Name)}, true
		}
	}
	return Reason{}, false
}

// starting: power came back, or it woke, a short while ago.
func (m *Moment) starting(d *estate.Device, h *hearing, p *power) (Reason, time.Time) {
	since, what := p.since, "power came back"
	if back := m.cameBack(m.e.Device(m.prev[d.Key].By), h.since); !back.IsZero() {
		m.ev.Woke[d.Key] = back
	}
	// A controller lives on standby power: one that fell silent with its host, and is back,
	// says that power is.
	if ep, ok := d.Controller(); ok && m.prev[d.Key].State == Silent {
		if c := m.endpoint(d, ep.Name); c.Answers() && c.UpSince.After(h.since) {
			m.ev.Woke[d.Key] = c.UpSince
		}
	}
	if p.state != powerYes {
		since = time.Time{}
	}
	if woke := m.ev.Woke[d.Key]; woke.After(since) && woke.After(h.since) {
		since, what = woke, "it, or what it hangs on, came back"
	}
	boot := BootTime(d)
	if since.IsZero() || m.past(since.Add(boot)) || !since.After(h.lastAnswer) {
		return Reason{}, time.Time{}
	}
	return Reason{Stance: For, Text: Say("%s, and it may take %s to start", what, minutes(boot)), At: since, Since: true}, since
}

// cameBack says since when something that took others along is back: it answers again, or
// something does that hangs on it alone.
func (m *Moment) cameBack(by *estate.Device, after time.Time) time.Time {
	if by == nil {
		return time.Time{}
	}
	for _, k := range append([]estate.Key{by.Key}, m.e.FedBy(by.Key)...) {
		x := m.e.Device(k)
		if h := m.hears(x); h.answers && h.upSince.After(after) && (k == by.Key || len(x.Power) == 1) {
			return h.upSince
		}
	}
	return time.Time{}
}

// alive: its disk works, which says that it runs, though not that it answers.
func (m *Moment) alive(d *estate.Device) []Reason {
	light, known := m.ev.Panels[d.Key]
	if !known || light.Disk == nil || !*light.Disk {
		return nil
	}
	return []Reason{{Stance: Against, Text: Say("its disk light is on: it works on something"), At: light.At}}
}

// redundancy lists what a device that answers has lost of what it has twice.
func (m *Moment) redundancy(d *estate.Device) (rs []Reason) {
	if p := m.feeds(d); len(d.Power) > 1 && p.state == powerYes {
		for _, r := range p.lost {
			rs = append(rs, Reason{Text: Say("one of its %d feeds is lost: %s", len(d.Power), r.Text), At: r.At})
		}
	}
	if len(d.Network) > 1 {
		for _, c := range d.Network {
			if via := m.e.Device(c.Via.Device); via != nil && via.Key != m.e.Standpoint {
				if h := m.hears(via); h.silent && m.passing(via) == "" {
					rs = append(rs, Reason{Text: Say("one of its %d ways is lost: %s is silent", len(d.Network), via.Key), At: h.since, Since: true})
				}
			}
		}
	}
	return rs
}

// saidBefore is how long before its silence was noticed a line may have said why.
const saidBefore = 5 * time.Minute

// said is what was recognised on the serial line of a silent device about that time, or
// since. It neither proves nor excludes anything: whoever sits at the line sees more.
func (m *Moment) said(d *estate.Device, h *hearing) []Reason {
	x, heard := m.ev.Said[d.Key]
	if !heard || x.At.Before(h.since.Add(-saidBefore)) {
		return nil
	}
	where := "serial line"
	if x.Screen {
		where = "screen"
	}
	return []Reason{{Stance: Note, At: x.At, Text: Say("its %s: %s", where, x.What)}}
}
