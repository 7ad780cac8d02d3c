// Package verdict works out what to believe about each device, and why.
//
//	evidence.go  what has been observed: the newest of everything, and how it got there
//	judge.go     from evidence to verdicts, path before device
//	path.go      whether the path to a device is sound, broken, or not proven yet
//	power.go     whether power reaches a device, and how far that is to be trusted
//	chassis.go   what its controller says about it
//	line.go      the same, hop by hop, for people to look at
//
// Nothing here does I/O or reads a clock: observations bring the times at
// which they were made, and Judge is told what time it is.
package verdict

import (
	"maps"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/loss"
	"plumbbob/internal/core/reading"
)

// SilentAfter is how many questions in a row must go unanswered before a probe
// counts as silent: one lost packet is not an outage.
const SilentAfter = loss.Least

// Flapping is FlapCount changes between answering and silent within FlapWindow.
const (
	FlapWindow = 10 * time.Minute
	FlapCount  = 4
)

// A Result is the outcome of one question to a probe or an endpoint.
type Result struct {
	SentAt time.Time
	RTT    time.Duration // meaningful when it answered
	OK     bool
	Why    string // what went wrong, for people
	// Refused: the gear answered, but would not have our credential.
	Refused bool
	// Updating: it refuses because it is starting up, or its firmware is being updated.
	Updating bool
	// Wrong: its host answered, and not with what was wanted: a refusal, an error, a text.
	Wrong bool
}

// A Pulse is what is known of one probe or endpoint: a state machine whose
// only event is the next Result.
type Pulse struct {
	Asked       time.Time     // when the last question was sent
	LastAnswer  time.Time     // when the last answer came
	RTT         time.Duration // of the last answer
	Misses      int           // questions since the last answer
	SilentSince time.Time     // when the first of those was sent
	Missed      misses        // when the last of those were sent, oldest first
	UpSince     time.Time     // since when it has not been silent
	Why         string        // what went wrong with the last of them
	Refused     bool          // the last answer was a refusal of our credential
	Updating    bool          // and why it was one
	Wrong       int           // answers in a row, up to now, that were not what was wanted
	Heard       heard         // when the last answers came, oldest first
	Loss        loss.Meter
	Need        int         // questions in a row that have to go unanswered, when they are more than SilentAfter
	Flips       []time.Time // the newest changes between answering and silent
}

type misses [SilentAfter]time.Time

// heard is long enough for one of them to be older than a question that was sent before
// the newest.
type heard [4]time.Time

// After returns the pulse with one more result in it.
func (p Pulse) After(r Result) Pulse {
	if r.SentAt.Before(p.Asked) {
		return p // overtaken by a newer question
	}
	was := p.Silent()
	p.Asked, p.Refused, p.Updating = r.SentAt, r.Refused, r.Updating
	if r.OK || r.Refused || r.Wrong {
		p.LastAnswer, p.RTT = r.SentAt.Add(r.RTT), r.RTT
		if was {
			p.Loss = p.Loss.Answered(0) // that was no bad luck
		} else {
			p.Loss = p.Loss.Answered(p.Misses)
		}
		copy(p.Heard[:], p.Heard[1:])
		p.Heard[len(p.Heard)-1] = p.LastAnswer
		if was || p.UpSince.IsZero() {
			p.UpSince = p.LastAnswer // a question may have waited for it to come up
		}
		p.Misses, p.SilentSince, p.Missed, p.Why = 0, time.Time{}, misses{}, ""
		if r.Refused || r.Wrong {
			p.Why = r.Why
		}
		if p.Wrong++; !r.Wrong {
			p.Wrong = 0
		}
	} else {
		p.Wrong = 0
		if p.Misses == 0 {
			p.SilentSince = r.SentAt
		}
		p.Misses++
		copy(p.Missed[:], p.Missed[1:])
		p.Missed[SilentAfter-1] = r.SentAt
		p.Why = r.Why
	}
	if p.Silent() != was && (was || !p.LastAnswer.IsZero()) {
		p.Flips = append(p.Flips[max(0, len(p.Flips)-FlapCount*2):len(p.Flips):len(p.Flips)], r.SentAt)
	}
	return p
}

// Silent: enough questions in a row were not answered.
func (p Pulse) Silent() bool { return p.Misses >= max(SilentAfter, p.Need) }

// tells: it says something else than the pulse before it.
func (p Pulse) tells(was Pulse) bool {
	return p.Answers() != was.Answers() || p.Silent() != was.Silent() || p.Refused != was.Refused || p.AnswersWrong() != was.AnswersWrong() || p.Updating != was.Updating || p.Misses > 0 && !p.Silent()
}

// AnswersWrong: it answers, and has not said what was wanted for as often as would make
// a silence: while a host starts, its services come one after the other.
func (p Pulse) AnswersWrong() bool { return p.Wrong >= SilentAfter }

// between says whether an answer came between two times, and when the last such did.
func (p Pulse) between(after, before time.Time) (at time.Time) {
	for _, a := range p.Heard {
		if a.After(after) && a.Before(before) {
			at = a
		}
	}
	return at
}

// Answers: the last question was answered.
func (p Pulse) Answers() bool { return p.Misses == 0 && !p.LastAnswer.IsZero() }

// Fault says why it cannot be used: it is silent, or not ready, or refuses us.
func (p Pulse) Fault() string {
	switch {
	case p.Updating:
		return "is not ready: " + p.Why
	case p.Refused:
		return "refuses us: " + p.Why
	}
	return "does not answer"
}

// flips counts the changes within FlapWindow before now.
func (p Pulse) flips(now time.Time) int {
	n := 0
	for _, at := range p.Flips {
		if now.Sub(at) <= FlapWindow {
			n++
		}
	}
	return n
}

// Outlet is the newest that is known of one outlet.
type Outlet struct {
	At       time.Time // when the gear was asked
	Name     string
	On       bool
	Metered  bool
	W        float64 // meaningful when metered
	A        float64 // meaningful when metered
	Wh       float64 // meaningful when metered
	Switched bool    // the gear says that it can be switched
	Giving   *bool   // of a PoE port: something takes power from it
	Trouble  string  // and why it gives none although something may be there

	AfterLoss         string // what it does when power comes back to its gear; empty when it does not say
	OnDelay, OffDelay *time.Duration

	OnSince time.Time // when power was last seen to return; zero when never seen off
	Dead    dead      // readings in a row, up to now, that show no power
}

// dead is since when readings have shown no power, and when a second one confirmed it.
type dead struct{ since, confirmed time.Time }

// ProbeID names a probe: the device, and its place in the device's list.
type ProbeID struct {
	Device estate.Key
	Index  int
}

// Parking is the record of somebody having meant a device to be off.
type Parking struct {
	By, Why string
	Since   time.Time
}

// Chassis is the newest that a device's controller said of it.
type Chassis struct {
	reading.Chassis
	OnSince time.Time // when it was last seen to come on, or to wake; zero when never seen off
}

// Light is the newest that is known of the lights on the front of a device.
type Light struct {
	At      time.Time
	On      bool      // the power light
	Disk    *bool     // nil where no lead goes to it
	OnSince time.Time // when it was last seen to come on; zero when never seen off
}

// Panel takes in how the lights on the front of a device are.
func (ev *Evidence) Panel(k estate.Key, l Light) {
	old, known := ev.Panels[k]
	if known && l.At.Before(old.At) {
		return
	}
	l.OnSince = old.OnSince
	ev.news(!known || l.On != old.On)
	if known && !old.On && l.On {
		l.OnSince = l.At
	}
	ev.Panels[k] = l
	ev.touch(k)
}

// Ailments are the readings of a controller that are out of bounds.
type Ailments struct {
	At     time.Time     // when its sensors were last read; zero when they never were
	Good   time.Duration // for how long after that they are new
	List   []Ailment
	Failed string // why they could not be read at the last try; empty when they could
}

// An Ailment is one thing that is wrong inside a box.
type Ailment struct {
	Text  string
	Level reading.Level
}

// Evidence is the newest of everything that has been observed. It is a value
// of its owner: nothing here locks.
type Evidence struct {
	// News says that something has come in since it was last cleared that may make
	// a verdict another one at once; what says the same again does not, and its
	// times and numbers may wait for the next judging.
	News bool

	Probes    map[ProbeID]Pulse
	Endpoints map[estate.EndpointID]Pulse
	Outlets   map[estate.End]Outlet
	Chassis   map[estate.Key]Chassis
	Panels    map[estate.Key]Light // by the device whose front it is
	Ailing    map[estate.Key]Ailments
	Supplies  map[estate.Key]Supply
	Totals    map[estate.Key]float64 // W through a PDU's inlet, or out of a UPS, as its card says
	Meters    map[estate.Key][]reading.Meter
	Operating map[estate.Key]string // what an operation is doing to a device, in words
	Parked    map[estate.Key]Parking

	Ports     map[estate.Key]Ports         // by the switch
	Plugged   map[estate.Key]estate.End    // where a device was last seen, by its switch
	Usual     map[estate.Key]reading.Usual // draws at this hour of the day
	Restarted map[estate.Key]Restart       // when a device last started by itself
	Said      map[estate.Key]Saying        // what was last recognised on its serial line

	// What judging has noted for the next time.
	Lively map[estate.Key]float64    // W that a device drew when it last answered
	Low    map[estate.Key]bool       // it draws no more than what is off or asleep does
	Woke   map[estate.Key]time.Time  // when that was over
	Ways   map[estate.Key]loss.Meter // what is lost on the way through a hop
	Odd    map[estate.Key]time.Time  // since when two meters tell of different boxes

	touched touched
}

// NewEvidence returns evidence of nothing.
func NewEvidence() *Evidence {
	return &Evidence{
		Probes:    map[ProbeID]Pulse{},
		Endpoints: map[estate.EndpointID]Pulse{},
		Outlets:   map[estate.End]Outlet{},
		Chassis:   map[estate.Key]Chassis{},
		Panels:    map[estate.Key]Light{},
		Ailing:    map[estate.Key]Ailments{},
		Supplies:  map[estate.Key]Supply{},
		Totals:    map[estate.Key]float64{},
		Meters:    map[estate.Key][]reading.Meter{},
		Operating: map[estate.Key]string{},
		Parked:    map[estate.Key]Parking{},
		Ports:     map[estate.Key]Ports{},
		Plugged:   map[estate.Key]estate.End{},
		Restarted: map[estate.Key]Restart{},
		Said:      map[estate.Key]Saying{},
		Lively:    map[estate.Key]float64{},
		Low:       map[estate.Key]bool{},
		Woke:      map[estate.Key]time.Time{},
		Odd:       map[estate.Key]time.Time{},
	}
}

// Clone returns a copy that does not change when this does.
func (ev *Evidence) Clone() *Evidence {
	return &Evidence{
		Probes: maps.Clone(ev.Probes), Endpoints: maps.Clone(ev.Endpoints), Outlets: maps.Clone(ev.Outlets),
		Chassis: maps.Clone(ev.Chassis), Panels: maps.Clone(ev.Panels), Ailing: maps.Clone(ev.Ailing),
		Supplies: maps.Clone(ev.Supplies), Totals: maps.Clone(ev.Totals), Meters: maps.Clone(ev.Meters),
		Operating: maps.Clone(ev.Operating), Parked: maps.Clone(ev.Parked),
		Ports: maps.Clone(ev.Ports), Plugged: maps.Clone(ev.Plugged), Restarted: maps.Clone(ev.Restarted), Said: maps.Clone(ev.Said), Usual: ev.Usual, Lively: maps.Clone(ev.Lively), Low: maps.Clone(ev.Low), Woke: maps.Clone(ev.Woke), Odd: maps.Clone(ev.Odd), Ways: maps.Clone(ev.Ways),
	}
}

// Probe takes in the outcome of a probe. What comes and goes because we switch
// it is not flapping.
func (ev *Evidence) Probe(id ProbeID, r Result) {
	was := ev.Probes[id]
	now := was.After(r)
	if ev.Operating[id.Device] != "" {
		now.Flips, now.Loss = was.Flips, was.Loss
	}
	ev.Probes[id] = now
	ev.touch(id.Device)
	ev.news(now.tells(was))
}

// Endpoint takes in whether an endpoint answered.
func (ev *Evidence) Endpoint(id estate.EndpointID, r Result) {
	was := ev.Endpoints[id]
	now := was.After(r)
	if ev.Operating[id.Device] != "" {
		now.Loss = was.Loss
	}
	ev.Endpoints[id] = now
	ev.touch(id.Device)
	ev.news(now.tells(was))
}

// Outlet takes in a reading of an outlet, and notes when power returned.
func (ev *Evidence) Outlet(end estate.End, o Outlet) {
	old, known := ev.Outlets[end]
	if known && o.At.Before(old.At) {
		return
	}
	o.OnSince = old.OnSince
	ev.news(!known || o.tells(old))
	if known && !old.On && o.On {
		o.OnSince = o.At
	}
	if o.On && (!o.Metered || o.W > DefaultIdleW) {
		o.Dead = dead{}
	} else if o.Dead = old.Dead; o.Dead.since.IsZero() {
		o.Dead.since = o.At
	} else if o.Dead.confirmed.IsZero() && o.At.After(o.Dead.since) {
		o.Dead.confirmed = o.At
	}
	ev.Outlets[end] = o
	ev.touchEnd(end)
}

// tells: it says something else than the reading before it.
func (o Outlet) tells(was Outlet) bool {
	same := o.On == was.On && o.Metered == was.Metered && (o.W > DefaultIdleW) == (was.W > DefaultIdleW) && (o.Giving == nil) == (was.Giving == nil)
	return !same || o.Giving != nil && *o.Giving != *was.Giving
}

// Controller takes in what a device's controller says of it, and notes when
// the chassis came on.
func (ev *Evidence) Controller(k estate.Key, c reading.Chassis) {
	old, known := ev.Chassis[k]
	if known && c.At.Before(old.At) {
		return
	}
	now := Chassis{Chassis: c, OnSince: old.OnSince}
	ev.news(!known || c.On != old.On || c.Asleep != old.Asleep || c.Updating != old.Updating || (c.Watchdog == nil) != (old.Watchdog == nil))
	if known && c.On && (!old.On || old.Asleep && !c.Asleep) {
		now.OnSince = c.At
	}
	ev.Chassis[k] = now
	ev.touch(k)
}

// Forget drops what was observed of things that are no longer in the estate,
// or that mean something else now.
func (ev *Evidence) Forget(old, now *estate.Estate) {
	for id := range ev.Probes {
		o, n := old.Device(id.Device), now.Device(id.Device)
		if o == nil || n == nil || !sameQuestion(o.Questions(), n.Questions(), id.Index) {
			delete(ev.Probes, id)
		}
	}
	for id := range ev.Endpoints {
		if n := now.Device(id.Device); n == nil {
			delete(ev.Endpoints, id)
		} else if _, ok := n.Endpoint(id.Name); !ok {
			delete(ev.Endpoints, id)
		}
	}
	for end := range ev.Outlets {
		if n := now.Device(end.Device); n == nil {
			delete(ev.Outlets, end)
		} else if _, ok := n.SourceAt(end.Port); !ok {
			delete(ev.Outlets, end)
		}
	}
	for k := range ev.Chassis {
		if d := now.Device(k); d == nil || !has(d) {
			delete(ev.Chassis, k)
		}
	}
	for k := range ev.Panels {
		if d := now.Device(k); d == nil || len(d.Panel) == 0 {
			delete(ev.Panels, k)
		}
	}
	for k := range ev.Supplies {
		if d := now.Device(k); d == nil || d.Supply == nil {
			delete(ev.Supplies, k)
		}
	}
	maps.DeleteFunc(ev.Plugged, func(_ estate.Key, on estate.End) bool { return now.Device(on.Device) == nil })
	forget(ev.Plugged, now)
	forget(ev.Ailing, now)
	forget(ev.Ports, now)
	forget(ev.Restarted, now)
	forget(ev.Said, now)
	forget(ev.Woke, now)
	forget(ev.Odd, now)
	forget(ev.Low, now)
	forget(ev.Lively, now)
	forget(ev.Totals, now)
	forget(ev.Meters, now)
}

// forget drops what is known of devices that are no longer in the estate.
func forget[V any](of map[estate.Key]V, now *estate.Estate) {
	maps.DeleteFunc(of, func(k estate.Key, _ V) bool { return now.Device(k) == nil })
}

// sameQuestion says whether what was answered before is what is asked now.
func sameQuestion(old, now []estate.Probe, i int) bool {
	return i < len(old) && i < len(now) && old[i].Kind == now[i].Kind && old[i].Target == now[i].Target && old[i].Expect == now[i].Expect
}

func has(d *estate.Device) bool { _, ok := d.Controller(); return ok }
