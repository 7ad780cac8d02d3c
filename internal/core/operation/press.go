package operation

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
)

// silentWithin is how long a system that has been reset may still be heard.
const silentWithin = 25 * time.Second

// clockSkew is how exactly is known when something started, by its own uptime.
const clockSkew = 3 * time.Second

// lookedBefore is how long before a reset was sent what tells of starts may have been read
// without showing the one that it shows afterwards.
const lookedBefore = 30 * time.Second

// softOff asks the operating system to shut down, and believes it when the
// chassis, or the light on its front, is off; one that was told on its command
// line, when it falls silent. What becomes of one that does not heed is for
// Force to say.
func (o *Operation) softOff(s *Step, in Event) []Command {
	if told(s.Outlet) && s.State == Checking && !o.SilentAt.IsZero() {
		return append(o.end(s, StepDone, in.at(), ""), o.heeded(in.at())...)
	}
	switch in := in.(type) {
	case Started:
		if s.MaySent { // it may be shutting down: see what comes of it
			s.Since = s.Sent
			return o.check(s, in.At, o.Within)
		}
		return o.begin(in.At)
	case Measured:
		r, ok := s.fresh(in)
		if !ok {
			return nil
		}
		switch {
		case s.State == Looking && !r.On:
			s.Before, s.After = &r, &r
			return o.end(s, Skipped, in.At, "was off already")
		case s.State == Looking:
			s.Before = &r
			return o.send(s, in.At)
		case s.State == Checking && !r.On:
			s.After = &r
			return append(o.end(s, StepDone, in.At, ""), o.heeded(in.At)...)
		}
	case Answered:
		if s.State != Sending {
			return nil
		}
		if in.Outcome == sending.NotSent || in.Outcome == sending.Refused {
			return o.unheeded(s, in.At, in.Why)
		}
		return o.check(s, in.At, o.Within)
	case Expired:
		if !s.expired(in) {
			return nil
		}
		if s.State == Looking {
			return append(o.failStep(s, in.At, "its controller could not be read, so nothing was sent"), o.recover(in.At)...)
		}
		return o.unheeded(s, in.At, "did not shut down within "+short(o.Within))
	}
	return nil
}

// heeded: what would be switched off by force is left as it is.
func (o *Operation) heeded(at time.Time) []Command {
	s := o.Current()
	if s == nil || s.Kind != SwitchOff {
		return nil
	}
	return append(o.end(s, Skipped, at, "it has shut down by itself"), o.heeded(at)...)
}

// unheeded: the gentle way has failed. The hard way follows only if it was asked for.
func (o *Operation) unheeded(s *Step, at time.Time, why string) []Command {
	if o.Force {
		return o.end(s, Skipped, at, why+", so it is switched off")
	}
	return append(o.failStep(s, at, why+"; it is still on"), o.giveUp(at, "not done, because an earlier step failed")...)
}

// rouse sends a magic packet. Nothing acknowledges one and nothing can be read
// back: whether it was heard shows when the device answers. To send it again
// does no harm.
func (o *Operation) rouse(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started:
		return o.send(s, in.At)
	case Answered:
		if in.Outcome == sending.NotSent {
			return o.declined(s, in)
		}
		return o.end(s, StepDone, in.At, "")
	}
	return nil
}

// strike sends what happens at once and cannot be read back: a reset, or an
// interrupt. It is sent once, whatever happens. A reset is believed when the
// system falls silent; one that was silent before shows it by coming back.
func (o *Operation) strike(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started:
		if s.MaySent { // it may have fallen silent and come back while nobody looked
			o.Answered = false
			return o.struck(s, in.At, "nobody was looking when it was sent")
		}
		return o.begin(in.At)
	case Measured:
		r, ok := s.fresh(in)
		if !ok || s.State != Looking {
			break
		}
		s.Before = &r
		if !r.On {
			return append(o.failStep(s, in.At, "it is off: switch it on instead"), o.recover(in.At)...)
		}
		return o.send(s, in.At)
	case Answered:
		if s.State != Sending {
			break
		}
		if in.Outcome == sending.NotSent || in.Outcome == sending.Refused {
			return o.declined(s, in)
		}
		lost := ""
		if in.Outcome == sending.Unclear {
			lost = cmp.Or(in.Why, "no answer came")
		}
		return o.struck(s, in.At, lost)
	case Restarted: // faster than anybody looks
		if s.Kind == StepReset && s.State == Checking && in.Device == o.Device && !in.At.Before(s.Sent.Add(-clockSkew)) && !in.From.Before(s.Sent.Add(-lookedBefore)) {
			o.Answered = false
			s.Note = strings.TrimPrefix(s.Note+"; it started anew, as "+in.How, "; ")
			return o.end(s, StepDone, s.Since, s.Note)
		}
	case Expired:
		if s.expired(in) && s.State == Looking {
			return append(o.failStep(s, in.At, "its controller could not be read, so nothing was sent"), o.recover(in.At)...)
		}
		if s.expired(in) {
			return append(o.failStep(s, in.At, fmt.Sprintf("%s never fell silent: it was not reset, or it starts faster than anybody looks", o.Device)), o.recover(in.At)...)
		}
	}
	if s.Kind == StepReset && s.State == Checking && !o.SilentAt.IsZero() {
		return o.end(s, StepDone, in.at(), s.Note)
	}
	return nil
}

// struck: the command has left; lost says why there was no answer to it.
func (o *Operation) struck(s *Step, at time.Time, lost string) []Command {
	switch {
	case s.Kind == StepNMI && lost != "":
		return append(o.failStep(s, at, "whether it happened is not known: "+lost), o.begin(at)...)
	case s.Kind == StepNMI:
		return o.end(s, StepDone, at, "the controller accepted it")
	case o.Answered:
		s.Note = lost
		return o.check(s, at, silentWithin)
	case lost != "":
		return o.end(s, StepDone, at, lost+"; whether it was reset shows when it answers")
	}
	return o.end(s, StepDone, at, "")
}

// heardTooEarly: an answer that may have been on its way when the system was
// reset does not show that it has come back.
func (o *Operation) heardTooEarly() bool {
	return o.Kind == Reset && o.Answered && o.SilentAt.IsZero()
}

// place names what is switched: "outlet 3 of skarvoe-pdu", "the chassis of
// ostrel-store".
func place(e estate.End) string { return e.Place() }

// capital begins a sentence.
func capital(s string) string {
	if s == "" || s[0] < 'a' || s[0] > 'z' {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// thing is place without the name.
func thing(e estate.End) string {
	if k, n := e.Source(); n > 0 {
		return "the " + k.Words()
	}
	return e.Words()
}

// Title says what would be done: "Cycle outlet 3 of skarvoe-pdu", "Reset
// ostrel-store".
func (p *Preview) Title() string {
	do := sayingOf(p.Kind, p.Means, p.Button, p.Hold).do
	if ofDevice(p.Kind, p.Means) {
		return fmt.Sprintf(do, string(p.Device)+p.Into.Words())
	}
	words := make([]string, len(p.Outlets))
	for i, o := range p.Outlets {
		words[i] = place(o.End)
	}
	return fmt.Sprintf(do, strings.Join(words, " and ")+p.Into.Words())
}

// misplaced is what it means when the wrong thing went dark.
func (o *Operation) misplaced() string {
	switch o.Means {
	case ByChassis:
		return "its controller is not the one that the estate says"
	case ByPanel:
		return "the leads are not on the box that the estate says"
	case ByEndpoint:
		return "more than the card has started anew"
	}
	return "the cable is not where the estate says"
}
