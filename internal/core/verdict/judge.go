package verdict

import (
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
)

// State is what Plumb Bob believes about a device.
type State string

// The verdicts, as docs/glossary.md defines them.
const (
	Waking   State = "waking"
	Parked   State = "parked"
	CutOff   State = "cut-off"
	Dark     State = "dark"
	Hung     State = "hung"
	Silent   State = "silent"
	Strained State = "strained"
	Steady   State = "steady"
	Unknown  State = "unknown"
)

// States lists the verdicts, what is wrong first: the order of the board.
var States = []State{Hung, Silent, Dark, Strained, Waking, CutOff, Unknown, Parked, Steady}

// Words is the verdict as people say it.
func (s State) Words() string { return strings.ReplaceAll(string(s), "-", " ") }

// Severity says how much a strained device matters.
type Severity string

// The severities of a strained device.
const (
	Warning  Severity = "warning"
	Critical Severity = "critical"
)

// Stance says which way a reason points.
type Stance string

// The stances of a reason towards its verdict.
const (
	For     Stance = "for"
	Against Stance = "against"
	Note    Stance = "note"
)

// A Reason is one piece of evidence in a sentence. Its time stands beside it,
// so that it can be shown in the zone of the site.
type Reason struct {
	Stance Stance
	Text   Sentence
	At     time.Time // when it was seen
	Since  bool      // it has been so since At
}

// A Verdict is a belief with its reasons.
type Verdict struct {
	State    State
	Severity Severity // of Strained
	Since    time.Time
	CutBy    estate.Key // of CutOff: where the line is broken
	By       estate.Key // of what is wrong: what takes it along, or empty
	Reasons  []Reason
}

// DefaultBoot is how long a device may take from power to its first answer,
// when the estate does not say.
const DefaultBoot = 2 * time.Minute

// Judge works out the verdict on every device from the evidence. The verdicts
// of before are used for when each began, and to hold a verdict while new
// evidence is still incomplete.
func Judge(e *estate.Estate, ev *Evidence, prev map[estate.Key]Verdict, now time.Time) map[estate.Key]Verdict {
	return At(e, ev, prev, now).Judge()
}

// Judge works out the verdict on every device.
func (m *Moment) Judge() map[estate.Key]Verdict {
	n := len(m.e.Devices)
	out := make(map[estate.Key]Verdict, n)
	m.remember(n)
	m.ev.Ways = losses(m.e, m.ev)
	for i := range m.e.Devices {
		d := &m.e.Devices[i]
		out[d.Key] = m.judge(d)
	}
	return out
}

// judge works out the verdict on one device, and notes what the next time needs.
func (m *Moment) judge(d *estate.Device) Verdict {
	m.rise(d)
	v := m.device(d)
	m.note(d, v)
	if was, ok := m.prev[d.Key]; ok && was.State == v.State && !was.Since.IsZero() {
		v.Since = was.Since
	} else if v.Since.IsZero() {
		v.Since = m.now
	}
	return v
}

// device applies the precedence of verdicts: waking, parked, then what answers,
// then what does not.
func (m *Moment) device(d *estate.Device) Verdict {
	h, p := m.hears(d), m.power(d)
	if doing := m.ev.Operating[d.Key]; doing != "" {
		return Verdict{State: Waking, Reasons: append([]Reason{{Stance: For, Text: Say(doing)}}, h.reasons...)}
	}
	// The card of a UPS answers while its output is off.
	output := m.outputOff(d)
	if park, ok := m.ev.Parked[d.Key]; ok && (output || !h.answers && p.state != powerYes) {
		what, why := "switched off by", ""
		if output {
			what = "its output was switched off by"
		}
		if park.Why != "" {
			why = ": " + park.Why
		}
		reasons := append([]Reason{{Stance: For, Text: Say("%s %s%s", what, park.By, why), At: park.Since, Since: true}}, p.reasons...)
		return Verdict{State: Parked, Since: park.Since, Reasons: reasons}
	}
	if v, asleep := m.asleep(d); asleep && !h.answers {
		return v
	}
	switch {
	case d.Key == m.e.Standpoint:
		return m.standpoint()
	case h.answers:
		return m.answering(d, h, p)
	case h.silent:
		return m.silence(d, h, p)
	case p.state == powerNo && !d.Answers():
		if v, theirs := m.elsewhere(d, h, p); theirs {
			return v
		}
		return Verdict{State: Dark, By: p.cause, Reasons: p.reasons}
	case p.state == powerYes && !d.Answers():
		return Verdict{State: Steady, Reasons: append(p.reasons, Reason{Stance: Note, Text: Say("nothing is asked of it, so its draw is all that is known")})}
	}
	return m.hold(d, h, p)
}

// rise notes that a device which drew no more than one that is off or asleep draws again
// what it does when it runs.
func (m *Moment) rise(d *estate.Device) {
	if !m.ev.Low[d.Key] {
		return
	}
	h := m.hears(d)
	if _, fell := m.fell(d, h); h.answers || !fell && m.power(d).state == powerYes {
		if _, asleep := m.asleep(d); h.answers || !asleep {
			delete(m.ev.Low, d.Key)
			m.ev.Woke[d.Key] = m.now
		}
	}
}

// note keeps for the next time what only this one knows.
func (m *Moment) note(d *estate.Device, v Verdict) {
	h, p := m.hears(d), m.feeds(d)
	if h.answers && p.metered && !p.stale && h.lastAnswer.After(p.read) {
		m.ev.Lively[d.Key] = p.w
	}
	_, meant := m.ev.Parked[d.Key]
	_, fell := m.fell(d, h)
	low := !h.answers && (fell || v.State == Parked && !meant || m.power(d).state == powerNo)
	if low {
		m.ev.Low[d.Key] = true
	}
}

// standpoint is where this service runs.
func (m *Moment) standpoint() Verdict {
	if n, since := m.ownPort(); n > 0 {
		return Verdict{State: Strained, Severity: Critical, Reasons: []Reason{{
			Stance: For, At: since, Since: true,
			Text: Say("none of the %d that it is connected to has answered since one moment: is it its own cable, or port?", n),
		}}}
	}
	return Verdict{State: Steady, Reasons: []Reason{{Stance: For, Text: Say("this service runs on it")}}}
}

// answering is a device that can be heard: steady, unless something is amiss.
func (m *Moment) answering(d *estate.Device, h *hearing, p *power) Verdict {
	v := Verdict{State: Steady, Reasons: h.reasons}
	strain := func(s Severity, r Reason) {
		if v.Severity != Critical {
			v.State, v.Severity = Strained, s
		}
		r.Stance = For
		v.Reasons = append([]Reason{r}, v.Reasons...)
	}
	if n := h.flips - m.flipsBefore(d); n >= FlapCount {
		strain(Warning, Reason{Text: Say("comes and goes: %d changes between answering and silent within %s", n, minutes(FlapWindow))})
	}
	for _, r := range h.amiss {
		strain(Critical, r)
	}
	for _, r := range h.partly {
		strain(Warning, r)
	}
	for _, r := range m.miswired(d) {
		strain(Warning, r)
	}
	if h.slow && h.answers {
		strain(Warning, Reason{Text: Say("takes %s to answer, which is nearly as long as is waited", millis(m.rtt(d))), At: h.lastAnswer})
	}
	for _, r := range m.lossy(d) {
		strain(Warning, r)
	}
	for _, r := range m.redundancy(d) {
		strain(Warning, r)
	}
	for _, r := range m.waysLost(d) {
		strain(Warning, r)
	}
	m.within(d, strain)
	if r, ok := m.mismatch(d); ok {
		strain(Warning, r)
	}
	for _, r := range m.lostGroups(d) {
		strain(Critical, r)
	}
	if n, since := m.lost(d); n > 0 {
		strain(Critical, Reason{At: since, Since: true, Text: Say("it answers, and leads nowhere: none of the %d next behind it at other sites has answered since one moment", n)})
	}
	for _, r := range p.reasons {
		if r.Stance == For {
			r.Stance = Note
			if p.state == powerNo {
				r.Stance = Against
			}
		}
		v.Reasons = append(v.Reasons, r)
	}
	if p.state == powerNo && p.metered && !p.dead.IsZero() && h.lastAnswer.After(p.dead) {
		// It answers, and no power was read before that, twice: this is not its outlet.
		strain(Critical, Reason{Text: Say("answers although no power is measured on its outlet: is the cable where the estate says?")})
	}
	v.Reasons = append(append(v.Reasons, m.secondActor(d)...), m.unusual(d)...)
	if r := m.ev.Restarted[d.Key]; !r.At.IsZero() && !m.past(r.At.Add(restartTold)) {
		v.Reasons = append(v.Reasons, Reason{Stance: Note, Text: Say("it restarted by itself, as %s", r.How), At: r.At})
	}
	return v
}

// restartTold is for how long it is told that a device restarted by itself.
const restartTold = 24 * time.Hour

// flipsBefore is how often the way to a device has come and gone: what it has
// suffered with that is no fault of its own.
func (m *Moment) flipsBefore(d *estate.Device) int {
	most, known := m.flipping.of(d)
	if !known {
		was := m.as(d.Index())
		for _, c := range d.Network {
			if via := m.e.Device(c.Via.Device); via != nil {
				*most = max(*most, m.hears(via).flips, m.flipsBefore(via))
			}
		}
		m.at = was
	}
	return *most
}

// waysLost lists the ways in to a device that cannot be used now.
func (m *Moment) waysLost(d *estate.Device) []Reason {
	var lost []Reason
	if len(d.Probes) > 0 {
		for _, ep := range d.Endpoints {
			if p := m.endpoint(d, ep.Name); p.Silent() || p.Refused {
				lost = append(lost, Reason{Text: Say("a way in is lost: its %s %s", ep.Name, p.Fault()), At: p.SilentSince, Since: true})
			}
		}
	}
	for _, c := range d.Power {
		pdu := m.e.Device(c.From.Device)
		if pdu == nil {
			continue
		}
		if ep, ok := pdu.OutletEndpoint(); ok {
			if p := m.endpoint(pdu, ep.Name); p.Silent() || p.Refused {
				if o, ok := pdu.SourceAt(c.From.Port); !ok || o.Unswitched {
					continue // it never was one
				}
				lost = append(lost, Reason{
					Text: Say("a way in is lost: %s cannot be switched, its %s %s", placed(c.From), ep.Name, p.Fault()),
					At:   p.SilentSince, Since: !p.SilentSince.IsZero(),
				})
			}
		}
	}
	return lost
}

// silence is a device that does not answer although it has been asked often
// enough: without power, behind a break, hung, or silent.
func (m *Moment) silence(d *estate.Device, h *hearing, p *power) Verdict {
	way := m.provenBefore(d, h, m.way(d, h.silence))
	if v, theirs := m.elsewhere(d, h, p); theirs {
		return v
	}
	switch {
	case p.state == powerNo:
		return m.dark(h, p, way) // measured, wherever the path may be broken, so it can be judged
	case way.state == pathBroken:
		return m.behind(d, h, p, way)
	}
	v := Verdict{Since: h.since}
	heard := append(h.reasons, m.said(d, h)...)
	if r, ok := m.lives(d, h); ok && !m.past(h.since.Add(livesFor)) {
		return m.hold(d, h, p) // nothing is lost by waiting, and it may be packets that are
	} else if ok {
		v.State, v.Severity = Strained, Critical
		v.Reasons = append(append(heard, r), noted(p.reasons)...)
		return v
	}
	if r, since := m.starting(d, h, p); !since.IsZero() {
		v.State, v.Since = Waking, since
		v.Reasons = append([]Reason{r}, noted(p.reasons)...)
		return v
	}
	if way.state == pathUnproven || p.state == powerYes && !p.at.After(h.since) || m.backAgain(d, h) || m.portUnread(d, h) || m.goesOver(d, h) {
		return m.hold(d, h, p) // that it had power before says nothing about now
	}
	sound := Reason{Stance: For, Text: Say("%s before it answers", way.proof), At: way.at}
	if way.proof == m.e.Standpoint {
		sound = Reason{Stance: For, Text: Say("it is connected to this service directly")}
	}
	if doubt := m.doubt(d, h, p, way); p.state != powerYes || len(doubt) > 0 {
		v.State, v.By = Silent, m.together(d, h)
		if v.By != "" {
			doubt = append([]Reason{{Stance: For, At: m.hears(m.e.Device(v.By)).since, Since: true, Text: Say("%s, on which it hangs, fell silent with it", v.By)}}, doubt...)
		}
		v.Reasons = append(append(append(append(heard, sound), doubt...), noted(p.reasons)...), m.wouldTell(d, h)...)
		return v
	}
	v.State = Hung
	v.Reasons = append(append(p.reasons, heard...), sound)
	v.Reasons = append(append(append(v.Reasons, m.portUp(d, h)...), m.alive(d)...), append(m.health(d), m.unusual(d)...)...)
	return v
}

// provenBefore: what was proven once for a silence stays so while the hop before answers,
// however rarely the device is asked.
func (m *Moment) provenBefore(d *estate.Device, h *hearing, way path) path {
	was := m.prev[d.Key]
	if way.state != pathUnproven || was.State != Hung && was.State != Silent || !was.Since.Equal(h.since) {
		return way
	}
	for _, c := range d.Network {
		if via := m.e.Device(c.Via.Device); via != nil && m.hears(via).answers {
			return path{state: pathSound, proof: via.Key, at: m.hears(via).lastAnswer}
		}
	}
	return way
}

// dark is a device that no power reaches.
func (m *Moment) dark(h *hearing, p *power, way path) Verdict {
	v := Verdict{State: Dark, Since: h.since, By: p.cause, Reasons: append(p.reasons, h.reasons...)}
	if p.off {
		v.Reasons = append(v.Reasons, Reason{Stance: For, Text: Say("nobody asked for that here")})
	}
	if way.state == pathBroken {
		v.Reasons = append(v.Reasons, Reason{Stance: Note, Text: Say("the path to it is broken as well, at %s", way.cut)})
	}
	return v
}

// theirsFor is for how long an outlet may be off by what another service does before that is told.
const theirsFor = 10 * time.Minute

// elsewhere is a device without power at a site at which another service acts: that may have switched
// its outlet off, and then it switches it on again. For a while it is no fault.
func (m *Moment) elsewhere(d *estate.Device, h *hearing, p *power) (Verdict, bool) {
	s := m.e.Site(d.Site)
	if s == nil || s.Acts == "" || p.state != powerNo {
		return Verdict{}, false
	}
	since, switched := h.since, p.off
	for _, c := range d.Power {
		if o, known := m.ev.Outlets[c.From]; known && !o.On {
			switched = true
			if since.IsZero() { // nothing is asked of it
				since = o.Dead.since
			}
		}
	}
	if !switched || since.IsZero() || m.past(since.Add(theirsFor)) {
		return Verdict{}, false
	}
	theirs := Reason{Stance: For, Text: Say("nobody asked for that here: the service on %s acts there", s.Acts)}
	return Verdict{State: Parked, Since: since, Reasons: append([]Reason{theirs}, p.reasons...)}, true
}

// behind is a device behind a break; or the cause of that, when what the path is broken at
// gets its power from it.
func (m *Moment) behind(d *estate.Device, h *hearing, p *power, way path) Verdict {
	v := Verdict{State: CutOff, Since: h.since, CutBy: way.cut}
	if m.hangsOn(way.cut, d, h) {
		v = Verdict{State: Silent, Since: h.since, By: m.together(d, h)}
		v.Reasons = append(h.reasons, Reason{Stance: For, Text: Say("%s, through which it is reached, hangs on it, and fell silent with it", way.cut)})
	} else {
		v.Reasons = append([]Reason{{Stance: For, Text: Say("the path to it is broken at %s, so it cannot be judged", way.cut)}}, h.reasons...)
	}
	v.Reasons = append(v.Reasons, noted(p.reasons)...)
	return v
}

// livesFor is how long a device that shows that it works may be silent before that is told.
const livesFor = 20 * time.Second

// lives says what shows that a device works although it does not answer.
func (m *Moment) lives(d *estate.Device, h *hearing) (Reason, bool) {
	if by := m.passing(d); by != "" {
		return Reason{Stance: For, Text: Say("but %s, which is reached through it alone, does answer: it still passes traffic on", by)}, true
	}
	return m.ownVoice(d, h)
}

// hold keeps the last verdict while the evidence for a new one is incomplete.
func (m *Moment) hold(d *estate.Device, h *hearing, p *power) Verdict {
	v := Verdict{State: Unknown}
	if h.silent && !m.past(h.since.Add(settling)) && m.at != nil {
		m.at.open = true
	}
	if was, ok := m.prev[d.Key]; ok && was.State != Unknown && was.State != Parked && h.asked {
		// A finished operation does not keep a device waking, and stale power
		// evidence neither hung nor dark.
		stale := was.State == Hung && p.state != powerYes || was.State == Dark && p.state != powerNo
		if was.State != Waking && !stale {
			v.State, v.Severity, v.CutBy = was.State, was.Severity, was.CutBy
		}
		v.By = was.By
	}
	v.Reasons = append(append(v.Reasons, h.reasons...), noted(p.reasons)...)
	if !h.asked {
		v.Reasons = append(v.Reasons, Reason{Stance: Note, Text: Say("it has not been asked yet")})
	}
	return v
}

// way is the path to the side from which the device is judged.
func (m *Moment) way(d *estate.Device, of silence) path {
	if len(d.Probes) > 0 || len(d.Endpoints) == 0 {
		return m.path(d.Network, of)
	}
	var first path
	for i, ep := range d.Endpoints {
		p := m.path(m.e.PathOf(d.Key, ep.Name), of)
		if p.state == pathSound {
			return p
		}
		if i == 0 {
			first = p
		}
	}
	return first
}

// BootTime is how long a device may take from power to its first answer.
func BootTime(d *estate.Device) time.Duration {
	if d.Boot > 0 {
		return d.Boot
	}
	return DefaultBoot
}

func noted(rs []Reason) []Reason {
	out := make([]Reason, len(rs))
	for i, r := range rs {
		r.Stance = Note
		out[i] = r
	}
	return out
}

func minutes(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%d s", int(d.Seconds()))
	}
	return fmt.Sprintf("%d min", int(d.Minutes()))
}
