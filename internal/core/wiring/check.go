package wiring

import (
	"encoding/json"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

// A Check is a wiring check by switching: one outlet after the other is cycled by an
// ordinary operation, and it is seen who falls silent. It is a step machine, so that
// what was found outlives the service, and what was not tried is known.
type Check struct {
	ID       string            `json:"id"`
	Site     estate.Key        `json:"site"`
	By       operation.Asker   `json:"by"`
	Consent  operation.Consent `json:"consent"`
	Outlets  []estate.End      `json:"outlets"`
	Began    time.Time         `json:"began"`
	Ended    time.Time         `json:"ended"`  // zero while it goes on
	Trying   bool              `json:"trying"` // the outlet after those that were found
	CancelBy string            `json:"cancelBy,omitempty"`
	Findings []Finding         `json:"findings"` // of the outlets, in their order
}

// CheckVersion is that of the document in which a check is kept.
const CheckVersion = 1

// MarshalJSON writes a check with the version of its form.
func (c *Check) MarshalJSON() ([]byte, error) {
	type plain Check
	return json.Marshal(struct {
		V int `json:"v"`
		*plain
	}{CheckVersion, (*plain)(c)})
}

// Clone copies a check, so that a reader is not disturbed by the machine.
func (c *Check) Clone() *Check {
	out := *c
	out.Findings = slices.Clone(c.Findings)
	return &out
}

// Over says whether it has ended.
func (c *Check) Over() bool { return !c.Ended.IsZero() }

// Wrong counts the cables that are not where the estate says.
func (c *Check) Wrong() (n int) {
	for _, f := range c.Findings {
		if f.Verdict == Wrong {
			n++
		}
	}
	return n
}

// An Event is something that happened to a check.
type Event interface{ event() }

type (
	// Started: it begins, or is taken up again after a crash.
	Started struct{ At time.Time }
	// Tried: this came of the outlet that was being tried.
	Tried struct {
		At      time.Time
		Finding Finding
	}
	// StopAsked: a person wants it to stop, once the outlet that it is at is on again.
	StopAsked struct {
		At time.Time
		By string
	}
)

func (Started) event()   {}
func (Tried) event()     {}
func (StopAsked) event() {}

// A Command is something that has to be done next, in order.
type Command interface{ command() }

type (
	// Save records the check durably before anything that follows.
	Save struct{}
	// Try switches an outlet and sees what comes of it, and comes back with Tried.
	Try struct{ Outlet estate.End }
	// Finish says that it has ended.
	Finish struct{}
)

func (Save) command()   {}
func (Try) command()    {}
func (Finish) command() {}

// Interrupted is what is said of an outlet that was being tried when the service died.
// Its operation is finished by itself; who fell silent meanwhile nobody saw.
const Interrupted = "the service was started anew while it was tried, so nothing could be told"

// Step applies one event and returns what must be done now, in order.
func (c *Check) Step(in Event) []Command {
	if c.Over() {
		return nil
	}
	switch in := in.(type) {
	case Started:
		if c.Trying {
			c.Findings = append(c.Findings, Finding{Outlet: c.Outlets[len(c.Findings)], Verdict: Unknown, Text: Interrupted})
			c.Trying = false
		}
		return c.next(in.At)
	case Tried:
		if !c.Trying {
			return nil
		}
		c.Findings, c.Trying = append(c.Findings, in.Finding), false
		return c.next(in.At)
	case StopAsked:
		if c.CancelBy == "" {
			c.CancelBy = in.By
			return []Command{Save{}}
		}
	}
	return nil
}

// next tries the next outlet, or ends the check.
func (c *Check) next(at time.Time) []Command {
	if c.CancelBy != "" || len(c.Findings) >= len(c.Outlets) {
		c.Ended = at
		return []Command{Save{}, Finish{}}
	}
	c.Trying = true
	return []Command{Save{}, Try{c.Outlets[len(c.Findings)]}}
}
