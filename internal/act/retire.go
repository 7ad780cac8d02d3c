package act

import (
	"cmp"
	"errors"
	"slices"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

var (
	// ErrStopping: the service is stopping, and begins nothing.
	ErrStopping = errors.New("the service is stopping, and begins nothing new: ask again when it runs")
	// ErrSafe: the service was started to be mended, and begins nothing.
	ErrSafe = errors.New("the service was started with --safe, and switches nothing: ask again when it runs without")
)

// Retire has nothing new begun from now on, and nothing more switched off: why is one of
// ErrStopping and ErrSafe. What is on its way back to power goes on.
func (a *Actor) Retire(why error) { a.retired.Store(&why) }

// mayBegin says why nothing may be begun now.
func (a *Actor) mayBegin() error {
	if why := a.retired.Load(); why != nil {
		return *why
	}
	return a.Lease.Holds()
}

// A Debt is power that an operation has switched off, and has still to switch on.
type Debt struct {
	Operation string
	Device    estate.Key
	End       estate.End
}

// Owed lists the power that is owed now.
func (a *Actor) Owed() []Debt {
	var out []Debt
	for _, o := range a.operations.All() {
		if o.State != operation.Running {
			continue
		}
		for _, end := range o.Claims() {
			if o.Owes(end) {
				out = append(out, Debt{o.ID, o.Device, end})
			}
		}
	}
	slices.SortFunc(out, func(x, y Debt) int { return cmp.Compare(x.Device, y.Device) })
	return out
}
