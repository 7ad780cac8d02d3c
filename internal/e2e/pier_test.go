package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/labtest"
)

const wayOut = `plumb-ladder: 1
name: way-out
site: skarvoe
for: {devices: [skarvoe-cell]}
lasting: 1m
uplink:
  witnesses: [ostrel-ops, tamsin-cell, inch-cell]
  line: words("skarvoe-cell", "line") == "up"
  pauses: [1m]
rungs:
  - {do: reset, by: command, settle: 30s}
  - {do: cycle, by: outlet, hold: 5s, settle: 1m}
at most: {a device and day: 9, cool-down: 1m, "after the utility is back": 1m}
`

// TestTheWayOut: a service at an unmanned pier has its way out back, and the office leaves the pier to it.
func TestTheWayOut(t *testing.T) {
	w := beginIn(t, labtest.Options{Pier: true})
	p := w.beside()
	later := func(f func() bool, what string) {
		t.Helper()
		require.Eventually(t, f, 5*time.Minute, 300*time.Millisecond, what)
	}
	runs := func() []contract.RoutineRun { return reads[[]contract.RoutineRun](p, "routine", "runs", "way-out") }
	w.eventually(func() bool { return w.verdict("skarvoe-post") == "steady" }, "the office hears the service at the pier")
	require.Contains(t, w.flat(3, "", "cycle", "skarvoe-router", "--yes"), "refused (elsewhere): the service on skarvoe-post acts there: ask that one")
	require.Contains(t, w.flat(2, "", "estate", "check", w.write("bad.yaml", "plumb-estate: 1\nstandpoint: a\nsites: {x: {acts: b}}\ndevices: {a: {site: x, role: server}}\n")), `bad.yaml:3: x acts: there is no device "b"`)

	p.says(0, "", "cycle", "skarvoe-heater", "--hold", "20s", "--yes")
	w.eventually(func() bool { return w.verdict("skarvoe-heater") == "parked" }, "the office takes it for what the pier does")
	require.Contains(t, w.flat(0, "", "show", "skarvoe-heater"), "the service on skarvoe-post acts there")
	w.eventually(func() bool {
		return w.verdict("skarvoe-heater") == "steady" && p.newest().State == contract.OperationStateDone
	}, "and it is back")
	require.Empty(t, reads[[]contract.Incident](w, "incident", "list"))
	p.says(0, "", "cycle", "skarvoe-cell", "--hold", "5s", "--yes", "--follow") // proves its cable

	require.Contains(t, p.flat(2, "", "ladder", "check", p.write("bad.yaml", "plumb-ladder: 1\nname: a\nfor: {devices: [skarvoe-cell]}\nuplink: {witnesses: [ostrel-ops]}\nrungs: [{do: cycle}]\n")), "bad.yaml:4: an uplink has 3 to 20 witnesses")
	require.Contains(t, p.flat(0, "", "ladder", "add", "skarvoe-cell", "--silent-for", "5m", "--witness", "ostrel-ops,tamsin-cell,skarvoe-pdu", "--cycle", "--show"), "uplink: {witnesses: [ostrel-ops, tamsin-cell, skarvoe-pdu]}")
	require.Contains(t, p.flat(0, "", "ladder", "check", p.write("weak.yaml", "plumb-ladder: 1\nname: a\nfor: {devices: [skarvoe-cell]}\nuplink: {witnesses: [ostrel-ops, tamsin-cell, skarvoe-heater]}\nrungs: [{do: cycle}]\n")), "nothing is done while the witness skarvoe-heater has no probes")
	p.says(0, "", "ladder", "import", p.write("way-out.yaml", wayOut))
	p.says(0, "", "ladder", "arm", "way-out", "--yes")

	begun := 1 // of the operations at the gateway
	for _, c := range []struct {
		spoil func(estate.Key) error
		why   string
		by    contract.OperationKind
	}{
		{w.lab.StickLine, "says that its line is up, and none of ostrel-ops, tamsin-cell, inch-cell answers", contract.OperationKindReset},
		{w.lab.Hang, "skarvoe-cell is hung, and none of", contract.OperationKindCycle},
	} {
		n := len(runs())
		require.NoError(t, c.spoil("skarvoe-cell"))
		later(func() bool { all := runs(); return len(all) > n && all[0].State == contract.RunStateDone }, c.why)
		require.Contains(t, runs()[0].Why, c.why)
		begun++
		require.Equal(t, c.by, p.newest().Kind)
		require.Equal(t, "standing order way-out", p.newest().By)
		require.Len(t, reads[[]contract.Operation](p, "op", "list", "--device", "skarvoe-cell"), begun)
		w.eventually(func() bool { return w.verdict("skarvoe-post") == "steady" }, "the office hears it again")
	}

	n := len(runs())
	require.NoError(t, w.lab.DropLine("skarvoe-cell"))
	later(func() bool { all := runs(); return len(all) > n && all[0].State == contract.RunStateRunning }, "it sees that nobody answers")
	later(func() bool {
		return strings.Contains(p.flat(0, "", "routine", "show", runs()[0].ID), "skarvoe-cell says itself that its line is down")
	}, "hands off")
	require.Contains(t, w.flat(4, "", "cycle", "skarvoe-router", "--preview"), "elsewhere: the service on skarvoe-post acts there. It has been silent")
	require.NoError(t, w.lab.Heal("skarvoe-cell"))
	later(func() bool { return runs()[0].State == contract.RunStateDone }, "it is over by itself")
	require.Len(t, reads[[]contract.Operation](p, "op", "list", "--device", "skarvoe-cell"), begun, "nothing was done")
	require.Zero(t, w.lab.Met())
}
