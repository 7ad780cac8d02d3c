package operation

import (
	"fmt"
	"time"

	"plumbbob/internal/core/sending"
)

// A reading counts for a step only when it was asked for after the step's
// command: an older one shows the state of before.
func (s *Step) fresh(m Measured) (Reading, bool) {
	r, ok := m.Outlets[s.Outlet]
	return r, ok && m.At.After(s.Since)
}

// open says whether a reading shows an outlet that carries nothing. Current
// beats the word of the gear: a welded relay reports off and carries on. Of what power
// does not flow through, a chassis say, its own word decides: its meter tells of standby.
func (o *Operation) open(s *Step, r Reading) bool {
	return !r.On && (r.Giving == nil || !*r.Giving) && !(o.draws(r) && handlings[s.Outlet.Kind()].flows)
}

// standby is a note about what a chassis that is off still draws.
func (o *Operation) standby(s *Step, r Reading) string {
	if o.draws(r) && !handlings[s.Outlet.Kind()].flows {
		return fmt.Sprintf("off, and still draws %.0f W by its controller", r.W)
	}
	return ""
}

func (o *Operation) draws(r Reading) bool { return r.Metered && r.W > o.IdleW }

// expired: the time that this step set itself has come, not one of before.
func (s *Step) expired(in Expired) bool {
	return !s.Deadline.IsZero() && in.Deadline.Equal(s.Deadline)
}

// switchOff opens an outlet and believes it when no current flows any more.
func (o *Operation) switchOff(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started: // fresh, or a restart: the command may have left before we died
		return o.look(s, in.At, lookFor)
	case Measured:
		r, ok := s.fresh(in)
		if !ok {
			return nil
		}
		switch s.State {
		case Looking:
			return o.lookedToOpen(s, r, in.At)
		case Checking:
			s.After = &r
			if o.open(s, r) {
				return o.end(s, StepDone, in.At, o.standby(s, r))
			}
		}
	case Answered:
		if s.State == Sending {
			return o.answeredToOpen(s, in)
		}
	case Expired:
		if s.expired(in) {
			return o.notOpened(s, in.At)
		}
	}
	return nil
}

func (o *Operation) lookedToOpen(s *Step, r Reading, at time.Time) []Command {
	if s.Before == nil {
		s.Before = &r
	}
	switch {
	case o.open(s, r) && s.MaySent: // we died after sending, and it did happen
		s.After = &r
		return o.end(s, StepDone, at, "found open when the operation was taken up again")
	case o.open(s, r): // one that is reported off and still draws is welded, and not off
		s.After = &r
		return o.end(s, Skipped, at, "was off already")
	case !o.Saved.IsZero() && at.Sub(o.Saved) > takeUp:
		return append(o.failStep(s, at, "was interrupted for too long to be carried out any more; "+thing(s.Outlet)+" is on"), o.recover(at)...)
	case o.CancelBy != "":
		return o.giveUp(at, "cancelled by "+o.CancelBy)
	}
	return o.send(s, at)
}

func (o *Operation) answeredToOpen(s *Step, in Answered) []Command {
	if in.Outcome == sending.NotSent || in.Outcome == sending.Refused {
		return o.declined(s, in)
	}
	s.Note = in.Why
	return o.check(s, in.At, o.Settle+checkFor)
}

// declined: the gear did not do it this time. What an earlier try did, before
// a crash, is another matter.
func (o *Operation) declined(s *Step, in Answered) []Command {
	s.MaySent = s.Tries > 1
	return append(o.failStep(s, in.At, in.Why), o.recover(in.At)...)
}

// notOpened: the time for reading back has passed.
func (o *Operation) notOpened(s *Step, at time.Time) []Command {
	note := "the gear could not be read, so nothing was sent"
	switch {
	case s.State == Checking && s.After == nil && !o.SilentAt.IsZero():
		return o.end(s, StepDone, at, "it could not be read back, but "+string(o.Device)+" fell silent")
	case s.State == Checking && s.After == nil:
		note = "whether " + thing(s.Outlet) + " went off could not be read back"
	case s.State == Checking && o.draws(*s.After) && handlings[s.Outlet.Kind()].flows:
		note = fmt.Sprintf("still drawing %.1f W: %s did not open", s.After.W, thing(s.Outlet))
	case s.State == Checking && s.After.Giving != nil && *s.After.Giving && !s.After.On:
		note = thing(s.Outlet) + " is reported off, and goes on giving power: it did not switch"
	case s.State == Checking:
		note = thing(s.Outlet) + " is still reported on: it did not go off"
	case s.MaySent:
		note = "whether " + thing(s.Outlet) + " went off could not be read back"
	}
	return append(o.failStep(s, at, note), o.recover(at)...)
}

func (o *Operation) failStep(s *Step, at time.Time, note string) []Command {
	s.Ended, s.Note = at, note
	return o.enter(s, StepFail, at)
}

// recover skips to whatever power still depends on after a step has failed.
func (o *Operation) recover(at time.Time) []Command {
	if o.endsOff() {
		return o.begin(at) // the other feeds are still to be switched off
	}
	return o.giveUp(at, "not done, because an earlier step failed")
}

// wait keeps the outlets open for a while, and less long when the wrong thing went dark.
func (o *Operation) wait(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started:
		return s.resume(in.At, max(o.Hold, witnessFor))
	case Expired:
		if s.expired(in) {
			return o.end(s, StepDone, in.At, "")
		}
	}
	if len(o.Trouble) > 0 {
		return o.end(s, Skipped, in.at(), "cut short: "+o.Trouble[0])
	}
	return nil
}

// switchOn closes an outlet. While power is owed it tries for ever, ever more slowly.
func (o *Operation) switchOn(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started:
		return o.look(s, in.At, lookOwed)
	case Measured:
		r, ok := s.fresh(in)
		if !ok || s.State == Pending || s.State == Sending {
			return nil
		}
		return o.measuredToClose(s, r, in.At)
	case Answered:
		if s.State != Sending {
			return nil
		}
		if in.Outcome == sending.NotSent || in.Outcome == sending.Refused {
			return o.retryOn(s, in.At, in.Why)
		}
		return o.check(s, in.At, o.Settle+checkFor)
	case Expired:
		if !s.expired(in) {
			return nil
		}
		switch s.State {
		case Checking:
			if s.After != nil && s.After.On && s.After.Fault != "" {
				return append(o.failStep(s, in.At, thing(s.Outlet)+" is on, and gives no power: "+s.After.Fault), o.begin(in.At)...)
			}
			if s.After != nil && s.After.On {
				return o.end(s, StepDone, in.At, o.nothingDrawn(s))
			}
			return o.retryOn(s, in.At, thing(s.Outlet)+" has not been seen on")
		case Looking:
			if !o.Owes(s.Outlet) && s.Tries == 0 {
				return append(o.failStep(s, in.At, "the gear could not be read, so nothing was sent"), o.recover(in.At)...)
			}
			if toggles(s.Outlet) {
				return o.retryOn(s, in.At, "its lights cannot be read, and a press could switch it off")
			}
		case Retrying:
			if toggles(s.Outlet) {
				return o.look(s, in.At, lookFor)
			}
		}
		return o.send(s, in.At) // power is owed, so it is sent unseen
	}
	return nil
}

func (o *Operation) measuredToClose(s *Step, r Reading, at time.Time) []Command {
	if s.Before == nil && s.Tries == 0 {
		s.Before = &r
	}
	switch {
	case !r.On && s.State == Looking:
		return o.send(s, at)
	case !r.On:
		return nil
	case s.Tries == 0:
		s.After = &r
		return o.end(s, StepDone, at, "was on already")
	case r.Giving != nil && !*r.Giving && (s.After == nil || !s.After.On): // on, and something should take power
		s.After = &r
		return o.check(s, at, drawFor)
	case r.Giving != nil && !*r.Giving:
		s.After = &r
		return nil
	case !r.Metered || o.draws(r):
		s.After = &r
		return o.end(s, StepDone, at, "")
	case s.After == nil || !s.After.On: // on, and current should follow
		s.After = &r
		return o.check(s, at, drawFor)
	}
	return nil
}

func (o *Operation) nothingDrawn(s *Step) string {
	if s.After.Giving != nil && !*s.After.Giving {
		return "on, but nothing takes power from it"
	}
	if s.After.Metered && !o.draws(*s.After) && len(o.Restores) == 0 { // what stays off draws little, as it should
		return fmt.Sprintf("on, but only %.1f W is drawn", s.After.W)
	}
	return ""
}

func (o *Operation) retryOn(s *Step, at time.Time, why string) []Command {
	s.Note = why
	if !o.Owes(s.Outlet) && at.Sub(s.Began) > giveUpOn {
		return append(o.failStep(s, at, why), o.begin(at)...)
	}
	s.Deadline = at.Add(min(maxBackoff, time.Second<<min(s.Tries, 6)))
	return o.enter(s, Retrying, at, Wake{s.Deadline})
}

// gearCycle leaves the whole cycle to the gear, because our way to it, or our
// own power, goes with it. What can be seen of it is watched.
func (o *Operation) gearCycle(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started:
		if s.MaySent { // it may be under way: see what comes of it
			return o.check(s, in.At, o.Hold+o.Settle+checkFor)
		}
		return o.look(s, in.At, lookFor)
	case Measured:
		r, ok := s.fresh(in)
		if !ok {
			return nil
		}
		switch s.State {
		case Looking:
			return o.lookedToCycle(s, r, in.At)
		case Checking, Retrying:
			return o.watchCycle(s, r, in.At)
		}
	case Answered:
		if s.State != Sending {
			return nil
		}
		if in.Outcome == sending.NotSent || in.Outcome == sending.Refused {
			return o.declined(s, in)
		}
		return o.check(s, in.At, o.Hold+o.Settle+checkFor)
	case Expired:
		if !s.expired(in) {
			return nil
		}
		if s.State == Looking {
			return append(o.failStep(s, in.At, "the gear could not be read, so nothing was sent"), o.recover(in.At)...)
		}
		// It cannot be seen. Power is owed until it can, so this does not end here.
		s.Note = "the gear cannot be read since the command was sent; still waiting for it"
		s.Deadline = in.At.Add(maxBackoff)
		return o.enter(s, Retrying, in.At, Wake{s.Deadline})
	}
	return nil
}

func (o *Operation) lookedToCycle(s *Step, r Reading, at time.Time) []Command {
	s.Before = &r
	switch {
	case !r.On: // nothing to cut: it is only switched on
		s.Kind = SwitchOn
		return o.send(s, at)
	case !o.Saved.IsZero() && at.Sub(o.Saved) > takeUp:
		return append(o.failStep(s, at, "was interrupted for too long to be carried out any more; the outlet is on"), o.recover(at)...)
	}
	return o.send(s, at)
}

// watchCycle follows a cycle that the gear carries out by itself.
func (o *Operation) watchCycle(s *Step, r Reading, at time.Time) []Command {
	due := s.Sent.Add(o.Hold + o.Settle)
	switch {
	case o.open(s, r) && at.After(due.Add(checkFor)):
		// The gear has forgotten to switch it on again, so we do.
		s.SawOff = &r
		s.Kind = SwitchOn
		s.Note = "the gear did not switch it on again by itself"
		return o.send(s, at)
	case o.open(s, r):
		if s.SawOff == nil {
			s.SawOff = &r
			return o.enter(s, s.State, at)
		}
	case r.On && s.SawOff != nil:
		if r.Metered && !o.draws(r) && at.Before(due.Add(drawFor)) {
			return nil // on, and current should follow
		}
		s.After = &r
		return o.end(s, StepDone, at, "")
	case r.On && at.After(due):
		s.After = &r
		if o.SilentAt.IsZero() && s.State == Checking && s.Note == "" {
			s.Note = "the outlet was never seen open"
		}
		return o.end(s, StepDone, at, s.Note)
	}
	return nil
}

// resume goes on waiting after a restart, but for no longer than it may take at
// all: the clock may have been set back meanwhile.
func (s *Step) resume(at time.Time, most time.Duration) []Command {
	if latest := at.Add(most); s.Deadline.After(latest) {
		s.Deadline = latest
	}
	return []Command{Wake{s.Deadline}}
}

// answer waits for the device itself: only when it answers has it come back.
func (o *Operation) answer(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started:
		return s.resume(in.At, o.AnswerWithin)
	case Heard:
		if in.Device == o.Device && in.At.After(s.Began) && !o.heardTooEarly() {
			if o.HeardAt.IsZero() { // not heard before power was seen to be back
				o.HeardAt = in.At
			}
			return o.end(s, StepDone, in.At, "")
		}
	case Expired:
		if s.expired(in) {
			return append(o.failStep(s, in.At, "has not answered within "+short(o.AnswerWithin)), o.begin(in.At)...)
		}
	}
	return nil
}
