package verdict

import (
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/loss"
)

// A hearing is what the probes of a device say together.
type hearing struct {
	asked      bool // at least one question has been asked
	answers    bool // it counts as answering
	silent     bool // it counts as not answering; neither while that is unsure
	lastAnswer time.Time
	silence              // meaningful when it is silent
	upSince    time.Time // since when it has been answering
	flips      int
	slow       bool     // it takes nearly as long to answer as is waited
	reasons    []Reason // what was heard, or not
	partly     []Reason // probes that are silent although the device answers
	amiss      []Reason // and those that answer what is not wanted
}

// A silence is when a device fell silent, and from when on enough questions
// went unanswered to say so: what happened to the path before then may explain
// the ones before, but not those. The last of them was sent at last.
type silence struct{ since, proven, last time.Time }

// A voice is one probe, or one endpoint of a device that has no probes.
type voice struct {
	name  any // what it is called
	must  bool
	pulse Pulse
}

// voices adds those of a device to a list.
func (m *Moment) voices(d *estate.Device, vs []voice) []voice {
	for i := range d.Probes {
		pulse := m.ev.Probes[ProbeID{d.Key, i}]
		pulse.Need = m.needs(d, pulse.Loss, d.Network)
		vs = append(vs, voice{&d.Probes[i], d.Probes[i].Must, pulse})
	}
	if len(vs) > 0 {
		return vs
	}
	for _, ep := range d.Endpoints {
		if d.OverSerial(ep) {
			continue
		}
		vs = append(vs, voice{owned(ep.Name), false, m.endpoint(d, ep.Name)})
	}
	return vs
}

// endpoint is how an endpoint answers, with how often it has to be asked in vain.
func (m *Moment) endpoint(d *estate.Device, name string) Pulse {
	m.look(stateOf, d)
	pulse := m.ev.Endpoints[estate.EndpointID{Device: d.Key, Name: name}]
	pulse.Need = m.needs(d, pulse.Loss, m.e.PathOf(d.Key, name))
	return pulse
}

// needs is how many questions in a row have to go unanswered for a silence. While an
// operation has to do with a device that is asked closely, and expected to fall silent.
func (m *Moment) needs(d *estate.Device, l loss.Meter, cables []estate.NetworkCable) int {
	if m.ev.Operating[d.Key] != "" {
		return SilentAfter
	}
	return max(l.Need(), m.need(cables))
}

// hears listens to all voices of a device. It answers when all that must do,
// or, when none must, when any does. It is silent when that has become
// impossible; in between, the evidence is incomplete.
//
// Of another device than the one that is at work, its answers are looked at apart, with
// answeredBetween or lately.
func (m *Moment) hears(d *estate.Device) *hearing {
	m.look(stateOf, d)
	h, known := m.heard.of(d)
	if known {
		return h
	}
	was := m.as(d.Index())
	m.vs = m.voices(d, m.vs[:0])
	for i := range m.vs {
		for _, at := range m.vs[i].pulse.Flips {
			m.past(at.Add(FlapWindow + 1))
		}
	}
	*h = listen(m.vs, m.now)
	h.slow = slow(d.Probes, m.vs)
	h.reasons = slices.Clip(h.reasons) // it is shared: who adds to it must copy it
	m.at = was
	return h
}

// lately is what the probes of another device say, with when it last answered.
func (m *Moment) lately(d *estate.Device) *hearing {
	m.look(factsOf, d)
	return m.hears(d)
}

func listen(vs []voice, now time.Time) hearing {
	var h hearing
	needAll := false
	for i := range vs {
		needAll = needAll || vs[i].must
	}
	answering, silent, needed := 0, 0, 0
	for i := range vs {
		v := &vs[i]
		if v.pulse.Asked.IsZero() {
			continue
		}
		h.asked = true
		if len(v.pulse.Flips) > 0 {
			h.flips = max(h.flips, v.pulse.flips(now))
		}
		if v.pulse.LastAnswer.After(h.lastAnswer) {
			h.lastAnswer = v.pulse.LastAnswer
		}
		if needAll && !v.must {
			continue
		}
		needed++
		if v.pulse.Answers() {
			answering++
			if h.upSince.IsZero() || v.pulse.UpSince.Before(h.upSince) {
				h.upSince = v.pulse.UpSince
			}
		}
		if v.pulse.Silent() {
			silent++
			if v.pulse.Asked.After(h.last) {
				h.last = v.pulse.Asked
			}
			if h.proven.IsZero() || v.pulse.Missed[0].Before(h.proven) {
				h.proven = v.pulse.Missed[0]
			}
			if needAll && (h.since.IsZero() || v.pulse.SilentSince.Before(h.since)) ||
				!needAll && v.pulse.SilentSince.After(h.since) {
				h.since = v.pulse.SilentSince
			}
		}
	}
	switch {
	case needed == 0:
	case needAll:
		h.answers, h.silent = answering == needed, silent > 0
	default:
		h.answers, h.silent = answering > 0, silent == needed
	}
	h.say(vs)
	return h
}

// say puts what was heard into sentences.
func (h *hearing) say(vs []voice) {
	var heard, unheard names
	misses := 0
	var rtt time.Duration
	for i := range vs {
		v := &vs[i]
		switch {
		case v.pulse.Answers():
			if v.pulse.Wrong == 0 {
				heard.add(v.name)
			}
			if rtt == 0 || v.pulse.RTT < rtt {
				rtt = v.pulse.RTT
			}
			if v.pulse.Wrong > 0 {
				amiss := Reason{Stance: Note, Text: Say("its host answers; %s %s", v.name, v.pulse.Why), At: v.pulse.LastAnswer}
				if v.pulse.AnswersWrong() {
					h.amiss = append(h.amiss, amiss)
				} else {
					h.reasons = append(h.reasons, amiss)
				}
			}
			if v.pulse.Refused {
				h.partly = append(h.partly, Reason{Text: Say("%s %s", v.name, v.pulse.Fault()), At: v.pulse.LastAnswer})
			}
		case v.pulse.Misses > 0:
			unheard.add(v.name)
			misses += v.pulse.Misses
			if h.answers && v.pulse.Silent() {
				h.partly = append(h.partly, Reason{Text: Say("does not answer %s", v.name), At: v.pulse.SilentSince, Since: true})
			}
		}
	}
	if heard.first != nil {
		stance := For
		if h.silent {
			stance = Against
		}
		h.reasons = append(h.reasons, Reason{Stance: stance, Text: Say("answers %s in %s", heard.all(), millis(rtt)), At: h.lastAnswer})
	}
	if !h.answers && misses > 0 {
		since := h.since
		for _, v := range vs {
			if since.IsZero() || !h.silent && v.pulse.Misses > 0 && v.pulse.SilentSince.Before(since) {
				since = v.pulse.SilentSince
			}
		}
		h.reasons = append(h.reasons, Reason{
			Stance: For, At: since, Since: true,
			Text: Say("has not answered %d of %d probes (%s)", misses, misses, unheard.all()),
		})
	}
}

// Millis writes a round trip as people read it: "0.3 ms", "41 ms", "1.8 s".
func Millis(d time.Duration) string {
	switch ms := float64(d) / float64(time.Millisecond); {
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// Heard says what the probes of one device say together: whether it answers,
// whether it is silent (neither while that is unsure), when its last answer
// came, and when it fell silent.
func (m *Moment) Heard(k estate.Key) (answers, silent bool, last, since time.Time) {
	d := m.e.Device(k)
	if d == nil {
		return false, false, time.Time{}, time.Time{}
	}
	h := m.hears(d)
	return h.answers, h.silent, h.lastAnswer, h.since
}

// outletSum is what all outlets of a PDU carry, when each is metered and fresh:
// for one that does not measure its inlet.
func (m *Moment) outletSum(d *estate.Device) (w float64, known bool) {
	ep, ok := d.OutletEndpoint()
	if !ok {
		return 0, false
	}
	for _, out := range d.Outlets {
		o := m.ev.Outlets[estate.End{Device: d.Key, Port: out.Port()}]
		if !o.Metered || !m.fresh(ep, o.At) {
			return 0, false
		}
		w, known = w+o.W, true
	}
	return w, known
}

// Draw adds up what is drawn by a device through all of its metered feeds. It
// is known only while every reading in it is fresh; failing that, its controller
// may know.
func (m *Moment) Draw(k estate.Key) (w float64, known bool) {
	d := m.e.Device(k)
	if d == nil {
		return 0, false
	}
	if total, ok := m.ev.Totals[k]; ok {
		ep, _ := d.OutletEndpoint()
		return total, m.fresh(ep, m.ev.Endpoints[estate.EndpointID{Device: k, Name: ep.Name}].LastAnswer)
	}
	if total, ok := m.outletSum(d); ok {
		return total, true
	}
	for _, end := range m.e.FeedsOf(k) {
		o, seen := m.ev.Outlets[end]
		ep, _ := m.e.Device(end.Device).OutletEndpoint()
		if seen && o.Metered && !m.fresh(ep, o.At) && m.Powerless(end.Device) {
			known = true // nothing comes from there
			continue
		}
		if !seen || !o.Metered || !m.fresh(ep, o.At) {
			return m.ControllerWatts(k)
		}
		w, known = w+o.W, true
	}
	if !known {
		return m.ControllerWatts(k)
	}
	return w, known
}
