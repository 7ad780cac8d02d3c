package keep

import (
	"sync"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/wiring"
)

// leadBook is what was found of leads at the newest look. It has a lock of its own, so that
// it can be read within See.
type leadBook struct {
	mu sync.Mutex
	by map[estate.Key]wiring.Leads
}

func (b *leadBook) remember(all map[estate.Key]wiring.Leads) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.by = all
}

// LeadsOf is what was found of the leads of a device.
func (k *Keeper) LeadsOf(key estate.Key) wiring.Leads {
	k.leads.mu.Lock()
	defer k.leads.mu.Unlock()
	return k.leads.by[key]
}

// SetLeads takes in what was found.
func (k *Keeper) SetLeads(key estate.Key, l wiring.Leads) {
	k.leads.mu.Lock()
	if k.leads.by == nil {
		k.leads.by = map[estate.Key]wiring.Leads{}
	}
	k.leads.by[key] = l
	k.leads.mu.Unlock()
	k.touch()
}
