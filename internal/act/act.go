// Package act carries out operations: it asks the machine in core/operation
// what to do next, does it, and tells it what came of that.
//
//	act.go        previews, requests, cancelling
//	world.go      what previews rest on beside what is observed
//	groupplan.go  what several operations would do, in which order and when
//	group.go      carrying them out, together or later
//	run.go        one running operation, and taking up what a crash has interrupted
//	command.go    having the gear do one thing
//	proof.go      what is seen of a device before and after
//	record.go     writing it down: in the database, or in a file while that is away
//	ledger.go     that file
//	wiring.go     a wiring check by switching
package act

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/setting"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/core/wiring"
	"plumbbob/internal/durable"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/health"
	"plumbbob/internal/keep"
	"plumbbob/internal/lease"
	"plumbbob/internal/store"
	"plumbbob/internal/watch"
)

// Parts are what an Actor works with.
type Parts struct {
	Store   *store.Store
	Keeper  *keep.Keeper
	Watcher *watch.Watcher
	Garage  *garage.Garage
	Log     *slog.Logger
	Ledger  string // path of the file that is written while the database is away
	Bus     *bus.Bus

	// Command has the gear do one thing; nil: through the garage.
	Command func(context.Context, operation.Send) error

	// Screen is what a terminal at the serial line of a device shows now, row by row; nil:
	// nobody knows.
	Screen func(k estate.Key) []string
	// Picture is a PNG of what its screen shows now; nil: nobody knows.
	Picture func(ctx context.Context, k estate.Key) ([]byte, error)
	// AtLine says who sits at the serial line of a device, but for one; nil: nobody knows.
	AtLine func(k estate.Key, but string) []string

	// Role is what somebody may do now; nil: what they could when they asked.
	Role func(ctx context.Context, name string) (operation.Role, error)

	Health *health.Book // told of what cannot be recorded, or taken up
	Lease  *lease.Lease // the right to act; nil: always

	// MissedAfter is how late something may begin whose time was stated; 0: as in core/group.
	MissedAfter time.Duration

	// LastAlive is when a service with this data directory was last known to run; zero:
	// never before. With a lease that knows it.
	LastAlive time.Time

	// Reload brings in what another service may have changed while it had the lease;
	// nil: nothing does.
	Reload func(context.Context) error
}

// written tells that the journal has a new entry.
func (a *Actor) written() { a.Bus.Journal.Publish(bus.NewEntry{}) }

// Actor carries out operations. It may be shared between goroutines.
type Actor struct {
	Parts
	ledger *ledger
	copies *ledger // of what is under way, as the database has it or a step ahead

	retired atomic.Pointer[error] // why nothing new is begun

	newest newest

	mu     sync.Mutex
	tookUp bool // all that was unfinished at the start
	busy   map[estate.End]string
	work   sync.WaitGroup
	ctx    context.Context // of Run; operations end with it, and are taken up at the next start

	// What is under way.
	operations *durable.Shelf[operation.Operation, operation.Event, operation.Command]
	groups     *durable.Shelf[group.Group, group.Event, group.Command]
	settings   *durable.Shelf[setting.Change, setting.Event, setting.Command]
	checks     *durable.Shelf[wiring.Check, wiring.Event, wiring.Command]

	around      around
	shown       shown[operation.Preview]
	shownGroups shown[GroupPreview]
}

// New returns an actor. Nothing happens before Run.
func New(p Parts) (*Actor, error) {
	l, err := openLedger(p.Ledger, p.Health)
	if err != nil {
		return nil, err
	}
	c, err := openLedger(p.Ledger+".copies", p.Health)
	if err != nil {
		return nil, err
	}
	if p.Command == nil {
		p.Command = gearCommands{p.Garage}.carryOut
	}
	return &Actor{
		Parts: p, ledger: l, copies: c, busy: map[estate.End]string{},
		operations: durable.NewShelf[operation.Operation, operation.Event, operation.Command](), groups: durable.NewShelf[group.Group, group.Event, group.Command](),
		settings: durable.NewShelf[setting.Change, setting.Event, setting.Command](), checks: durable.NewShelf[wiring.Check, wiring.Event, wiring.Command](),
		around: around{ran: map[estate.Key]float64{}, draws: map[estate.Key]float64{}},
	}, nil
}

var (
	// ErrNotReady: the service is only just starting.
	ErrNotReady = errors.New("the service is only just starting: try again in a moment")
	// ErrEnded: the operation has ended already.
	ErrEnded = durable.ErrEnded
)

// A ChangedError says that a preview no longer holds.
type ChangedError struct {
	Now  *operation.Preview // nil of a group
	What string             // is different, where that is still known
}

func (e *ChangedError) Error() string {
	if e.What == "" {
		return "the preview you agreed to no longer holds: look at it again and decide anew"
	}
	return "the preview you agreed to no longer holds: " + e.What
}

// shown remembers the newest previews by their digests, so that whoever agreed to one can
// be told what has changed since.
type shown[P any] struct {
	mu   sync.Mutex
	by   map[string]*P
	ring []string
}

const shownMost = 256

func (s *shown[P]) remember(digest string, p *P) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.by[digest] != nil {
		return
	}
	if s.by == nil {
		s.by = map[string]*P{}
	}
	s.by[digest] = p
	if s.ring = append(s.ring, digest); len(s.ring) > shownMost {
		delete(s.by, s.ring[0])
		s.ring = s.ring[1:]
	}
}

// find returns a preview that was shown lately, or nil.
func (s *shown[P]) find(digest string) *P {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.by[digest]
}

// since says what a preview says that the one which was agreed to did not.
func (a *Actor) since(digest string, now *operation.Preview) string {
	was := a.shown.find(digest)
	if was == nil || was.Device != now.Device || was.Kind != now.Kind {
		return ""
	}
	return now.Since(was)
}

// A RefusedError says which interlocks stand in the way.
type RefusedError struct {
	Interlocks []operation.Interlock
	Preview    *operation.Preview
}

func (e *RefusedError) Error() string {
	reasons := make([]string, len(e.Interlocks))
	for i, l := range e.Interlocks {
		reasons[i] = l.Reason
	}
	return "refused: " + strings.Join(reasons, "; ")
}

// Preview works out what an operation would do. Its error is a
// *operation.UsageError or that of the store.
func (a *Actor) Preview(ctx context.Context, in operation.Intent, by operation.Asker) (*operation.Preview, error) {
	p, _, err := a.preview(ctx, in, by)
	if err == nil {
		a.shown.remember(p.Digest, p)
	}
	return p, err
}

func (a *Actor) preview(ctx context.Context, in operation.Intent, by operation.Asker) (*operation.Preview, operation.World, error) {
	w, err := a.world(ctx, by)
	if err != nil {
		return nil, w, err
	}
	brief, cancel := context.WithTimeout(ctx, recordWithin)
	defer cancel()
	usual, err := a.Store.Usual(brief, in.Device)
	if err != nil && !errors.Is(err, store.ErrAway) {
		return nil, w, err
	}
	w.Usual = usual // without the database nothing is usual, and that must not stop anybody
	p, err := operation.Look(in, w)
	return p, w, err
}

// Request is what somebody asks for, and what they have agreed to.
type Request struct {
	Intent  operation.Intent
	Digest  string // of the preview that was agreed to
	Consent operation.Consent
	By      operation.Asker
	ID      string // of the operation, where whoever asks may ask again; or empty
}

// Request starts an operation. Besides those of Preview its errors are
// *ChangedError, *RefusedError and store.ErrConflict. One with that id that is there
// already is returned as it is.
func (a *Actor) Request(ctx context.Context, req Request) (*operation.Operation, error) {
	if req.ID == "" {
		return a.request(ctx, req, durable.NewID())
	}
	o, err := a.Find(ctx, req.ID)
	if errors.Is(err, store.ErrAway) { // being able to act is worth more then
		if o, err = a.ledger.find(req.ID), nil; o == nil {
			err = store.ErrNotFound
		}
	}
	switch {
	case err == nil && (o.Device != req.Intent.Device || o.Kind != req.Intent.Kind):
		return nil, usedKey(fmt.Sprintf("%s of %s", o.Kind, o.Device))
	case err == nil:
		return o, nil
	case errors.Is(err, store.ErrNotFound):
		return a.request(ctx, req, req.ID)
	}
	return nil, err
}

func usedKey(what string) error {
	return &operation.UsageError{Text: "that key has been used before, for " + what + ": make up another for each thing that is to be done"}
}

func (a *Actor) request(ctx context.Context, req Request, id string) (*operation.Operation, error) {
	if err := a.mayBegin(); err != nil {
		return nil, err
	}
	p, w, err := a.preview(ctx, req.Intent, req.By)
	if err != nil {
		return nil, err
	}
	// What stops it whatever was agreed to is the more useful answer.
	req.Consent.Role = req.By.Role
	stand := p.Unlifted(req.Consent)
	if len(stand) > 0 {
		return nil, &RefusedError{stand, p}
	}
	if was := a.shown.find(req.Digest); p.Digest != req.Digest && (was == nil || !p.Covered(was, req.Consent)) {
		return nil, &ChangedError{p, a.since(req.Digest, p)}
	}
	o := a.build(p, w, req, id)
	r := newRun(a, o)
	if err := a.claim(r); err != nil {
		return nil, err
	}
	if err := a.create(ctx, o); err != nil {
		a.release(r)
		return nil, err
	}
	shown := o.Clone()
	a.start(r)
	return shown, nil
}

// chassisSettle is how long a controller may take to carry out a command.
const chassisSettle = 4 * time.Second

// settle is how long what does the switching takes to carry out a command.
func settle(p *operation.Preview, out estate.End, w operation.World) time.Duration {
	switch p.Means {
	case operation.ByChassis, operation.ByCommand, operation.ByEndpoint:
		return chassisSettle
	case operation.ByPanel:
		longest := max(p.Hold, sending.LongPress)
		for _, lead := range w.Estate.Device(out.Device).Panel {
			return longest + w.Gear(lead.Device).Settle
		}
	}
	return w.Gear(out.Device).Settle
}

// build lays out the operation that a preview describes.
func (a *Actor) build(p *operation.Preview, w operation.World, req Request, id string) *operation.Operation {
	d := w.Estate.Device(p.Device)
	now := time.Now().UTC()
	o := &operation.Operation{
		ID:       id,
		Order:    operation.Order{Kind: p.Kind, Means: p.Means, Device: p.Device, Site: d.Site, By: req.By.By(), Why: req.Consent.Why, Asked: now, Hold: p.Hold, Within: p.Within, Force: p.Force, Command: p.Command, Button: p.Button, Into: p.Into},
		Plan:     operation.Plan{ByGear: p.ByGear, Restores: p.Restores, Usual: p.Usual, Hard: p.Hard, IdleW: verdict.Idle(d), AnswerWithin: 2 * verdict.BootTime(d)},
		Progress: operation.Progress{Saved: now},
	}
	o.Proof.Before = a.facts(d.Key, o.ID)
	o.Answered, _, _, _ = verdict.Heard(w.Estate, w.Evidence, d.Key, w.Now)
	affected := map[estate.Key]bool{p.Device: true}
	for _, l := range p.Loses {
		affected[l.Device] = true
		o.GoesDark = o.GoesDark || l.Dark && l.Device == p.Device
		if l.Dark {
			o.Dark = append(o.Dark, l.Device)
		}
	}
	for _, k := range p.CutOff {
		affected[k] = true
	}
	for _, out := range p.Outlets {
		o.Outlets = append(o.Outlets, out.End)
		o.Settle = max(o.Settle, settle(p, out.End, w))
	}
	if p.Kind == operation.Restart { // nobody switches through a card that is away
		for _, out := range d.Outlets {
			o.Also = append(o.Also, estate.End{Device: d.Key, Port: out.Port()})
		}
	}
	o.Also = append(o.Also, p.Hard...)
	for i := range w.Estate.Devices {
		k := &w.Estate.Devices[i]
		answers, _, _, _ := verdict.Heard(w.Estate, w.Evidence, k.Key, w.Now)
		// Only what stands at the same place can be on the wrong end of the cable.
		if answers && k.Site == d.Site && !affected[k.Key] && len(k.Probes) > 0 {
			o.Bystanders = append(o.Bystanders, k.Key)
		}
	}
	o.Lay(len(d.Probes) > 0 && w.Verdicts[d.Key].State != verdict.CutOff)
	return o
}

// claim takes the outlets of an operation in memory; the database does so too.
func (a *Actor) claim(r *run) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.ctx == nil || a.ctx.Err() != nil {
		return ErrNotReady
	}
	claims := r.o.Claims()
	for _, end := range claims {
		if a.busy[end] != "" {
			return store.ErrConflict
		}
	}
	for _, end := range claims {
		a.busy[end] = r.o.ID
	}
	return nil
}

func (a *Actor) release(r *run) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, end := range r.o.Claims() {
		if a.busy[end] == r.o.ID {
			delete(a.busy, end)
		}
	}
}

// Cancel asks a running operation to stop at the next safe point.
func (a *Actor) Cancel(ctx context.Context, id, by string) (*operation.Operation, error) {
	return a.operations.Cancel(ctx, id, operation.CancelAsked{At: time.Now().UTC(), By: by}, a.Store.Operation)
}

// Find returns an operation, running or ended.
func (a *Actor) Find(ctx context.Context, id string) (*operation.Operation, error) {
	return a.operations.Find(ctx, id, a.Store.Operation)
}

// List returns operations, the newest first, running ones as they are now.
func (a *Actor) List(ctx context.Context, f store.OperationFilter) ([]*operation.Operation, error) {
	ops, err := a.Store.Operations(ctx, f)
	if err != nil {
		return nil, fmt.Errorf("list operations: %w", err)
	}
	a.operations.Fresh(ops, func(o *operation.Operation) string { return o.ID })
	return ops, nil
}

// Running is how many operations run.
func (a *Actor) Running() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	ids := map[string]bool{}
	for _, id := range a.busy {
		ids[id] = true
	}
	return len(ids)
}
