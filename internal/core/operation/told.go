package operation

import (
	"cmp"
	"fmt"
	"time"

	"plumbbob/internal/core/sending"
)

// dozeWithin is how long an operating system may take to fall asleep.
const dozeWithin = time.Minute

// doze tells a device to sleep, once, and believes it when it falls silent.
func (o *Operation) doze(s *Step, in Event) []Command {
	if s.State == Checking && !o.SilentAt.IsZero() {
		return o.end(s, StepDone, in.at(), "")
	}
	switch in := in.(type) {
	case Started:
		if s.MaySent {
			return o.check(s, in.At, dozeWithin)
		}
		return o.begin(in.At)
	case Answered:
		if s.State != Sending {
			return nil
		}
		if in.Outcome == sending.NotSent || in.Outcome == sending.Refused {
			return o.declined(s, in)
		}
		s.Note = in.Why
		return o.check(s, in.At, dozeWithin)
	case Expired:
		if s.expired(in) {
			return append(o.failStep(s, in.At, fmt.Sprintf("%s was told to sleep, and still answers", o.Device)), o.begin(in.At)...)
		}
	}
	return nil
}

// push presses a button for a time, once, whatever happens. What it did shows
// by the light.
func (o *Operation) push(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started:
		if s.MaySent {
			s.Note = "whether it was pressed is not known: the service stopped in the middle"
			return o.watchPress(s, in.At)
		}
		return o.look(s, in.At, lookFor)
	case Measured:
		r, ok := s.fresh(in)
		switch {
		case !ok:
		case s.State == Looking:
			s.Before = &r
			return o.send(s, in.At)
		case s.State == Checking && in.At.After(s.Since.Add(o.Settle)):
			s.After = &r
			if !r.On || !o.endsOff() && !o.asksToShutDown(s) {
				return o.end(s, StepDone, in.At, s.Note)
			}
		}
	case Answered:
		if s.State != Sending {
			return nil
		}
		if in.Outcome == sending.NotSent || in.Outcome == sending.Refused {
			return o.declined(s, in)
		}
		s.Note, s.Since = in.Why, in.At
		return o.watchPress(s, in.At)
	case Expired:
		switch {
		case !s.expired(in):
		case s.After != nil && o.asksToShutDown(s): // it need not heed it
			return o.end(s, StepDone, in.At, s.Note)
		case s.State == Looking:
			return append(o.failStep(s, in.At, "its lights could not be read, so nothing was pressed"), o.begin(in.At)...)
		case s.After == nil:
			return append(o.failStep(s, in.At, "it was pressed, and its lights could not be read afterwards"), o.begin(in.At)...)
		default:
			return append(o.failStep(s, in.At, fmt.Sprintf("its light is still on after %s", exact(o.Hold))), o.begin(in.At)...)
		}
	}
	return nil
}

// heedsWithin is how long a system is watched whose power button was pressed: what
// goes off by that was meant to.
const heedsWithin = time.Minute

func (o *Operation) watchPress(s *Step, at time.Time) []Command {
	if o.asksToShutDown(s) {
		return o.check(s, at, o.Settle+heedsWithin)
	}
	return o.check(s, at, o.Settle+checkFor)
}

// asksToShutDown says whether a press is one that most systems shut down by.
func (o *Operation) asksToShutDown(s *Step) bool {
	return o.Button == sending.PowerButton && o.Hold < sending.ForcesOff && s.Before != nil && s.Before.On
}

const (
	goesWithin   = 25 * time.Second // until a card that starts anew must have fallen silent
	returnWithin = 4 * time.Minute  // until it must be back
)

// renew starts a controller or a card anew, once. A reading of its end says
// whether it answers: it is believed when it was silent, and answers again.
func (o *Operation) renew(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started:
		if s.MaySent {
			s.Note = "nobody was looking when it was sent"
			return o.check(s, in.At, goesWithin)
		}
		return o.look(s, in.At, lookFor)
	case Measured:
		r, ok := s.fresh(in)
		if !ok {
			return nil
		}
		return o.watchRenewal(s, r, in.At)
	case Answered:
		if s.State != Sending {
			return nil
		}
		if in.Outcome == sending.NotSent || in.Outcome == sending.Refused {
			return o.declined(s, in)
		}
		s.Note = in.Why
		return o.check(s, in.At, goesWithin)
	case Expired:
		switch {
		case !s.expired(in):
		case s.State == Looking:
			return append(o.failStep(s, in.At, "it does not answer, so nothing could be sent"), o.begin(in.At)...)
		case s.SawOff != nil:
			return append(o.failStep(s, in.At, "has not come back within "+short(returnWithin)), o.begin(in.At)...)
		default: // it may be faster than our questions
			return o.end(s, StepDone, in.At, cmp.Or(s.Note, "it accepted that")+"; it was never seen away, so whether it has started anew is not known")
		}
	}
	return nil
}

func (o *Operation) watchRenewal(s *Step, r Reading, at time.Time) []Command {
	switch {
	case s.State == Looking && r.On:
		s.Before = &r
		return o.send(s, at)
	case s.State == Sending && !r.On && s.SawOff == nil:
		s.SawOff = &r // it may be gone before it has answered
	case s.State == Checking && !r.On && s.SawOff == nil:
		s.SawOff = &r
		return o.check(s, at, returnWithin)
	case s.State == Checking && r.On && s.SawOff != nil:
		s.After = &r
		return o.end(s, StepDone, at, s.Note)
	}
	return nil
}

// exact writes a short time with what a second is divided into: "0.4 s".
func exact(d time.Duration) string {
	return fmt.Sprintf("%g s", d.Round(100*time.Millisecond).Seconds())
}
