package orderfile

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/yamltext"
)

var around = Around{Kinds: []string{"hung", "dark"}, Zone: func(site estate.Key) *time.Location {
	if site == "atlantis" {
		return nil
	}
	return time.UTC
}}

func TestParse(t *testing.T) {
	all, err := Parse("f", []byte(`# in front
---
plumb-routine: 1
name: night
site: pier
with: {device: modem, other: ""}
when:
  - {at: every day at 03:30, late: 1h}
  - {while: 'draw("pump") > 5.0', for: 2m}
  - {incident: [hung], sites: [pier], devices: [box]}
  - {webhook: door}
steps:
  - {cycle: "${device}", by: outlet, outlets: [pdu/3], hold: 10s, lift: [in-use], why: it has to be}
  - {wait until: answers(with.device), within: 5m, otherwise: [{tell: "${device} is gone", who: [ann]}]}
  - repeat: 3
    until: answers("box")
    steps: [{wait: 10s}]
    otherwise: go on
  - at the same time: [[{on: a}], [{off: b}, {wait: 1s}]]
  - {shutdown: host, within: 10m, force: true}
  - {press: host, button: reset}
  - {if: 'between("22:00", "06:00")', then: [{wake: host}], else: [{picture: host}]}
  - {wait for text: "login:", line: host, within: 5m}
  - {type: log-in, screen: host}
  - {drill: all, who: [duty]}
  - {shut down: ups, while: on_battery("ups"), lift: [in-use], why: it runs down}
  - {run: other, with: {device: "${other}"}}
after:
  - {off: lamp}
---
plumb-routine: 1
name: other
with: {device: ""}
steps: [{restart: "${device}"}]
`), around)
	require.NoError(t, err)
	require.Len(t, all, 2)
	r := all[0].Routine
	require.Equal(t, time.Hour, r.When[0].Late)
	require.Equal(t, 2*time.Minute, r.When[1].For)
	require.Equal(t, routine.Trigger{Kinds: []string{"hung"}, Sites: []string{"pier"}, Of: []string{"box"}}, r.When[2])
	require.Equal(t, routine.Step{
		Kind: routine.Operate, Kinds: operation.Cycle, Path: "1", Device: "${device}", Means: operation.ByOutlet, Ends: []string{"pdu/3"}, Hold: 10 * time.Second, Lift: []string{"in-use"}, Why: "it has to be",
	}, r.Steps[0])
	require.Equal(t, "2 otherwise 1", r.Steps[1].Instead[0].Path)
	require.Equal(t, "3 turn 1", r.Steps[2].Body[0].Path)
	require.Equal(t, "4 b 2", r.Steps[3].Lanes[1][1].Path)
	require.Equal(t, "7 else 1", r.Steps[6].Else[0].Path)
	require.Equal(t, "after 1", r.After[0].Path)
	drill, batch := r.Steps[9], r.Steps[10]
	require.Equal(t, []string{"duty"}, drill.Who)
	require.Equal(t, routine.Step{Kind: routine.Batch, Name: "shut down", Path: "11", Device: "ups", Expr: `on_battery("ups")`, Lift: []string{"in-use"}, Why: "it runs down"}, batch)
	require.Equal(t, []estate.Key{"a", "b", "box", "host", "lamp", "pump", "ups"}, all[0].About)
	require.True(t, strings.HasPrefix(all[1].Text, "plumb-routine: 1\nname: other"))
	ops, err := routine.Compile(r, r.Steps, map[string]string{"other": "lamp"}, func(string) *routine.Routine { return all[1].Routine })
	require.NoError(t, err)
	require.Equal(t, estate.Key("lamp"), ops[len(ops)-2].Device)
}

// TestTheSchemaSaysSo: what the demo has fits the schema, and what is wrong does not.
func TestTheSchemaSaysSo(t *testing.T) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("routine.json", doc))
	schema, err := c.Compile("routine.json")
	require.NoError(t, err)
	all, err := Parse("demo", []byte(demo.Routines), around)
	require.NoError(t, err)
	for _, o := range all {
		require.NoError(t, fits(t, schema, o.Text), o.Routine.Name)
	}
	require.Error(t, fits(t, schema, "plumb-routine: 1\nname: a\nsteps: [{wait: 1s, cycle: x}]"))
}

const head = "plumb-routine: 1\nname: a\n"

func TestComplaints(t *testing.T) {
	step := func(s string) string { return head + "steps:\n  - {" + s + "}\n" }
	for text, want := range map[string]string{
		"": "f: is empty: it begins with plumb-routine: 1",
		"plumb-routine: 2\nname: a\nsteps: [{wait: 1s}]": "f:1: it must begin with plumb-routine: 1",
		head:                              "f:1: it does nothing: give it steps",
		"---\n" + head + "---\n\n" + head: "f:6: it does nothing",
		head + "steps: [{wait: 1s}]\n---\n" + head + "steps: [{wait: 1s}]\n": "f:5: there are two of the name a",
		head + "colour: red\n":                                                  "f:3: there is no key colour here",
		head + "site: atlantis\nsteps: [{wait: 1s}]":                            `f:3: there is no site "atlantis"`,
		head + "title: \"a\\nb\"\nsteps: [{wait: 1s}]":                          "f:3: title: write it in one line",
		head + "with: {A: b}\nsteps: [{wait: 1s}]":                              `"A" cannot be the name`,
		head + "when: [{}]\nsteps: [{wait: 1s}]":                                "f:3: one of at, while, incident and webhook",
		head + "when: [{at: now and then}]\nsteps: [{wait: 1s}]":                "is no time",
		head + "when: [{at: every day at 03:30, for: 5m}]\nsteps: [{wait: 1s}]": "for with while",
		head + "when: [{while: draw(\"x\")}]\nsteps: [{wait: 1s}]":              "it is a double, and has to be a yes or a no",
		head + "when: [{while: nobody}]\nsteps: [{wait: 1s}]":                   "at column 1: undeclared reference to 'nobody'",
		head + "when: [{while: 'true', for: 900h}]\nsteps: [{wait: 1s}]":        `for: "900h" is no time from 1s to 24h`,
		head + "when: [{while: 'true'}, {while: 'true'}]\nsteps: [{wait: 1s}]":  "one while at most",
		head + "when: [{incident: [odd]}]\nsteps: [{wait: 1s}]":                 `"odd" is no kind of incident: hung, dark are`,
		head + "when: [{webhook: A!}]\nsteps: [{wait: 1s}]":                     "is no name of a secret",
		head + "steps: [{wait: 1s}]\nafter: [{wait: 1s}]":                       "it wants a while",
		step(""):                        "f:4: step 1 has to do one thing",
		step("on: x, off: y"):           "step 1 has to do one thing",
		step("on: X!"):                  `"X!" is no device`,
		step("on: \"${device}\""):       "${device} is no argument",
		step("drill: X!"):               `"X!" is no device and no site`,
		step("shed: ups, while: maybe"): "while: at column 1",
		step("bring up: ups, lift: [guarded], why: x"):                      `"guarded" cannot be lifted by an order`,
		step("on: x, hold: 5s"):                                             "step 1: hold does not go with on",
		step("cycle: x, hold: 90h"):                                         `hold: "90h" is no time from 100ms to 10m`,
		step("cycle: x, by: magic"):                                         `"magic" is no means`,
		step("cycle: x, outlets: [A B]"):                                    "is not DEVICE or DEVICE/PORT",
		step("cycle: x, lift: [in-use]"):                                    "say why",
		step("cycle: x, why: x, lift: [guarded]"):                           `"guarded" cannot be lifted by an order`,
		step("press: x, button: self-destruct"):                             "is no button",
		step("wait: 400h"):                                                  "is no time from 1s to 168h",
		step("wait until: 'true'"):                                          "say within what time",
		step("if: 'true'"):                                                  "if does nothing",
		step("repeat: 5000, steps: [{wait: 1s}]"):                           "from 1 to 1000",
		step("repeat: 2"):                                                   "repeat does nothing",
		step("at the same time: [[{wait: 1s}]]"):                            "has 2 to 20 lists",
		step("tell: x"):                                                     "tell: say who",
		step("tell: x, who: [A!]"):                                          "is no name of a person",
		step("wait for text: x, within: 5m"):                                "say whose",
		step("wait for text: '(', line: x, within: 5m"):                     "missing closing )",
		step("type: x"):                                                     "say whose",
		step("run: A!"):                                                     `"A!" is no routine`,
		step("wait: 1s, otherwise: perhaps"):                                "stop, go on, or a list of steps",
		step("wait: 1s, otherwise: {a: b}"):                                 "stop, go on, or a list of steps",
		step("run: x, otherwise: go on"):                                    "a step that can fail itself",
		head + "steps:\n" + strings.Repeat("  - {wait: 1s}\n", mostSteps+1): "more than 200 steps",
		head + strings.Repeat("#", MaxSize):                                 "is larger than 1024 KiB",
	} {
		_, err := Parse("f", []byte(text), around)
		var faults *yamltext.Faults
		require.ErrorAs(t, err, &faults, text)
		require.ErrorContains(t, err, want, text)
	}
	deep := "{wait: 1s}"
	for range deepest + 2 {
		deep = "{if: 'true', then: [" + deep + "]}"
	}
	_, err := Parse("f", []byte(head+"steps: ["+deep+"]"), around)
	require.ErrorContains(t, err, "more than 8 deep")
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(demo.Routines))
	f.Add([]byte(head + "steps: &a [{if: 'true', then: *a}]\n"))
	f.Add([]byte(demo.Ladders))
	f.Fuzz(func(t *testing.T, text []byte) {
		_, _ = ParseLadders("f", text, around)
		all, err := Parse("f", text, around)
		for _, o := range all {
			require.NoError(t, err)
			_, _ = routine.Compile(o.Routine, o.Routine.Steps, nil, func(string) *routine.Routine { return o.Routine })
			again, err := Parse("f", []byte(o.Text), around) // each is kept by itself
			require.NoError(t, err)
			require.Len(t, again, 1)
		}
	})
}
