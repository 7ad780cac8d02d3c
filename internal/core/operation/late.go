package operation

import (
	"fmt"
	"time"
)

// How much longer than ever before a device may take before that is worth a word:
// half as long again, and no less than leastLate.
const leastLate = 10 * time.Second

// Late says, in words, that the device has not returned from an operation within
// what is usual for it, or not at all; empty otherwise. With no past to go by,
// only the deadline counts.
func (o *Operation) Late(now time.Time) string {
	if len(o.Steps) == 0 {
		return ""
	}
	s := &o.Steps[len(o.Steps)-1]
	if s.Kind != Answer || s.Began.IsZero() || !o.HeardAt.IsZero() {
		return ""
	}
	waits := now.Sub(s.Began)
	switch {
	case s.State == StepFail:
		waits = s.Ended.Sub(s.Began)
	case s.State != Waiting || o.Usual.N < 2 || waits <= o.Usual.Max+max(o.Usual.Max/2, leastLate):
		return ""
	}
	usually := ""
	if o.Usual.N > 1 {
		usually = fmt.Sprintf(" (usually %s)", o.Usual)
	}
	return fmt.Sprintf("%s has not come back after %s%s", o.Device, short(waits), usually)
}

// overdueAfter is how much longer than meant power may stay off before somebody has to
// know: the gear has been asked again several times by then.
const overdueAfter = time.Minute

// Overdue says, in words, that power which is owed should be back long since; empty
// otherwise.
func (o *Operation) Overdue(now time.Time) string {
	if o.State != Running || o.endsOff() {
		return ""
	}
	for i := range o.Steps {
		s := &o.Steps[i]
		if s.Kind != SwitchOff || s.Sent.IsZero() || !o.Owes(s.Outlet) {
			continue
		}
		if off := now.Sub(s.Sent); off > o.Hold+overdueAfter {
			return fmt.Sprintf("power is owed to %s: %s was switched off %s ago, for %s", o.Device, s.Outlet.Place(), short(off), short(o.Hold))
		}
	}
	return ""
}
