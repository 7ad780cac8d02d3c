package operation

import (
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
)

// A start can be led elsewhere than usual, for once: its controller is told before, and
// what it was told is read back. Where the start never comes, that is taken back.

// Into is where a start leads.
type Into string

// Where it can lead.
const (
	IntoSetup       Into = "setup"
	IntoDiagnostics Into = "diagnostics"
	IntoDisk        Into = "disk"
	IntoNetwork     Into = "network"
	IntoDisc        Into = "disc"
)

var intos = []Into{IntoSetup, IntoDiagnostics, IntoDisk, IntoNetwork, IntoDisc}

// Words stand behind the name of what is started: "ostrel-store into set-up".
func (i Into) Words() string {
	return map[Into]string{
		IntoSetup: " into set-up", IntoDiagnostics: " into its diagnostics",
		IntoDisk: " to start from its disk", IntoNetwork: " to start from the network", IntoDisc: " to start from a disc",
	}[i]
}

// waits says whether a start ends there, so that nothing answers.
func (i Into) waits() bool { return i == IntoSetup || i == IntoDiagnostics }

// aims settles where the start that an intent asks for leads.
func (p *Preview) aims(in *Intent, d *estate.Device) error {
	if p.Into = in.Into; in.Into == "" {
		return nil
	}
	_, controlled := d.Controller()
	bySeat := fmt.Sprintf("sit at its serial line (plumb serial %s), reset it from there, and press the key that its firmware shows", d.Key)
	switch {
	case in.Kind != Reset && in.Kind != Cycle:
		return &UsageError{fmt.Sprintf("a %s starts nothing that could be led elsewhere: into is for reset and cycle", in.Kind)}
	case in.Into == "boot-menu":
		return &UsageError{"no controller can be told to open the boot menu: " + bySeat}
	case !slices.Contains(intos, in.Into):
		names := make([]string, len(intos))
		for i, x := range intos {
			names[i] = string(x)
		}
		return &UsageError{fmt.Sprintf("into %q: it can be %s, or boot-menu by hand", in.Into, or(names))}
	case !controlled:
		return &UsageError{fmt.Sprintf("%s has no controller that could be told where its next start leads: %s", d.Key, bySeat)}
	case in.Means != "" && in.Means != ByChassis || len(in.Outlets) > 0:
		return &UsageError{"where a start leads is for the controller to be told, and that it may forget when its own power is cut: leave the means out, or say chassis"}
	}
	in.Means = ByChassis
	return nil
}

func (p *Preview) sayInto(add func(LineKind, string, ...any)) {
	if p.Into == "" {
		return
	}
	add(LineNote, "Its controller is told first that the next start, once, goes%s; that is read back, and taken back if it never starts", p.Into.Words())
	if p.Into.waits() {
		add(LineNote, "It waits there for somebody, and answers nothing until they have left it: plumb serial %s", p.Device)
	}
}

// Of telling a controller where the next start leads.
const (
	takenAgain    = 5 * time.Second
	takeBackAgain = 20 * time.Second
	takeBackTries = 6
)

// aim tells the controller. To tell it again does no harm.
func (o *Operation) aim(s *Step, in Event) []Command {
	switch in := in.(type) {
	case Started:
		return o.send(s, in.At)
	case Answered:
		if s.State != Sending {
			return nil
		}
		if in.Outcome == sending.Accepted {
			return o.end(s, StepDone, in.At, "")
		}
		s.MaySent = in.Outcome == sending.Unclear // otherwise it is as it was
		return append(o.failStep(s, in.At, fmt.Sprintf("where its next start leads could not be set, so nothing was done: %s", in.Why)), o.recover(in.At)...)
	}
	return nil
}

// taken looks until the firmware has taken what the controller was told: that shows that
// the machine has started, and that it took notice.
func (o *Operation) taken(s *Step, in Event) []Command {
	return o.askAgain(s, in, asking{
		every: takenAgain, within: o.AnswerWithin,
		vain: fmt.Sprintf("its firmware has not taken that within %s (%%s): it never started, or takes no notice", short(o.AnswerWithin)),
	})
}

// takeBack has the next start be as usual, where the one that was meant never came.
func (o *Operation) takeBack(s *Step, in Event) []Command {
	return o.askAgain(s, in, asking{
		every: takeBackAgain, tries: takeBackTries, done: "its next start is as usual again",
		vain: "its next start still goes" + o.Into.Words() + ": that could not be taken back: %s",
	})
}

// asking is how long, or how often, something is asked of a controller, and what is said of
// it then.
type asking struct {
	every, within time.Duration
	tries         int
	done, vain    string // vain has a place for why
}

// askAgain asks until the answer is yes, or it has been asked for long enough.
func (o *Operation) askAgain(s *Step, in Event, a asking) []Command {
	switch in := in.(type) {
	case Started:
		return o.send(s, in.At)
	case Answered:
		switch {
		case s.State != Sending:
			return nil
		case in.Outcome == sending.Accepted:
			return o.end(s, StepDone, in.At, a.done)
		case s.Tries < a.tries || in.At.Sub(s.Began) < a.within:
			s.Note, s.Deadline = in.Why, in.At.Add(a.every)
			return o.enter(s, Retrying, in.At, Wake{s.Deadline})
		}
		return append(o.failStep(s, in.At, fmt.Sprintf(a.vain, in.Why)), o.begin(in.At)...)
	case Expired:
		if s.State == Retrying && s.expired(in) {
			return o.send(s, in.At)
		}
	}
	return nil
}

// leads says whether a step is about where a start leads, and switches nothing.
func (s *Step) leads() bool {
	return s.Kind == StepInto || s.Kind == StepTaken || s.Kind == StepTakeBack
}

// aimed says whether a controller may have been told, and no start is known to have come
// of it.
func (o *Operation) aimed() bool {
	told, came := false, false
	for i := range o.Steps {
		s := &o.Steps[i]
		told = told || s.Kind == StepInto && s.MaySent
		came = came || s.Kind == StepTaken && s.State == StepDone
	}
	return told && !came
}

// must says whether a step is done whatever has failed, and whoever has cancelled.
func (o *Operation) must(s *Step) bool {
	return s.Kind == SwitchOn && o.Owes(s.Outlet) || s.Kind == StepTakeBack && o.aimed()
}
