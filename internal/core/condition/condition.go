// Package condition is what standing orders wait for and go by: expressions of CEL (the Common
// Expression Language) over what is known of the estate now.
//
//	verdict("skarvoe-cell") == "hung" && verdict_for("skarvoe-cell") > duration("5m")
//	on_battery("ostrel-ups") && minutes("ostrel-ups") < 10.0
//
// What is not known is an error, and never a no: !answers("x") does not hold of one that nobody
// asks. Fresh says how old a measurement may be; what is older is not known.
package condition

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/plain"
)

// Facts is what is known at one moment. An error says what is not.
type Facts interface {
	Now() time.Time
	Verdict(k estate.Key) (state string, since time.Time, err error)
	Answers(k estate.Key) (bool, error)
	Reading(k estate.Key, sensor string) (v float64, err error)
	Words(k estate.Key, sensor string) (string, error)
	Draw(k estate.Key) (watts float64, err error)
	Outlet(k estate.Key, port string) (on bool, err error)
	OnBattery(ups estate.Key) (bool, error)
	Charge(ups estate.Key) (percent float64, err error)
	Minutes(ups estate.Key) (left float64, err error)
	Left(ups estate.Key) (minutes float64, err error) // by how it discharged before
	ToDo(ups estate.Key) (minutes float64, err error) // that shutting down what hangs on it takes
	InUse(k estate.Key) (bool, error)
	InWindow(k estate.Key) (bool, error)
	Busy(k estate.Key) (bool, error) // an operation runs on it
}

// Bounds on expressions.
const (
	Longest   = 2000
	costliest = 20_000
)

// A Language compiles expressions that go by the facts of whoever made it.
type Language struct {
	env *cel.Env
	see func() Facts
}

// A Condition is a compiled expression.
type Condition struct {
	Text    string
	program cel.Program
	about   []estate.Key
	see     func() Facts
}

// New returns the language of conditions over what see returns, in which the hours of the day are
// those of a zone. With see nil, conditions can be compiled, and not asked.
func New(see func() Facts, zone *time.Location) *Language {
	l := &Language{see: see}
	opts := []cel.EnvOption{
		cel.CrossTypeNumericComparisons(true), // people write 5 for 5.0
		cel.Variable("now", cel.TimestampType), cel.Variable("with", cel.MapType(cel.StringType, cel.StringType)),
		l.one("verdict", cel.StringType, func(f Facts, k estate.Key) (any, error) { s, _, err := f.Verdict(k); return s, err }),
		l.one("verdict_for", cel.DurationType, func(f Facts, k estate.Key) (any, error) {
			_, since, err := f.Verdict(k)
			return max(f.Now().Sub(since), 0), err
		}),
		l.one("answers", cel.BoolType, func(f Facts, k estate.Key) (any, error) { return f.Answers(k) }),
		l.one("draw", cel.DoubleType, func(f Facts, k estate.Key) (any, error) { return f.Draw(k) }),
		l.one("on_battery", cel.BoolType, func(f Facts, k estate.Key) (any, error) { return f.OnBattery(k) }),
		l.one("charge", cel.DoubleType, func(f Facts, k estate.Key) (any, error) { return f.Charge(k) }),
		l.one("minutes", cel.DoubleType, func(f Facts, k estate.Key) (any, error) { return f.Minutes(k) }),
		l.one("minutes_left", cel.DoubleType, func(f Facts, k estate.Key) (any, error) { return f.Left(k) }),
		l.one("minutes_to_do", cel.DoubleType, func(f Facts, k estate.Key) (any, error) { return f.ToDo(k) }),
		l.one("in_use", cel.BoolType, func(f Facts, k estate.Key) (any, error) { return f.InUse(k) }),
		l.one("in_window", cel.BoolType, func(f Facts, k estate.Key) (any, error) { return f.InWindow(k) }),
		l.one("busy", cel.BoolType, func(f Facts, k estate.Key) (any, error) { return f.Busy(k) }),
		l.two("reading", cel.DoubleType, func(f Facts, k estate.Key, s string) (any, error) { return f.Reading(k, s) }),
		l.two("words", cel.StringType, func(f Facts, k estate.Key, s string) (any, error) { return f.Words(k, s) }),
		l.two("yes", cel.BoolType, yes),
		l.two("outlet", cel.BoolType, func(f Facts, k estate.Key, s string) (any, error) { return f.Outlet(k, s) }),
		cel.Function("between", cel.Overload("between_clocks", []*cel.Type{cel.StringType, cel.StringType}, cel.BoolType, cel.BinaryBinding(func(a, b ref.Val) ref.Val {
			return l.value(func(f Facts) (any, error) {
				return between(f.Now().In(zone), string(a.(types.String)), string(b.(types.String)))
			})
		}))),
	}
	env, err := cel.NewEnv(opts...)
	if err != nil {
		panic(fmt.Sprintf("the language of conditions is broken: %s", err)) // it is the same each time
	}
	l.env = env
	return l
}

// yes reads a contact, or whatever else has two states, by the words of what senses it.
func yes(f Facts, k estate.Key, sensor string) (any, error) {
	words, err := f.Words(k, sensor)
	if err != nil {
		return nil, err
	}
	switch strings.ToLower(words) {
	case "yes", "closed", "on", "true":
		return true, nil
	case "no", "open", "off", "false":
		return false, nil
	}
	return nil, fmt.Errorf("%s of %s is neither a yes nor a no: it says %q", sensor, k, words)
}

// between says whether a time of the day lies from one to another, which may be past midnight.
func between(at time.Time, from, until string) (bool, error) {
	minutes := at.Hour()*60 + at.Minute()
	a, err := time.Parse("15:04", from)
	b, err2 := time.Parse("15:04", until)
	if err := errors.Join(err, err2); err != nil {
		return false, fmt.Errorf("between wants two times such as \"22:00\", and not %q and %q", from, until)
	}
	begin, end := a.Hour()*60+a.Minute(), b.Hour()*60+b.Minute()
	if begin <= end {
		return begin <= minutes && minutes < end, nil
	}
	return minutes >= begin || minutes < end, nil
}

func (l *Language) value(f func(Facts) (any, error)) ref.Val {
	v, err := f(l.see())
	if err != nil {
		return types.NewErr("%s", err)
	}
	return types.DefaultTypeAdapter.NativeToValue(v)
}

func (l *Language) one(name string, result *cel.Type, f func(Facts, estate.Key) (any, error)) cel.EnvOption {
	return cel.Function(name, cel.Overload(name+"_device", []*cel.Type{cel.StringType}, result, cel.UnaryBinding(func(k ref.Val) ref.Val {
		return l.value(func(x Facts) (any, error) { return f(x, estate.Key(k.(types.String))) })
	})))
}

func (l *Language) two(name string, result *cel.Type, f func(Facts, estate.Key, string) (any, error)) cel.EnvOption {
	return cel.Function(name, cel.Overload(name+"_device_part", []*cel.Type{cel.StringType, cel.StringType}, result, cel.BinaryBinding(func(k, part ref.Val) ref.Val {
		return l.value(func(x Facts) (any, error) { return f(x, estate.Key(k.(types.String)), string(part.(types.String))) })
	})))
}

// Compile reads an expression, which has to be a yes or a no.
func (l *Language) Compile(text string) (*Condition, error) {
	if len(text) > Longest {
		return nil, fmt.Errorf("a condition has up to %d bytes", Longest)
	}
	tree, issues := l.env.Compile(text)
	if err := issues.Err(); err != nil {
		return nil, complaint(issues)
	}
	if tree.OutputType() != cel.BoolType {
		return nil, fmt.Errorf("it is a %s, and has to be a yes or a no: compare it with something", tree.OutputType())
	}
	program, err := l.env.Program(tree, cel.CostLimit(costliest))
	if err != nil {
		return nil, err
	}
	return &Condition{Text: text, program: program, about: about(tree), see: l.see}, nil
}

// complaint is the first thing that is wrong, with its column.
func complaint(all *cel.Issues) error {
	e := all.Errors()[0]
	return fmt.Errorf("at column %d: %s", e.Location.Column()+1, plain.Line(strings.ReplaceAll(e.Message, " (in container '')", "")))
}

// about lists the devices that an expression names outright.
func about(tree *cel.Ast) (out []estate.Key) {
	ast.PreOrderVisit(tree.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind || !ofDevices[e.AsCall().FunctionName()] || len(e.AsCall().Args()) == 0 {
			return
		}
		if first := e.AsCall().Args()[0]; first.Kind() == ast.LiteralKind {
			if s, is := first.AsLiteral().(types.String); is && !slices.Contains(out, estate.Key(s)) {
				out = append(out, estate.Key(s))
			}
		}
	}))
	return out
}

// ofDevices are the functions whose first argument is a device.
var ofDevices = map[string]bool{
	"verdict": true, "verdict_for": true, "answers": true, "draw": true, "on_battery": true, "charge": true, "minutes": true, "minutes_left": true, "minutes_to_do": true,
	"in_use": true, "in_window": true, "busy": true, "reading": true, "words": true, "yes": true, "outlet": true,
}

// About lists the devices that the expression names outright.
func (c *Condition) About() []estate.Key { return c.about }

// Holds says whether it is so. Its error says what is not known.
func (c *Condition) Holds(with map[string]string) (bool, error) {
	if with == nil {
		with = map[string]string{}
	}
	out, _, err := c.program.Eval(map[string]any{"now": c.see().Now(), "with": with})
	if err != nil {
		return false, errors.New(plain.Line(err.Error()))
	}
	yes, is := out.Value().(bool)
	if !is {
		return false, errors.New("it is neither a yes nor a no")
	}
	return yes, nil
}
