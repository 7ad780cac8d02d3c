package reading

import (
	"time"

	"plumbbob/internal/core/estate"
)

// Outlets is what was read of all outlets in one go.
type Outlets struct {
	Outlets []Outlet
	TotalW  *float64 // through the inlet, when the gear says
	Meters  []Meter
}

// Outlet is what was read of one outlet.
type Outlet struct {
	Kind     estate.SourceKind
	Number   int
	Name     string
	Switched bool // it can be switched
	On       bool
	Giving   *bool  // of a PoE port: something takes power from it
	Trouble  string // of a PoE port: why it gives none although something may be there; may be empty
	Metered  bool
	W, A, Wh float64 // meaningful when metered

	AfterLoss         AfterLoss // empty when the gear does not say
	OnDelay, OffDelay *time.Duration
}

// AfterLoss is what an outlet does when power comes back to its PDU.
type AfterLoss string

// The ways.
const (
	LossOff      AfterLoss = "off"
	LossOn       AfterLoss = "on"
	LossAsBefore AfterLoss = "as before"
)

// Front is what the lights on one front say.
type Front struct {
	Lead  int
	Power bool
	Disk  *bool // nil where no lead goes to it
}
