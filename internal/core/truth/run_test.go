package truth

import (
	"container/heap"
	"fmt"
	"time"

	"plumbbob/internal/core/asking"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/schedule"
	"plumbbob/internal/core/verdict"
)

// A subject is a side that is asked.
type subject = estate.EndpointID

// An arrival is the end of a question: an answer, or the end of its time.
type arrival struct {
	at time.Time
	of subject
	r  verdict.Result
	ev func() // what it brings
}

type arrivals []arrival

func (a arrivals) Len() int           { return len(a) }
func (a arrivals) Less(i, j int) bool { return a[i].at.Before(a[j].at) }
func (a arrivals) Swap(i, j int)      { a[i], a[j] = a[j], a[i] }
func (a *arrivals) Push(x any)        { *a = append(*a, x.(arrival)) }
func (a *arrivals) Pop() any {
	old := *a
	x := old[len(old)-1]
	*a = old[:len(old)-1]
	return x
}

// run drives the product's own schedule, rules of asking, judge and book through a world,
// as the service does.
type run struct {
	*world
	ev       *verdict.Evidence
	vs       map[estate.Key]verdict.Verdict
	standing *verdict.Standing
	devices  int // judged, in
	judging  time.Duration
	check    func(full, kept map[estate.Key]verdict.Verdict) // what a full judging says, at each; nil: nobody asks
	plan     *schedule.Plan[subject]
	asker    *asking.Asker
	book     incident.Book
	coming   arrivals
	judged   time.Time
	looked   time.Time
	open     bool
	ids      int
	each     func(changes []incident.Change) // after each judging
}

func newRun(w *world) *run {
	r := &run{world: w}
	r.start()
	return r
}

// start begins with nothing but the book, as a service does that starts.
func (r *run) start() {
	w := r.world
	r.ev, r.plan, r.asker, r.coming = verdict.NewEvidence(), schedule.New[subject](w.rng.Float64), asking.New(w.e), nil
	r.standing, r.vs = verdict.NewStanding(w.e, r.ev, nil), nil
	for _, k := range w.order {
		d := w.boxes[k].d
		for _, p := range d.Probes {
			r.plan.Set(subject{Device: k}, p.Every, true, w.now)
		}
		for _, ep := range d.Endpoints {
			r.plan.Set(subject{Device: k, Name: ep.Name}, ep.Every, false, w.now)
		}
	}
}

// meantOff tells the evidence who is meant to be off, until it has plainly been brought back.
func (r *run) meantOff() {
	for k := range r.meant {
		_, known := r.ev.Parked[k]
		switch state := r.vs[k].State; {
		case !known:
			r.ev.Park(k, verdict.Parking{By: "kari", Since: r.now})
		case !r.boxes[k].powered:
		case state == verdict.Steady || state == verdict.Strained || state == verdict.Hung:
			r.ev.Unpark(k)
			delete(r.meant, k)
		}
	}
}

// until runs until a time; do happens at its own.
func (r *run) until(end time.Time) {
	room := schedule.Room{1000, 1000, 1000}
	for r.now.Before(end) {
		if r.anew {
			r.anew = false
			r.start()
		}
		r.meantOff()
		for _, s := range r.plan.Due(r.now, room) {
			heap.Push(&r.coming, r.question(s))
		}
		for len(r.coming) > 0 && !r.coming[0].at.After(r.now) {
			r.answered(heap.Pop(&r.coming).(arrival))
		}
		quiet := 3 * time.Second
		if r.ev.News || r.open {
			quiet = 100 * time.Millisecond
		}
		if r.now.Sub(r.judged) >= quiet {
			r.judge()
		}
		next := r.judged.Add(quiet)
		if at, ok := r.plan.Next(room); ok && at.Before(next) {
			next = at
		}
		if len(r.coming) > 0 && r.coming[0].at.Before(next) {
			next = r.coming[0].at
		}
		if !next.After(r.now) {
			next = r.now.Add(time.Millisecond)
		}
		r.now = next
	}
}

// timeout is that of every question.
const timeout = 2 * time.Second

// question sends one, and works out what comes of it.
func (r *run) question(s subject) arrival {
	b := r.boxes[s.Device]
	rtt := time.Duration(1+r.rng.IntN(60)) * time.Millisecond
	tries := 1
	hop, alive := r.way(b), r.works(b) && !b.uncabled
	var bring func()
	if s.Name != "" {
		hop, tries = b.d.Endpoints[0].Network[0].Via.Device, 2
		alive = b.powered && !b.cardDead
		switch {
		case s.Name == "board":
			bring = func() {
				c := reading.Chassis{At: r.now, On: !b.off || b.claims, Asleep: b.asleep && !b.claims}
				r.ev.Controller(s.Device, c)
			}
		case b.d.Supply != nil:
			bring = func() { r.supply(b) }
		default:
			alive = alive && !b.broken
			bring = func() { r.outlets(b) }
		}
	}
	ok, survives := r.reaches(hop)
	got := false
	for range tries {
		got = got || ok && alive && r.rng.Float64() < survives
	}
	a := arrival{of: s, at: r.now.Add(rtt), r: verdict.Result{SentAt: r.now, RTT: rtt, OK: got}, ev: bring}
	switch {
	case !got:
		a.at, a.ev, a.r.RTT = r.now.Add(timeout), nil, 0
	case b.refuses && s.Name == "":
		a.r.OK, a.r.Wrong, a.r.Why = false, true, "refuses the connection"
	}
	return a
}

func (r *run) outlets(b *box) {
	for _, o := range b.d.Outlets {
		end := estate.End{Device: b.d.Key, Port: o.Port()}
		w := 0.0
		for _, k := range r.order {
			x := r.boxes[k]
			for _, c := range x.d.Power {
				if c.From != end || !r.carries(x.d, c) || x.broken {
					continue
				}
				live := 0
				for _, c := range x.d.Power {
					if r.carries(x.d, c) {
						live++
					}
				}
				if w = x.watts / float64(live); x.off || x.asleep {
					w = x.rest / float64(live)
				}
			}
		}
		if b.stuck {
			w = r.ev.Outlets[end].W
		}
		r.ev.Outlet(end, verdict.Outlet{At: r.now, On: !b.relay[end.Port], Metered: true, W: w, Switched: true})
	}
}

func (r *run) supply(b *box) {
	volts := 230.0
	s := reading.Supply{Source: reading.SourceNormal, Inputs: []reading.Phase{{V: &volts}}}
	switch {
	case !b.output:
		s.Source = reading.SourceNone
	case !r.mains[b.d.Site]:
		volts, s.Source = 0, reading.SourceBattery
	}
	r.ev.TakeSupply(b.d.Key, s, r.now)
}

// answered does what the watch and the keeper do with a result.
func (r *run) answered(a arrival) {
	was := r.plan.Misses(a.of)
	ok := a.r.OK || a.r.Wrong
	r.plan.Answered(a.of, ok, r.now)
	if a.of.Name == "" {
		r.ev.Probe(verdict.ProbeID{Device: a.of.Device}, a.r)
	} else {
		r.ev.Endpoint(a.of, a.r)
	}
	if a.ev != nil && r.boxes[a.of.Device].powered { // else the answer was made before
		a.ev()
	}
	if !ok {
		for _, k := range r.asker.Missed(a.of, r.plan.Misses(a.of)) {
			r.soon(k, "", true)
		}
		r.plan.Doubt(a.of, r.asker.Need(a.of), r.now)
		return
	}
	for _, x := range r.asker.Answered(a.of, was >= verdict.SilentAfter) {
		r.soon(x.Device, x.Name, false)
	}
}

func (r *run) soon(k estate.Key, name string, all bool) {
	d := r.boxes[k].d
	if len(d.Probes) > 0 && (all || name == "") {
		r.ask(subject{Device: k}, all)
	}
	for _, ep := range d.Endpoints {
		if all || name == ep.Name {
			r.ask(subject{Device: k, Name: ep.Name}, all)
		}
	}
}

func (r *run) ask(s subject, all bool) {
	if all || !r.plan.Fine(s) {
		r.plan.Soon(s, r.now)
	}
}

func (r *run) judge() {
	var full map[estate.Key]verdict.Verdict
	if r.check != nil {
		full = verdict.Judge(r.e, r.ev.Clone(), r.vs, r.now)
	}
	began := time.Now()
	devices, _ := r.standing.Judge(r.now)
	r.judging += time.Since(began)
	r.devices += len(devices)
	r.vs, r.open, r.judged = r.standing.Verdicts(), r.standing.Open(), r.now
	if r.check != nil {
		r.check(full, r.vs)
	}
	var changes []incident.Change
	if r.now.Sub(r.looked) >= time.Second {
		r.looked = r.now
		changes = r.book.Look(incident.World{Estate: r.e, Verdicts: r.vs, Now: r.now}, func() string { r.ids++; return fmt.Sprint("i", r.ids) })
	}
	if r.each != nil {
		r.each(changes)
	}
}
