// Package bus carries what happens in one room to all that want to know. Values go
// one way: who publishes knows nobody who listens.
package bus

import (
	"slices"
	"sync"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/serial"
)

// A Bus has one topic for each thing that can happen.
type Bus struct {
	Observed   Topic[observation.Observation] // gear, or a device, has answered or has not
	Measured   Topic[operation.Event]         // what running operations wait for
	Judged     Topic[[]estate.Key]            // these devices look different
	Operations Topic[*operation.Operation]    // one has begun, gone on or ended
	Groups     Topic[*group.Group]
	Incidents  Topic[*incident.Incident]
	Journal    Topic[NewEntry]
	Accounts   Topic[AccountChanged]
	Seated     Topic[estate.Key] // who is on its serial line is not who was
	Recognised Topic[LineSaid]   // a serial line has said something that is known
	Ailing     Topic[Ailing]
	Broken     Topic[Broken]
}

// LineSaid is what was recognised on the serial line of a device, or on its screen.
type LineSaid struct {
	Screen bool
	Device estate.Key
	Found  []serial.Found
}

// NewEntry says that the journal has one, or several.
type NewEntry struct{}

// AccountChanged says that somebody may do more or less than before.
type AccountChanged struct{}

// Ailing says that what ails the service is not what it was.
type Ailing struct{}

// Broken says that a driver has failed, which is a fault of this program.
type Broken struct {
	Endpoint estate.EndpointID
	Why      string
	Where    string // in the program
}

// A Topic is one kind of value. The zero Topic can be used.
type Topic[T any] struct {
	mu        sync.RWMutex
	listeners []*listener[T]
}

type listener[T any] struct{ hear func(T) }

// Publish tells everybody who listens, in the order in which they began to.
func (t *Topic[T]) Publish(v T) {
	t.mu.RLock()
	all := t.listeners
	t.mu.RUnlock()
	for _, l := range all {
		l.hear(v)
	}
}

// Listen has every value heard from now on, by whoever publishes: it must not wait for
// anything, nor publish under a lock that it needs itself. leave ends it; a value that
// is on its way then may still be heard.
func (t *Topic[T]) Listen(hear func(T)) (leave func()) {
	l := &listener[T]{hear}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.listeners = append(slices.Clip(t.listeners), l) // a new one: publishers hold the old
	return func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.listeners = slices.DeleteFunc(slices.Clone(t.listeners), func(x *listener[T]) bool { return x == l })
	}
}

// Queue is Listen for who has to wait. What does not fit is dropped: it is for what is
// said again.
func (t *Topic[T]) Queue(size int) (values <-chan T, leave func()) {
	c := make(chan T, size)
	return c, t.Listen(func(v T) {
		select {
		case c <- v:
		default:
		}
	})
}
