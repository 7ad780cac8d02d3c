package e2e

import (
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
)

// reckon waits until every operation of a round has ended, and returns them.
func (x *torture) reckon(why string) (ops []contract.Operation) {
	deadline := time.Now().Add(5 * time.Minute)
	for {
		ops = nil
		running := false
		for _, o := range list[[]contract.Operation](x, "op", "list", "--limit", "60") {
			running = running || o.State == contract.OperationStateRunning
			if o.Why == why {
				ops = append(ops, o)
			}
		}
		if !running {
			break
		}
		if time.Now().After(deadline) {
			x.violated("%s: an operation has no end: %s", why, told(ops))
			return ops
		}
		time.Sleep(often)
	}
	for _, o := range ops {
		x.ops++
		if o.State == contract.OperationStateDone {
			x.done++
		} else {
			x.failed++
		}
		if o.Outcome == "" || o.Ended == nil {
			x.violated("operation %s has no outcome, or no end", o.ID)
		}
	}
	return ops
}

// told is what the record says of some operations.
func told(ops []contract.Operation) string {
	var b strings.Builder
	for _, o := range ops {
		fmt.Fprintf(&b, "\n%s %s %s, asked %s: %s", o.ID, o.Kind, o.State, o.Asked.Format("15:04:05.000"), o.Outcome)
		for _, s := range o.Steps {
			fmt.Fprintf(&b, "\n  %s %s %s", s.Kind, s.State, deref(s.Note))
		}
	}
	return b.String()
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// judge compares what is with what was asked for.
func (x *torture) judge(v *victim, ops []contract.Operation) {
	var mine []contract.Operation // the newest first
	for _, o := range ops {
		if o.Device == v.device {
			mine = append(mine, o)
		}
	}
	cuts, resets, certain := 0, 0, 0
	for _, o := range mine {
		switch o.Kind {
		case contract.OperationKindCycle, contract.OperationKindOff:
			cuts++
			if o.State == contract.OperationStateDone && strings.Contains(o.Outcome, "→ 0.0 W") {
				certain++
			}
		case contract.OperationKindReset:
			resets++
		}
	}
	on, opens, struck := false, 0, 0
	if v.host == "" {
		on, _ = x.lab.Contact(v.outlet)
		opens = x.lab.Opens(v.outlet) - v.opens
	} else {
		on, opens, struck = x.lab.Chassis(v.host)
		opens, struck = opens-v.opens, struck-v.resets
	}
	if opens > cuts {
		x.violated("%s was cut %d times, and that was asked for %d times: %s", v.device, opens, cuts, told(mine))
	}
	if opens < certain {
		x.violated("%s was cut %d times, and %d were reported as measured", v.device, opens, certain)
	}
	if struck > resets {
		x.violated("%s was reset %d times, and that was asked for %d times", v.device, struck, resets)
	}
	for _, o := range mine {
		if o.Kind == contract.OperationKindReset || o.Kind == contract.OperationKindOff && o.State != contract.OperationStateDone {
			continue // it says nothing about how it should be
		}
		want := o.Kind != contract.OperationKindOff
		if o.Kind == contract.OperationKindOn && o.State != contract.OperationStateDone && !on {
			continue // it could not be switched on, and says so
		}
		if o.Kind == contract.OperationKindCycle && !on && strings.Contains(o.Outcome, "nothing was sent") {
			continue // it has left it as it was
		}
		if on != want {
			x.violated("%s: after %q it should be on: %v, and it is %v", v.device, o.Outcome, want, on)
		}
		break
	}
}

// journalHolds: each operation was asked for once and ended once, and the chain
// is whole.
func (x *torture) journalHolds(ops []contract.Operation) {
	x.eventually(func() bool {
		count := map[string]int{}
		for _, e := range list[[]contract.JournalEntry](x, "journal", "--limit", "400") {
			count[e.Operation+" "+e.Kind]++
		}
		for _, o := range ops {
			if count[o.ID+" operation-asked"] > 1 || count[o.ID+" operation-ended"] > 1 {
				x.violated("operation %s is in the journal twice", o.ID)
				return true
			}
			if count[o.ID+" operation-asked"] != 1 || count[o.ID+" operation-ended"] != 1 {
				return false // what was written to the file is not over yet
			}
		}
		return true
	}, "every operation is in the journal")
	if seal := list[contract.JournalSeal](x, "journal", "verify"); !seal.Holds {
		x.violated("the journal does not hold at entry %d", seal.Breaks[0].Entry)
	}
}

// toldOf hangs in every round, so that there is something to tell.
const toldOf = "quill-kiosk"

// messagesHold compares what is recorded as told with what has arrived.
func (x *torture) messagesHold() {
	var notes []contract.Note
	deadline := time.Now().Add(5 * time.Minute)
	for waits := true; waits; time.Sleep(often) {
		waits = false
		notes = list[[]contract.Note](x, "telling", "sent")
		for _, n := range notes {
			waits = waits || (n.State == contract.NoteStateQueued || n.State == contract.NoteStateSending) && n.Due.Before(time.Now())
		}
		if waits && time.Now().After(deadline) {
			x.violated("messages that are due wait: %+v", notes)
			return
		}
	}
	came, times := map[string]bool{}, map[string]int{}
	for _, l := range x.lab.Post.Letters() {
		came[l.Text] = true
		times[l.ID]++
		if times[l.ID] > 2 {
			x.violated("%s came %d times", l.ID, times[l.ID])
		}
	}
	for _, n := range notes {
		switch {
		case n.State == contract.NoteStateFailed:
			x.violated("%s could not be told: %s", n.ID, n.Says)
		case n.State == contract.NoteStateSent && !came[n.Text]:
			x.violated("%s is recorded as told, and has not come: %s", n.ID, n.Subject)
		}
	}
}
