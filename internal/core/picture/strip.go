package picture

import (
	"slices"
	"time"
)

// A Shot is what a screen showed at a moment.
type Shot struct {
	At      time.Time
	Changed int    // of a thousand parts, since the one before it
	Packed  []byte // as a file
}

// A Strip is what a screen showed lately: the newest shots, and of those before them the ones
// that brought most. At the zero value it is empty.
type Strip struct{ Shots []Shot }

// Bounds of a strip.
const (
	StripSpan  = 5 * time.Minute
	StripMost  = 40
	stripFresh = StripMost / 4 // the newest stay, whatever they brought
)

// Add takes a shot, and drops what is too old, or too much.
func (s *Strip) Add(x Shot) {
	s.Shots = append(s.Shots, x)
	// The last of those that are too old is what was seen when the span began.
	for len(s.Shots) > 1 && x.At.Sub(s.Shots[1].At) > StripSpan {
		s.Shots = slices.Delete(s.Shots, 0, 1)
	}
	if len(s.Shots) <= StripMost {
		return
	}
	least := 1
	for i := 1; i < len(s.Shots)-stripFresh; i++ {
		if s.Shots[i].Changed < s.Shots[least].Changed {
			least = i
		}
	}
	// What it brought comes with the next one.
	next := &s.Shots[least+1]
	next.Changed = max(next.Changed, s.Shots[least].Changed)
	s.Shots = slices.Delete(s.Shots, least, least+1)
}

// How much has to have changed until a shot is taken at once, and when one is taken of less. A
// cursor that blinks is next to nothing.
const (
	muchChanged   = 50 // of a thousand
	littleChanged = 3
	littleWithin  = 5 * time.Second
	leastWithin   = time.Minute
)

// Wants says whether a shot is to be taken, after so much has changed since the last one.
func (s *Strip) Wants(changed int, now time.Time) bool {
	if len(s.Shots) == 0 || changed >= muchChanged {
		return true
	}
	within := leastWithin
	if changed >= littleChanged {
		within = littleWithin
	}
	return changed > 0 && now.Sub(s.Shots[len(s.Shots)-1].At) >= within
}
