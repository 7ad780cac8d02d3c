package verdict

import (
	"container/heap"
	"maps"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
)

// A Standing is the verdicts on an estate that stand, kept up to date: each judging works
// out anew only what something new was observed of, what depends on that, and what time
// alone may have changed. What depends on what is not stated anywhere: it is what was
// looked at (track.go). All else is as Moment.Judge would have it.
//
// It is not for use by more than one goroutine, and the one that takes what its evidence
// was told: an Evidence has one Standing.
type Standing struct {
	e  *estate.Estate
	ev *Evidence

	verdicts map[estate.Key]Verdict
	lent     bool // somebody looks at them, so the next change is made to a copy
	judged   bool

	short   []summary    // by device
	sides   []sided      // by the hop that is silent
	port    ownPort      //
	looked  [][]source   // by reader
	readers [][]int32    // by source
	until   []time.Time  // by reader: when time alone may change it
	due     appointments // of readers, at the earliest
	waiting map[int]bool // devices of which a verdict waits for what is heard next
	frames  frames
}

// NewStanding returns one in which all is still to be judged. The verdicts of before say
// since when things are as they are; they may be nil.
func NewStanding(e *estate.Estate, ev *Evidence, before map[estate.Key]Verdict) *Standing {
	n := len(e.Devices)
	readers := 2*n + 1
	return &Standing{
		e: e, ev: ev, verdicts: before, lent: true,
		short: make([]summary, n), sides: make([]sided, n),
		looked: make([][]source, readers), readers: make([][]int32, n*int(sources)), until: make([]time.Time, readers),
		due: appointments{at: make([]time.Time, readers)}, waiting: map[int]bool{}, frames: frames{all: make([]frame, readers)},
	}
}

// Verdicts returns the verdicts as they stand. The caller may keep them, and must not
// change them.
func (s *Standing) Verdicts() map[estate.Key]Verdict {
	s.lent = true
	return s.verdicts
}

// Of returns the verdict on one device.
func (s *Standing) Of(k estate.Key) Verdict { return s.verdicts[k] }

// Put replaces a verdict by what is known better: since when it has been so.
func (s *Standing) Put(k estate.Key, v Verdict) {
	if s.lent {
		s.lent = false
		if s.verdicts = maps.Clone(s.verdicts); s.verdicts == nil {
			s.verdicts = make(map[estate.Key]Verdict, len(s.e.Devices))
		}
	}
	s.verdicts[k] = v
}

// Open says whether a verdict waits for what is heard next, whatever that is.
func (s *Standing) Open() bool { return len(s.waiting) > 0 }

// Judge brings the verdicts up to date. It returns the places of the devices that were
// judged, in order, and the moment.
func (s *Standing) Judge(now time.Time) ([]int, *Moment) {
	m := At(s.e, s.ev, s.verdicts, now)
	m.frames = &s.frames
	r := round{Standing: s, m: m, seen: map[int]bool{}}
	if s.judged {
		r.touched()
		for _, reader := range s.due.come(now, s.until) {
			r.mark(reader)
		}
	} else {
		s.judged, s.lent = true, false
		s.verdicts = make(map[estate.Key]Verdict, len(s.e.Devices))
		m.remember(len(s.e.Devices))
		s.ev.Ways = losses(s.e, s.ev)
		for i := range s.e.Devices {
			r.mark(i)
		}
	}
	s.ev.touched, s.ev.News = touched{}, false
	for len(r.queue) > 0 {
		reader := r.queue[0]
		r.queue = r.queue[1:]
		r.compare(reader)
	}
	slices.Sort(r.devices)
	for _, i := range r.devices {
		d := &s.e.Devices[i]
		m.as(i)
		s.Put(d.Key, m.judge(d))
		m.at = nil
		s.keep(i, &s.frames.all[i])
	}
	r.newParts()
	m.frames = nil
	s.frames.clear()
	return r.devices, m
}

// keep keeps what a reader has looked at, for the next time.
func (s *Standing) keep(reader int, f *frame) {
	f.tidy()
	was := s.looked[reader]
	if !slices.Equal(was, f.looked) {
		for _, x := range was {
			if _, still := slices.BinarySearch(f.looked, x); !still {
				s.readers[x] = slices.DeleteFunc(s.readers[x], func(r int32) bool { return int(r) == reader })
			}
		}
		for _, x := range f.looked {
			if _, known := slices.BinarySearch(was, x); !known {
				s.readers[x] = append(s.readers[x], int32(reader))
			}
		}
		s.looked[reader] = slices.Clone(f.looked)
	}
	s.until[reader] = f.until
	s.due.make(reader, f.until)
	if f.open {
		s.waiting[reader] = true
	} else {
		delete(s.waiting, reader)
	}
}

// A round is what one judging has found to do.
type round struct {
	*Standing
	m       *Moment
	seen    map[int]bool
	queue   []int
	devices []int
	news    map[int]bool // devices of which something new was observed
}

func (r *round) mark(reader int) {
	if !r.seen[reader] {
		r.seen[reader] = true
		r.queue = append(r.queue, reader)
	}
}

func (r *round) changed(x source) {
	for _, reader := range r.readers[x] {
		r.mark(int(reader))
	}
}

// touched marks what was observed, and whom a feed was read of.
func (r *round) touched() {
	r.news = map[int]bool{}
	touch := func(k estate.Key) {
		if d := r.e.Device(k); d != nil && !r.news[d.Index()] {
			r.news[d.Index()] = true
			r.mark(d.Index())
		}
	}
	lossy := map[estate.Key]bool{}
	for k := range r.ev.touched.devices {
		touch(k)
		if d := r.e.Device(k); d != nil {
			r.lossOf(d, lossy)
		}
	}
	for end := range r.ev.touched.ends {
		for _, k := range r.e.Fed(end) {
			touch(k)
		}
	}
	for hop := range lossy {
		r.ev.Ways[hop] = lossNextTo(r.e, r.ev, hop)
		touch(hop)
	}
}

// lossOf notes the hops next to which something is lost, or was. Where nothing is, it does
// not matter how much is not.
func (r *round) lossOf(d *estate.Device, lossy map[estate.Key]bool) {
	note := func(path []estate.NetworkCable, lost float64) {
		if len(path) > 0 && (lost > 0 || r.ev.Ways[path[0].Via.Device].Lost > 0) {
			lossy[path[0].Via.Device] = true
		}
	}
	for n := range d.Probes {
		note(d.Network, r.ev.Probes[ProbeID{d.Key, n}].Loss.Lost)
	}
	for _, ep := range d.Endpoints {
		note(r.e.PathOf(d.Key, ep.Name), r.ev.Endpoints[estate.EndpointID{Device: d.Key, Name: ep.Name}].Loss.Lost)
	}
}

// compare works out what others look at of a reader, and marks them if that is not what
// it was.
func (r *round) compare(reader int) {
	n := len(r.e.Devices)
	switch {
	case reader < n:
		r.devices = append(r.devices, reader)
		d := &r.e.Devices[reader]
		r.m.as(reader)
		now := r.m.summary(d)
		r.m.at = nil
		if !now.equal(r.short[reader]) {
			r.short[reader] = now
			r.changed(stateOf.of(d))
		}
		if r.news[reader] {
			r.changed(factsOf.of(d))
		}
	case reader < 2*n:
		d := &r.e.Devices[reader-n]
		now := r.m.sided(d)
		r.keep(reader, &r.frames.all[reader])
		if now.tells(r.sides[reader-n]) {
			r.sides[reader-n] = now
			r.changed(sidesOf.of(d))
		}
	default:
		count, since := r.m.ownPort()
		r.keep(reader, &r.frames.all[reader])
		if now := (ownPort{count, since}); now != r.port {
			r.port = now
			r.changed(ownPortOf.of(r.e.Device(r.e.Standpoint)))
		}
	}
}

// newParts keeps what devices were the first to look at.
func (r *round) newParts() {
	n := len(r.e.Devices)
	for _, reader := range r.frames.used {
		if reader < n || r.seen[reader] {
			continue
		}
		r.keep(reader, &r.frames.all[reader])
		if reader == 2*n {
			r.port = *r.m.port
		} else {
			r.sides[reader-n] = r.m.passes[r.e.Devices[reader-n].Key]
		}
	}
}

// A summary is what others look at of a device: it changes seldom.
type summary struct {
	known, asked, answers, silent bool
	since, upSince                time.Time
	flips, before                 int
	way                           wayLoss
	power                         powered
	stale, off                    bool
	cause                         estate.Key
	ends                          []endState // of its endpoints
}

type endState struct {
	answers, missing, silent, refused, updating bool
	since, up                                   time.Time
}

func (m *Moment) summary(d *estate.Device) summary {
	h, p := m.hears(d), m.power(d)
	s := summary{
		known: true, asked: h.asked, answers: h.answers, silent: h.silent, since: h.since, upSince: h.upSince,
		flips: h.flips, before: m.flipsBefore(d), way: m.wayLoss(d.Key),
		power: p.state, stale: p.stale, off: p.off, cause: p.cause,
	}
	for _, ep := range d.Endpoints {
		x := m.endpoint(d, ep.Name)
		s.ends = append(s.ends, endState{x.Answers(), x.Misses > 0, x.Silent(), x.Refused, x.Updating, x.SilentSince, x.UpSince})
	}
	return s
}

func (s summary) equal(o summary) bool {
	return s.known == o.known && s.asked == o.asked && s.answers == o.answers && s.silent == o.silent &&
		s.since.Equal(o.since) && s.upSince.Equal(o.upSince) && s.flips == o.flips && s.before == o.before &&
		s.way == o.way && s.power == o.power && s.stale == o.stale && s.off == o.off && s.cause == o.cause && slices.Equal(s.ends, o.ends)
}

// appointments say when readers are due at the earliest: a heap, in which each reader stands
// once.
type appointments struct {
	heap []appointment
	at   []time.Time // by reader; zero: none
}

type appointment struct {
	at     time.Time
	reader int
}

func (a *appointments) Len() int           { return len(a.heap) }
func (a *appointments) Less(i, j int) bool { return a.heap[i].at.Before(a.heap[j].at) }
func (a *appointments) Swap(i, j int)      { a.heap[i], a.heap[j] = a.heap[j], a.heap[i] }
func (a *appointments) Push(x any)         { a.heap = append(a.heap, x.(appointment)) }
func (a *appointments) Pop() any {
	last := a.heap[len(a.heap)-1]
	a.heap = a.heap[:len(a.heap)-1]
	return last
}

// make has a reader come up, unless it does so sooner.
func (a *appointments) make(reader int, at time.Time) {
	if at.IsZero() || !a.at[reader].IsZero() && !at.Before(a.at[reader]) {
		return
	}
	a.at[reader] = at
	heap.Push(a, appointment{at, reader})
}

// come returns the readers that are due, as they stand by now: most have been put off since.
func (a *appointments) come(now time.Time, until []time.Time) (due []int) {
	for len(a.heap) > 0 && !a.heap[0].at.After(now) {
		x := heap.Pop(a).(appointment)
		if !x.at.Equal(a.at[x.reader]) {
			continue // it has come up sooner
		}
		a.at[x.reader] = time.Time{}
		if until[x.reader].After(now) {
			a.make(x.reader, until[x.reader])
		} else if !until[x.reader].IsZero() {
			due = append(due, x.reader)
		}
	}
	return due
}
