package orders

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/ladder"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/durable"
	"plumbbob/internal/orderfile"
	"plumbbob/internal/store"
)

// A Ladder is one that is in force: armed, or only saying what it would do.
type Ladder struct {
	Row            store.LadderRow
	*ladder.Ladder            // nil when it cannot be read
	Site           estate.Key // whose clocks count in its conditions
	Fault          string
	Unknown        []string
	Holds          []store.Hold // devices at which it is at its end
}

// Armed says whether it acts.
func (l *Ladder) Armed() bool { return l.Row.ArmedAt.Valid }

// refreshLadders has ladders read again.
func (r *Room) refreshLadders(ctx context.Context, around orderfile.Around, e *estate.Estate) error {
	rows, err := r.Store.Ladders(ctx)
	if err != nil {
		return err
	}
	holds, err := r.Store.Holds(ctx)
	if err != nil {
		return err
	}
	all := map[string]*Ladder{}
	for _, row := range rows {
		l := &Ladder{Row: row}
		switch parsed, err := orderfile.ParseLadders(row.Name, []byte(row.Text), around); {
		case err != nil:
			l.Fault = err.Error()
		case len(parsed) != 1:
			l.Fault = "it is not one ladder"
		default:
			l.Ladder, l.Site, l.Unknown = parsed[0].Ladder, parsed[0].Site, Unknown(e, parsed[0].About)
		}
		for _, h := range holds {
			if h.Ladder == row.Name {
				l.Holds = append(l.Holds, h)
			}
		}
		all[row.Name] = l
	}
	r.mu.Lock()
	r.ladders = all
	r.mu.Unlock()
	return nil
}

// Ladders lists those that are in force, by name.
func (r *Room) Ladders() []Ladder {
	r.mu.Lock()
	defer r.mu.Unlock()
	out := []Ladder{}
	for _, name := range slices.Sorted(maps.Keys(r.ladders)) {
		out = append(out, *r.ladders[name])
	}
	return out
}

// Ladder is one by its name, or nil.
func (r *Room) Ladder(name string) *Ladder {
	r.mu.Lock()
	defer r.mu.Unlock()
	if l := r.ladders[name]; l != nil {
		c := *l
		return &c
	}
	return nil
}

// hanging are the devices that hang now, with their verdicts.
func (r *Room) hanging() map[estate.Key]verdict.Verdict {
	out := map[estate.Key]verdict.Verdict{}
	r.Keeper.See(func(_ *estate.Estate, _ *verdict.Evidence, vs map[estate.Key]verdict.Verdict, _ time.Time) {
		for k, v := range vs {
			if v.State == verdict.Hung {
				out[k] = v
			}
		}
	})
	return out
}

// A need is what has a ladder climbed at a device.
type need struct {
	since time.Time
	why   string
}

// needs are the devices that a ladder is for now.
func (r *Room) needs(l *Ladder, e *estate.Estate, hanging map[estate.Key]verdict.Verdict, now time.Time) map[estate.Key]need {
	out := map[estate.Key]need{}
	if l.Uplink != nil {
		k := estate.Key(l.Match.Devices[0])
		s := &ladder.Situation{Now: now, Device: e.Device(k), Verdict: r.Keeper.Verdict(k)}
		if s.Device == nil {
			return out
		}
		r.wayOut(l, s)
		if way, since, why := s.Way(); way == ladder.Mute || way == ladder.Stuck || way == ladder.Broken {
			out[k] = need{since, why}
		}
		return out
	}
	for k, v := range hanging {
		if d := e.Device(k); d != nil && l.Match.Fits(d) {
			out[k] = need{v.Since, fmt.Sprintf("%s has hung for %s", k, verdict.Age(now.Sub(v.Since)))}
		}
	}
	return out
}

// climbs begins to help devices that have hung for long enough, once for each time that they hang.
func (r *Room) climbs(ctx context.Context, now time.Time) error {
	ladders := r.Ladders()
	if len(ladders) == 0 {
		return nil
	}
	e, hanging := r.Keeper.Estate(), r.hanging()
	var errs []error
	for i := range ladders {
		l := &ladders[i]
		if l.Ladder == nil || l.rests("") {
			continue
		}
		if err := r.heardAgain(ctx, l, now); err != nil {
			errs = append(errs, err)
		}
		needs := r.needs(l, e, hanging, now)
		for _, k := range slices.Sorted(maps.Keys(needs)) {
			n := needs[k]
			if now.Sub(n.since) < l.Lasting || r.climbing(k) {
				continue
			}
			if l.Armed() && r.underWay(l.Row.Name) >= l.Limits.AtOnce {
				break // their turn comes
			}
			if err := r.climb(ctx, l, k, n, now); err != nil {
				errs = append(errs, fmt.Errorf("ladder %s at %s: %w", l.Row.Name, k, err))
			}
		}
	}
	return errors.Join(errs...)
}

// climbing says whether a climb at a device is under way.
func (r *Room) climbing(k estate.Key) bool {
	return slices.ContainsFunc(r.runs.All(), func(x *routine.Run) bool { return x.Ladder && x.Device == k })
}

// underWay is how many climbs of a ladder are.
func (r *Room) underWay(name string) (n int) {
	for _, x := range r.runs.All() {
		if x.Ladder && x.Routine == name {
			n++
		}
	}
	return n
}

// rests says whether the ladder is at its end at a device, or, without one, altogether.
func (l *Ladder) rests(k estate.Key) bool {
	return slices.ContainsFunc(l.Holds, func(h store.Hold) bool { return h.Device == k })
}

// climb begins a climb, or, of a ladder that is not armed, records what it would do.
func (r *Room) climb(ctx context.Context, l *Ladder, k estate.Key, n need, now time.Time) error {
	id := routine.NameOf("ladder", l.Row.Name, string(k), n.since.UTC().Format(time.RFC3339), strconv.FormatBool(l.Armed()), l.Row.ResetAt.Time.UTC().Format(time.RFC3339Nano))
	r.mu.Lock()
	done := r.seen[id]
	r.mu.Unlock()
	if done || l.rests(k) {
		return nil
	}
	r.mu.Lock()
	ops, err := l.Climb(k, r.find)
	r.mu.Unlock()
	run := climbRun(id, l, k, ops, n, now)
	switch {
	case err != nil:
		run.State, run.Ended, run.Note = routine.Failed, now, err.Error()
	case !l.Armed():
		run.State, run.Ended, run.Note = routine.Shown, now, "it is not armed, and nothing was done"
		run.Log = r.wouldDo(ctx, l, k, ops, now)
	}
	result := map[bool]string{true: "asked", false: string(run.State)}[!run.Over()]
	if !r.runs.Reserve(id) {
		return nil
	}
	err = r.Store.CreateRun(ctx, run, store.Dealt{}, r.entry(run, now, "Ladder "+l.Row.Name+" at "+string(k)+": "+run.Why, result))
	known := errors.Is(err, store.ErrConflict) // of an earlier start
	if err == nil || known {
		r.mu.Lock()
		r.seen[id] = true
		r.mu.Unlock()
	}
	if err != nil || run.Over() {
		r.runs.Drop(id)
		if known {
			return nil
		}
		return err
	}
	r.written()
	r.start(run, false)
	return nil
}

func climbRun(id string, l *Ladder, k estate.Key, ops []routine.Op, n need, now time.Time) *routine.Run {
	run := routine.New(id, &routine.Routine{Name: l.Row.Name, Title: l.Title}, ops, map[string]string{"device": string(k)}, asOrder(l.Row.Name), n.why, now)
	run.Ladder, run.Device = true, k
	return run
}

// wouldDo says of each rung what the gate would say now, and what would be done.
func (r *Room) wouldDo(ctx context.Context, l *Ladder, k estate.Key, ops []routine.Op, now time.Time) []routine.Line {
	var out []routine.Line
	for _, op := range ops {
		line := routine.Line{At: now, Path: op.Path, Words: op.Words, OK: true}
		switch {
		case op.Do == routine.Ask:
			s := r.situation(ctx, l, op.N, k, "", now)
			d := l.Gate(op.N, s)
			line.OK, line.Note = d.Answer == ladder.Go, string(d.Answer)+": "+d.Why
		case op.Intent != nil:
			line.OK, line.Note = r.tryOperation(ctx, op, asOrder(l.Row.Name))
		default:
			continue
		}
		out = append(out, line)
	}
	return out
}

// mayClimb is asked before each rung: it waits until there is an answer that is no "not now".
func (w *run) mayClimb(ctx context.Context, c routine.Begin) routine.Finished {
	r := w.r
	in := routine.Finished{ID: c.ID}
	began := time.Now()
	for {
		now := time.Now().UTC()
		in.At = now
		l := r.Ladder(w.x.Routine)
		switch {
		case l == nil || l.Ladder == nil || !l.Armed() || c.Op.N >= len(l.Rungs):
			in.Turn, in.Note = routine.Refuse, "the ladder is not armed any more, or not what it was"
			return in
		case l.rests(""):
			in.Turn, in.Note = routine.Enough, "the ladder rests: plumb ladder reset wakes it"
			return in
		case now.Sub(began) > longestClimb:
			in.Turn, in.Note = routine.Refuse, "it was held for too long: "+in.Note
			return in
		}
		r.lookAt(ctx, w.x.Device, l.witnesses()...)
		d := r.decide(ctx, l, c, w.x, now)
		in.Note = d.Why
		switch d.Answer {
		case ladder.Go:
			in.OK = true
			return in
		case ladder.Skip:
			return in
		case ladder.Over:
			in.Turn = routine.Enough
			return in
		case ladder.Never:
			in.Turn = routine.Refuse
			w.mu.Lock()
			w.rest = d.Rest
			w.mu.Unlock()
			return in
		}
		_ = w.Tell(ctx, routine.Held{At: now, ID: c.ID, Why: d.Why}) // or it has ended
		if !durable.Pause(ctx, gateEvery) {
			return in
		}
	}
}

const (
	gateEvery    = 2 * time.Second
	longestClimb = 24 * time.Hour // that one waits for what holds it
)

// decide asks the gate, and records that the rung may be climbed before it says so: of two climbs that
// ask at once, the second sees the first.
func (r *Room) decide(ctx context.Context, l *Ladder, c routine.Begin, x *routine.Run, now time.Time) ladder.Decision {
	r.gate.Lock()
	defer r.gate.Unlock()
	s := r.situation(ctx, l, c.Op.N, x.Device, c.ID, now)
	s.Climb = x.ID
	s.Person = r.person(ctx, x, l.Since(s))
	d := l.Gate(c.Op.N, s)
	if d.Answer != ladder.Go {
		return d
	}
	err := r.Store.AddAct(ctx, c.ID, ladder.Act{Ladder: l.Row.Name, Device: x.Device, Site: s.Device.Site, At: now, Climb: x.ID, Feeds: s.Feeds})
	if err != nil {
		return ladder.Decision{Answer: ladder.Wait, Why: "that it acts cannot be recorded: " + err.Error()}
	}
	return d
}

// person is who has operated a device since it hung, or since a climb there began.
func (r *Room) person(ctx context.Context, x *routine.Run, hung time.Time) string {
	since := x.Began
	if hung.Before(since) {
		since = hung
	}
	ops, err := r.Store.Operations(ctx, store.OperationFilter{Device: x.Device, Limit: 10})
	if err != nil {
		return "" // what cannot be read holds it elsewhere
	}
	for _, o := range ops {
		if o.Asked.After(since) && byPerson(o) {
			return o.By
		}
	}
	return ""
}

// byPerson says whether somebody with an account asked for an operation.
func byPerson(o *operation.Operation) bool {
	return !strings.HasPrefix(o.By, string(operation.StandingOrder)+" ")
}

// lookAt has a device asked, and what it is reached through, before anything is decided about it.
func (r *Room) lookAt(ctx context.Context, k estate.Key, more ...estate.Key) {
	e := r.Keeper.Estate()
	d := e.Device(k)
	if r.LookAt == nil || d == nil {
		return
	}
	devices := append([]estate.Key{k}, more...)
	for _, c := range d.Network {
		devices = append(devices, c.Via.Device)
	}
	ctx, cancel := context.WithTimeout(ctx, lookWithin)
	defer cancel()
	_ = r.LookAt(ctx, append(devices, feedsOf(e, k)...)) // who does not answer is known to be silent then
	r.Keeper.JudgeNow()
}

// lookWithin is how long those may take to answer that are asked before something is decided.
const lookWithin = 20 * time.Second

// mostPast bounds how many incidents a trial looks at.
const mostPast = 5000

// Past says what a ladder would have made of the times that its devices hung since a moment.
func (r *Room) Past(ctx context.Context, l *Ladder, since time.Time) ([]ladder.Would, error) {
	all, err := r.Store.Incidents(ctx, store.IncidentFilter{Open: true, EndedSince: since, Limit: mostPast})
	if err != nil {
		return nil, err
	}
	e := r.Keeper.Estate()
	var episodes []ladder.Episode
	for _, i := range all {
		d := e.Device(i.Device)
		if d == nil || i.Kind != string(verdict.Hung) || !l.Match.Fits(d) {
			continue
		}
		x := ladder.Episode{Incident: i.ID, Device: d, Feeds: feedsOf(e, d.Key), From: i.Opened, Until: i.Ended}
		for _, id := range i.Tried {
			o, err := r.Store.Operation(ctx, id)
			if err != nil || !byPerson(o) {
				continue // it is no longer kept, or a ladder's own
			}
			if x.Person.IsZero() || o.Asked.Before(x.Person) {
				x.Person, x.By = o.Asked, o.By
			}
		}
		episodes = append(episodes, x)
	}
	return l.Ladder.Past(episodes, time.Now().UTC()), nil
}
