// Package incidents runs the book of core/incident on what the keeper believes and
// the actor does: it opens and ends incidents, records them, and takes in what
// people say of them.
package incidents

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/durable"
	"plumbbob/internal/health"
	"plumbbob/internal/keep"
	"plumbbob/internal/store"
)

// Parts are what the room works with.
type Parts struct {
	Store   *store.Store
	Keeper  *keep.Keeper
	Log     *slog.Logger
	Health  *health.Book
	Standby func() bool // another service keeps the book now; nil: never
	Bus     *bus.Bus
	Tell    store.Teller // nil: nobody is told
}

// Room has the book. It may be shared between goroutines.
type Room struct {
	Parts

	mu    sync.Mutex
	book  incident.Book
	ready bool                                // what was open before the start is in the book
	ops   map[estate.Key]*operation.Operation // the newest on each device, while it may be late
	miss  map[estate.Key]string               // what was missed since the last look
	dirty map[string]*unsaved                 // what the store has not got yet, by id
	tell  []*incident.Incident                // once the lock is given back: who is told may look at the keeper

	saying sync.Mutex // what people say comes one after the other
}

type unsaved struct {
	*incident.Incident
	entries []store.Entry
}

// New returns a room with an empty book. Nothing happens before Run.
func New(p Parts) *Room {
	r := &Room{Parts: p, ops: map[estate.Key]*operation.Operation{}, miss: map[estate.Key]string{}, dirty: map[string]*unsaved{}}
	p.Bus.Operations.Listen(r.operation)
	p.Bus.Groups.Listen(r.group)
	return r
}

const lookEvery = time.Second

// Run keeps the book until ctx ends, and returns the cause. While the database is
// away, or slow, incidents open and end all the same, and are recorded later.
func (r *Room) Run(ctx context.Context) error {
	var saving sync.WaitGroup
	defer saving.Wait()
	looked := make(chan struct{}, 1)
	defer close(looked)
	saving.Go(func() {
		for range looked {
			r.save(ctx)
		}
		r.save(ctx) // what has changed since
	})
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		if r.Standby != nil && r.Standby() {
			r.forget()
		} else if err := r.take(ctx); err == nil {
			r.Health.Well("incidents")
			r.look(time.Now().UTC())
			select {
			case looked <- struct{}{}:
			default: // it is still at it
			}
		} else if ctx.Err() == nil {
			r.Health.Grave("incidents", "what was wrong before the start is not known yet, so no incident is opened: "+err.Error())
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
	}
}

// take brings in what was open, or had only just ended, when the service stopped.
func (r *Room) take(ctx context.Context) error {
	if r.ready {
		return nil
	}
	list, err := r.Store.Incidents(ctx, store.IncidentFilter{Open: true, EndedSince: time.Now().Add(-incident.SoonAgain), Limit: 10_000})
	if err != nil {
		return err
	}
	slices.Reverse(list) // of one device the newest counts
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, i := range list {
		r.book.Take(i)
	}
	r.ready = true
	return nil
}

// forget drops the book: another service keeps it, and it is read again when that is
// over.
func (r *Room) forget() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.book, r.ready, r.dirty = incident.Book{}, false, map[string]*unsaved{}
}

// look brings the book up to date.
func (r *Room) look(now time.Time) {
	w := incident.World{Now: now, Late: map[estate.Key]string{}, Owed: map[estate.Key]string{}}
	r.Keeper.See(func(e *estate.Estate, _ *verdict.Evidence, vs map[estate.Key]verdict.Verdict, _ time.Time) {
		w.Estate, w.Verdicts = e, make(map[estate.Key]verdict.Verdict, len(vs))
		for k, v := range vs {
			w.Verdicts[k] = v
		}
	})
	if len(w.Estate.Devices) == 0 {
		return // it has not been brought in yet
	}
	r.mu.Lock()
	defer r.unlock()
	for k, o := range r.ops {
		if text := o.Overdue(now); text != "" {
			w.Owed[k] = text
		}
		if text := o.Late(now); text != "" {
			w.Late[k] = text
		}
		if o.State != operation.Running && (w.Late[k] == "" || w.Verdicts[k].State == verdict.Steady) {
			delete(r.ops, k)
		}
	}
	w.Missed, r.miss = r.miss, map[estate.Key]string{}
	for _, c := range r.book.Look(w, durable.NewID) {
		if o := r.ops[c.Device]; o != nil {
			r.book.Tried(c.Device, o.ID, now)
		}
		r.changed(c.Incident, entry(c.Incident, now, "", c.Text))
	}
}

func entry(i *incident.Incident, at time.Time, who, text string) *store.Entry {
	if text == "" {
		return nil
	}
	result := "open"
	if !i.Open() {
		result = "ended"
	}
	return &store.Entry{At: at, Site: i.Site, Device: i.Device, Who: who, Kind: store.EntryIncident, Text: text, Result: result}
}

// unlock gives the lock back, and then tells what has changed.
func (r *Room) unlock() {
	tell := r.tell
	r.tell = nil
	r.mu.Unlock()
	for _, i := range tell {
		r.Bus.Incidents.Publish(i)
	}
}

// changed has an incident told of and recorded. The lock is held.
func (r *Room) changed(i *incident.Incident, e *store.Entry) {
	d := r.dirty[i.ID]
	if d == nil {
		d = &unsaved{}
		r.dirty[i.ID] = d
	}
	d.Incident = i.Clone()
	if e != nil {
		d.entries = append(d.entries, *e)
	}
	r.tell = append(r.tell, i.Clone())
}

const saveWithin = 10 * time.Second

// save records what has changed, to the end even when ctx has ended. What cannot
// be recorded now is tried again.
func (r *Room) save(ctx context.Context) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), saveWithin)
	defer cancel()
	r.mu.Lock()
	todo := r.dirty
	r.dirty = map[string]*unsaved{}
	r.mu.Unlock()
	written := false
	for id, u := range todo {
		err := r.Store.SaveIncident(ctx, u.Incident, r.Tell, u.entries...)
		if err == nil {
			written = written || len(u.entries) > 0
			continue
		}
		if errors.Is(err, store.ErrRow) { // it stays in the book, without its record
			r.Health.Ails("incident "+id, fmt.Sprintf("the incident %s of %s cannot be recorded: %s", id, u.Device, err))
			continue
		}
		r.Health.Ails("incidents", "incidents cannot be recorded for the moment: "+err.Error())
		r.mu.Lock()
		if now := r.dirty[id]; now == nil {
			r.dirty[id] = u
		} else {
			now.entries = append(u.entries, now.entries...)
		}
		r.mu.Unlock()
	}
	if written {
		r.Bus.Journal.Publish(bus.NewEntry{})
	}
}

// operation notes what is tried, and who is awaited.
func (r *Room) operation(o *operation.Operation) {
	r.mu.Lock()
	defer r.unlock()
	now := time.Now().UTC()
	if was := r.ops[o.Device]; was == nil || !o.Asked.Before(was.Asked) {
		r.ops[o.Device] = o
	}
	if i := r.book.Tried(o.Device, o.ID, now); i != nil {
		r.changed(i, nil)
	}
}

// group notes what was to be done at a time, and was not.
func (r *Room) group(g *group.Group) {
	if g.State != group.Missed {
		return
	}
	k := g.Members[0].Device
	zone := r.Keeper.Estate().Zone(k)
	r.mu.Lock()
	defer r.mu.Unlock()
	if g.Broken > 0 {
		r.miss[k] = fmt.Sprintf("%s was broken off: nothing here could act for %s, and what had not begun by then was not done", g.Title, verdict.Age(g.Broken))
		return
	}
	r.miss[k] = fmt.Sprintf("%s was to begin at %s and was missed: nothing here could act before %s", g.Title, g.At.In(zone).Format("2 Jan 15:04 MST"), g.Ended.In(zone).Format("2 Jan 15:04 MST"))
}

// Open lists what has not ended, the oldest first.
func (r *Room) Open() []*incident.Incident {
	r.mu.Lock()
	defer r.mu.Unlock()
	open := r.book.Open()
	for n, i := range open {
		open[n] = i.Clone()
	}
	return open
}

// Of returns what is open of a device, or nil.
func (r *Room) Of(k estate.Key) *incident.Incident {
	r.mu.Lock()
	defer r.mu.Unlock()
	if i := r.book.Of(k); i != nil {
		return i.Clone()
	}
	return nil
}

// Find returns an incident, open or ended. Its error is that of the store.
func (r *Room) Find(ctx context.Context, id string) (*incident.Incident, error) {
	r.mu.Lock()
	i := r.book.Find(id)
	if i != nil {
		i = i.Clone()
	}
	r.mu.Unlock()
	if i != nil {
		return i, nil
	}
	return r.Store.Incident(ctx, id)
}

// Say changes an incident by what somebody says of it, and records that with an
// entry of the journal. Besides that of Find its errors are those of say.
func (r *Room) Say(ctx context.Context, id, who string, say func(i *incident.Incident, now time.Time) (text string, err error)) (*incident.Incident, error) {
	r.saying.Lock()
	defer r.saying.Unlock()
	i, err := r.Find(ctx, id)
	if err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	text, err := say(i, now)
	if err != nil {
		return nil, err
	}
	i.Changed = now
	if err := r.Store.SaveIncident(ctx, i, r.Tell, *entry(i, now, who, text)); err != nil {
		return nil, err
	}
	r.mu.Lock()
	if mine := r.book.Find(id); mine != nil {
		mine.Seen, mine.Shelved, mine.Notes, mine.Changed = i.Seen, i.Shelved, i.Notes, now
		r.changed(mine, nil) // it may have changed by itself meanwhile
	} else {
		r.tell = append(r.tell, i.Clone())
	}
	r.unlock()
	r.Bus.Journal.Publish(bus.NewEntry{})
	return i, nil
}
