// Package orders carries out what was laid down beforehand: routines, when their time has come or
// what they wait for has happened. It has no way of its own to gear: what it switches it asks act
// for, with the same previews, interlocks and records as people have.
//
//	orders.go  the room: what is in force, and what runs
//	begin.go   what begins a routine: the clock, conditions, incidents, people
//	run.go     carrying one out, and taking up what a crash has interrupted
//	hands.go   what one step does
//	facts.go   what conditions go by
//	try.go     what one would do, without doing it
package orders

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/act"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/condition"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/durable"
	"plumbbob/internal/health"
	"plumbbob/internal/keep"
	"plumbbob/internal/lease"
	"plumbbob/internal/orderfile"
	"plumbbob/internal/store"
)

// Actor is who carries operations out: an act.Actor.
type Actor interface {
	Preview(ctx context.Context, in operation.Intent, by operation.Asker) (*operation.Preview, error)
	Request(ctx context.Context, req act.Request) (*operation.Operation, error)
	Find(ctx context.Context, id string) (*operation.Operation, error)
	Cancel(ctx context.Context, id, by string) (*operation.Operation, error)
	AroundOf(ctx context.Context, k estate.Key) (act.Around, error)

	PreviewGroup(ctx context.Context, in act.GroupIntent, by operation.Asker) (*act.GroupPreview, error)
	RequestGroup(ctx context.Context, in act.GroupIntent, digest string, c operation.Consent, by operation.Asker, id string) (*group.Group, error)
	FindGroup(ctx context.Context, id string) (*group.Group, error)
	NoMoreOf(ctx context.Context, group, by string) (*group.Group, error)
}

// Parts are what a Room works with.
type Parts struct {
	Store     *store.Store
	Keeper    *keep.Keeper
	Actor     Actor
	Incidents func() []*incident.Incident // that are open
	Log       *slog.Logger
	Health    *health.Book
	Lease     *lease.Lease
	Bus       *bus.Bus
	Acts      func() bool // whether this service acts at all

	// AtLine says who sits at the serial line or the screen of a device; nil: nobody knows.
	AtLine func(k estate.Key) []string
	// LookAt has devices asked at once, and waits for that; nil: what is known has to do.
	LookAt func(ctx context.Context, devices []estate.Key) error

	// What steps do beside operations; their errors are for people.
	Say     func(ctx context.Context, id, order string, who []string, text string) (told []string, err error)
	Picture func(ctx context.Context, k estate.Key, why string) error
	Drill   func(ctx context.Context, what, by string) (found string, err error)
	Line    func(ctx context.Context, k estate.Key, match func(rows string) bool) error
	Screen  func(ctx context.Context, k estate.Key) (text string, err error)
	Play    func(ctx context.Context, k estate.Key, sequence string) error
}

// An Order is a routine that is in force, and how far it was dealt with.
type Order struct {
	Row              store.RoutineRow
	*routine.Routine            // nil when it cannot be read
	Fault            string     // why it cannot be read
	Unknown          []string   // devices that it names, and that are not in the estate
	Next             *time.Time // when its clock begins it; nil: it does not
	held             map[int]*holding
}

// Room has what is in force, and what runs.
type Room struct {
	Parts

	runs   *durable.Shelf[routine.Run, routine.Event, routine.Command]
	work   sync.WaitGroup
	begun  chan struct{}
	ctx    context.Context //nolint:containedctx // what is begun lasts as long as the room
	reread chan struct{}

	mu        sync.Mutex
	orders    map[string]*Order
	toDo      toDo
	languages map[string]*condition.Language
	compiled  map[string]*condition.Condition
	ladders   map[string]*Ladder
	seen      map[string]bool // incidents that began something, or are older than us
	estate    *estate.Estate  // that orders were last read against

	// turn is held while it is seen whether something begins, and while what counts is read again: what
	// was read before something began would have it begin once more.
	turn  sync.Mutex
	gate  sync.Mutex // held while it is decided whether a rung is climbed
	acted time.Time  // since when this service acts
}

// New returns a room. Nothing happens before Run.
func New(p Parts) *Room {
	return &Room{
		Parts: p, runs: durable.NewShelf[routine.Run, routine.Event, routine.Command](), begun: make(chan struct{}), reread: make(chan struct{}, 1),
		orders: map[string]*Order{}, languages: map[string]*condition.Language{}, compiled: map[string]*condition.Condition{}, seen: map[string]bool{},
	}
}

// lookEvery is how often it is looked whether something is to begin.
const lookEvery = time.Second

// Run takes up what an earlier run left unfinished, and begins what is due, until ctx ends.
func (r *Room) Run(ctx context.Context) error {
	r.ctx = ctx
	close(r.begun)
	defer r.work.Wait()
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	resumed := false
	for {
		if !resumed {
			r.acted = time.Now()
			resumed = r.resume(ctx)
		}
		if resumed {
			r.trouble(ctx, r.look(ctx, time.Now().UTC()))
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		case <-r.reread:
		}
	}
}

// trouble says on the board when nothing can be begun.
func (r *Room) trouble(ctx context.Context, err error) {
	switch {
	case err == nil:
		r.Health.Well("routines")
	case ctx.Err() == nil && !errors.Is(err, store.ErrAway): // that is said by itself
		r.Health.Ails("routines", "nothing is begun by routines: "+err.Error())
	}
}

// Around is what routines may speak of now.
func (r *Room) Around() orderfile.Around { return orderfile.AroundOf(r.Keeper.Estate()) }

// Refresh has what is in force read again.
func (r *Room) Refresh(ctx context.Context) error {
	r.turn.Lock()
	defer r.turn.Unlock()
	return r.refresh(ctx)
}

func (r *Room) refresh(ctx context.Context) error {
	rows, err := r.Store.Routines(ctx)
	if err != nil {
		return err
	}
	around, e := r.Around(), r.Keeper.Estate()
	if err := r.refreshLadders(ctx, around, e); err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	was := r.orders
	r.orders, r.estate = map[string]*Order{}, e
	for _, row := range rows {
		o := &Order{Row: row, held: map[int]*holding{}}
		if w := was[row.Name]; w != nil && w.Row.Text == row.Text && w.Row.Off == row.Off && w.Row.SetAt.Equal(row.SetAt) {
			o.held = w.held
		}
		r.read(o, around, e)
		r.orders[row.Name] = o
	}
	r.compiled = map[string]*condition.Condition{}
	r.ailing()
	select {
	case r.reread <- struct{}{}:
	default:
	}
	return nil
}

// read reads a routine again that was right when it was set: the estate may be another one.
func (r *Room) read(o *Order, around orderfile.Around, e *estate.Estate) {
	parsed, err := orderfile.Parse(o.Row.Name, []byte(o.Row.Text), around)
	switch {
	case err != nil:
		o.Fault = err.Error()
	case len(parsed) != 1:
		o.Fault = "it is not one routine"
	default:
		o.Routine = parsed[0].Routine
		o.Unknown = Unknown(e, parsed[0].About)
	}
}

// Unknown lists those of some devices that an estate does not have.
func Unknown(e *estate.Estate, about []estate.Key) (out []string) {
	for _, k := range about {
		if e.Device(k) == nil {
			out = append(out, string(k))
		}
	}
	return out
}

// ailing says on the board which routines do not work, with the lock held.
func (r *Room) ailing() {
	var bad []string
	for _, name := range slices.Sorted(maps.Keys(r.orders)) {
		switch o := r.orders[name]; {
		case o.Fault != "":
			bad = append(bad, name+" cannot be read: "+o.Fault)
		case len(o.Unknown) > 0 && !o.off():
			bad = append(bad, name+" is about "+strings.Join(o.Unknown, ", ")+", which is not in the estate")
		}
	}
	if len(bad) == 0 {
		r.Health.Well("routine texts")
		return
	}
	r.Health.Ails("routine texts", "routines that do not work: "+strings.Join(bad, "; "))
}

// off says whether only people begin it.
func (o *Order) off() bool { return o.Row.Off || o.Routine == nil }

// find returns a routine by its name, or nil; with the lock held.
func (r *Room) find(name string) *routine.Routine {
	if o := r.orders[name]; o != nil {
		return o.Routine
	}
	return nil
}

// Find returns a routine by its name, or nil.
func (r *Room) Find(name string) *routine.Routine {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.find(name)
}

// Orders lists what is in force, by name.
func (r *Room) Orders() []Order {
	r.mu.Lock()
	defer r.mu.Unlock()
	now := time.Now()
	var out []Order
	for _, name := range slices.Sorted(maps.Keys(r.orders)) {
		o := *r.orders[name]
		if !o.off() {
			for _, t := range o.When {
				if t.At == nil {
					continue
				}
				if next := t.At.Next(now); !next.IsZero() && (o.Next == nil || next.Before(*o.Next)) {
					o.Next = &next
				}
			}
		}
		out = append(out, o)
	}
	return out
}

// Order is a routine by its name, or nil.
func (r *Room) Order(name string) *Order {
	r.mu.Lock()
	defer r.mu.Unlock()
	if o := r.orders[name]; o != nil {
		c := *o
		return &c
	}
	return nil
}

// Runs lists runs, the newest first, running ones as they are now.
func (r *Room) Runs(ctx context.Context, f store.RunFilter) ([]*routine.Run, error) {
	all, err := r.Store.Runs(ctx, f)
	r.runs.Fresh(all, func(x *routine.Run) string { return x.ID })
	return all, err
}

// FindRun returns a run, running or ended.
func (r *Room) FindRun(ctx context.Context, id string) (*routine.Run, error) {
	return r.runs.Find(ctx, id, r.Store.Run)
}

// Stop has a run stop at the next safe point.
func (r *Room) Stop(ctx context.Context, id, by string) (*routine.Run, error) {
	return r.steer(ctx, id, routine.StopAsked{At: time.Now().UTC(), By: by})
}

// Pause has a run begin nothing more, or, with nobody, go on.
func (r *Room) Pause(ctx context.Context, id, by string) (*routine.Run, error) {
	return r.steer(ctx, id, routine.PauseAsked{At: time.Now().UTC(), By: by})
}

// steer tells a run something, and returns it as it is after that.
func (r *Room) steer(ctx context.Context, id string, in routine.Event) (*routine.Run, error) {
	if _, err := r.runs.Cancel(ctx, id, in, r.Store.Run); err != nil {
		return nil, err
	}
	// Whoever takes a second event is through with the first.
	if _, err := r.runs.Cancel(ctx, id, routine.Tick{At: time.Now().UTC()}, r.Store.Run); err != nil && !errors.Is(err, durable.ErrEnded) {
		return nil, err
	}
	return r.FindRun(ctx, id)
}

// Uses is the routine that is begun with a secret, or empty.
func (r *Room) Uses(secret string) string {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(r.orders)) {
		if x := r.find(name); x != nil && slices.ContainsFunc(x.When, func(t routine.Trigger) bool { return t.Secret == secret }) {
			return name
		}
	}
	return ""
}

// language is that of conditions in the zone of a routine, with the lock held.
func (r *Room) language(zone *time.Location) *condition.Language {
	l := r.languages[zone.String()]
	if l == nil {
		l = condition.New(func() condition.Facts { return facts{r.ctx, r.Keeper, r.Actor, &r.toDo} }, zone)
		r.languages[zone.String()] = l
	}
	return l
}

// holds asks a condition of a routine.
func (r *Room) holds(site estate.Key, expr string, with map[string]string) (bool, error) {
	zone := r.Around().Zone(site)
	if zone == nil {
		return false, fmt.Errorf("there is no site %q in the estate", site)
	}
	r.mu.Lock()
	key := zone.String() + "\n" + expr
	c := r.compiled[key]
	var err error
	if c == nil {
		if c, err = r.language(zone).Compile(expr); err == nil {
			r.compiled[key] = c
		}
	}
	r.mu.Unlock()
	if err != nil {
		return false, err
	}
	return c.Holds(with)
}
