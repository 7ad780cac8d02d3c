package keep

import (
	"maps"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
)

// Estate returns the estate that is being watched.
func (k *Keeper) Estate() *estate.Estate {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.estate
}

// Verdict returns what is believed about a device now.
func (k *Keeper) Verdict(key estate.Key) verdict.Verdict {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.verdicts[key]
}

// See runs f with the newest of everything. f must not keep what it is given,
// and must not call the Keeper.
func (k *Keeper) See(f func(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time)) {
	k.mu.Lock()
	defer k.mu.Unlock()
	f(k.estate, k.evidence, k.verdicts, time.Now())
}

// World copies what a preview is worked out from. Busy, Usual and Gear are
// left to the caller.
func (k *Keeper) World() operation.World {
	k.mu.Lock()
	defer k.mu.Unlock()
	return operation.World{
		Estate: k.estate, Now: time.Now(), Verdicts: maps.Clone(k.verdicts),
		Evidence: &verdict.Evidence{
			Probes: maps.Clone(k.evidence.Probes), Endpoints: maps.Clone(k.evidence.Endpoints), Outlets: maps.Clone(k.evidence.Outlets),
			Chassis: maps.Clone(k.evidence.Chassis), Panels: maps.Clone(k.evidence.Panels), Ailing: maps.Clone(k.evidence.Ailing), Supplies: maps.Clone(k.evidence.Supplies), Meters: maps.Clone(k.evidence.Meters),
			Totals: maps.Clone(k.evidence.Totals), Operating: maps.Clone(k.evidence.Operating), Parked: maps.Clone(k.evidence.Parked),
		},
	}
}
