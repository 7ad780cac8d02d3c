package verdict

import (
	"cmp"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
)

// A path is what is known about the way to a device (not about the device).
type path struct {
	state pathState
	cut   estate.Key // where it is broken
	proof estate.Key // the nearest hop that proves it sound
	weak  estate.Key // a silent hop that is taken to pass traffic, although as much speaks against it
	slow  estate.Key // a hop that takes nearly as long to answer as is waited for what is behind it
	at    time.Time  // when that hop last answered
}

type pathState uint8

const (
	pathUnproven pathState = iota // nothing newer than the silence says either way
	pathSound
	pathBroken
)

// path looks at every strand. One strand that is sound is enough; it is broken
// only when all are. Proof must be newer than the silence: that a hop answered
// before the device fell silent says nothing about what happened then. And it
// must hold for every question that went unanswered: a hop that has only just
// come back explains them.
//
// Proof is newer than the silence on both sides: the hop has answered since, and
// the device was asked in vain once more after that.
func (m *Moment) path(cables []estate.NetworkCable, of silence) path {
	var broken path
	unproven := len(cables) == 0
	for _, c := range cables {
		p := m.strand(c.Via.Device, of)
		switch p.state {
		case pathSound:
			return p
		case pathUnproven:
			unproven = true
		case pathBroken:
			if broken.cut == "" {
				broken = p
			}
		}
	}
	if unproven {
		return path{}
	}
	return broken
}

// strand judges the path up to and through one hop.
func (m *Moment) strand(via estate.Key, of silence) path {
	if via == m.e.Standpoint {
		return m.ourSide(of)
	}
	v := m.e.Device(via)
	h := m.hears(v)
	switch {
	case h.silent && (m.passing(v) == "" || m.tied(v) && apart(h.since, of.since) <= atOnce+m.slowest(v)):
		return m.breaks(v) // or as much speaks for that as against it, and they fell silent together
	case h.silent:
		p := share(m, &m.through, hopOf{via, of}, func() path { return m.path(v.Network, of) })
		if m.tied(v) {
			p.weak = via
		}
		return p
	case h.answers && m.leadsNowhere(v, of):
		return path{state: pathBroken, cut: via}
	case h.answers && m.mayLeadNowhere(v, of):
		return path{} // the next answer of another one will tell
	case h.answers && h.upSince.Before(of.proven):
		// One more question must have gone unanswered after that: what the hop itself
		// missed, it may have kept from the device.
		if at := m.answeredBetween(v, of.since, of.last); !at.IsZero() {
			p := path{state: pathSound, proof: via, at: at}
			if m.slowAnswer(v) {
				p.slow = via
			}
			return p
		}
		return path{}
	case h.asked && !h.silent:
		return path{} // its next answer, or its silence, will tell
	}
	// Nothing is asked of it, or it only passes traffic on.
	return share(m, &m.through, hopOf{via, of}, func() path { return m.path(v.Network, of) })
}

// breaks says where the path through a silent hop is broken: the hop itself is
// behind something broken, or it is where the line breaks.
func (m *Moment) breaks(v *estate.Device) path {
	return share(m, &m.broken, v.Key, func() path {
		if up := m.path(v.Network, m.lately(v).silence); up.state != pathSound {
			return up // further up, or not known yet
		}
		return path{state: pathBroken, cut: v.Key}
	})
}

// slowShare is how much of the time that is waited for an answer it may take before what
// is behind could as well answer too late.
const slowShare = 0.5

// slowAnswer says whether a device takes nearly as long to answer as is waited.
func (m *Moment) slowAnswer(d *estate.Device) bool { return m.lately(d).slow }

func slow(probes []estate.Probe, vs []voice) bool {
	for i := range probes {
		if p, pulse := &probes[i], &vs[i].pulse; p.Timeout <= 0 || pulse.Answers() && pulse.RTT.Seconds() < slowShare*p.Timeout.Seconds() {
			return false
		}
	}
	return len(probes) > 0
}

// ourSide judges our own port, which is the hop before those that are connected to it: one
// of them has to have answered since. Where there is but one, nothing could tell.
func (m *Moment) ourSide(of silence) path {
	if n, _ := m.ownPort(); n > 0 {
		return path{state: pathBroken, cut: m.e.Standpoint}
	}
	sound := path{state: pathSound, proof: m.e.Standpoint, at: m.now}
	doubtful := false
	for _, d := range m.e.Neighbours() {
		h := m.hears(d)
		if !m.answeredBetween(d, of.since, of.last).IsZero() {
			return sound
		}
		doubtful = doubtful || h.asked && !h.silent && h.since != of.since
	}
	if doubtful {
		return path{}
	}
	return sound
}

// answeredBetween says when a device last answered between two times.
func (m *Moment) answeredBetween(d *estate.Device, after, before time.Time) (at time.Time) {
	m.look(factsOf, d)
	vs := m.voices(d, nil)
	for i := range vs {
		if a := vs[i].pulse.between(after, before); a.After(at) {
			at = a
		}
	}
	return at
}

// ownPort says of how many devices, and since when, none answers that this service is
// connected to directly: when all fell silent at one moment, it is its own port. Zero
// when it is not so.
func (m *Moment) ownPort() (n int, since time.Time) {
	if here := m.e.Device(m.e.Standpoint); here != nil {
		m.look(ownPortOf, here)
	}
	if m.port == nil {
		m.port = &ownPort{}
		was := m.as(2 * len(m.e.Devices))
		m.port.listen(m)
		m.at = was
	}
	return m.port.n, m.port.since
}

type ownPort struct {
	n     int
	since time.Time
}

// atOnce is how far apart the silences of several may begin that have one cause: each is
// found out by its own next question.
const atOnce = 30 * time.Second

func (o *ownPort) listen(m *Moment) {
	n, asked, first, last := m.silences(m.e.Neighbours())
	if n == asked && n > 1 && last.Sub(first) <= atOnce {
		o.n, o.since = n, first
	}
}

// silences counts those of some devices that are silent, and those that are asked anything, and says when the
// first and the last of the silent ones fell silent.
func (m *Moment) silences(ds []*estate.Device) (silent, asked int, first, last time.Time) {
	for _, d := range ds {
		h := m.hears(d)
		if !h.asked {
			continue
		}
		if asked++; !h.silent {
			continue
		}
		if silent++; first.IsZero() || h.since.Before(first) {
			first = h.since
		}
		if h.since.After(last) {
			last = h.since
		}
	}
	return silent, asked, first, last
}

// passing names something that proves that a device which does not answer
// still passes traffic on: it can be reached through that device alone, and it
// was there while the device was asked in vain. Empty when there is no such proof.
// One that answers among more that do not proves nothing: it may be connected
// elsewhere.
func (m *Moment) passing(v *estate.Device) estate.Key {
	by, against := m.sides(v)
	if by.n >= against {
		return by.key
	}
	return ""
}

// tied: as much is silent behind a silent device as answers.
func (m *Moment) tied(v *estate.Device) bool {
	by, against := m.sides(v)
	return by.n == against
}

// side is what answers behind a device that does not.
type side struct {
	key estate.Key // one of them
	n   int        // on how many of its branches
}

type sided struct {
	by      side
	against int

	beyond beyond // of a hop that answers
}

// tells: it means something else than that did.
func (s sided) tells(was sided) bool {
	return s.beyond != was.beyond || s.by.key != was.by.key || cmp.Compare(s.by.n, s.against) != cmp.Compare(was.by.n, was.against)
}

// sides counts the branches behind a silent device: those on which something answers,
// and those on which nothing does.
func (m *Moment) sides(v *estate.Device) (by side, against int) {
	if !m.hears(v).silent {
		return side{}, 0
	}
	s := m.sided(v)
	return s.by, s.against
}

// sided is what is known of what is behind a hop, worked out once.
func (m *Moment) sided(v *estate.Device) sided {
	m.look(sidesOf, v)
	s, known := m.passes[v.Key]
	if !known {
		was := m.as(len(m.e.Devices) + v.Index())
		switch h := m.hears(v); {
		case h.silent:
			s = m.compare(v)
		case h.answers:
			s.beyond = m.listenBeyond(v)
		}
		m.at = was
		if m.passes == nil {
			m.passes = map[estate.Key]sided{}
		}
		m.passes[v.Key] = s
	}
	return s
}

func (m *Moment) compare(v *estate.Device) (s sided) {
	h := m.lately(v)
	answer, mute := map[estate.EndpointID]bool{}, map[estate.EndpointID]bool{}
	for _, x := range m.e.OnlyBehind(v.Key) {
		b := m.branch(x, v.Key)
		if _, up := m.answered(x); !up.IsZero() && up.Before(h.proven) && !m.sideBetween(x, h.since, h.last).IsZero() {
			if s.by.key == "" || x.Device < s.by.key {
				s.by.key = x.Device
			}
			answer[b] = true
		} else if m.mute(x) {
			mute[b] = true
		}
	}
	for b := range mute {
		if !answer[b] {
			s.against++
		}
	}
	s.by.n = len(answer)
	return s
}

// branch is the first side behind a hop on the way to another one.
func (m *Moment) branch(x estate.EndpointID, hop estate.Key) estate.EndpointID {
	cables := m.e.Device(x.Device).Network
	if x.Name != "" {
		cables = m.e.PathOf(x.Device, x.Name)
	}
	for range len(m.e.Devices) {
		if len(cables) == 0 || slices.ContainsFunc(cables, func(c estate.NetworkCable) bool { return c.Via.Device == hop }) {
			break
		}
		x = estate.EndpointID{Device: cables[0].Via.Device}
		cables = m.e.Device(x.Device).Network
	}
	return x
}

// mute says whether a side that was asked does not answer: those that answer have to be
// more than those of which that is not sure yet.
func (m *Moment) mute(x estate.EndpointID) bool {
	d := m.e.Device(x.Device)
	m.look(stateOf, d)
	if x.Name != "" {
		return m.ev.Endpoints[x].Misses > 0
	}
	h := m.hears(d)
	return h.asked && !h.answers
}

// sideBetween says when a side last answered between two times.
func (m *Moment) sideBetween(x estate.EndpointID, after, before time.Time) time.Time {
	if x.Name != "" {
		m.look(factsOf, m.e.Device(x.Device))
		return m.ev.Endpoints[x].between(after, before)
	}
	return m.answeredBetween(m.e.Device(x.Device), after, before)
}

// backAgain: something behind it has answered since it was last asked in vain, and had not
// while it was. It may be there again.
func (m *Moment) backAgain(d *estate.Device, h *hearing) bool {
	for _, x := range m.e.OnlyBehind(d.Key) {
		if last, up := m.answered(x); last.After(h.last) && (up.After(h.since) || m.sideBetween(x, h.since, h.last).IsZero()) {
			return true
		}
	}
	return false
}

// goesOver: of its several ways one has changed when it fell silent, and it takes time until
// the other is used.
func (m *Moment) goesOver(d *estate.Device, h *hearing) bool {
	if len(d.Network) < 2 || m.past(h.since.Add(goesOverWithin)) {
		return false
	}
	for _, c := range d.Network {
		via := m.e.Device(c.Via.Device)
		if via == nil || via.Key == m.e.Standpoint {
			continue
		}
		within := atOnce + m.slowest(via)
		switch x := m.hears(via); {
		case x.asked && !x.answers && !x.silent, x.silent && apart(x.since, h.since) <= within, x.answers && apart(x.upSince, h.since) <= within:
			return true
		}
	}
	return false
}

// goesOverWithin is how long it may take until another way is used: networks that keep
// themselves free of loops take half a minute, and some a minute.
const goesOverWithin = 75 * time.Second

// hangsOn: the hop that cuts a device off gets its power from that very device, and fell
// silent with it, and so did all else that hangs there, some of it on another way.
func (m *Moment) hangsOn(cut estate.Key, d *estate.Device, h *hearing) bool {
	hop := m.e.Device(cut)
	if hop == nil || apart(m.hears(hop).since, h.since) > atOnce+m.slowest(d) || !m.allFell(d, h, cut) {
		return false
	}
	for range len(m.e.Devices) {
		if len(hop.Power) != 1 {
			return false
		}
		if hop.Power[0].From.Device == d.Key {
			return true
		}
		if hop = m.e.Device(hop.Power[0].From.Device); hop == nil {
			return false
		}
	}
	return false
}

// allFell: nothing that hangs on a device answers, and something of it fell silent with
// it that is not reached through a hop.
func (m *Moment) allFell(d *estate.Device, h *hearing, hop estate.Key) bool {
	behind := map[estate.Key]bool{hop: true}
	for _, x := range m.e.OnlyBehind(hop) {
		if x.Name == "" || len(m.e.Device(x.Device).Probes) == 0 {
			behind[x.Device] = true
		}
	}
	beside := false
	for _, k := range m.e.FedBy(d.Key) {
		x := m.hears(m.e.Device(k))
		if len(m.e.Device(k).Power) == 1 && x.answers && m.lately(m.e.Device(k)).lastAnswer.After(h.since) {
			return false
		}
		beside = beside || !behind[k] && x.silent && apart(x.since, h.since) <= atOnce+m.slowest(m.e.Device(k))
	}
	return beside
}

// miswired says of a device that answers when it should not: the hop before it is
// silent, and so is more of what is reached through that.
func (m *Moment) miswired(d *estate.Device) []Reason {
	if len(d.Network) != 1 {
		return nil
	}
	via := m.e.Device(d.Network[0].Via.Device)
	if via == nil || via.Key == m.e.Standpoint {
		return nil
	}
	by, against := m.sides(via)
	if by.n == 0 || by.n >= against {
		return nil
	}
	return []Reason{{Text: Say("answers although %s, through which alone it is reached, is silent with %d others behind it: is it connected where the estate says?", via.Key, against), At: m.hears(via).since, Since: true}}
}

// answered says when a side of a device last answered, and since when it has done
// so; both are zero when it does not.
func (m *Moment) answered(side estate.EndpointID) (last, up time.Time) {
	d := m.e.Device(side.Device)
	m.look(stateOf, d)
	if side.Name != "" {
		if p := m.ev.Endpoints[side]; p.Answers() {
			m.look(factsOf, d)
			return p.LastAnswer, p.UpSince
		}
		return last, up
	}
	for i := range d.Probes {
		if p := m.ev.Probes[ProbeID{side.Device, i}]; p.Answers() && p.LastAnswer.After(last) {
			m.look(factsOf, d)
			last, up = p.LastAnswer, p.UpSince
		}
	}
	return last, up
}
