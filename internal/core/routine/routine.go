// Package routine is what is done step by step without anybody at hand: at a stated time, when
// something happens, or when somebody begins it.
//
//	routine.go  what a routine is: when it begins, and its steps
//	compile.go  the steps as a program that can be stopped and taken up anywhere
//	run.go      the machine that carries one out: events in, commands out
//
// No I/O and no clock, as in package operation, whose machines do the switching: this one only
// says what comes next. Conditions are those of package condition.
package routine

import (
	"regexp"
	"time"

	"plumbbob/internal/core/clock"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

// Version is that of the documents in which runs are kept.
const Version = 1

// A Routine is what is done, and when it begins. One without a Trigger is begun by hand, or by
// another.
type Routine struct {
	Name  string
	Title string
	Site  estate.Key // whose clocks count; empty: those of the standpoint
	Off   bool       // begun by nothing but people
	When  []Trigger
	With  map[string]string // arguments, and what they are unless it is said; empty: it has to be said
	Steps []Step
	After []Step   // what is done when what it goes While is over
	Call  []string // who is told when a run of it fails
}

// A Trigger is what begins a routine. One of its parts is given.
type Trigger struct {
	At     *clock.Clock
	Late   time.Duration // how late it may begin; what is later than that is missed
	While  string        // a condition that begins to hold
	For    time.Duration // how long it has to hold, or not to hold any more
	Kinds  []string      // incidents of these kinds that open
	Sites  []string      // only there
	Of     []string      // and only of these devices
	Secret string        // a token of this name, with which it is begun over the network
}

// Follows says whether a routine does something while something is so, and something else
// after that.
func (r *Routine) Follows() bool { return len(r.After) > 0 }

// StepKind is what a step does.
type StepKind string

// The kinds of step. An operation is one of package operation.
const (
	Operate  StepKind = "operate"
	Pause    StepKind = "wait"
	Until    StepKind = "wait until"
	If       StepKind = "if"
	Repeat   StepKind = "repeat"
	Together StepKind = "at the same time"
	Tell     StepKind = "tell"
	Picture  StepKind = "picture"
	Drill    StepKind = "drill"
	Batch    StepKind = "batch" // of what hangs on a UPS
	Text     StepKind = "wait for text"
	Keys     StepKind = "type"
	Call     StepKind = "run"
)

// A Verb is what a batch does.
type Verb string

// The verbs, as steps have them.
const (
	Shed    Verb = "shed"      // what is not essential is switched off
	TakeIn  Verb = "shut down" // what can be shut down is
	BringUp Verb = "bring up"  // what is off is switched on
)

// Verbs lists them.
var Verbs = []Verb{Shed, TakeIn, BringUp}

// Otherwise is what is done when a step fails.
type Otherwise string

// What it can be. Instead are steps of their own.
const (
	Stop    Otherwise = "stop"
	GoOn    Otherwise = "go on"
	Instead Otherwise = "instead"
)

// A Step is one thing that is done. Texts in it may name arguments: ${device}.
type Step struct {
	Kind   StepKind
	Path   string // where it stands, as people count: "3", "3 then 1"
	Kinds  operation.Kind
	Device string
	Means  operation.Means
	Ends   []string // outlets
	Button string
	Hold   time.Duration
	Force  bool
	Lift   []string // interlocks that it goes ahead against
	Why    string

	Time time.Duration // of a pause; of others how long it may take; 0: as usual
	Expr string        // a condition
	N    int           // how often it is repeated at most

	Body  []Step // of an If: then; of a Repeat: the steps
	Else  []Step
	Lanes [][]Step

	Text   string   // what is told, the pattern that is waited for, or the sequence that is typed
	Who    []string // who is told
	Screen bool     // at the screen, and not the line

	Name string            // of another routine
	With map[string]string // what that is given

	Otherwise Otherwise // empty: Stop
	Instead   []Step
}

var argument = regexp.MustCompile(`\$\{([a-z][a-z0-9-]*)\}`)

// Arguments lists those that a text names.
func Arguments(text string) (out []string) {
	for _, m := range argument.FindAllStringSubmatch(text, -1) {
		out = append(out, m[1])
	}
	return out
}

// fill puts arguments into a text.
func fill(text string, with map[string]string) string {
	return argument.ReplaceAllStringFunc(text, func(m string) string { return with[m[2:len(m)-1]] })
}
