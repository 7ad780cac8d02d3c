package act

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"plumbbob/internal/store"
)

// A runner carries out one durable machine: it feeds it with events, and has what it
// says done, until that says that it is over. Its goroutine owns the machine; others
// see copies. M is the machine, E its events, C its commands.
type runner[M, E, C any] struct {
	work   work[M, E, C]
	events chan E // from whoever has something to say to it
	done   chan struct{}
	seen   atomic.Pointer[M]
}

// work is what is particular to one kind of machine.
type work[M, E, C any] interface {
	step(E) []C
	copied() *M

	// carryOut does what the machine says, in order, and stops at a record that cannot
	// be made: nothing is done that is not on record. What came of it at once are
	// events; wake is when it wants to be woken, or zero.
	carryOut(ctx context.Context, cmds []C) (more []E, wake time.Time, over bool)

	// woken is the event that its time has come.
	woken(now, wake time.Time) E
}

// A preparer does something before its machine begins, and undoes it afterwards.
type preparer interface {
	prepare(ctx context.Context) (undo func())
}

// A waiter is told before its machine waits.
type waiter interface{ waiting() }

// A listener hears what is measured, and says what of that is worth an event.
type listener[E any] interface {
	hear() <-chan E
	telling(E) bool
}

// A looker looks around now and then.
type looker[E any] interface {
	look(ctx context.Context, now time.Time) []E
}

func newRunner[M, E, C any](w work[M, E, C]) *runner[M, E, C] {
	r := &runner[M, E, C]{work: w, events: make(chan E), done: make(chan struct{})}
	r.show()
	return r
}

func (r *runner[M, E, C]) view() *M { return r.seen.Load() }

// show has others see how it is now.
func (r *runner[M, E, C]) show() { r.seen.Store(r.work.copied()) }

// lookAgain is how often a looker looks.
const lookAgain = 250 * time.Millisecond

// run feeds the machine, first with one event, until it is over or ctx ends.
func (r *runner[M, E, C]) run(ctx context.Context, first E) {
	if p, ok := r.work.(preparer); ok {
		defer p.prepare(ctx)()
	}
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	var heard <-chan E
	if l, ok := r.work.(listener[E]); ok {
		heard = l.hear()
	}
	var looks <-chan time.Time
	around, looking := r.work.(looker[E])
	if looking {
		tick := time.NewTicker(lookAgain)
		defer tick.Stop()
		looks = tick.C
	}
	var wake time.Time
	queue := []E{first}
	for {
		for len(queue) > 0 {
			more, at, over := r.work.carryOut(ctx, r.work.step(queue[0]))
			if over || ctx.Err() != nil {
				return
			}
			queue = append(queue[1:], more...)
			if !at.IsZero() {
				wake = at
				timer.Reset(until(wake))
			}
		}
		if w, ok := r.work.(waiter); ok {
			w.waiting()
		}
		select {
		case <-ctx.Done():
			return
		case in := <-r.events:
			queue = append(queue, in)
		case in := <-heard:
			if r.work.(listener[E]).telling(in) {
				queue = append(queue, in)
			}
		case now := <-looks:
			queue = append(queue, around.look(ctx, now.UTC())...)
		case now := <-timer.C:
			if now.Before(wake) {
				timer.Reset(until(wake))
				continue
			}
			queue = append(queue, r.work.woken(now.UTC(), wake))
		}
	}
}

// clockLooked is how often the clock on the wall is looked at: it may be set meanwhile.
const clockLooked = 30 * time.Second

func until(wake time.Time) time.Duration { return min(time.Until(wake), clockLooked) }

// tell hands an event to the machine. Its error is ErrEnded, or that of ctx.
func (r *runner[M, E, C]) tell(ctx context.Context, in E) error {
	select {
	case r.events <- in:
		return nil
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-r.done:
		return ErrEnded
	}
}

// A shelf has the runners of one kind that are under way, by id. One that is only
// being begun, or taken up, has its place there, and no runner yet.
type shelf[M, E, C any] struct {
	mu   sync.Mutex
	runs map[string]*runner[M, E, C]
}

func newShelf[M, E, C any]() *shelf[M, E, C] {
	return &shelf[M, E, C]{runs: map[string]*runner[M, E, C]{}}
}

func (s *shelf[M, E, C]) get(id string) *runner[M, E, C] {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.runs[id]
}

// reserve takes a place; false says that it is taken. What is on record and has no place
// is what a crash has interrupted.
func (s *shelf[M, E, C]) reserve(id string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, taken := s.runs[id]
	if !taken {
		s.runs[id] = nil
	}
	return !taken
}

func (s *shelf[M, E, C]) put(id string, r *runner[M, E, C]) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.runs[id] = r
}

func (s *shelf[M, E, C]) drop(id string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.runs, id)
}

// all are those that are under way, as they are now.
func (s *shelf[M, E, C]) all() []*M {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]*M, 0, len(s.runs))
	for _, r := range s.runs {
		if r != nil {
			out = append(out, r.view())
		}
	}
	return out
}

// start puts one on the shelf, and runs it until it is over.
func (s *shelf[M, E, C]) start(a *Actor, id string, r *runner[M, E, C], first E) {
	s.put(id, r)
	a.work.Go(func() {
		defer close(r.done)
		defer s.drop(id)
		r.run(a.ctx, first)
	})
}

// find returns one, as it is now or as it is on record.
func (s *shelf[M, E, C]) find(ctx context.Context, id string, record func(context.Context, string) (*M, error)) (*M, error) {
	if r := s.get(id); r != nil {
		return r.view(), nil
	}
	return record(ctx, id)
}

// fresh puts those that are under way in the place of their records.
func (s *shelf[M, E, C]) fresh(list []*M, id func(*M) string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, m := range list {
		if r := s.runs[id(m)]; r != nil {
			list[i] = r.view()
		}
	}
}

// cancel tells one that it is to stop, and returns it as it was then. One that is not
// under way has ended, or is not there at all.
func (s *shelf[M, E, C]) cancel(ctx context.Context, id string, in E, record func(context.Context, string) (*M, error)) (*M, error) {
	r := s.get(id)
	if r == nil {
		if _, err := record(ctx, id); err != nil {
			return nil, err
		}
		return nil, ErrEnded
	}
	if err := r.tell(ctx, in); err != nil {
		return nil, err
	}
	return r.view(), nil
}

// recordAgain is how long is waited before a record is tried again.
const recordAgain = time.Second

// pause waits; false says that ctx has ended meanwhile.
func pause(ctx context.Context, d time.Duration) bool {
	select {
	case <-ctx.Done():
		return false
	case <-time.After(d):
		return true
	}
}

// insist makes a record, however often that has to be tried, until ctx ends. One
// that was made before, by a write whose answer was lost, is made.
func (a *Actor) insist(ctx context.Context, what string, record func() error) error {
	for {
		err := record()
		if err == nil || errors.Is(err, store.ErrConflict) {
			a.Health.Well(what)
			return nil
		}
		a.Health.Grave(what, what+" cannot be recorded, so it waits: "+err.Error())
		if !pause(ctx, recordAgain) {
			return context.Cause(ctx)
		}
	}
}
