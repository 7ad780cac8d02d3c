// Package operation decides how power is switched, and whether it may be.
//
//	operation.go  what an operation is, and its steps
//	preview.go    what it would take down, worked out before anything is touched
//	interlock.go  the rules that stop it
//	machine.go    the step machine that carries it out: events in, commands out
//	steps.go      what each kind of step makes of each event
//	press.go      the same for buttons: shutdown, reset, interrupt, a press
//	told.go       the same for what is told a command line, a card or a sleeping host
//	outcome.go    what happened, in one sentence
//
// No I/O and no clock: events bring the times in, and the runtime (act) carries
// the commands out. The promise that the machine keeps, whatever happens: an
// operation does not end while an outlet that it switched off is still off,
// unless off was what was asked for.
package operation

import (
	"encoding/json"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
)

// Kind is what was asked for.
type Kind string

// The kinds of operation.
const (
	On       Kind = "on"
	Off      Kind = "off"
	Cycle    Kind = "cycle"    // off, wait, on; always ends on
	Shutdown Kind = "shutdown" // the operating system is asked to
	Reset    Kind = "reset"    // the system starts anew, its power stays on
	NMI      Kind = "nmi"      // a diagnostic interrupt
	Sleep    Kind = "sleep"    // the operating system is asked to
	Press    Kind = "press"    // a button on the front, for a stated time
	Restart  Kind = "restart"  // of a controller or a card itself; what it looks after goes on
)

// Kinds lists them, the gentler first.
var Kinds = []Kind{On, Restart, Sleep, Shutdown, NMI, Press, Reset, Cycle, Off}

// Means is through what an operation acts.
type Means string

// The means, the gentlest first. Chassis is a device's management controller.
const (
	ByCommand  Means = "command" // on the device's own command line
	ByChassis  Means = "chassis"
	ByWake     Means = "wake"   // a magic packet over the network
	ByPanel    Means = "panel"  // the leads to its buttons and lights
	ByPoE      Means = "poe"    // a switch port that carries power
	ByOutput   Means = "output" // of a UPS, with all that hangs on it
	ByOutlet   Means = "outlet"
	ByEndpoint Means = "endpoint" // of a restart: the controller or the card that is started anew
)

// AllMeans lists those that somebody can choose.
var AllMeans = []Means{ByCommand, ByChassis, ByWake, ByPanel, ByPoE, ByOutput, ByOutlet}

// State is where an operation stands.
type State string

// The states of an operation. All but Running are final.
const (
	Running   State = "running"
	Done      State = "done"
	Failed    State = "failed"
	Cancelled State = "cancelled"
)

// StepKind is what a step does.
type StepKind string

// The kinds of step.
const (
	SwitchOff    StepKind = "switch-off"
	Wait         StepKind = "wait" // and see who has fallen silent
	SwitchOn     StepKind = "switch-on"
	GearCycle    StepKind = "gear-cycle" // the gear switches off, waits and switches on by itself
	Answer       StepKind = "answer"     // until the device answers again
	SoftOff      StepKind = "soft-off"   // ask the operating system to shut down, and wait for that
	StepReset    StepKind = "reset"      // the reset button
	StepInto     StepKind = "into"       // tell the controller where the next start leads
	StepTaken    StepKind = "taken"      // see whether the firmware has taken that
	StepTakeBack StepKind = "take-back"  // and that it is as usual, where no start has come
	StepNMI      StepKind = "nmi"
	StepWake     StepKind = "wake"    // a magic packet is sent
	StepSleep    StepKind = "sleep"   // ask the operating system to sleep, and see it fall silent
	StepPress    StepKind = "press"   // a button, for a stated time
	StepRestart  StepKind = "restart" // start a controller or a card anew, and see it go and come back
)

// StepState is where a step stands.
type StepState string

// The states of a step. A step that switches goes through Looking, Sending and
// Checking, and is recorded before each.
const (
	Pending  StepState = "pending"
	Looking  StepState = "looking"  // reading the real state before anything is sent
	Sending  StepState = "sending"  // the command may have left
	Checking StepState = "checking" // reading back what it did
	Retrying StepState = "retrying" // waiting before the next try
	Waiting  StepState = "waiting"
	StepDone StepState = "done"
	StepFail StepState = "failed"
	Skipped  StepState = "skipped"
)

// A Reading is what was measured at an outlet.
type Reading struct {
	At      time.Time `json:"at"`
	On      bool      `json:"on"`
	Metered bool      `json:"metered"`
	W       float64   `json:"w"`
	Giving  *bool     `json:"giving,omitempty"` // of a PoE port: something takes power from it
	Fault   string    `json:"fault,omitempty"`  // and why it gives none
}

// A Step is one thing that an operation does.
type Step struct {
	Kind     StepKind   `json:"kind"`
	Outlet   estate.End `json:"outlet"`
	State    StepState  `json:"state"`
	MaySent  bool       `json:"maySent"` // a command may have reached the gear
	Tries    int        `json:"tries"`
	Began    time.Time  `json:"began"`
	Since    time.Time  `json:"since"` // readings asked for before this do not count
	Sent     time.Time  `json:"sent"`
	Ended    time.Time  `json:"ended"`
	Deadline time.Time  `json:"deadline"`
	Before   *Reading   `json:"before,omitempty"`
	After    *Reading   `json:"after,omitempty"`
	SawOff   *Reading   `json:"sawOff,omitempty"` // of a gear-cycle: the outlet seen open
	Note     string     `json:"note,omitempty"`
}

func (s *Step) ended() bool {
	return s.State == StepDone || s.State == StepFail || s.State == Skipped
}

// Usual is how long a device took to come back in the past.
type Usual struct {
	Min time.Duration `json:"min"`
	Max time.Duration `json:"max"`
	N   int           `json:"n"`
}

// An Operation is one power action on one device, and all that is needed to
// take it up again after a crash: what was asked for, what follows from that, how far
// it has come, and what was seen before and after.
type Operation struct {
	ID string `json:"id"`
	Order
	Plan
	Progress
	Proof Proof `json:"proof"`
}

// An Order is what somebody asked for, as it was settled in the preview. It does not
// change.
type Order struct {
	Kind    Kind         `json:"kind"`
	Means   Means        `json:"means"` // empty on old records: by outlet
	Device  estate.Key   `json:"device"`
	Site    estate.Key   `json:"site"`
	Outlets []estate.End `json:"outlets"` // what is switched, or told
	By      string       `json:"by"`
	Why     string       `json:"why"`
	Asked   time.Time    `json:"asked"`

	Command string         `json:"command"`        // what is typed, of the means command
	Button  sending.Button `json:"button"`         // of a press
	Force   bool           `json:"force"`          // a shutdown that is not heeded ends in switching off
	Hold    time.Duration  `json:"hold"`           // how long a cycle stays off, or a button is pressed
	Within  time.Duration  `json:"within"`         // how long a shutdown may take
	Into    Into           `json:"into,omitempty"` // where the start leads; empty: as usual
}

// A Plan is what follows from an order, by what was known when it began.
type Plan struct {
	ByGear   bool         `json:"byGear"`   // the gear carries out the whole cycle
	Restores []estate.End `json:"restores"` // chassis that stay off when power returns, and are switched on then
	Hard     []estate.End `json:"hard"`     // of a forced shutdown: what is switched off when it is not heeded
	Also     []estate.End `json:"also"`     // what is not switched, and must not be touched by others meanwhile

	Settle       time.Duration `json:"settle"`       // how long the gear takes to carry out a command
	IdleW        float64       `json:"idleW"`        // a draw at or below this is none
	AnswerWithin time.Duration `json:"answerWithin"` // from power to the first answer
	Usual        Usual         `json:"usual"`
	Answered     bool          `json:"answered"`   // the device answered before
	Bystanders   []estate.Key  `json:"bystanders"` // what answered before and must go on answering
	Dark         []estate.Key  `json:"dark"`       // what loses its power
	GoesDark     bool          `json:"goesDark"`   // all feeds of the device are cut
}

// Progress is how far an operation has come: what the machine changes.
type Progress struct {
	State    State     `json:"state"`
	Steps    []Step    `json:"steps"`
	Saved    time.Time `json:"saved"` // when the machine last recorded itself
	Ended    time.Time `json:"ended"`
	CancelBy string    `json:"cancelBy,omitempty"`
	Trouble  []string  `json:"trouble,omitempty"` // what was found that should not be, in sentences
	SilentAt time.Time `json:"silentAt"`          // when the device fell silent after the cut
	HeardAt  time.Time `json:"heardAt"`           // its first answer after power returned
}

// Version is that of the document in which an operation is kept. Documents of
// every version that was ever written can be read; the first ones carry none.
const Version = 1

// MarshalJSON writes an operation with the version of its form.
func (o *Operation) MarshalJSON() ([]byte, error) {
	type plain Operation
	return json.Marshal(struct {
		V int `json:"v"`
		*plain
	}{Version, (*plain)(o)})
}

// Proof is what was measured and seen of the device before and after, beside
// what the steps have measured themselves.
type Proof struct {
	Before []Fact `json:"before,omitempty"`
	After  []Fact `json:"after,omitempty"`
}

// A Fact is one thing that was measured or seen, in words.
type Fact struct {
	Name string `json:"name"`
	Text string `json:"text"`
	File *File  `json:"file,omitempty"` // more of it, kept beside the record
	Line bool   `json:"line,omitempty"` // it is what a serial line has said, which not everybody may see
}

// A File is kept beside the record of an operation, for a while.
type File struct {
	ID   string `json:"id"`
	Type string `json:"type"` // its media type
	Size int    `json:"size"` // in bytes
}

// wrote is whether anything may have been sent to the gear.
func (o *Operation) wrote() bool {
	return slices.ContainsFunc(o.Steps, func(s Step) bool { return s.MaySent && !s.leads() })
}

// DefaultHold is how long a cycle keeps an outlet off unless told otherwise:
// long enough for power supplies to run empty.
const DefaultHold = 10 * time.Second

// The longest and shortest time that a cycle may keep an outlet off.
const (
	MinHold = 2 * time.Second
	MaxHold = 10 * time.Minute
)

// DefaultWithin is how long a shutdown may take unless told otherwise, and
// MaxWithin the longest that can be asked for.
const (
	DefaultWithin = 3 * time.Minute
	MaxWithin     = time.Hour
)

// endsOff says whether the device is meant to be off, or asleep, afterwards.
func (o *Operation) endsOff() bool {
	return o.Kind == Off || o.Kind == Shutdown || o.Kind == Sleep || o.Kind == Press && o.Hold >= sending.ForcesOff && o.Button == sending.PowerButton
}

// LeavesOff says whether the device is off, or asleep, because somebody meant it.
func (o *Operation) LeavesOff() bool { return o.State == Done && (o.endsOff() || o.pressedOff()) }

// pressedOff says whether a device went off by a press that only asks for that.
func (o *Operation) pressedOff() bool {
	return o.Kind == Press && slices.ContainsFunc(o.Steps, func(s Step) bool { return o.asksToShutDown(&s) && s.After != nil && !s.After.On })
}

// Claims lists what no other operation may touch meanwhile: what is switched,
// and the chassis of the devices that it touches.
func (o *Operation) Claims() []estate.End {
	claims := slices.Clone(o.Outlets)
	for _, end := range o.Also {
		if !slices.Contains(claims, end) {
			claims = append(claims, end)
		}
	}
	for _, k := range append([]estate.Key{o.Device}, o.Dark...) {
		if end := estate.ChassisEnd(k); !slices.Contains(claims, end) {
			claims = append(claims, end)
		}
	}
	return claims
}

// Lay lays out the steps of a new operation.
func (o *Operation) Lay(awaitAnswer bool) {
	o.State = Running
	o.Steps = nil
	each := func(kind StepKind) {
		for _, end := range o.Outlets {
			o.Steps = append(o.Steps, Step{Kind: kind, Outlet: end, State: Pending})
		}
	}
	if o.Into != "" {
		each(StepInto)
	}
	switch {
	case o.Kind == Shutdown:
		each(SoftOff)
		for _, end := range o.Hard {
			o.Steps = append(o.Steps, Step{Kind: SwitchOff, Outlet: end, State: Pending})
		}
		o.Steps = append(o.Steps, Step{Kind: Wait, State: Pending})
	case singleStep[o.Kind] != "":
		each(singleStep[o.Kind])
	case o.Kind == Off:
		each(SwitchOff)
		o.Steps = append(o.Steps, Step{Kind: Wait, State: Pending})
	case o.Means == ByWake:
		each(StepWake)
	case o.Kind == On:
		each(SwitchOn)
	case o.ByGear:
		each(GearCycle)
	default:
		each(SwitchOff)
		o.Steps = append(o.Steps, Step{Kind: Wait, State: Pending})
		each(SwitchOn)
	}
	for _, end := range o.Restores {
		o.Steps = append(o.Steps, Step{Kind: SwitchOn, Outlet: end, State: Pending})
	}
	if o.Into != "" {
		each(StepTaken)
	}
	if comesBack := o.Kind == On || o.Kind == Cycle || o.Kind == Reset; comesBack && awaitAnswer && !o.Into.waits() {
		o.Steps = append(o.Steps, Step{Kind: Answer, State: Pending})
	}
	if o.Into != "" {
		each(StepTakeBack)
	}
}

// singleStep are the kinds that do one thing.
var singleStep = map[Kind]StepKind{Reset: StepReset, NMI: StepNMI, Sleep: StepSleep, Press: StepPress, Restart: StepRestart}

// Owes says whether the operation may have switched this outlet off and has
// not yet seen it on again, although it must not stay off.
func (o *Operation) Owes(end estate.End) bool {
	if o.endsOff() {
		return false
	}
	if slices.Contains(o.Restores, end) {
		return o.owesRestore(end)
	}
	owes := false
	for i := range o.Steps {
		s := &o.Steps[i]
		if s.Outlet != end {
			continue
		}
		switch s.Kind {
		case SwitchOff:
			owes = owes || s.MaySent
		case GearCycle:
			owes = owes || s.MaySent && s.State != StepDone
		case SwitchOn:
			owes = (owes || s.SawOff != nil) && s.State != StepDone
		}
	}
	return owes
}

// owesRestore: the device has been without power, or has only just got it, and
// does not come on by itself.
func (o *Operation) owesRestore(end estate.End) bool {
	switched, done := false, false
	for i := range o.Steps {
		s := &o.Steps[i]
		switched = switched || s.Outlet != end && s.MaySent
		done = done || s.Outlet == end && s.State == StepDone
	}
	return switched && !done
}

// Powered says whether all that the operation switches has been switched and read
// back: only the device itself is waited for.
func (o *Operation) Powered() bool {
	for i := range o.Steps {
		if s := &o.Steps[i]; !s.ended() && s.Kind != Answer {
			return false
		}
	}
	return true
}

// Current returns the step that is being carried out, or nil.
func (o *Operation) Current() *Step {
	for i := range o.Steps {
		if !o.Steps[i].ended() {
			return &o.Steps[i]
		}
	}
	return nil
}

// Clone copies an operation, so that a reader is not disturbed by the machine.
func (o *Operation) Clone() *Operation {
	c := *o
	c.Steps = append([]Step(nil), o.Steps...)
	c.Trouble = append([]string(nil), o.Trouble...)
	return &c
}
