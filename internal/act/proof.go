package act

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
)

// facts are what is measured and seen of a device now: its power, what its
// controller and its front say, how its probes answer, its sensors, and what was
// lately said on its lines.
func (a *Actor) facts(k estate.Key) (out []operation.Fact) {
	w := a.Keeper.World()
	d := w.Estate.Device(k)
	if d == nil {
		return nil
	}
	zone := w.Estate.Zone(k)
	add := func(name, format string, args ...any) {
		out = append(out, operation.Fact{Name: name, Text: fmt.Sprintf(format, args...)})
	}
	onOff := map[bool]string{true: "on", false: "off"}
	for _, end := range w.Estate.FeedsOf(k) {
		if o, known := w.Evidence.Outlets[end]; known && o.Metered {
			add(end.Place(), "%s, %s", onOff[o.On], verdict.Watts(o.W))
		} else if known {
			add(end.Place(), "%s", onOff[o.On])
		}
	}
	if c, known := w.Evidence.Chassis[k]; known {
		add("chassis", "%s, %s", onOff[c.On], c.State)
	}
	if l, known := w.Evidence.Panels[k]; known {
		add("power light", "%s", onOff[l.On])
	}
	for i, p := range d.Probes {
		switch pulse := w.Evidence.Probes[verdict.ProbeID{Device: k, Index: i}]; {
		case pulse.Answers():
			add(p.String(), "answers in %s, at %s", verdict.Millis(pulse.RTT), pulse.LastAnswer.In(zone).Format("15:04:05"))
		case pulse.Silent():
			add(p.String(), "silent since %s", pulse.SilentSince.In(zone).Format("15:04:05"))
		}
	}
	for _, s := range a.Keeper.Inside(k).Sensors {
		if text := s.Text(); text != "" {
			add(s.Name, "%s", text)
		}
	}
	heard := a.Garage.LastLines(d, proofLines)
	for _, name := range slices.Sorted(maps.Keys(heard)) {
		if len(heard[name]) > 0 {
			add("last lines of "+name, "%s", strings.Join(heard[name], "\n"))
		}
	}
	return out
}

// proofLines are how many lines of a serial line are kept as proof.
const proofLines = 8
