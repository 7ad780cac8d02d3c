// Package watch asks the gear: which endpoint what, and when. What it hears it
// hands on as observations; it keeps nothing and decides nothing.
//
//	watch.go     the loop, and who is under close watch
//	probe.go     one question to a production address: ICMP, TCP, HTTP
//	endpoint.go  one question to gear: outlets, chassis, sensors, log and sheet
//	asked.go     what people ask of gear beside that
//	try.go       gear that is read with a profile for a trial
package watch

import (
	"context"
	"errors"
	"math/rand/v2"
	"sync"
	"syscall"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/asking"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/schedule"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/wire/icmp"
	"plumbbob/internal/wire/names"
)

// Sources is how questions reach the gear.
type Sources struct {
	Pinger *icmp.Pinger // nil where ICMP is not permitted
	Open   func(estate.EndpointID) (gear.Driver, error)
	Garage *garage.Garage // for what people ask of gear
	Bus    *bus.Bus
}

// subject is what is asked: a probe, or one thing of an endpoint.
type subject struct {
	device estate.Key
	probe  int    // index, or -1
	name   string // of the endpoint
	what   topic
}

// topic is what an endpoint is asked for.
type topic uint8

const (
	state   topic = iota // whether it answers, and its outlets or its chassis
	sensors              // readings, and what is new in the event log
	setUp                // the sheet, and weaknesses
)

// setUpEvery is how often what hardly changes is read.
const setUpEvery = 15 * time.Minute

// How many questions may be on their way at a time: a quarter of the files that the
// process may open for each lane, within bounds.
const (
	leastAsking = 256
	mostAsking  = 16_384
)

func room() schedule.Room {
	n := leastAsking
	var files syscall.Rlimit
	if syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files) == nil {
		n = int(min(max(files.Cur/4, leastAsking), mostAsking))
	}
	return schedule.Room{schedule.Well: n, schedule.Doubtful: n}
}

// Watcher asks. Run owns its state; the other methods hand their wishes to it.
type Watcher struct {
	from   Sources
	wishes chan func(*loop)
}

// New returns a watcher of nothing.
func New(from Sources) *Watcher {
	return &Watcher{from: from, wishes: make(chan func(*loop))}
}

// loop is the state of a running watcher, owned by Run's goroutine.
type loop struct {
	w        *Watcher
	estate   *estate.Estate
	plan     *schedule.Plan[subject]
	asker    *asking.Asker
	answered chan answered
	looks    []*look
}

type answered struct {
	subject
	ok bool
}

// Run asks each subject in its turn until ctx ends, and returns the cause.
func (w *Watcher) Run(ctx context.Context) error {
	l := &loop{w: w, estate: estate.Empty(), asker: asking.New(estate.Empty()), plan: schedule.New[subject](rand.Float64), answered: make(chan answered)}
	var asking sync.WaitGroup
	defer asking.Wait()
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	room := room()
	for {
		for _, s := range l.plan.Due(time.Now(), room) {
			question := l.question(s)
			asking.Go(func() {
				ok := question(ctx)
				select {
				case l.answered <- answered{s, ok}:
				case <-ctx.Done():
				}
			})
		}
		if next, ok := l.plan.Next(room); ok {
			timer.Reset(time.Until(next))
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case a := <-l.answered:
			l.heard(a)
		case wish := <-w.wishes:
			wish(l)
		case <-timer.C:
		}
	}
}

// heard takes in how a question ended, and has others asked for which that matters.
func (l *loop) heard(a answered) {
	now := time.Now()
	fine, silent := l.plan.Fine(a.subject), l.plan.Misses(a.subject) >= verdict.SilentAfter
	l.plan.Answered(a.subject, a.ok, now)
	l.looked(a.subject)
	if a.what != state {
		return
	}
	if a.ok && !fine && a.probe < 0 { // now it can be asked for the rest
		for _, what := range []topic{sensors, setUp} {
			l.plan.Soon(subject{device: a.device, probe: -1, name: a.name, what: what}, now)
		}
	}
	side := estate.EndpointID{Device: a.device, Name: a.name}
	if !a.ok {
		for _, k := range l.asker.Missed(side, l.plan.Misses(a.subject)) {
			l.each(k, func(s subject) { l.plan.Soon(s, now) })
		}
		l.plan.Doubt(a.subject, l.asker.Need(side), now)
		if l.plan.Misses(a.subject) == verdict.SilentAfter {
			l.askPorts(a.device, now)
		}
		return
	}
	if silent {
		l.askPorts(a.device, now) // they list it again, or how it is connected now
	}
	for _, x := range l.asker.Answered(side, silent) {
		l.each(x.Device, func(s subject) {
			if s.name == x.Name && !l.plan.Fine(s) {
				l.plan.Soon(s, now)
			}
		})
	}
}

// askPorts has the switches that a device is connected to asked how their ports are, and
// who is on them.
func (l *loop) askPorts(k estate.Key, now time.Time) {
	d := l.estate.Device(k)
	if d == nil {
		return // it has gone from the estate meanwhile
	}
	for _, c := range d.Network {
		if via := l.estate.Device(c.Via.Device); via != nil {
			for _, ep := range via.Endpoints {
				l.plan.Soon(subject{device: via.Key, probe: -1, name: ep.Name, what: setUp}, now)
			}
		}
	}
}

// wish has the loop do something, unless ctx ends first.
func (w *Watcher) wish(ctx context.Context, f func(*loop)) {
	select {
	case w.wishes <- f:
	case <-ctx.Done():
	}
}

// SetEstate says what is to be asked from now on.
func (w *Watcher) SetEstate(ctx context.Context, e *estate.Estate) {
	w.wish(ctx, func(l *loop) {
		l.estate, l.asker = e, asking.New(e)
		wanted := map[subject]bool{}
		for i := range e.Devices {
			d := &e.Devices[i]
			for n, p := range d.Questions() {
				s := subject{device: d.Key, probe: n}
				wanted[s] = true
				l.plan.Set(s, p.Every, p.Kind == estate.ICMP, time.Now())
			}
			for _, ep := range d.Endpoints {
				for what, every := range topics(ep) {
					s := subject{device: d.Key, probe: -1, name: ep.Name, what: what}
					wanted[s] = true
					l.plan.Set(s, every, false, time.Now())
				}
			}
		}
		l.plan.Keys(func(s subject) {
			if !wanted[s] {
				l.plan.Remove(s)
			}
		})
	})
}

// topics are what an endpoint is asked for, and how often.
func topics(ep estate.Endpoint) map[topic]time.Duration {
	all := map[topic]time.Duration{state: ep.Every, sensors: ep.Sensors, setUp: setUpEvery}
	if ep.Sensors == 0 {
		delete(all, sensors)
	}
	return all
}

// Again has everything about a device read again soon: somebody has changed it.
func (w *Watcher) Again(ctx context.Context, k estate.Key) {
	w.wish(ctx, func(l *loop) {
		if d := l.estate.Device(k); d != nil {
			for _, ep := range d.Endpoints {
				for what := range topics(ep) {
					l.plan.Soon(subject{device: k, probe: -1, name: ep.Name, what: what}, time.Now())
				}
			}
		}
	})
}

// Closely asks everything about these devices every half second until the
// returned function is called.
func (w *Watcher) Closely(ctx context.Context, devices []estate.Key) (stop func()) {
	set := func(ctx context.Context, on bool) {
		w.wish(ctx, func(l *loop) {
			for _, k := range devices {
				l.each(k, func(s subject) { l.plan.Close(s, on, time.Now()) })
			}
		})
	}
	set(ctx, true)
	return func() { set(ctx, false) }
}

func (l *loop) each(k estate.Key, f func(subject)) {
	d := l.estate.Device(k)
	if d == nil {
		return
	}
	for n := range d.Questions() {
		f(subject{device: k, probe: n})
	}
	for _, ep := range d.Endpoints {
		f(subject{device: k, probe: -1, name: ep.Name})
	}
}

// question prepares asking one subject. It says whether there was an answer.
func (l *loop) question(s subject) func(context.Context) bool {
	d, w := l.estate.Device(s.device), l.w
	if s.probe >= 0 {
		p, closely := d.Questions()[s.probe], l.plan.Watched(s)
		return func(ctx context.Context) bool {
			return w.askProbe(ctx, observation.Observation{Site: d.Site, Device: s.device, Probe: s.probe}, p, closely)
		}
	}
	ep, _ := d.Endpoint(s.name)
	id := estate.EndpointID{Device: s.device, Name: s.name}
	// Who does not answer is not asked for more: that would only cost time.
	if s.what != state && !l.plan.Fine(subject{device: s.device, probe: -1, name: s.name}) {
		return func(context.Context) bool { return false }
	}
	return func(ctx context.Context) bool { return w.askEndpoint(ctx, d.Site, id, ep, s.what) }
}

// closeTimeout is how long a question waits under close watch: there, what
// is late is as good as silent, and the next question is due.
const closeTimeout = time.Second

func (w *Watcher) askProbe(ctx context.Context, o observation.Observation, p estate.Probe, closely bool) bool {
	timeout := p.Timeout
	if closely {
		timeout = min(timeout, closeTimeout)
	}
	sent := time.Now()
	rtt, err := w.probe(ctx, p, timeout)
	if ctx.Err() != nil {
		return false // we are stopping: that says nothing about the device
	}
	var heard *heardError
	o.Result = verdict.Result{SentAt: sent, RTT: rtt, OK: err == nil, Wrong: errors.As(err, &heard)}
	if err != nil {
		o.Result.Why = err.Error()
	}
	var forbidden *names.ForbiddenError
	if !errors.Is(err, icmp.ErrNotPermitted) && !errors.As(err, &forbidden) { // nobody was asked: that is no silence
		w.from.Bus.Observed.Publish(o)
	}
	return o.Result.OK || o.Result.Wrong
}
