// Package schedule decides when to ask whom. It has no clock: it is told what
// time it is, and says what is due and when it wants to be asked again.
package schedule

import (
	"container/heap"
	"time"

	"plumbbob/internal/core/loss"
)

const (
	// CloseEvery is how often a subject under close watch is asked.
	CloseEvery = 500 * time.Millisecond
	// Until a silence is certain it is asked about more often.
	confirmEvery = time.Second
	// A subject that stays silent is asked less and less often.
	backOffAfter = 10
	backOffMost  = 4
	maxEvery     = time.Minute
	jitterShare  = 0.1
)

// Plan is when each subject is to be asked next. A subject is not due again
// before its last question has been answered or given up.
type Plan[K comparable] struct {
	jitter  func() float64 // 0 to 1
	entries map[K]*entry[K]
	queues  [Lanes]queue[K]
	asking  [Lanes]int
	sent    []asked[K] // the questions of the lane Well that are on their way, the oldest first
}

// asked is one question that was sent, and of its subject which one that was.
type asked[K comparable] struct {
	entry *entry[K]
	n     int
	at    time.Time
}

// A Lane is what subjects share room with. Those that do not answer hold their
// questions for long, and must not take the room of those that do.
type Lane uint8

// The lanes.
const (
	Well     Lane = iota // answered, or not asked yet
	Doubtful             // the last question went unanswered, or this one has not been answered soon
	Free                 // a question needs no room while it waits

	Lanes = 3
)

// Room is how many questions may be on their way at a time, by lane.
type Room [Lanes]int

type entry[K comparable] struct {
	key    K
	every  time.Duration
	next   time.Time
	misses int
	loss   loss.Meter
	need   int  // questions in vain until a silence is certain, when its way wants more than it does
	fine   bool // its last question was answered
	close  int  // how many want it under close watch
	free   bool
	asking bool
	n      int  // how often it was asked
	lane   Lane // that it waits, or is asked, in
	at     int  // in the queue of its lane, -1 while it is being asked
}

// queued puts an entry into the queue of its lane.
func (p *Plan[K]) queued(e *entry[K]) {
	switch {
	case e.free:
		e.lane = Free
	case e.misses > 0:
		e.lane = Doubtful
	default:
		e.lane = Well
	}
	heap.Push(&p.queues[e.lane], e)
}

// New returns an empty plan. jitter spreads questions and returns 0 to 1.
func New[K comparable](jitter func() float64) *Plan[K] {
	return &Plan[K]{jitter: jitter, entries: map[K]*entry[K]{}}
}

// Set adds a subject, spreading first questions over one interval, or changes
// how often it is asked. free says that a question needs no room while it waits.
func (p *Plan[K]) Set(k K, every time.Duration, free bool, now time.Time) {
	if e := p.entries[k]; e != nil {
		e.every = every
		return
	}
	e := &entry[K]{key: k, every: every, free: free, next: now.Add(time.Duration(p.jitter() * float64(min(every, 2*time.Second))))}
	p.entries[k] = e
	p.queued(e)
}

// Remove forgets a subject.
func (p *Plan[K]) Remove(k K) {
	e := p.entries[k]
	if e == nil {
		return
	}
	delete(p.entries, k)
	if e.at >= 0 {
		heap.Remove(&p.queues[e.lane], e.at)
	} else if e.asking {
		p.asking[e.lane]--
	}
}

// Keys calls f for every subject.
func (p *Plan[K]) Keys(f func(K)) {
	for k := range p.entries {
		f(k)
	}
}

// Due returns the subjects that are to be asked now, as far as there is room for
// them. Each is taken out until Answered is called for it.
func (p *Plan[K]) Due(now time.Time, room Room) []K {
	p.late(now)
	var due []K
	for lane := range p.queues {
		q := &p.queues[lane]
		for len(*q) > 0 && (p.asking[lane] < room[lane] || Lane(lane) == Free) && !(*q)[0].next.After(now) {
			e := heap.Pop(q).(*entry[K])
			e.asking = true
			e.n++
			p.asking[lane]++
			if e.lane == Well {
				p.sent = append(p.sent, asked[K]{e, e.n, now})
			}
			due = append(due, e.key)
		}
	}
	return due
}

// soon is how long a question of those who are well takes room from the others that
// are: one that waits for longer is likely to wait for its whole time.
const soon = time.Second

// late counts what has not been answered soon to those in doubt.
func (p *Plan[K]) late(now time.Time) {
	for len(p.sent) > 0 && now.Sub(p.sent[0].at) >= soon {
		q := p.sent[0]
		p.sent = p.sent[1:]
		if e := q.entry; e.asking && e.n == q.n && e.lane == Well && p.entries[e.key] == e {
			e.lane = Doubtful
			p.asking[Well]--
			p.asking[Doubtful]++
		}
	}
}

// Answered says how a question ended, and plans the next one.
func (p *Plan[K]) Answered(k K, ok bool, now time.Time) {
	e := p.entries[k]
	if e == nil || !e.asking {
		return
	}
	e.asking = false
	p.asking[e.lane]--
	e.fine = ok
	if ok {
		if e.misses >= max(e.need, e.loss.Need()) {
			e.misses = 0 // that was no bad luck
		}
		e.loss = e.loss.Answered(e.misses)
		e.misses, e.need = 0, 0
	} else {
		e.misses++
	}
	e.next = now.Add(p.wait(e))
	p.queued(e)
}

// wait is how long until the next question.
func (p *Plan[K]) wait(e *entry[K]) time.Duration {
	every := e.every
	switch {
	case e.close > 0:
		return CloseEvery
	case e.misses > 0 && e.misses < max(e.need, e.loss.Need()):
		every = min(every, confirmEvery)
	case e.misses >= backOffAfter:
		every = max(every, min(maxEvery, every*time.Duration(min(backOffMost, 1+e.misses/backOffAfter))))
	}
	return time.Duration(float64(every) * (1 - jitterShare + 2*jitterShare*p.jitter()))
}

// Doubt says that a subject has to leave more questions unanswered until its silence is
// certain than it does by itself: until then it is asked about as often.
func (p *Plan[K]) Doubt(k K, need int, now time.Time) {
	e := p.entries[k]
	if e == nil || e.misses == 0 || e.misses >= need || need <= max(e.need, e.loss.Need()) {
		return
	}
	e.need = need
	if next := now.Add(p.wait(e)); e.at >= 0 && next.Before(e.next) {
		e.next = next
		heap.Fix(&p.queues[e.lane], e.at)
	}
}

// Close puts a subject under close watch, or with on false lifts one such wish.
func (p *Plan[K]) Close(k K, on bool, now time.Time) {
	e := p.entries[k]
	if e == nil {
		return
	}
	if !on {
		e.close = max(0, e.close-1)
		return
	}
	e.close++
	if e.at >= 0 {
		e.next = now
		heap.Fix(&p.queues[e.lane], e.at)
	}
}

// Soon has a subject asked now, unless it is being asked.
func (p *Plan[K]) Soon(k K, now time.Time) {
	if e := p.entries[k]; e != nil && e.at >= 0 && e.next.After(now) {
		e.next = now
		heap.Fix(&p.queues[e.lane], e.at)
	}
}

// Misses is how many questions to a subject went unanswered in a row, up to the last.
func (p *Plan[K]) Misses(k K) int {
	if e := p.entries[k]; e != nil {
		return e.misses
	}
	return 0
}

// Fine says whether a subject's last question was answered: not before the first.
func (p *Plan[K]) Fine(k K) bool {
	e := p.entries[k]
	return e != nil && e.fine
}

// Watched says whether a subject is under close watch.
func (p *Plan[K]) Watched(k K) bool {
	e := p.entries[k]
	return e != nil && e.close > 0
}

// Next says when something for which there is room is due, or false when nothing is.
func (p *Plan[K]) Next(room Room) (next time.Time, ok bool) {
	for lane, q := range p.queues {
		if len(q) > 0 && (p.asking[lane] < room[lane] || Lane(lane) == Free) && (!ok || q[0].next.Before(next)) {
			next, ok = q[0].next, true
		}
	}
	// Where there is none for those who are well, there will be soon.
	if q := p.queues[Well]; len(q) > 0 && p.asking[Well] >= room[Well] && len(p.sent) > 0 {
		if at := p.sent[0].at.Add(soon); !ok || at.Before(next) {
			next, ok = at, true
		}
	}
	return next, ok
}

// queue is a heap of entries by time.
type queue[K comparable] []*entry[K]

func (q queue[K]) Len() int           { return len(q) }
func (q queue[K]) Less(i, j int) bool { return q[i].next.Before(q[j].next) }
func (q queue[K]) Swap(i, j int) {
	q[i], q[j] = q[j], q[i]
	q[i].at, q[j].at = i, j
}
func (q *queue[K]) Push(x any) {
	e := x.(*entry[K])
	e.at = len(*q)
	*q = append(*q, e)
}
func (q *queue[K]) Pop() any {
	old := *q
	e := old[len(old)-1]
	old[len(old)-1] = nil
	*q = old[:len(old)-1]
	e.at = -1
	return e
}
