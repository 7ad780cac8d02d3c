// Package durable carries out step machines that survive a crash: it feeds them with events,
// records what they say before it does it, and takes them up again.
package durable

import (
	"context"
	"crypto/rand"
	"errors"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"plumbbob/internal/health"
	"plumbbob/internal/store"
)

// A Runner carries out one durable machine: it feeds it with events, and has what it
// says done, until that says that it is over. Its goroutine owns the machine; others
// see copies. M is the machine, E its events, C its commands.
type Runner[M, E, C any] struct {
	work   Work[M, E, C]
	events chan E // from whoever has something to say to it
	done   chan struct{}
	seen   atomic.Pointer[M]
}

// Work is what is particular to one kind of machine.
type Work[M, E, C any] interface {
	Step(E) []C
	Copied() *M

	// CarryOut does what the machine says, in order, and stops at a record that cannot
	// be made: nothing is done that is not on record. What came of it at once are
	// events; wake is when it wants to be woken, or zero.
	CarryOut(ctx context.Context, cmds []C) (more []E, wake time.Time, over bool)

	// Woken is the event that its time has come.
	Woken(now, wake time.Time) E
}

// A Preparer does something before its machine begins, and undoes it afterwards.
type Preparer interface {
	Prepare(ctx context.Context) (undo func())
}

// A Waiter is told before its machine waits.
type Waiter interface{ Waiting() }

// A Listener hears what is measured, and says what of that is worth an event.
type Listener[E any] interface {
	Hear() <-chan E
	Telling(E) bool
}

// A Looker looks around now and then.
type Looker[E any] interface {
	Look(ctx context.Context, now time.Time) []E
}

// New returns a runner, which has not begun.
func New[M, E, C any](w Work[M, E, C]) *Runner[M, E, C] {
	r := &Runner[M, E, C]{work: w, events: make(chan E), done: make(chan struct{})}
	r.Show()
	return r
}

func (r *Runner[M, E, C]) View() *M { return r.seen.Load() }

// Show has others see how it is now.
func (r *Runner[M, E, C]) Show() { r.seen.Store(r.work.Copied()) }

// Ended is closed when the machine is over, or is left for the next start.
func (r *Runner[M, E, C]) Ended() <-chan struct{} { return r.done }

// LookAgain is how often a Looker looks.
const LookAgain = 250 * time.Millisecond

// run feeds the machine, first with one event, until it is over or ctx ends.
func (r *Runner[M, E, C]) run(ctx context.Context, first E) {
	if p, ok := r.work.(Preparer); ok {
		defer p.Prepare(ctx)()
	}
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	var heard <-chan E
	if l, ok := r.work.(Listener[E]); ok {
		heard = l.Hear()
	}
	var looks <-chan time.Time
	around, looking := r.work.(Looker[E])
	if looking {
		tick := time.NewTicker(LookAgain)
		defer tick.Stop()
		looks = tick.C
	}
	var wake time.Time
	queue := []E{first}
	for {
		for len(queue) > 0 {
			more, at, over := r.work.CarryOut(ctx, r.work.Step(queue[0]))
			if over || ctx.Err() != nil {
				return
			}
			queue = append(queue[1:], more...)
			if !at.IsZero() {
				wake = at
				timer.Reset(until(wake))
			}
		}
		if w, ok := r.work.(Waiter); ok {
			w.Waiting()
		}
		select {
		case <-ctx.Done():
			return
		case in := <-r.events:
			queue = append(queue, in)
		case in := <-heard:
			if r.work.(Listener[E]).Telling(in) {
				queue = append(queue, in)
			}
		case now := <-looks:
			queue = append(queue, around.Look(ctx, now.UTC())...)
		case now := <-timer.C:
			if now.Before(wake) {
				timer.Reset(until(wake))
				continue
			}
			queue = append(queue, r.work.Woken(now.UTC(), wake))
		}
	}
}

// ErrEnded says that what is spoken to has ended already.
var ErrEnded = errors.New("it has ended already")

// clockLooked is how often the clock on the wall is looked at: it may be set meanwhile.
const clockLooked = 30 * time.Second

func until(wake time.Time) time.Duration { return min(time.Until(wake), clockLooked) }

// Tell hands an event to the machine. Its error is ErrEnded, or that of ctx.
func (r *Runner[M, E, C]) Tell(ctx context.Context, in E) error {
	select {
	case r.events <- in:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-r.done:
		return ErrEnded
	}
}

// A Shelf has the runners of one kind that are under way, by id. One that is only
// being begun, or taken up, has its place there, and no Runner yet.
type Shelf[M, E, C any] struct {
	mu   sync.Mutex
	runs map[string]*Runner[M, E, C]
}

// NewShelf returns an empty one.
func NewShelf[M, E, C any]() *Shelf[M, E, C] {
	return &Shelf[M, E, C]{runs: map[string]*Runner[M, E, C]{}}
}

func (s *Shelf[M, E, C]) Get(id string) *Runner[M, E, C] {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.runs[id]
}

// Reserve takes a place; false says that it is taken. What is on record and has no place
// is what a crash has interrupted.
func (s *Shelf[M, E, C]) Reserve(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, taken := s.runs[id]
	if !taken {
		s.runs[id] = nil
	}
	return !taken
}

func (s *Shelf[M, E, C]) Put(id string, r *Runner[M, E, C]) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.runs[id] = r
}

func (s *Shelf[M, E, C]) Drop(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.runs, id)
}

// All are those that are under way, as they are now.
func (s *Shelf[M, E, C]) All() []*M {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]*M, 0, len(s.runs))
	for _, r := range s.runs {
		if r != nil {
			out = append(out, r.View())
		}
	}
	return out
}

// Start puts one on the shelf, and runs it until it is over.
func (s *Shelf[M, E, C]) Start(ctx context.Context, all *sync.WaitGroup, id string, r *Runner[M, E, C], first E) {
	s.Put(id, r)
	all.Go(func() {
		defer close(r.done)
		defer s.Drop(id)
		r.run(ctx, first)
	})
}

// Find returns one, as it is now or as it is on record.
func (s *Shelf[M, E, C]) Find(ctx context.Context, id string, record func(context.Context, string) (*M, error)) (*M, error) {
	if r := s.Get(id); r != nil {
		return r.View(), nil
	}
	return record(ctx, id)
}

// Fresh puts those that are under way in the place of their records.
func (s *Shelf[M, E, C]) Fresh(list []*M, id func(*M) string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, m := range list {
		if r := s.runs[id(m)]; r != nil {
			list[i] = r.View()
		}
	}
}

// Cancel tells one that it is to stop, and returns it as it was then. One that is not
// under way has ended, or is not there at all.
func (s *Shelf[M, E, C]) Cancel(ctx context.Context, id string, in E, record func(context.Context, string) (*M, error)) (*M, error) {
	r := s.Get(id)
	if r == nil {
		if _, err := record(ctx, id); err != nil {
			return nil, err
		}
		return nil, ErrEnded
	}
	if err := r.Tell(ctx, in); err != nil {
		return nil, err
	}
	return r.View(), nil
}

// NewID makes up the id of what is begun.
func NewID() string { return strings.ToLower(rand.Text()[:10]) }

// RecordAgain is how long is waited before a record is tried again.
const RecordAgain = time.Second

// Pause waits; false says that ctx has ended meanwhile.
func Pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// Insist makes a record, however often that has to be tried, until ctx ends. One
// that was made before, by a write whose answer was lost, is made.
func Insist(ctx context.Context, h *health.Book, what string, record func() error) error {
	for {
		err := record()
		if err == nil || errors.Is(err, store.ErrConflict) {
			h.Well(what)
			return nil
		}
		h.Grave(what, what+" cannot be recorded, so it waits: "+err.Error())
		if !Pause(ctx, RecordAgain) {
			return context.Cause(ctx)
		}
	}
}
