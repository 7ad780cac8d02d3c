// Package ladder decides how far a device that hangs is helped without anybody at hand: from gentle
// to hard, within limits, and never on a guess.
//
//	ladder.go  what a ladder is, and the program of a climb
//	gate.go    whether it may act now, asked again just before each thing that it does
//	uplink.go  the way out of a place, seen from within
//
// No I/O and no clock. A climb is carried out by the machine of package routine, so it survives what
// a routine survives, and what it does are operations like any other.
package ladder

import (
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/routine"
)

// A Ladder says what is done to devices that hang.
type Ladder struct {
	Name    string
	Title   string
	Match   Match
	Lasting time.Duration // for how long one has to hang
	If      string        // a condition beside that; empty: none
	Unless  []string      // conditions under which nothing is done
	Rungs   []Rung
	Call    []string // who is told when it is at its end
	Limits  Limits
	Uplink  *Uplink // its device is the way out of where this service stands; nil: it is not
}

// Match narrows what a ladder is for; what is empty fits everything.
type Match struct {
	Sites, Devices, Roles, Tags []string
}

// Fits says whether a device is meant.
func (m Match) Fits(d *estate.Device) bool {
	in := func(list []string, x string) bool { return len(list) == 0 || slices.Contains(list, x) }
	tagged := len(m.Tags) == 0 || slices.ContainsFunc(d.Tags, func(t string) bool { return slices.Contains(m.Tags, t) })
	return in(m.Sites, string(d.Site)) && in(m.Devices, string(d.Key)) && in(m.Roles, string(d.Role)) && tagged
}

// A Rung is one thing that is tried: an operation, or a routine.
type Rung struct {
	Kind    operation.Kind
	Means   operation.Means // empty: the gentlest that can work
	Hold    time.Duration
	Routine string // instead, with the argument device

	Tries  int
	Settle time.Duration // how long the device is given to recover
	Proof  string        // the condition that it has; empty: it is steady
}

// Cuts says whether a rung may take power away, and so has to know where the cable is.
func (r Rung) Cuts(p *operation.Preview) bool {
	if p == nil || r.Kind == operation.On {
		return false
	}
	return p.Means == operation.ByOutlet || p.Means == operation.ByPoE || p.Means == operation.ByOutput
}

// Limits keep a mistake from becoming many.
type Limits struct {
	DeviceDay, DeviceWeek, SiteDay, EstateDay int
	AtOnce, Feed                              int
	CoolDown                                  time.Duration // after the last thing that was done to the device
	AfterReturn                               time.Duration // after the utility is back, or we have begun
}

// Usual are the limits unless a ladder says otherwise.
var Usual = Limits{DeviceDay: 3, DeviceWeek: 10, SiteDay: 5, EstateDay: 10, AtOnce: 2, Feed: 1, CoolDown: 10 * time.Minute, AfterReturn: 10 * time.Minute}

// Recovered is the condition that a device is well again.
const Recovered = `verdict(with.device) == "steady"`

func (l *Ladder) recovered() string {
	if l.Uplink != nil {
		return l.Uplink.Recovered()
	}
	return Recovered
}

// Climb is the program of a ladder for one device: each rung asks first whether it may, and waits for
// its proof. find returns the routines that rungs run.
func (l *Ladder) Climb(k estate.Key, find func(name string) *routine.Routine) ([]routine.Op, error) {
	var all []routine.Attempt
	for i, r := range l.Rungs {
		step := routine.Step{Kind: routine.Operate, Kinds: r.Kind, Device: string(k), Means: r.Means, Hold: r.Hold}
		if r.Routine != "" {
			step = routine.Step{Kind: routine.Call, Name: r.Routine, With: map[string]string{"device": string(k)}}
		}
		for try := range r.Tries {
			a := routine.Attempt{Rung: i, Path: fmt.Sprintf("rung %d", i+1), Device: k, Steps: []routine.Step{step}, Proof: r.Proof, Settle: r.Settle}
			if a.Proof == "" {
				a.Proof = l.recovered()
			}
			if r.Tries > 1 {
				a.Path += fmt.Sprintf(" try %d", try+1)
			}
			all = append(all, a)
		}
	}
	is := "is hung"
	if l.Uplink != nil {
		is = "leads nowhere"
	}
	var last []routine.Step
	if len(l.Call) > 0 {
		last = append(last, routine.Step{
			Kind: routine.Tell, Path: "call", Who: l.Call, Otherwise: routine.GoOn,
			Text: fmt.Sprintf("%s %s, and the ladder %s could not help it: it waits for somebody", k, is, l.Name),
		})
	}
	return routine.Attempts(l.Name, all, map[string]string{"device": string(k)}, last, find)
}
