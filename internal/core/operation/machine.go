package operation

import (
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
)

// An Event is something that happened to a running operation.
type Event interface{ at() time.Time }

type (
	// Started: the operation begins, or is taken up again after a crash.
	Started struct{ At time.Time }
	// Answered: the gear has replied to a command, or has not.
	Answered struct {
		At      time.Time
		Outcome sending.Outcome
		Why     string
	}
	// Measured: the outlets of a PDU have been read; At is when they were asked for.
	Measured struct {
		At      time.Time
		Outlets map[estate.End]Reading
	}
	// Heard: a device answered a probe that was sent at At.
	Heard struct {
		At     time.Time
		Device estate.Key
	}
	// Unheard: a device has stopped answering; At is when the first
	// unanswered probe was sent.
	Unheard struct {
		At     time.Time
		Device estate.Key
	}
	// Restarted: something shows that a device started anew between From and At.
	Restarted struct {
		From, At time.Time
		Device   estate.Key
		How      string // "its uptime says"
	}
	// Expired: the time that a Wake named has come.
	Expired struct{ At, Deadline time.Time }
	// CancelAsked: a person wants it to stop.
	CancelAsked struct {
		At time.Time
		By string
	}
)

func (e Started) at() time.Time     { return e.At }
func (e Answered) at() time.Time    { return e.At }
func (e Restarted) at() time.Time   { return e.At }
func (e Measured) at() time.Time    { return e.At }
func (e Heard) at() time.Time       { return e.At }
func (e Unheard) at() time.Time     { return e.At }
func (e Expired) at() time.Time     { return e.At }
func (e CancelAsked) at() time.Time { return e.At }

// A Command is something that the runtime must do now. Commands are carried
// out in order, and the list is stopped at a Save that fails.
type Command interface{ command() }

type (
	// Save records the operation durably before anything that follows.
	Save struct{}
	// Send sends one command to the gear and comes back with Answered.
	Send struct {
		Outlet estate.End
		Do     StepKind // any kind but Wait and Answer
		Hold   time.Duration
		Text   string         // of the means command: what is typed
		Button sending.Button // of a press
		Cold   bool           // of a restart: from the very beginning
		Into   Into           // where the next start is to lead
	}
	// Wake asks for Expired at a time; a later Wake replaces an earlier one.
	Wake struct{ At time.Time }
	// Finish says that the operation has ended.
	Finish struct{}
)

func (Save) command()   {}
func (Send) command()   {}
func (Wake) command()   {}
func (Finish) command() {}

const (
	lookFor    = 15 * time.Second // how long gear may take to be read before it is acted on
	lookOwed   = 3 * time.Second  // the same, when power has to come back
	checkFor   = 6 * time.Second  // on top of Settle: to be read back after a command
	drawFor    = 4 * time.Second  // how long draw may take to show once an outlet is on
	stillHeard = 2 * time.Second  // an answer this long after the cut is not a late one
	takeUp     = 2 * time.Minute  // a cut that is interrupted longer than this is not made any more
	giveUpOn   = 2 * time.Minute  // how long to try to switch on what we did not switch off
	witnessFor = 6 * time.Second  // after an off: to see who has fallen silent
	maxBackoff = time.Minute
)

// Step applies one event and returns what the runtime must now do, in order.
func (o *Operation) Step(in Event) []Command {
	if o.State != Running {
		return nil
	}
	s := o.Current()
	if s == nil {
		return o.finish(in.at())
	}
	o.notice(in)
	if c, ok := in.(CancelAsked); ok {
		return o.cancel(s, c)
	}
	switch s.Kind {
	case SwitchOff:
		return o.switchOff(s, in)
	case Wait:
		return o.wait(s, in)
	case SwitchOn:
		return o.switchOn(s, in)
	case GearCycle:
		return o.gearCycle(s, in)
	case SoftOff:
		return o.softOff(s, in)
	case StepReset, StepNMI:
		return o.strike(s, in)
	case StepInto:
		return o.aim(s, in)
	case StepTaken:
		return o.taken(s, in)
	case StepTakeBack:
		return o.takeBack(s, in)
	case StepWake:
		return o.rouse(s, in)
	case StepSleep:
		return o.doze(s, in)
	case StepPress:
		return o.push(s, in)
	case StepRestart:
		return o.renew(s, in)
	case Answer:
		return o.answer(s, in)
	}
	// Of a program that knew more. What it was to do is not known, and is not done.
	return append(o.failStep(s, in.at(), fmt.Sprintf("a step %q is not known here", s.Kind)), o.recover(in.at())...)
}

// notice takes in what matters at any step: when the device fell silent and
// was heard again, and whether something happened that should not have.
func (o *Operation) notice(in Event) {
	cut, open := o.cutAt()
	if cut.IsZero() {
		return
	}
	switch in := in.(type) {
	case Measured:
		o.settled(in)
	case Unheard:
		if in.At.Before(cut.Add(-time.Second)) {
			return
		}
		if in.Device == o.Device && o.SilentAt.IsZero() {
			o.SilentAt = in.At
		}
		if slices.Contains(o.Bystanders, in.Device) && o.Current().Kind != Answer {
			o.trouble(fmt.Sprintf("%s fell silent when %s was switched: %s", in.Device, o.outletWords(), o.misplaced()))
		}
	case Heard:
		if in.Device != o.Device {
			return
		}
		if !o.SilentAt.IsZero() && o.HeardAt.IsZero() && in.At.After(o.SilentAt) {
			o.HeardAt = in.At
		}
		if open && o.GoesDark && in.At.After(cut.Add(stillHeard)) {
			o.trouble(fmt.Sprintf("%s still answers although %s is off: %s", o.Device, o.outletWords(), o.misplaced()))
		}
	}
}

// settled keeps the newest draw of an outlet that is on again: the first one
// shows the inrush, not what the device takes.
func (o *Operation) settled(in Measured) {
	for i := range o.Steps {
		s := &o.Steps[i]
		if r, ok := in.Outlets[s.Outlet]; ok && s.State == StepDone && s.After != nil && s.After.On && s.MaySent && r.On && in.At.After(s.Ended) {
			s.After = &r
		}
	}
}

// cutAt is when power was cut as far as is known, or zero; open, whether it
// was seen to be and nothing has been done yet to bring it back.
func (o *Operation) cutAt() (at time.Time, open bool) {
	for i := range o.Steps {
		s := &o.Steps[i]
		switch {
		case (s.Kind == SwitchOff || s.Kind == SoftOff) && s.State == StepDone && s.MaySent:
			at, open = s.Ended, true
		case s.MaySent && (s.Kind == StepReset || s.Kind == StepSleep || s.Kind == StepRestart || s.Kind == SoftOff && told(s.Outlet)):
			at = s.Sent
		case s.Kind == SwitchOff && s.MaySent && !s.ended():
			at = s.Sent
		case s.SawOff != nil:
			at, open = s.SawOff.At, s.Kind == GearCycle && !s.ended()
		case s.Kind == GearCycle && s.MaySent:
			at = s.Sent
		case s.Kind == SwitchOn && s.State != Pending:
			open = false
		}
	}
	return at, open
}

func (o *Operation) trouble(text string) {
	if !slices.Contains(o.Trouble, text) {
		o.Trouble = append(o.Trouble, text)
	}
}

// enter moves a step to a new state and records that ahead of what follows.
func (o *Operation) enter(s *Step, to StepState, at time.Time, then ...Command) []Command {
	s.State = to
	o.Saved = at
	return append([]Command{Save{}}, then...)
}

// look begins a step that switches by reading the real state.
func (o *Operation) look(s *Step, at time.Time, patience time.Duration) []Command {
	if s.Began.IsZero() {
		s.Began = at
	}
	s.Since = at
	if due := s.Sent.Add(o.Settle); s.MaySent && due.After(at) {
		s.Since = due // what was sent before we died may still be at work
	}
	s.Deadline = s.Since.Add(patience)
	s.State = Looking
	// Not recorded on its own: a restart finds Pending, and looks as well.
	return []Command{Wake{s.Deadline}}
}

// send records that a command may now reach the gear, and then sends it.
func (o *Operation) send(s *Step, at time.Time) []Command {
	s.MaySent, s.Sent, s.Since = true, at, at
	s.Tries++
	s.Deadline = time.Time{}
	return o.enter(s, Sending, at, Send{Outlet: s.Outlet, Do: s.Kind, Hold: o.Hold, Text: o.Command, Button: o.Button, Cold: o.Force, Into: o.Into})
}

func (o *Operation) check(s *Step, at time.Time, patience time.Duration) []Command {
	s.Deadline = at.Add(patience)
	return o.enter(s, Checking, at, Wake{s.Deadline})
}

// end closes a step and begins the next one.
func (o *Operation) end(s *Step, as StepState, at time.Time, note string) []Command {
	s.Ended, s.Note = at, note
	out := o.enter(s, as, at)
	return append(out, o.begin(at)...)
}

// begin starts the current step, or finishes when none is left.
func (o *Operation) begin(at time.Time) []Command {
	s := o.Current()
	if s == nil {
		return o.finish(at)
	}
	if o.CancelBy != "" && !o.must(s) {
		return o.giveUp(at, "cancelled by "+o.CancelBy) // it was asked for while the step before could not be stopped
	}
	s.Began = at
	switch s.Kind {
	case Wait:
		if !o.wrote() {
			return o.end(s, Skipped, at, "nothing was switched off")
		}
		s.Deadline = at.Add(o.Hold)
		if o.endsOff() {
			s.Deadline = at.Add(witnessFor)
		}
		return o.enter(s, Waiting, at, Wake{s.Deadline})
	case Answer:
		if !o.wrote() {
			return o.end(s, Skipped, at, "nothing was switched")
		}
		s.Deadline = at.Add(o.AnswerWithin)
		return o.enter(s, Waiting, at, Wake{s.Deadline})
	case StepWake, StepInto, StepTaken:
		return o.send(s, at)
	case StepTakeBack:
		if !o.aimed() {
			return o.end(s, Skipped, at, "its firmware has taken it")
		}
		return o.send(s, at)
	case SoftOff, StepReset, StepSleep:
		if told(s.Outlet) { // there is nothing to look at before
			return o.send(s, at)
		}
	case SwitchOn:
		if o.Owes(s.Outlet) {
			return o.look(s, at, lookOwed)
		}
	}
	return o.look(s, at, lookFor)
}

// giveUp ends what has not been done yet, except what power still depends on.
func (o *Operation) giveUp(at time.Time, note string) []Command {
	for i := range o.Steps {
		s := &o.Steps[i]
		if s.ended() || o.must(s) {
			continue
		}
		s.State, s.Ended, s.Note = Skipped, at, note
	}
	return o.begin(at)
}

// finish settles how it all ended.
func (o *Operation) finish(at time.Time) []Command {
	o.State = Done
	for i := range o.Steps {
		if o.Steps[i].State == StepFail {
			o.State = Failed
		}
	}
	if len(o.Trouble) > 0 {
		o.State = Failed
	}
	if o.State == Done && o.CancelBy != "" {
		o.State = Cancelled
	}
	o.Ended, o.Saved = at, at
	return []Command{Save{}, Finish{}}
}

// cancel stops at the next safe point. What was switched off comes back first.
func (o *Operation) cancel(s *Step, c CancelAsked) []Command {
	if o.CancelBy == "" {
		o.CancelBy = c.By
	}
	note := "cancelled by " + c.By
	switch {
	case s.Kind == Wait:
		return o.end(s, Skipped, c.At, note)
	case o.must(s), s.Kind != SwitchOn && s.MaySent:
		return o.enter(s, s.State, c.At) // too late for this step; it ends first
	}
	return o.giveUp(c.At, note)
}
