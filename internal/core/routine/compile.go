package routine

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/sending"
)

// Bounds on a program.
const (
	mostOps   = 500
	deepest   = 8
	MostTimes = 1000 // that something is repeated
)

// Do is what an instruction does, beside the kinds of step that are done by somebody else.
type Do string

// What is done by the machine itself.
const (
	doJump   Do = "jump"
	doBranch Do = "branch"
	doLoop   Do = "loop"
	doFork   Do = "fork"
	doLane   Do = "lane" // the end of one
	doEnd    Do = "end"
	doGiveUp Do = "give up"
)

// An Op is one instruction of a program.
type Op struct {
	Do     Do                `json:"do"`
	Path   string            `json:"path"`
	Words  string            `json:"words"` // what it does, for people
	Next   int               `json:"next"`
	Else   int               `json:"else,omitempty"` // of a branch that does not hold, of a loop that is over
	Fail   int               `json:"fail"`           // where it goes on when it fails; -1: nowhere
	Lanes  []int             `json:"lanes,omitempty"`
	Time   time.Duration     `json:"time,omitempty"`
	Expr   string            `json:"expr,omitempty"`
	N      int               `json:"n,omitempty"`
	Intent *operation.Intent `json:"intent,omitempty"`
	Lift   []string          `json:"lift,omitempty"`
	Why    string            `json:"why,omitempty"`
	Device estate.Key        `json:"device,omitempty"`
	Text   string            `json:"text,omitempty"`
	Who    []string          `json:"who,omitempty"`
	Screen bool              `json:"screen,omitempty"`
	With   map[string]string `json:"with,omitempty"` // the arguments that its condition knows
}

// compiler lays a program out.
type compiler struct {
	ops    []Op
	find   func(name string) *Routine
	path   string
	within string // the step of another routine that runs this one
	with   map[string]string
	deep   []string // the routines that are being laid out
}

// Compile makes steps a program, with other routines that it runs laid out in it. find returns
// those, or nil.
func Compile(r *Routine, steps []Step, with map[string]string, find func(name string) *Routine) ([]Op, error) {
	all, err := arguments(r, with)
	if err != nil {
		return nil, err
	}
	c := &compiler{find: find, with: all, deep: []string{r.Name}}
	if err := c.list(steps); err != nil {
		return nil, err
	}
	c.emit(Op{Do: doEnd})
	if len(c.ops) > mostOps {
		return nil, fmt.Errorf("it comes to %d steps, and %d are the most", len(c.ops), mostOps)
	}
	return c.ops, nil
}

// arguments are those that a routine has, as they are given.
func arguments(r *Routine, with map[string]string) (map[string]string, error) {
	all := maps.Clone(r.With)
	if all == nil {
		all = map[string]string{}
	}
	for _, name := range slices.Sorted(maps.Keys(with)) {
		if _, is := all[name]; !is {
			return nil, fmt.Errorf("it takes no %s: %s is what it takes", name, cmp.Or(strings.Join(slices.Sorted(maps.Keys(r.With)), ", "), "nothing"))
		}
		all[name] = with[name]
	}
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if all[name] == "" {
			return nil, fmt.Errorf("it has to be told its %s: --with %s=…", name, name)
		}
	}
	return all, nil
}

func (c *compiler) emit(op Op) int {
	at := len(c.ops)
	op.Next, op.Fail, op.Path, op.With = at+1, -1, c.path, nil
	if op.Expr != "" && len(c.with) > 0 {
		op.With = maps.Clone(c.with)
	}
	c.ops = append(c.ops, op)
	return at
}

func (c *compiler) list(steps []Step) error {
	for i := range steps {
		if len(c.ops) > mostOps {
			return fmt.Errorf("it comes to more than %d steps", mostOps)
		}
		before := c.path
		c.path = c.within + steps[i].Path
		if err := c.step(&steps[i]); err != nil {
			return err
		}
		c.path = before
	}
	return nil
}

// step lays one out, and after it what is done otherwise.
func (c *compiler) step(s *Step) error {
	at, err := c.laid(s)
	if err != nil || at < 0 {
		return err
	}
	switch s.Otherwise {
	case GoOn:
		c.ops[at].Fail = len(c.ops)
	case Instead:
		jump := at
		if c.ops[at].Next != len(c.ops) || c.ops[at].Do == doLoop { // something of its own lies between
			jump = c.emit(Op{Do: doJump})
		}
		c.ops[at].Fail = len(c.ops)
		if err := c.list(s.Instead); err != nil {
			return err
		}
		c.ops[jump].Next = len(c.ops)
	}
	return nil
}

// laid lays out what a step does, and returns the instruction that may fail, or -1.
func (c *compiler) laid(s *Step) (int, error) {
	device := estate.Key(fill(s.Device, c.with))
	switch s.Kind {
	case Operate:
		in, err := c.intent(s, device)
		if err != nil {
			return 0, err
		}
		return c.emit(Op{Do: Do(Operate), Words: intentWords(in), Intent: &in, Lift: s.Lift, Why: fill(s.Why, c.with), Device: device, Time: s.Time}), nil
	case Pause:
		return c.emit(Op{Do: Do(Pause), Words: "Wait " + plain.Span(s.Time), Time: s.Time}), nil
	case Until:
		return c.emit(Op{Do: Do(Until), Words: fmt.Sprintf("Wait until %s, for up to %s", s.Expr, plain.Span(s.Time)), Expr: s.Expr, Time: s.Time}), nil
	case Tell:
		text := fill(s.Text, c.with)
		return c.emit(Op{Do: Do(Tell), Words: fmt.Sprintf("Tell %s: %s", strings.Join(s.Who, ", "), text), Text: text, Who: s.Who}), nil
	case Picture:
		return c.emit(Op{Do: Do(Picture), Words: fmt.Sprintf("Take a picture of the screen of %s", device), Device: device}), nil
	case Batch:
		words := map[Verb]string{
			Shed: "Switch off what is not essential behind ", TakeIn: "Shut down what is behind ", BringUp: "Switch on what is behind ",
		}[Verb(s.Name)] + string(device) + ", in order"
		if s.Expr != "" {
			words += ", while " + s.Expr
		}
		return c.emit(Op{Do: Do(Batch), Words: words, Text: s.Name, Device: device, Expr: s.Expr, Lift: s.Lift, Why: fill(s.Why, c.with)}), nil
	case Drill:
		what := s.Text
		if what == "" {
			what = "all"
		}
		words := "Drill the ways to rescue " + what
		if len(s.Who) > 0 {
			words += ", and tell " + strings.Join(s.Who, ", ")
		}
		return c.emit(Op{Do: Do(Drill), Words: words, Text: s.Text, Who: s.Who}), nil
	case Text:
		return c.emit(Op{Do: Do(Text), Words: fmt.Sprintf("Wait until the %s of %s says %s", where(s.Screen), device, s.Text), Text: s.Text, Device: device, Screen: s.Screen, Time: s.Time}), nil
	case Keys:
		return c.emit(Op{Do: Do(Keys), Words: fmt.Sprintf("Type the sequence %s at the %s of %s", s.Text, where(s.Screen), device), Text: fill(s.Text, c.with), Device: device, Screen: s.Screen, Time: s.Time}), nil
	case If:
		return c.branch(s)
	case Repeat:
		return c.loop(s)
	case Together:
		return c.fork(s)
	case Call:
		return -1, c.call(s)
	}
	return 0, fmt.Errorf("step %s: there is no step %q", s.Path, s.Kind)
}

func where(screen bool) string {
	if screen {
		return "screen"
	}
	return "line"
}

func (c *compiler) intent(s *Step, device estate.Key) (operation.Intent, error) {
	in := operation.Intent{Kind: s.Kinds, Device: device, Means: s.Means, Hold: s.Hold, Force: s.Force, Button: sending.Button(s.Button)}
	if in.Kind == operation.Shutdown {
		in.Within = s.Time
	}
	for _, text := range s.Ends {
		end, err := estate.ParseEnd(fill(text, c.with))
		if err != nil {
			return in, fmt.Errorf("step %s: %w", s.Path, err)
		}
		in.Outlets = append(in.Outlets, end)
	}
	return in, nil
}

func intentWords(in operation.Intent) string {
	words := operation.Verb(in.Kind, string(in.Device))
	if len(in.Outlets) > 0 {
		var ends []string
		for _, e := range in.Outlets {
			ends = append(ends, e.String())
		}
		words += " at " + strings.Join(ends, ", ")
	}
	if in.Means != "" {
		words += " by " + string(in.Means)
	}
	return words
}

func (c *compiler) branch(s *Step) (int, error) {
	at := c.emit(Op{Do: doBranch, Words: "If " + s.Expr, Expr: s.Expr})
	if err := c.list(s.Body); err != nil {
		return 0, err
	}
	over := c.emit(Op{Do: doJump})
	c.ops[at].Else = len(c.ops)
	err := c.list(s.Else)
	c.ops[over].Next = len(c.ops)
	return at, err
}

func (c *compiler) loop(s *Step) (int, error) {
	words := fmt.Sprintf("Repeat %d times", s.N)
	if s.Expr != "" {
		words = fmt.Sprintf("Repeat until %s, up to %d times", s.Expr, s.N)
	}
	at := c.emit(Op{Do: doLoop, Words: words, N: s.N, Expr: s.Expr})
	if err := c.list(s.Body); err != nil {
		return 0, err
	}
	again := c.emit(Op{Do: doJump})
	c.ops[again].Next = at
	c.ops[at].Else = len(c.ops)
	return at, nil
}

func (c *compiler) fork(s *Step) (int, error) {
	at := c.emit(Op{Do: doFork, Words: fmt.Sprintf("Do %d things at the same time", len(s.Lanes))})
	for _, lane := range s.Lanes {
		c.ops[at].Lanes = append(c.ops[at].Lanes, len(c.ops))
		if err := c.list(lane); err != nil {
			return 0, err
		}
		c.emit(Op{Do: doLane})
	}
	c.ops[at].Next = len(c.ops)
	return -1, nil
}

// call lays another routine out in this one.
func (c *compiler) call(s *Step) error {
	r := c.find(s.Name)
	switch {
	case r == nil:
		return fmt.Errorf("step %s: there is no routine %q: plumb routine list shows them", s.Path, s.Name)
	case slices.Contains(c.deep, s.Name):
		return fmt.Errorf("step %s: %s would run itself, without an end", s.Path, strings.Join(append(c.deep, s.Name), " runs "))
	case len(c.deep) == deepest:
		return fmt.Errorf("step %s: routines run each other more than %d deep", s.Path, deepest)
	}
	given := map[string]string{}
	for name, v := range s.With {
		given[name] = fill(v, c.with)
	}
	with, err := arguments(r, given)
	if err != nil {
		return fmt.Errorf("step %s runs %s: %w", s.Path, s.Name, err)
	}
	was := *c
	c.with, c.deep, c.within = with, append(slices.Clone(c.deep), s.Name), c.path+", "+s.Name+" "
	err = c.list(r.Steps)
	c.with, c.deep, c.within = was.with, was.deep, was.within
	return err
}
