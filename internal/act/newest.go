package act

import (
	"context"
	"maps"
	"sync"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

// newest knows the operation on each device that was asked for last. It is part of what
// a preview is, so that what was agreed to once is not done twice.
type newest struct {
	mu   sync.Mutex
	read bool // those on record
	by   map[estate.Key]string
}

// note takes in what has just been asked for.
func (n *newest) note(o *operation.Operation) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.by == nil {
		n.by = map[estate.Key]string{}
	}
	n.by[o.Device] = o.ID
}

// all are those that are known. The record is read until that has worked once.
func (n *newest) all(ctx context.Context, a *Actor) map[estate.Key]string {
	n.mu.Lock()
	known := n.read
	n.mu.Unlock()
	var kept map[estate.Key]string
	if !known {
		kept, _ = a.Store.NewestOperations(ctx) // otherwise next time
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if kept != nil && !n.read {
		for _, o := range a.ledger.newest() {
			kept[o.Device] = o.ID
		}
		maps.Copy(kept, n.by)
		n.by, n.read = kept, true
	}
	return maps.Clone(n.by)
}
