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
	return k.verdicts.Of(key)
}

// See runs f with the newest of everything. f must not keep what it is given,
// and must not call the Keeper.
func (k *Keeper) See(f func(e *estate.Estate, ev *verdict.Evidence, vs map[estate.Key]verdict.Verdict, now time.Time)) {
	k.mu.Lock()
	defer k.mu.Unlock()
	f(k.estate, k.evidence, k.verdicts.Verdicts(), time.Now())
}

// World copies what a preview is worked out from. Busy, Usual and Gear are
// left to the caller.
func (k *Keeper) World() operation.World {
	k.mu.Lock()
	defer k.mu.Unlock()
	return operation.World{Estate: k.estate, Now: time.Now(), Verdicts: k.verdicts.Verdicts(), Evidence: k.evidence.Clone()}
}

// A Snapshot is a copy of the newest of everything, to be looked at for as long
// as it takes while the watch goes on. What it holds must not be changed.
type Snapshot struct {
	Estate   *estate.Estate
	Evidence *verdict.Evidence
	Verdicts map[estate.Key]verdict.Verdict
	Now      time.Time
	inside   map[estate.Key]Inside
	recent   map[estate.Key][]sample
}

// Snapshot copies the newest of everything.
func (k *Keeper) Snapshot() *Snapshot {
	k.mu.Lock()
	defer k.mu.Unlock()
	s := &Snapshot{
		Estate: k.estate, Now: time.Now(), Verdicts: k.verdicts.Verdicts(), Evidence: k.evidence.Clone(),
		inside: make(map[estate.Key]Inside, len(k.inside)), recent: maps.Clone(k.spool.recent),
	}
	for key, in := range k.inside {
		s.inside[key] = *in
	}
	return s
}

// Inside returns what is known about the inside of a box, or nil.
func (s *Snapshot) Inside(key estate.Key) *Inside {
	if in, ok := s.inside[key]; ok {
		return &in
	}
	return nil
}

// Recent returns the draw of a device over the last half hour, in W, oldest first.
func (s *Snapshot) Recent(key estate.Key) []float64 { return draws(s.recent[key]) }

func draws(samples []sample) []float64 {
	out := make([]float64, len(samples))
	for i, x := range samples {
		out[i] = x.w
	}
	return out
}
