package routine

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/operation"
)

var t0 = time.Date(2026, 11, 27, 3, 30, 0, 0, time.UTC)

func cycle(k string) Step {
	return Step{Kind: Operate, Kinds: operation.Cycle, Device: k}
}

// numbered gives steps their places.
func numbered(prefix string, steps []Step) []Step {
	for i := range steps {
		s := &steps[i]
		s.Path = fmt.Sprintf("%s%d", prefix, i+1)
		numbered(s.Path+" then ", s.Body)
		numbered(s.Path+" else ", s.Else)
		numbered(s.Path+" instead ", s.Instead)
		for n := range s.Lanes {
			numbered(fmt.Sprintf("%s lane %d ", s.Path, n+1), s.Lanes[n])
		}
	}
	return steps
}

// bench carries out a run in simulated time: each thing that others do takes a second.
type bench struct {
	t       require.TestingT
	run     *Run
	now     time.Time
	doing   map[string]Op
	order   []string // of their ids
	did     []string
	failing map[string]bool // by device
	facts   map[string]bool
	turns   map[int]Turn // of what is asked for a rung
	crash   func() bool  // whether it dies at this record
}

func begin(t require.TestingT, steps []Step, others ...*Routine) *bench {
	r := &Routine{Name: "night", Steps: numbered("", steps)}
	ops, err := Compile(r, r.Steps, nil, func(name string) *Routine {
		for _, o := range others {
			if o.Name == name {
				numbered("", o.Steps)
				return o
			}
		}
		return nil
	})
	require.NoError(t, err)
	return &bench{t: t, run: New("r1", r, ops, nil, operation.Asker{}, "by hand", t0), now: t0, doing: map[string]Op{}, failing: map[string]bool{}, facts: map[string]bool{}}
}

func (b *bench) give(in Event) {
	b.run.Judge(func(expr string, with map[string]string) (bool, error) {
		v, known := b.facts[fill(expr, with)]
		if !known {
			return false, errors.New("nobody knows " + expr)
		}
		return v, nil
	})
	for _, c := range b.run.Step(in) {
		switch c := c.(type) {
		case Save: // what is on record is what there is after a crash
			doc, err := json.Marshal(b.run)
			require.NoError(b.t, err)
			if b.crash != nil && b.crash() {
				b.run = &Run{}
				require.NoError(b.t, json.Unmarshal(doc, b.run))
				b.give(Started{b.now, true})
				return
			}
		case Begin:
			if _, asked := b.doing[c.ID]; !asked {
				b.doing[c.ID], b.order = c.Op, append(b.order, c.ID)
				b.did = append(b.did, strings.TrimSpace(string(c.Op.Device)+c.Op.Text))
			}
		case Halt:
			b.give(Finished{At: b.now, ID: c.ID, Note: "stopped"})
		}
	}
}

// goOn lets time pass until the run is over, or so much has passed.
func (b *bench) goOn(d time.Duration) {
	for end := b.now.Add(d); b.now.Before(end) && !b.run.Over(); {
		b.now = b.now.Add(time.Second)
		for _, id := range slices.Clone(b.order) { // in turn: what ends first has others begin
			if op := b.doing[id]; op.Do != "" {
				b.doing[id] = Op{}
				b.give(Finished{At: b.now, ID: id, OK: !b.failing[string(op.Device)], Note: "as it went", Turn: b.turns[op.N]})
			}
		}
		b.give(Tick{b.now})
	}
}

func TestRun(t *testing.T) {
	wait := func(d time.Duration) Step { return Step{Kind: Pause, Time: d} }
	until := func(expr string) Step { return Step{Kind: Until, Expr: expr, Time: 10 * time.Second} }
	with := func(s Step, how Otherwise, instead ...Step) Step {
		s.Otherwise, s.Instead = how, instead
		return s
	}
	for name, c := range map[string]struct {
		steps []Step
		fails string // a device
		facts string // that hold; with a "!" they do not
		did   string
		state State
		takes time.Duration
		note  string
	}{
		"one after the other": {steps: []Step{cycle("a"), wait(30 * time.Second), cycle("b")}, did: "a b", state: Done, takes: 32 * time.Second},
		"a failure ends it":   {steps: []Step{cycle("a"), cycle("b")}, fails: "a", did: "a", state: Failed, note: "step 1: "},
		"or not":              {steps: []Step{with(cycle("a"), GoOn), cycle("b")}, fails: "a", did: "a b", state: Done},
		"or has something else done": {
			steps: []Step{with(cycle("a"), Instead, cycle("x")), cycle("b")}, fails: "a", did: "a x b", state: Done,
		},
		"which is not done otherwise": {steps: []Step{with(cycle("a"), Instead, cycle("x")), cycle("b")}, did: "a b", state: Done},
		"if":                          {steps: []Step{{Kind: If, Expr: "p", Body: []Step{cycle("a")}, Else: []Step{cycle("b")}}, cycle("c")}, facts: "p", did: "a c", state: Done},
		"else":                        {steps: []Step{{Kind: If, Expr: "p", Body: []Step{cycle("a")}, Else: []Step{cycle("b")}}, cycle("c")}, facts: "!p", did: "b c", state: Done},
		"if it is not known":          {steps: []Step{{Kind: If, Expr: "p", Body: []Step{cycle("a")}}}, state: Failed, note: "it cannot be told: nobody knows p"},
		"until":                       {steps: []Step{until("p"), cycle("a")}, facts: "p", did: "a", state: Done},
		"until too late":              {steps: []Step{until("p"), cycle("a")}, facts: "!p", state: Failed, takes: 10 * time.Second, note: "not within 10s"},
		"until, or go on":             {steps: []Step{with(until("p"), GoOn), cycle("a")}, did: "a", state: Done},
		"three times":                 {steps: []Step{{Kind: Repeat, N: 3, Body: []Step{cycle("a")}}, cycle("b")}, did: "a a a b", state: Done},
		"until it helps":              {steps: []Step{{Kind: Repeat, N: 3, Expr: "p", Body: []Step{cycle("a")}}, cycle("b")}, facts: "p", did: "a b", state: Done},
		"until it does not help":      {steps: []Step{{Kind: Repeat, N: 2, Expr: "p", Body: []Step{cycle("a")}}, cycle("b")}, facts: "!p", did: "a a", state: Failed, note: "not so after 2 times"},
		"and then something else": {
			steps: []Step{with(Step{Kind: Repeat, N: 2, Expr: "p", Body: []Step{cycle("a")}}, Instead, cycle("x")), cycle("b")}, facts: "!p", did: "a a x b", state: Done,
		},
		"at the same time": {
			steps: []Step{{Kind: Together, Lanes: [][]Step{{cycle("a"), cycle("b")}, {wait(20 * time.Second), cycle("c")}}}, cycle("d")}, did: "a b c d", state: Done, takes: 22 * time.Second,
		},
		"what fails beside others lets them end": {
			steps: []Step{{Kind: Together, Lanes: [][]Step{{cycle("a"), cycle("b")}, {cycle("c"), cycle("d")}}}, cycle("e")}, fails: "a", did: "a c", state: Failed,
		},
		"nested": {
			steps: []Step{{Kind: Together, Lanes: [][]Step{{{Kind: Together, Lanes: [][]Step{{cycle("a")}, {wait(5 * time.Second)}}}, cycle("b")}, {{Kind: Repeat, N: 2, Body: []Step{wait(4 * time.Second)}}}}}, cycle("c")}, did: "a b c", state: Done,
		},
		"another": {steps: []Step{{Kind: Call, Name: "other", With: map[string]string{"device": "z"}}, cycle("b")}, did: "z b", state: Done},
		"a circle": {
			steps: []Step{{Kind: Repeat, N: MostTimes, Body: []Step{{Kind: Repeat, N: MostTimes, Body: []Step{{Kind: If, Expr: "!p"}}}}}}, facts: "!p", state: Failed, note: "taken for a circle",
		},
	} {
		t.Run(name, func(t *testing.T) {
			b := begin(t, c.steps, &Routine{Name: "other", With: map[string]string{"device": ""}, Steps: []Step{cycle("${device}")}})
			b.failing[c.fails] = c.fails != ""
			for f := range strings.FieldsSeq(c.facts) {
				b.facts[strings.TrimPrefix(f, "!")] = f[0] != '!'
			}
			b.facts["!p"] = true
			b.give(Started{At: b.now})
			b.goOn(time.Hour)
			require.Equal(t, c.state, b.run.State, b.run.Note)
			require.Equal(t, c.did, strings.Join(b.did, " "))
			require.Contains(t, b.run.Note, c.note)
			if c.takes > 0 {
				require.InDelta(t, c.takes.Seconds(), b.run.Ended.Sub(t0).Seconds(), 4)
			}
		})
	}
}

// TestStopAndPause: who stops one has what is under way stopped, and nothing more begun; one that
// pauses begins nothing, and its time-outs wait with it.
func TestStopAndPause(t *testing.T) {
	b := begin(t, []Step{cycle("a"), cycle("b")})
	b.give(Started{At: b.now})
	b.give(StopAsked{b.now, "k.oster"})
	require.Equal(t, Stopped, b.run.State)
	require.Equal(t, []string{"a"}, b.did)
	require.Equal(t, []Command{Finish{}}, b.run.Step(Tick{b.now}))

	b = begin(t, []Step{{Kind: Until, Expr: "p", Time: 10 * time.Second}, cycle("a")})
	b.give(Started{At: b.now})
	b.goOn(5 * time.Second)
	b.give(PauseAsked{b.now, "k.oster"})
	b.goOn(time.Minute)
	require.Equal(t, Paused, b.run.State)
	require.Empty(t, b.did)
	b.give(PauseAsked{At: b.now})
	b.goOn(3 * time.Second)
	require.Equal(t, Running, b.run.State, "its time-out has waited")
	b.facts["p"] = true
	b.goOn(3 * time.Second)
	require.Equal(t, Done, b.run.State)
	require.Equal(t, []string{"a"}, b.did)
}

// TestCrashes: wherever it dies, it does what it does without that, once.
func TestCrashes(t *testing.T) {
	steps := []Step{
		{Kind: Together, Lanes: [][]Step{{cycle("a"), {Kind: Pause, Time: 3 * time.Second}, cycle("b")}, {{Kind: Repeat, N: 3, Expr: "p", Body: []Step{cycle("c")}, Otherwise: GoOn}}}},
		{Kind: If, Expr: "p", Else: []Step{cycle("d")}},
	}
	rapid.Check(t, func(t *rapid.T) {
		b := begin(t, steps)
		b.facts["p"] = false
		deaths := rapid.SliceOfN(rapid.IntRange(0, 25), 0, 6).Draw(t, "deaths")
		saves := 0
		b.crash = func() bool {
			saves++
			for _, d := range deaths {
				if d == saves {
					return true
				}
			}
			return false
		}
		b.give(Started{At: b.now})
		b.goOn(time.Hour)
		require.Equal(t, Done, b.run.State, b.run.Note)
		count := map[string]int{}
		for _, k := range b.did {
			count[k]++
		}
		require.Equal(t, map[string]int{"a": 1, "b": 1, "c": 3, "d": 1}, count)
		require.Equal(t, "d", b.did[len(b.did)-1])
	})
}

func TestWhatCannotBeCompiled(t *testing.T) {
	self := &Routine{Name: "self", Steps: numbered("", []Step{{Kind: Call, Name: "self"}})}
	other := &Routine{Name: "other", With: map[string]string{"device": ""}, Steps: numbered("", []Step{cycle("${device}")})}
	many := &Routine{Name: "many", Steps: numbered("", make([]Step, mostOps+1))}
	for i := range many.Steps {
		many.Steps[i].Kind = Pause
	}
	find := func(name string) *Routine { return map[string]*Routine{"self": self, "other": other}[name] }
	for says, c := range map[string]struct {
		r    *Routine
		with map[string]string
	}{
		"would run":           {r: self},
		"has to be told its":  {r: other},
		"takes no colour":     {r: other, with: map[string]string{"colour": "red", "device": "x"}},
		"there is no routine": {r: &Routine{Name: "a", Steps: numbered("", []Step{{Kind: Call, Name: "gone"}})}},
		"it comes to":         {r: many},
		"step 1":              {r: &Routine{Name: "a", Steps: numbered("", []Step{{Kind: Operate, Ends: []string{"No where"}}})}},
	} {
		_, err := Compile(c.r, c.r.Steps, c.with, find)
		require.ErrorContains(t, err, says)
	}
}

// TestAttempts: one after the other until one has helped, as far as each may be made.
func TestAttempts(t *testing.T) {
	for name, c := range map[string]struct {
		fails string
		turns map[int]Turn
		facts string
		did   string
		state State
	}{
		"nothing helps":          {facts: "!p", did: "a b b call", state: Failed},
		"the first helps":        {facts: "p", did: "a", state: Done},
		"one that fails":         {facts: "!p", fails: "a", did: "a b b call", state: Failed},
		"one may not be made":    {facts: "!p", fails: "k", did: "call", state: Failed},
		"it is not needed":       {facts: "!p", turns: map[int]Turn{1: Enough}, did: "a", state: Done},
		"nothing more may be":    {facts: "!p", turns: map[int]Turn{1: Refuse}, did: "a call", state: Failed},
		"nor at all":             {facts: "!p", turns: map[int]Turn{0: Refuse}, did: "call", state: Failed},
		"the proof is not known": {did: "a b b call", state: Failed},
	} {
		t.Run(name, func(t *testing.T) {
			attempt := func(rung int, k string) Attempt {
				return Attempt{Rung: rung, Path: k, Device: "k", Steps: []Step{cycle(k)}, Proof: "p", Settle: 5 * time.Second}
			}
			last := numbered("", []Step{{Kind: Tell, Text: "call", Who: []string{"ann"}}})
			ops, err := Attempts("l", []Attempt{attempt(0, "a"), attempt(1, "b"), attempt(1, "b")}, nil, last, nil)
			require.NoError(t, err)
			b := begin(t, last)
			b.run = New("r1", &Routine{Name: "l"}, ops, nil, operation.Asker{}, "x", t0)
			b.failing[c.fails], b.turns = c.fails != "", c.turns
			for f := range strings.FieldsSeq(c.facts) {
				b.facts[strings.TrimPrefix(f, "!")] = f[0] != '!'
			}
			b.give(Started{At: b.now})
			b.goOn(time.Hour)
			require.Equal(t, c.state, b.run.State, b.run.Note)
			require.Equal(t, c.did, strings.Join(strings.Fields(strings.ReplaceAll(strings.Join(b.did, " ")+" ", "k ", "")), " "))
			if c.state == Failed {
				require.Equal(t, NothingHelped, b.run.Note)
			}
		})
	}
}
