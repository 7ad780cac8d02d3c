// Package stream is the one stream of changes. Every event has a number, and
// the newest events are kept, so that whoever lost the connection can go on
// where it broke.
package stream

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
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
	seq  uint64
}

// Hub takes in events and hands them to every reader.
type Hub struct {
	epoch string // tells the numbers of this run from those of another

	mu      sync.Mutex
	seq     uint64
	ring    []Event
	changed chan struct{} // closed at every event
}

const ringSize = 4096

// NewHub returns a hub without events.
func NewHub() *Hub {
	return &Hub{epoch: rand.Text()[:8], changed: make(chan struct{})}
}

// Publish adds an event; data is marshalled now.
func (h *Hub) Publish(kind, key string, data any) error {
	b, err := json.Marshal(data)
	if err != nil {
		return fmt.Errorf("event %s: %w", kind, err)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	h.seq++
	h.ring = append(h.ring, Event{ID: h.id(h.seq), Kind: kind, Key: key, Data: b, seq: h.seq})
	if len(h.ring) > 2*ringSize {
		h.ring = append([]Event(nil), h.ring[len(h.ring)-ringSize:]...)
	}
	close(h.changed)
	h.changed = make(chan struct{})
	return nil
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
}

// From returns a reader that goes on behind the event with this id, or at the
// newest one when id is empty. When events in between are gone, its first
// event is a Reset.
func (h *Hub) From(id string) *Reader {
	h.mu.Lock()
	defer h.mu.Unlock()
	r := &Reader{hub: h, seq: h.seq}
	if id == "" {
		return r
	}
	epoch, number, _ := strings.Cut(id, "-")
	seq, err := strconv.ParseUint(number, 10, 64)
	oldest := h.seq + 1 - uint64(len(h.ring))
	if err != nil || epoch != h.epoch || seq > h.seq || seq+1 < oldest {
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
	oldest := h.seq + 1 - uint64(len(h.ring))
	if r.lost || r.seq+1 < oldest {
		r.lost, r.seq = false, h.seq
		return []Event{{ID: h.id(h.seq), Kind: Reset, Data: []byte("{}")}}
	}
	fresh := h.ring[uint64(len(h.ring))-(h.seq-r.seq):]
	r.seq = h.seq
	newest := map[string]uint64{}
	for _, e := range fresh {
		newest[e.Kind+" "+e.Key] = e.seq
	}
	var out []Event
	for _, e := range fresh {
		if e.Key == "" || newest[e.Kind+" "+e.Key] == e.seq {
			out = append(out, e)
		}
	}
	return out
}
