package orderfile

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/core/sending"
)

// step is one step, as it is written: one of the first keys says what it does, the others how.
type step struct {
	On       string   `yaml:"on"`
	Off      string   `yaml:"off"`
	Cycle    string   `yaml:"cycle"`
	Reset    string   `yaml:"reset"`
	Shutdown string   `yaml:"shutdown"`
	Sleep    string   `yaml:"sleep"`
	Wake     string   `yaml:"wake"`
	Press    string   `yaml:"press"`
	Restart  string   `yaml:"restart"`
	Wait     string   `yaml:"wait"`
	Until    string   `yaml:"wait until"`
	If       string   `yaml:"if"`
	Repeat   int      `yaml:"repeat"`
	Together [][]step `yaml:"at the same time"`
	Tell     string   `yaml:"tell"`
	Picture  string   `yaml:"picture"`
	Drill    string   `yaml:"drill"`
	Shed     string   `yaml:"shed"`
	TakeIn   string   `yaml:"shut down"`
	BringUp  string   `yaml:"bring up"`
	Text     string   `yaml:"wait for text"`
	Type     string   `yaml:"type"`
	Run      string   `yaml:"run"`

	By        string            `yaml:"by"`
	Outlets   []string          `yaml:"outlets"`
	Button    string            `yaml:"button"`
	Hold      string            `yaml:"hold"`
	Force     bool              `yaml:"force"`
	Lift      []string          `yaml:"lift"`
	Why       string            `yaml:"why"`
	Within    string            `yaml:"within"`
	Then      []step            `yaml:"then"`
	Else      []step            `yaml:"else"`
	Steps     []step            `yaml:"steps"`
	Enough    string            `yaml:"until"`
	Who       []string          `yaml:"who"`
	While     string            `yaml:"while"`
	Screen    string            `yaml:"screen"`
	Line      string            `yaml:"line"`
	With      map[string]string `yaml:"with"`
	Otherwise yaml.Node         `yaml:"otherwise"`
}

// doing is what a step does: the key that says so, and what stands there.
type doing struct {
	key, what string
	read      func(p *parser, at []string, s *step, out *routine.Step)
	how       []string // the keys that go with it
}

var power = []string{"by", "outlets", "lift", "why"}

// doings lists what a step says that it does.
func (s *step) doings() (out []doing) {
	for _, d := range []doing{
		{"on", s.On, operate(operation.On), power},
		{"off", s.Off, operate(operation.Off), power},
		{"cycle", s.Cycle, operate(operation.Cycle), append([]string{"hold"}, power...)},
		{"reset", s.Reset, operate(operation.Reset), power},
		{"shutdown", s.Shutdown, operate(operation.Shutdown), append([]string{"within", "force"}, power...)},
		{"sleep", s.Sleep, operate(operation.Sleep), power},
		{"wake", s.Wake, operate(operation.On), []string{"lift", "why"}},
		{"press", s.Press, operate(operation.Press), []string{"button", "hold", "lift", "why"}},
		{"restart", s.Restart, operate(operation.Restart), []string{"lift", "why"}},
		{"wait", s.Wait, (*parser).pause, nil},
		{"wait until", s.Until, (*parser).until, []string{"within"}},
		{"if", s.If, (*parser).branch, []string{"then", "else"}},
		{"tell", s.Tell, (*parser).tell, []string{"who"}},
		{"picture", s.Picture, (*parser).picture, nil},
		{"drill", s.Drill, (*parser).drill, []string{"who"}},
		{"shed", s.Shed, batch(routine.Shed), []string{"while", "lift", "why"}},
		{"shut down", s.TakeIn, batch(routine.TakeIn), []string{"while", "lift", "why"}},
		{"bring up", s.BringUp, batch(routine.BringUp), []string{"while", "lift", "why"}},
		{"wait for text", s.Text, (*parser).text, []string{"screen", "line", "within"}},
		{"type", s.Type, (*parser).keys, []string{"screen", "within"}},
		{"run", s.Run, (*parser).call, []string{"with"}},
	} {
		if d.what != "" {
			out = append(out, d)
		}
	}
	if s.Repeat != 0 {
		out = append(out, doing{"repeat", "", (*parser).loop, []string{"steps", "until"}})
	}
	if s.Together != nil {
		out = append(out, doing{"at the same time", "", (*parser).together, nil})
	}
	return out
}

// hows lists the other keys that a step has.
func (s *step) hows() (out []string) {
	for key, is := range map[string]bool{
		"by": s.By != "", "outlets": len(s.Outlets) > 0, "button": s.Button != "", "hold": s.Hold != "", "force": s.Force, "lift": len(s.Lift) > 0, "why": s.Why != "",
		"within": s.Within != "", "then": s.Then != nil, "else": s.Else != nil, "steps": s.Steps != nil, "until": s.Enough != "", "who": s.Who != nil,
		"screen": s.Screen != "", "while": s.While != "", "line": s.Line != "", "with": s.With != nil,
	} {
		if is {
			out = append(out, key)
		}
	}
	slices.Sort(out)
	return out
}

func (p *parser) steps(at []string, prefix string, list []step, deep int) (out []routine.Step) {
	if deep > deepest {
		p.Fault(at, "steps stand in each other more than %d deep: make routines of some of them", deepest)
		return nil
	}
	for i := range list {
		if p.stepsRead++; p.stepsRead > mostSteps {
			if p.stepsRead == mostSteps+1 {
				p.Fault(at, "it has more than %d steps: make routines of some of them", mostSteps)
			}
			return out
		}
		out = append(out, p.step(append(slices.Clone(at), strconv.Itoa(i)), fmt.Sprintf("%s%d", prefix, i+1), &list[i], deep))
	}
	return out
}

func (p *parser) step(at []string, path string, s *step, deep int) (out routine.Step) {
	out = routine.Step{Path: path}
	what := s.doings()
	if len(what) != 1 {
		p.Fault(at, "step %s has to do one thing: on, off, cycle, shutdown, wait, wait until, if, repeat, tell, run and so on: see plumb routine schema", path)
		return out
	}
	d := what[0]
	for _, how := range s.hows() {
		if !slices.Contains(d.how, how) {
			p.Fault(append(at, how), "step %s: %s does not go with %s", path, how, d.key)
		}
	}
	d.read(p, at, s, &out)
	p.line(append(at, d.key), d.what)
	p.filled(append(at, d.key), d.what)
	out.Body = p.steps(append(at, "then"), path+" then ", s.Then, deep+1)
	if out.Kind == routine.Repeat {
		out.Body = p.steps(append(at, "steps"), path+" turn ", s.Steps, deep+1)
	}
	out.Else = p.steps(append(at, "else"), path+" else ", s.Else, deep+1)
	for i, lane := range s.Together {
		out.Lanes = append(out.Lanes, p.steps(append(at, "at the same time", strconv.Itoa(i)), fmt.Sprintf("%s %c ", path, 'a'+i), lane, deep+1))
	}
	p.otherwise(at, path, s, &out, deep)
	return out
}

func (p *parser) otherwise(at []string, path string, s *step, out *routine.Step, deep int) {
	here := append(slices.Clone(at), "otherwise")
	switch n := &s.Otherwise; n.Kind {
	case 0:
	case yaml.ScalarNode:
		out.Otherwise = routine.Otherwise(n.Value)
		if out.Otherwise != routine.Stop && out.Otherwise != routine.GoOn {
			p.Fault(here, "otherwise is stop, go on, or a list of steps, and not %q", n.Value)
		}
	default:
		var list []step
		if err := n.Decode(&list); err != nil {
			p.Fault(here, "otherwise is stop, go on, or a list of steps")
			return
		}
		out.Otherwise, out.Instead = routine.Instead, p.steps(here, path+" otherwise ", list, deep+1)
	}
	if out.Otherwise != "" && (out.Kind == routine.Together || out.Kind == routine.Call) {
		p.Fault(here, "otherwise goes with a step that can fail itself, and not with what stands in it")
	}
}

// filled checks that a text names only arguments that there are.
func (p *parser) filled(path []string, text string) {
	for _, name := range routine.Arguments(text) {
		if _, is := p.f.With[name]; !is {
			p.Fault(path, "${%s} is no argument: with says which there are", name)
		}
	}
}

// device reads the key of one, which may be an argument.
func (p *parser) device(path []string, text string) string {
	p.filled(path, text)
	if len(routine.Arguments(text)) == 0 {
		if !estate.ValidKey(text) {
			p.Fault(path, "%q is no device", text)
		}
		p.about[estate.Key(text)] = true
	}
	return text
}

func operate(kind operation.Kind) func(*parser, []string, *step, *routine.Step) {
	return func(p *parser, at []string, s *step, out *routine.Step) {
		d := s.doings()[0]
		out.Kind, out.Kinds, out.Device = routine.Operate, kind, p.device(append(at, d.key), d.what)
		out.Means, out.Ends, out.Button, out.Force, out.Lift, out.Why = operation.Means(s.By), s.Outlets, s.Button, s.Force, s.Lift, s.Why
		if d.key == "wake" {
			out.Means = operation.ByWake
		}
		if s.By != "" && !slices.Contains(operation.AllMeans, out.Means) {
			p.Fault(append(at, "by"), "%q is no means: %s", s.By, joined(operation.AllMeans))
		}
		if s.Button != "" && !slices.Contains(sending.Buttons, sending.Button(s.Button)) {
			p.Fault(append(at, "button"), "%q is no button: %s", s.Button, joined(sending.Buttons))
		}
		for i, end := range s.Outlets {
			here := append(at, "outlets", strconv.Itoa(i))
			p.filled(here, end)
			if _, err := estate.ParseEnd(end); err != nil && len(routine.Arguments(end)) == 0 {
				p.Fault(here, "%s", err)
			}
		}
		if s.Hold != "" {
			out.Hold = p.duration(append(at, "hold"), s.Hold, 100*time.Millisecond, operation.MaxHold)
		}
		if s.Within != "" {
			out.Time = p.duration(append(at, "within"), s.Within, time.Second, operation.MaxWithin)
		}
		p.lifts(at, s)
	}
}

// lifts checks what a step goes ahead against.
func (p *parser) lifts(at []string, s *step) {
	p.line(append(at, "why"), s.Why)
	if len(s.Lift) > 0 && s.Why == "" {
		p.Fault(append(at, "lift"), "lift goes ahead against what stands in the way: say why")
	}
	for i, name := range s.Lift {
		if !slices.Contains(mayLift, name) {
			p.Fault(append(at, "lift", strconv.Itoa(i)), "%q cannot be lifted by an order: %s can", name, joined(mayLift))
		}
	}
}

// mayLift are the interlocks that an order may go ahead against: none of those that a person has to
// look at then.
var mayLift = []string{operation.LockInUse, operation.LockOnBattery, operation.LockOverload, operation.LockStaysOff, operation.LockTooMany, operation.LockUpdating, operation.LockWindow}

func joined[T ~string](all []T) string {
	var out []string
	for _, x := range all {
		out = append(out, string(x))
	}
	return strings.Join(out, ", ")
}

func (p *parser) pause(at []string, s *step, out *routine.Step) {
	out.Kind, out.Time = routine.Pause, p.duration(append(at, "wait"), s.Wait, time.Second, longestWait)
}

// within reads how long something may take, which has to be said.
func (p *parser) within(at []string, s *step, most time.Duration) time.Duration {
	if s.Within == "" {
		p.Fault(at, "say within what time, as in within: 5m")
		return 0
	}
	return p.duration(append(at, "within"), s.Within, time.Second, most)
}

func (p *parser) until(at []string, s *step, out *routine.Step) {
	p.condition(append(at, "wait until"), s.Until)
	out.Kind, out.Expr, out.Time = routine.Until, s.Until, p.within(at, s, longestWait)
}

func (p *parser) branch(at []string, s *step, out *routine.Step) {
	p.condition(append(at, "if"), s.If)
	out.Kind, out.Expr = routine.If, s.If
	if len(s.Then) == 0 && len(s.Else) == 0 {
		p.Fault(at, "if does nothing: give it then, or else")
	}
}

func (p *parser) loop(at []string, s *step, out *routine.Step) {
	out.Kind, out.N, out.Expr = routine.Repeat, s.Repeat, s.Enough
	if s.Repeat < 1 || s.Repeat > routine.MostTimes {
		p.Fault(append(at, "repeat"), "repeat is how often at most, from 1 to %d", routine.MostTimes)
	}
	if s.Enough != "" {
		p.condition(append(at, "until"), s.Enough)
	}
	if len(s.Steps) == 0 {
		p.Fault(at, "repeat does nothing: give it steps")
	}
}

// mostLanes is how many things are done at the same time.
const mostLanes = 20

func (p *parser) together(at []string, s *step, out *routine.Step) {
	out.Kind = routine.Together
	if n := len(s.Together); n < 2 || n > mostLanes {
		p.Fault(append(at, "at the same time"), "at the same time has 2 to %d lists of steps", mostLanes)
	}
}

func (p *parser) tell(at []string, s *step, out *routine.Step) {
	out.Kind, out.Text, out.Who = routine.Tell, s.Tell, s.Who
	if len(s.Who) == 0 {
		p.Fault(at, "tell: say who, as in who: [NAME]")
	}
	p.people(append(at, "who"), s.Who)
}

func (p *parser) picture(at []string, s *step, out *routine.Step) {
	out.Kind, out.Device = routine.Picture, p.device(append(at, "picture"), s.Picture)
}

// batch reads what is done to all that hangs on a UPS.
func batch(verb routine.Verb) func(*parser, []string, *step, *routine.Step) {
	return func(p *parser, at []string, s *step, out *routine.Step) {
		d := s.doings()[0]
		out.Kind, out.Name, out.Device = routine.Batch, string(verb), p.device(append(at, d.key), d.what)
		if s.While != "" {
			out.Expr = s.While
			p.condition(append(at, "while"), s.While)
		}
		out.Lift, out.Why = s.Lift, s.Why
		p.lifts(at, s)
	}
}

// drillAll is what a drill is about that is about everything.
const drillAll = "all"

func (p *parser) drill(at []string, s *step, out *routine.Step) {
	out.Kind, out.Who = routine.Drill, s.Who
	p.people(append(at, "who"), s.Who)
	switch k := s.Drill; {
	case k == drillAll:
	case !estate.ValidKey(k):
		p.Fault(append(at, "drill"), "%q is no device and no site: say one, or all", k)
	default:
		out.Text = k
		if p.around.Zone(estate.Key(k)) == nil { // then it is a device
			p.about[estate.Key(k)] = true
		}
	}
}

// people checks the names of those who are told.
func (p *parser) people(at, who []string) {
	for i, who := range who {
		if !estate.ValidKey(who) {
			p.Fault(append(at, strconv.Itoa(i)), "%q is no name of a person, a team or a rota", who)
		}
	}
}

// place reads at whose line or screen something is.
func (p *parser) place(at []string, s *step, out *routine.Step) {
	out.Screen = s.Screen != ""
	switch {
	case (s.Screen == "") == (s.Line == ""):
		p.Fault(at, "say whose, with screen: DEVICE or line: DEVICE")
	case out.Screen:
		out.Device = p.device(append(at, "screen"), s.Screen)
	default:
		out.Device = p.device(append(at, "line"), s.Line)
	}
}

func (p *parser) text(at []string, s *step, out *routine.Step) {
	out.Kind, out.Text, out.Time = routine.Text, s.Text, p.within(at, s, longestFor)
	p.place(at, s, out)
	if _, err := regexp.Compile(s.Text); err != nil {
		p.Fault(append(at, "wait for text"), "wait for text: %s", err)
	}
}

func (p *parser) keys(at []string, s *step, out *routine.Step) {
	out.Kind, out.Text = routine.Keys, s.Type
	p.place(at, s, out)
	if s.Within != "" {
		out.Time = p.duration(append(at, "within"), s.Within, time.Second, longestFor)
	}
}

func (p *parser) call(at []string, s *step, out *routine.Step) {
	out.Kind, out.Name, out.With = routine.Call, s.Run, s.With
	if !estate.ValidKey(s.Run) {
		p.Fault(append(at, "run"), "%q is no routine", s.Run)
	}
	for name, v := range s.With {
		p.filled(append(at, "with", name), v)
		p.line(append(at, "with", name), v)
	}
}
