package operation

import (
	"slices"

	"plumbbob/internal/core/estate"
)

// A handling is all that depends on what kind of end is switched, or told something.
type handling struct {
	steps []StepKind // that can be carried out on it

	flows   bool // power flows through it: a draw says that it is not open
	toggles bool // it goes off by what switches it on, and must not be touched unseen
	told    bool // there is nothing to look at before: what came of it shows by what the device does
	unheard bool // no gear has to be there for it

	endpoint func(World, *estate.Device, estate.End) (estate.Endpoint, bool) // that switches it
	now      func(estate.End, World) OutletNow                               // what is known of it
	say      func(*Preview, adder, OutletNow, World)                         // in a preview; nil: as of an outlet
}

// handlings is what can be done to each kind of end that anything can be done to.
var handlings = map[estate.EndKind]handling{
	estate.Source: {
		steps: []StepKind{SwitchOff, SwitchOn, GearCycle},
		flows: true, endpoint: ofOutlets, now: sourceNow,
	},
	estate.Output: {
		steps: []StepKind{SwitchOff, SwitchOn, GearCycle},
		flows: true, endpoint: ofOutlets, now: outputNow,
	},
	estate.Chassis: {
		steps:    []StepKind{SwitchOff, SwitchOn, SoftOff, StepReset, StepNMI, StepInto, StepTaken, StepTakeBack},
		endpoint: func(_ World, d *estate.Device, _ estate.End) (estate.Endpoint, bool) { return d.Controller() },
		now:      chassisNow, say: (*Preview).sayChassis,
	},
	estate.Panel: {
		steps:   []StepKind{SwitchOff, SwitchOn, SoftOff, StepReset, StepPress},
		toggles: true,
		endpoint: func(w World, d *estate.Device, _ estate.End) (estate.Endpoint, bool) {
			_, ep, ok := w.board(d)
			return ep, ok
		},
		now: panelNow, say: (*Preview).sayPanel,
	},
	estate.CommandLine: {steps: []StepKind{SoftOff, StepReset, StepSleep}, told: true, endpoint: ofItself, now: untold(ByCommand)},
	estate.OwnComputer: {steps: []StepKind{StepRestart}, endpoint: ofItself, now: untold(ByEndpoint)},
	estate.NetworkCard: {steps: []StepKind{StepWake}, unheard: true, endpoint: ofOutlets, now: untold(ByWake)},
}

func ofOutlets(_ World, d *estate.Device, _ estate.End) (estate.Endpoint, bool) {
	return d.OutletEndpoint()
}

func ofItself(_ World, d *estate.Device, end estate.End) (estate.Endpoint, bool) {
	return d.Endpoint(end.Endpoint().Name)
}

// untold is an end of which nothing can be known beforehand.
func untold(m Means) func(estate.End, World) OutletNow {
	return func(end estate.End, _ World) OutletNow {
		return OutletNow{End: end, Name: string(m), Feeds: []estate.Key{end.Device}, Untold: true}
	}
}

// told says whether what is at an end can only be told to do something.
func told(end estate.End) bool { return handlings[end.Kind()].told }

// toggles says whether what is at an end goes off by what switches it on.
func toggles(end estate.End) bool { return handlings[end.Kind()].toggles }

// CanDo says whether a step can be carried out on an end at all.
func CanDo(step StepKind, end estate.End) bool {
	return slices.Contains(handlings[end.Kind()].steps, step)
}
