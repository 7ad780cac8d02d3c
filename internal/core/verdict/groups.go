package verdict

import (
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
)

// The outlets of a PDU behind one breaker, or all that are behind none, fall together.

// groupOf is the bank of an outlet, as it is called, and what is in it.
func groupOf(pdu *estate.Device, number int) (name string, numbers []int) {
	banked := map[int]bool{}
	for _, b := range pdu.Banks {
		if slices.Contains(b.Outlets, number) {
			return fmt.Sprintf("bank %s of %s", b.Name, pdu.Key), b.Outlets
		}
		for _, n := range b.Outlets {
			banked[n] = true
		}
	}
	for _, o := range pdu.Outlets {
		if !banked[o.Number] {
			numbers = append(numbers, o.Number)
		}
	}
	return string(pdu.Key), numbers
}

// lostGroup says whether all that hangs on a group of outlets stopped drawing at one moment
// although they are on, and two at the least of what hangs there drew something before.
func (m *Moment) lostGroup(pdu *estate.Device, number int) (name string, lost bool) {
	name, numbers := groupOf(pdu, number)
	m.look(factsOf, pdu)
	var first, last time.Time
	lively := 0
	for _, n := range numbers {
		end := estate.OutletEnd(pdu.Key, n)
		out, known := m.ev.Outlets[end]
		fed := m.e.Fed(end)
		if !known || !out.On || len(fed) == 0 {
			continue
		}
		if !out.Metered || out.Dead.since.IsZero() {
			return name, false
		}
		for _, k := range fed {
			if m.ev.Lively[k] > collapsible {
				lively++
				break
			}
		}
		if first.IsZero() || out.Dead.since.Before(first) {
			first = out.Dead.since
		}
		if out.Dead.since.After(last) {
			last = out.Dead.since
		}
	}
	return name, lively >= 2 && last.Sub(first) <= atOnce
}

// lostGroups says of a PDU that answers which of its groups carry nothing any more.
func (m *Moment) lostGroups(pdu *estate.Device) (rs []Reason) {
	seen := map[string]bool{}
	for _, o := range pdu.Outlets {
		out := m.ev.Outlets[estate.End{Device: pdu.Key, Port: o.Port()}]
		if !out.On || out.Dead.since.IsZero() || o.Kind != estate.Socket {
			continue
		}
		name, _ := groupOf(pdu, o.Number)
		if seen[name] {
			continue
		}
		seen[name] = true
		if _, lost := m.lostGroup(pdu, o.Number); lost {
			rs = append(rs, Reason{At: out.Dead.since, Since: true, Text: Say("nothing is drawn from %s any more, although its outlets are on: has its breaker tripped, or has it lost its feed?", name)})
		}
	}
	return rs
}
