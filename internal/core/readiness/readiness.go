// Package readiness says whether a device could be rescued now if it hung: by which ways, and what
// single failure would leave none. It goes by the previews that an operation goes by.
package readiness

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
)

// State is what could be done for a device.
type State string

// The states, the worst first.
const (
	Lost      State = "lost"      // it has ways to be rescued, and none of them works now
	None      State = "none"      // the estate knows no way
	Ready     State = "ready"     // a way works
	Elsewhere State = "elsewhere" // another service sees to it
)

// States lists them, the worst first.
var States = []State{Lost, None, Ready, Elsewhere}

// A Device is one, and how it could be rescued.
type Device struct {
	Key    estate.Key
	Site   estate.Key
	State  State
	Why    string       // it is not ready
	Ways   []Way        // the gentlest first
	Single []estate.Key // each of them alone leaves no way when it fails
}

// A Way is a means by which the power of a device that hangs can be cut and given.
type Way struct {
	Means operation.Means
	By    []estate.EndpointID // the endpoints that carry it out
	Works bool
	Why   string       // it does not
	Weak  []string     // what is to be known of one that works
	Needs []estate.Key // each of them alone takes it away when it fails
	Heard time.Time    // when all of By had answered last

	Used   *Test // the last operation that was done by it; nil: none is on record
	Proved *Test // the last drill
}

// A Test is a time that a way was tried.
type Test struct {
	At  time.Time
	OK  bool
	Why string // it was not
	By  string
}

// rescues are the means that need nothing of the device itself: one that hangs listens to no command, and
// sleeps no sleep from which it could be woken.
var rescues = []operation.Means{operation.ByChassis, operation.ByPanel, operation.ByPoE, operation.ByOutput, operation.ByOutlet}

// hindering are the interlocks that say that a way does not work. The others pass, or are for whoever
// acts to weigh.
var hindering = []string{operation.LockUnswitched, operation.LockOutOfReach, operation.LockRefusesUs, operation.LockOwnPath, operation.LockStandpoint, operation.LockElsewhere}

// Counts says whether a device is one that can hang: that is asked something, and is not where we stand.
func Counts(e *estate.Estate, d *estate.Device) bool { return d.Answers() && d.Key != e.Standpoint }

// All looks at every device that counts and is meant, and puts the worst first.
func All(w operation.World, meant func(*estate.Device) bool) []Device {
	out := []Device{}
	for i := range w.Estate.Devices {
		if d := &w.Estate.Devices[i]; Counts(w.Estate, d) && meant(d) {
			out = append(out, Of(w, d))
		}
	}
	slices.SortStableFunc(out, func(a, b Device) int {
		return cmp.Or(slices.Index(States, a.State)-slices.Index(States, b.State), cmp.Compare(a.Site, b.Site), cmp.Compare(a.Key, b.Key))
	})
	return out
}

// Of looks at one device.
func Of(w operation.World, d *estate.Device) Device {
	out := Device{Key: d.Key, Site: d.Site, State: None, Why: "the estate knows no outlet, controller or panel by which it could be rescued"}
	if s := w.Estate.Site(d.Site); s != nil && s.Acts != "" {
		out.State, out.Why = Elsewhere, fmt.Sprintf("the service on %s acts there", s.Acts)
		return out
	}
	var why []string
	for _, m := range rescues {
		p, err := operation.Look(operation.Intent{Kind: operation.Cycle, Device: d.Key, Means: m}, w)
		if err != nil || unswitched(p) {
			continue
		}
		way := wayOf(w, d, p)
		out.Ways = append(out.Ways, way)
		if !way.Works {
			why = append(why, m.Words()+": "+way.Why)
			continue
		}
		if out.State != Ready {
			out.State, out.Single = Ready, way.Needs
			continue
		}
		out.Single = slices.DeleteFunc(slices.Clone(out.Single), func(k estate.Key) bool { return !slices.Contains(way.Needs, k) })
	}
	switch {
	case out.State == Ready:
		out.Why = ""
	case len(out.Ways) > 0:
		out.State, out.Why = Lost, strings.Join(why, "; ")
	}
	return out
}

// unswitched: nothing of it can be switched at all, so it is no way.
func unswitched(p *operation.Preview) bool {
	return !slices.ContainsFunc(p.Outlets, func(o operation.OutletNow) bool { return !o.Unswitched })
}

func wayOf(w operation.World, d *estate.Device, p *operation.Preview) Way {
	way := Way{Means: p.Means, By: p.Hands(w), Works: true}
	for _, id := range way.By {
		if way.Works && slices.Contains(w.Estate.OnlyBehind(d.Key), id) {
			way.Works, way.Why = false, fmt.Sprintf("%s is reached through %s itself", id.Device, d.Key)
		}
	}
	for _, l := range p.Interlocks {
		if way.Why == "" && slices.Contains(hindering, l.Name) && (l.Name != operation.LockOwnPath || !p.ByGear) {
			way.Works, way.Why = false, l.Reason
		}
	}
	for i, id := range way.By {
		pulse := w.Evidence.Endpoints[id]
		if i == 0 || pulse.LastAnswer.Before(way.Heard) {
			way.Heard = pulse.LastAnswer
		}
		if way.Works && !pulse.Answers() {
			way.Works, way.Why = false, fmt.Sprintf("%s has not answered yet", id)
		}
		way.Needs = union(way.Needs, needs(w.Estate, id, d.Key))
	}
	if way.Works {
		way.Weak = weak(w, d, p)
	}
	return way
}

// weak says what is to be known of a way that works.
func weak(w operation.World, d *estate.Device, p *operation.Preview) (out []string) {
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	if p.ByGear {
		say("only as a cycle that the gear carries out by itself")
	}
	seen := map[estate.Key]bool{}
	for _, o := range p.Outlets {
		kind := o.End.Kind()
		switch {
		case o.Untold, kind == estate.Chassis, kind == estate.Panel:
		case !o.Known || !o.Fresh:
			say("the state of %s is not fresh", o.End)
		case !o.Reading.Metered:
			say("what %s carries is not measured: that it was cut would only be seen by what falls silent", o.End)
		}
		gear := o.End.Device
		if v := w.Verdicts[gear]; gear != d.Key && !seen[gear] && v.State == verdict.Strained {
			why := ""
			if len(v.Reasons) > 0 {
				why = ": " + v.Reasons[0].Text.String()
			}
			say("%s is strained%s", gear, why)
		}
		seen[gear] = true
	}
	return out
}

// needs are the devices each of which alone takes an endpoint away when it fails: those that all its ways
// lead through, and what alone feeds one of them.
func needs(e *estate.Estate, id estate.EndpointID, but estate.Key) []estate.Key {
	var shared []estate.Key
	for i, strand := range e.ReachLine(id.Device, id.Name) {
		strand = slices.DeleteFunc(slices.Clone(strand), func(k estate.Key) bool { return k == e.Standpoint || k == but })
		if i == 0 {
			shared = strand
			continue
		}
		shared = slices.DeleteFunc(shared, func(k estate.Key) bool { return !slices.Contains(strand, k) })
	}
	for i := 0; i < len(shared); i++ { // it grows by what feeds
		if k := onlyFeed(e, shared[i]); k != "" && k != but && !slices.Contains(shared, k) {
			shared = append(shared, k)
		}
	}
	return shared
}

// onlyFeed is what alone feeds a device, or "".
func onlyFeed(e *estate.Estate, k estate.Key) (only estate.Key) {
	d := e.Device(k)
	for _, c := range d.Power {
		switch {
		case c.From.Device == estate.Utility, only != "" && only != c.From.Device:
			return ""
		}
		only = c.From.Device
	}
	return only
}

func union(a, b []estate.Key) []estate.Key {
	for _, k := range b {
		if !slices.Contains(a, k) {
			a = append(a, k)
		}
	}
	return a
}

// Words sums devices up in one sentence: how many could not be rescued, and why.
func Words(all []Device) string {
	count := map[State]int{}
	var lost []string
	for _, d := range all {
		count[d.State]++
		if d.State == Lost {
			lost = append(lost, fmt.Sprintf("%s (%s)", d.Key, d.Why))
		}
	}
	of := count[Lost] + count[Ready]
	var words string
	switch {
	case of == 0:
		words = "No device has a way by which it could be rescued"
	case of == 1 && len(lost) == 0:
		words = "The one device that has a way could be rescued now"
	case len(lost) == 0:
		words = fmt.Sprintf("Each of the %d devices that have a way could be rescued now", of)
	default:
		const most = 10
		more := ""
		if n := len(lost) - most; n > 0 {
			lost, more = lost[:most], fmt.Sprintf(", and %d more", n)
		}
		words = fmt.Sprintf("%d of %d could not be rescued now: %s%s", count[Lost], of, strings.Join(lost, ", "), more)
	}
	if n := count[None]; n > 0 {
		words += fmt.Sprintf("; for %d no way is known", n)
	}
	return words + "."
}
