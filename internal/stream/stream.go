// Package stream is the one stream of changes. Every event has a number, and of
// everything that changes the newest is kept, so that whoever lost the connection, or
// is slow, can go on where they were: they get what is different since.
package stream

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// The kinds of event.
const (
	Device    = "device"    // a device as the board shows it
	Operation = "operation" // an operation as the API shows it
	Group     = "group"     // a group as the API shows it
	Journal   = "journal"   // there is a new entry
	Trouble   = "trouble"   // what is wrong, as the board shows it
	Service   = "service"   // what ails the service itself, as the board shows it
	Estate    = "estate"    // there is a new estate: load everything again
	Incident  = "incident"  // an incident as the API shows it
	Account   = "account"   // somebody may do more or less than before
	Reset     = "reset"     // events were missed: load everything again
)

// An Event is one change. Data is JSON.
type Event struct {
	ID   string
	Kind string
	Key  string // what it is about: a later event with the same kind and key replaces it
	Data []byte
}

// Hub takes in events and hands them to every reader.
type Hub struct {
	epoch string // tells the numbers of this run from those of another

	mu      sync.Mutex
	seq     uint64
	lost    uint64 // whoever has not seen this one cannot go on
	things  map[thing]*state
	order   []place       // by number; some are old, because the same has changed again
	changed chan struct{} // closed at every event
}

type thing struct{ kind, key string }

// state is how something is now.
type state struct {
	thing
	seq    uint64
	data   []byte
	fields map[string]field // of what is told member by member
}

type field struct {
	raw string
	seq uint64 // at which it became so
}

type place struct {
	seq uint64
	*state
}

// mostThings is of how many things the newest is kept. Devices are as many as they are;
// operations and incidents come and go.
const mostThings = 64 << 10

// NewHub returns a hub without events.
func NewHub() *Hub {
	return &Hub{epoch: rand.Text()[:8], things: map[thing]*state{}, changed: make(chan struct{})}
}

// Publish adds an event, unless it says the same as the last about that; data is
// marshalled now.
func (h *Hub) Publish(kind, key string, data any) error {
	b, err := json.Marshal(data)
	if err != nil {
		return fmt.Errorf("event %s: %w", kind, err)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	s, known := h.things[thing{kind, key}]
	if known && kind != Journal && bytes.Equal(s.data, b) {
		return nil
	}
	h.add(thing{kind, key}).data = b
	return nil
}

// PublishMembers adds an event that carries only the members of data which are
// different from the last one about that. Those that are named as along are no reason
// for an event by themselves. A member that is gone is null.
func (h *Hub) PublishMembers(kind, key string, data any, along ...string) error {
	b, err := json.Marshal(data)
	if err != nil {
		return fmt.Errorf("event %s: %w", kind, err)
	}
	var members map[string]json.RawMessage
	if err := json.Unmarshal(b, &members); err != nil {
		return fmt.Errorf("event %s: %w", kind, err)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	var was map[string]field
	if s := h.things[thing{kind, key}]; s != nil {
		was = s.fields
	}
	var different []string
	reason := was == nil
	for name, raw := range members {
		if f, ok := was[name]; !ok || f.raw != string(raw) {
			different = append(different, name)
			reason = reason || !slices.Contains(along, name)
		}
	}
	for name, f := range was {
		if _, ok := members[name]; !ok && f.raw != gone {
			members[name] = json.RawMessage(gone)
			different = append(different, name)
			reason = true
		}
	}
	if !reason {
		return nil
	}
	s := h.add(thing{kind, key})
	if s.fields == nil {
		s.fields = make(map[string]field, len(members))
	}
	for _, name := range different {
		s.fields[name] = field{string(members[name]), s.seq}
	}
	return nil
}

const gone = "null"

// add makes an event of something. The lock is held.
func (h *Hub) add(t thing) *state {
	h.seq++
	s := h.things[t]
	if s == nil {
		s = &state{thing: t}
		h.things[t] = s
	}
	s.seq = h.seq
	h.order = append(h.order, place{h.seq, s})
	if len(h.order) > 2*len(h.things)+64 {
		h.order = slices.DeleteFunc(h.order, func(p place) bool { return p.seq != p.state.seq })
	}
	for len(h.things) > mostThings {
		if old := h.order[0]; old.seq == old.state.seq {
			delete(h.things, old.thing)
			h.lost = old.seq
		}
		h.order = h.order[1:]
	}
	close(h.changed)
	h.changed = make(chan struct{})
	return s
}

func (h *Hub) id(seq uint64) string { return h.epoch + "-" + strconv.FormatUint(seq, 10) }

// Newest returns the id of the newest event.
func (h *Hub) Newest() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.id(h.seq)
}

// A Reader is a place in the stream.
type Reader struct {
	hub  *Hub
	seq  uint64
	lost bool

	// Wants says what it reads; nil: everything. It is set before anything is read.
	Wants func(kind, key string) bool
}

// From returns a reader that goes on behind the event with this id, or at the
// newest one when id is empty. Where it cannot go on, its first event is a Reset.
func (h *Hub) From(id string) *Reader {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := &Reader{hub: h, seq: h.seq}
	if id == "" {
		return r
	}
	epoch, number, _ := strings.Cut(id, "-")
	seq, err := strconv.ParseUint(number, 10, 64)
	if err != nil || epoch != h.epoch || seq > h.seq || seq < h.lost {
		r.lost = true
		return r
	}
	r.seq = seq
	return r
}

// Next waits for events and returns all that there are. Of events about the
// same thing only the newest is returned, so a slow reader is not drowned.
func (r *Reader) Next(ctx context.Context) ([]Event, error) {
	for {
		r.hub.mu.Lock()
		events, changed := r.take(), r.hub.changed
		r.hub.mu.Unlock()
		if len(events) > 0 {
			return events, nil
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-changed:
		}
	}
}

// take is called with the hub's lock held.
func (r *Reader) take() []Event {
	h := r.hub
	if r.lost || r.seq < h.lost {
		r.lost, r.seq = false, h.seq
		return []Event{{ID: h.id(h.seq), Kind: Reset, Data: []byte("{}")}}
	}
	from, _ := slices.BinarySearchFunc(h.order, r.seq+1, func(p place, seq uint64) int { return cmp.Compare(p.seq, seq) })
	var out []Event
	for _, p := range h.order[from:] {
		if p.seq != p.state.seq || r.Wants != nil && !r.Wants(p.kind, p.key) {
			continue
		}
		out = append(out, Event{h.id(p.seq), p.kind, p.key, p.since(r.seq)})
	}
	r.seq = h.seq
	return out
}

// since is what is different for whoever has seen everything up to a number.
func (s *state) since(seq uint64) []byte {
	if s.fields == nil {
		return s.data
	}
	names := make([]string, 0, len(s.fields))
	for name, f := range s.fields {
		if f.seq > seq {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	out, _ := json.Marshal(s.key) // a string
	out = append([]byte(`{"key":`), out...)
	for _, name := range names {
		if name == "key" {
			continue
		}
		quoted, _ := json.Marshal(name) // a string
		out = append(append(append(append(out, ','), quoted...), ':'), s.fields[name].raw...)
	}
	return append(out, '}')
}
