// Package setting carries out one change of how gear is set up: what an outlet
// does after a power loss, where a controller starts its host from, whether a UPS
// comes on by itself. It is simpler than an operation, because power stays as it
// is, and keeps two of its promises: what is about to be sent is on record before
// it leaves, and it is sent once; what came of it is read back.
//
// No I/O and no clock: events bring times and results in, commands carry the work
// out, in order.
package setting

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
)

// State is where a change stands.
type State string

// The states of a change. Done and Failed are final.
const (
	Looked   State = "looked"   // what would be different is known; nothing has been sent
	Sending  State = "sending"  // it may have left
	Checking State = "checking" // reading back
	Done     State = "done"
	Failed   State = "failed"
)

// Version is that of the document in which a change is kept.
const Version = 1

// A Change is one thing that is changed about gear, and all that is needed to
// find out after a crash what became of it.
type Change struct {
	V      int             `json:"v"` // Version
	ID     string          `json:"id"`
	Device estate.Key      `json:"device"`
	Site   estate.Key      `json:"site"`
	Kind   string          `json:"kind"` // of the entry in the journal: outlet, controller, supply
	Want   json.RawMessage `json:"want"` // as whoever carries it out has it; without secrets
	Words  []string        `json:"words"`
	Blind  bool            `json:"blind"` // it cannot be read back
	By     string          `json:"by"`
	Why    string          `json:"why"`
	Asked  time.Time       `json:"asked"`
	Ended  time.Time       `json:"ended"`
	State  State           `json:"state"`
	Tries  int             `json:"tries"` // to read it back
	Note   string          `json:"note"`
}

// An Event is something that happened to a change.
type Event interface{ event() }

type (
	// Started: it begins, or is taken up again after a crash.
	Started struct{ At time.Time }
	// Answered: the gear has replied, or has not. What is accepted has been read
	// back by who sent it.
	Answered struct {
		At      time.Time
		Outcome sending.Outcome
		Why     string
	}
	// Found: it has been read again. Left is what is still different, in words;
	// Why says why that could not be read.
	Found struct {
		At   time.Time
		Left []string
		Why  string
	}
)

func (Started) event()  {}
func (Answered) event() {}
func (Found) event()    {}

// A Command is one thing that has to be done next.
type Command interface{ command() }

type (
	// Save records the change durably before anything that follows.
	Save struct{}
	// Send sends it, and comes back with Answered.
	Send struct{}
	// Check reads it back after a pause, and comes back with Found.
	Check struct{ After time.Duration }
	// Finish says that it has ended.
	Finish struct{}
)

func (Save) command()   {}
func (Send) command()   {}
func (Check) command()  {}
func (Finish) command() {}

// How often, and how far apart, it is read back when that does not work.
const (
	checks     = 10
	checkAgain = 3 * time.Second
)

// Step applies one event and returns what must be done now, in order.
func (c *Change) Step(in Event) []Command {
	switch c.State {
	case Looked:
		if _, ok := in.(Started); ok {
			return c.enter(Sending, Send{})
		}
	case Sending:
		switch in := in.(type) {
		case Started: // it may have left before we died: it is not sent again
			return c.lost(in.At, "the service was interrupted while it was sent")
		case Answered:
			return c.answered(in)
		}
	case Checking:
		switch in := in.(type) {
		case Started:
			return []Command{Check{}}
		case Found:
			return c.found(in)
		}
	}
	return nil
}

func (c *Change) enter(to State, then ...Command) []Command {
	c.State = to
	return append([]Command{Save{}}, then...)
}

func (c *Change) end(as State, at time.Time, note string) []Command {
	c.Ended, c.Note = at, note
	return c.enter(as, Finish{})
}

func (c *Change) answered(in Answered) []Command {
	switch in.Outcome {
	case sending.Accepted:
		return c.end(Done, in.At, "")
	case sending.NotSent, sending.Refused:
		return c.end(Failed, in.At, in.Why)
	}
	return c.lost(in.At, in.Why)
}

// lost: it may have happened, so it is looked at.
func (c *Change) lost(at time.Time, why string) []Command {
	if c.Blind {
		return c.end(Failed, at, why+": whether it happened cannot be read back")
	}
	c.Note = why
	return c.enter(Checking, Check{})
}

func (c *Change) found(in Found) []Command {
	switch {
	case in.Why != "" && c.Tries < checks:
		c.Tries++
		return c.enter(Checking, Check{After: checkAgain})
	case in.Why != "":
		return c.end(Failed, in.At, "whether it was kept is not known: "+in.Why)
	case len(in.Left) > 0:
		return c.end(Failed, in.At, "it was not kept: "+c.Note)
	}
	return c.end(Done, in.At, "read back: "+c.Note)
}

// Outcome is what was changed and how that went, in one line.
func (c *Change) Outcome() string {
	what := strings.Join(c.Words, "; ")
	if c.Note == "" {
		return what
	}
	if c.State == Done {
		return fmt.Sprintf("%s (%s)", what, c.Note)
	}
	return what + ": " + c.Note
}

// Ends says whether it has ended.
func (c *Change) Ends() bool { return c.State == Done || c.State == Failed }
