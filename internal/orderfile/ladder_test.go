package orderfile

import (
	"bytes"
	"encoding/json"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"plumbbob/demo"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/ladder"
	"plumbbob/internal/core/operation"
)

const ladderHead = "plumb-ladder: 1\nname: a\n"

func TestParseLadders(t *testing.T) {
	all, err := ParseLadders("f", []byte(`plumb-ladder: 1
name: routers
site: pier
for: {sites: [pier], roles: [router], tags: [net], devices: [box]}
lasting: 10m
if: answers("wall")
unless: ['between("08:00", "18:00")']
rungs:
  - {do: reset}
  - {do: cycle, by: outlet, hold: 5s, tries: 2, settle: 90s, proof: answers(with.device)}
  - {run: gentle}
call: [duty]
at most: {a device and day: 2, a site and day: 4, at once: 1, cool-down: 1h}
`), around)
	require.NoError(t, err)
	l := all[0].Ladder
	limits := ladder.Usual
	limits.DeviceDay, limits.SiteDay, limits.AtOnce, limits.CoolDown = 2, 4, 1, time.Hour
	require.Equal(t, limits, l.Limits)
	require.Equal(t, []ladder.Rung{
		{Kind: operation.Reset, Tries: 1, Settle: 5 * time.Minute},
		{Kind: operation.Cycle, Means: operation.ByOutlet, Hold: 5 * time.Second, Tries: 2, Settle: 90 * time.Second, Proof: "answers(with.device)"},
		{Routine: "gentle", Tries: 1, Settle: 5 * time.Minute},
	}, l.Rungs)
	require.Equal(t, ladder.Match{Sites: []string{"pier"}, Roles: []string{"router"}, Tags: []string{"net"}, Devices: []string{"box"}}, l.Match)
	require.Equal(t, []estate.Key{"box", "wall"}, all[0].About)
	require.Equal(t, 10*time.Minute, l.Lasting)
	require.Nil(t, l.Uplink)

	all, err = ParseLadders("f", []byte(ladderHead+"for: {devices: [cell]}\nrungs: [{do: cycle}]\nuplink: {witnesses: [x, y, z], line: 'words(\"cell\", \"line\") == \"up\"', pauses: [2m, 10m]}\n"), around)
	require.NoError(t, err)
	require.Equal(t, &ladder.Uplink{Witnesses: []estate.Key{"x", "y", "z"}, Line: `words("cell", "line") == "up"`, Pauses: []time.Duration{2 * time.Minute, 10 * time.Minute}}, all[0].Ladder.Uplink)
	require.Equal(t, []estate.Key{"cell", "x", "y", "z"}, all[0].About)
}

func TestLadderComplaints(t *testing.T) {
	rung := func(s string) string { return ladderHead + "rungs:\n  - {" + s + "}\n" }
	one := "rungs: [{do: reset}]\n"
	out := func(s string) string {
		return ladderHead + "for: {devices: [cell]}\nuplink: {" + s + "}\n" + one
	}
	for text, want := range map[string]string{
		"":                                 "f: is empty: it begins with plumb-ladder: 1",
		"plumb-routine: 1\n":               "there is no key plumb-routine here",
		ladderHead:                         "a ladder has 1 to 10 rungs",
		ladderHead + "lasting: 5s\n" + one: `f:3: lasting: "5s" is no time from 1m to 24h`,
		ladderHead + "for: {sites: [atlantis]}\n" + one:         `there is no site "atlantis"`,
		ladderHead + "for: {devices: [X!]}\n" + one:             `"X!" is no device`,
		ladderHead + "if: nobody\n" + one:                       "f:3: if: at column 1",
		ladderHead + "unless: ['1 + 1']\n" + one:                "has to be a yes or a no",
		ladderHead + "call: [A!]\n" + one:                       `"A!" is no name of a person`,
		ladderHead + "at most: {a device and day: 500}\n" + one: "f:3: a device and day is from 1 to 100",
		ladderHead + "at most: {cool-down: soon}\n" + one:       `cool-down: "soon" is no time`,
		ladderHead + one + "---\n" + ladderHead + one:           "there are two of the name a",
		out("witnesses: [x, y]"):                                "an uplink has 3 to 20 witnesses, at different places",
		out("witnesses: [x, y, x]"):                             "x is named twice",
		out("witnesses: [x, y, cell]"):                          "cell is named twice",
		out("witnesses: [x, y, z], line: maybe"):                "line: at column 1",
		out("witnesses: [x, y, z], pauses: [5m, 2m]"):           "each pause is as long as the one before, or longer",
		ladderHead + "uplink: {witnesses: [x, y, z]}\n" + one:   "uplink goes with one device",
		rung(""):                      "f:4: a rung does one thing",
		rung("do: reset, run: x"):     "a rung does one thing",
		rung("do: off"):               `"off" is nothing that helps`,
		rung("do: shutdown"):          `"shutdown" is nothing that helps`,
		rung("run: X!"):               `"X!" is no routine`,
		rung("run: x, by: outlet"):    "by and hold go with do",
		rung("do: cycle, by: magic"):  `"magic" is no means`,
		rung("do: cycle, tries: 9"):   "tries is from 1 to 5",
		rung("do: cycle, hold: 90h"):  "hold:",
		rung("do: cycle, settle: 1s"): `settle: "1s" is no time from 10s to 2h`,
		rung("do: cycle, proof: x"):   "proof: at column 1",
	} {
		_, err := ParseLadders("f", []byte(text), around)
		require.ErrorContains(t, err, want, text)
	}
}

func TestTheLadderSchemaSaysSo(t *testing.T) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(LadderSchema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("ladder.json", doc))
	schema, err := c.Compile("ladder.json")
	require.NoError(t, err)
	all, err := ParseLadders("demo", []byte(demo.Ladders), around)
	require.NoError(t, err)
	for _, o := range all {
		require.NoError(t, fits(t, schema, o.Text), o.Ladder.Name)
	}
	require.Error(t, fits(t, schema, ladderHead+"rungs: [{do: off}]"))
}

// fits holds a text in YAML to a schema.
func fits(t *testing.T, schema *jsonschema.Schema, text string) error {
	t.Helper()
	var v any
	require.NoError(t, yaml.Unmarshal([]byte(text), &v))
	as, err := json.Marshal(v)
	require.NoError(t, err)
	x, err := jsonschema.UnmarshalJSON(bytes.NewReader(as))
	require.NoError(t, err)
	return schema.Validate(x)
}
