package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/api/contract"
)

const routers = `plumb-ladder: 1
name: routers
site: skarvoe
for: {devices: [skarvoe-router]}
lasting: 1m
rungs:
  - {do: cycle, by: outlet, hold: 5s, settle: 2m}
call: [duty]
at most: {a device and day: 1, after the utility is back: 1m, cool-down: 1m}
`

// TestALadder: a router that hangs is started anew, by a ladder that was armed, at an outlet of which it
// was seen that it is the right one; once it is used up it calls, and rests until a person has it go on.
func TestALadder(t *testing.T) {
	w := begin(t)
	later := func(f func() bool, what string) { require.Eventually(w, f, 4*time.Minute, 200*time.Millisecond, what) }
	runs := func() []contract.RoutineRun { return reads[[]contract.RoutineRun](w, "routine", "runs", "routers") }
	w.says(0, "", "channel", "set", "office-mail", "--mail", w.lab.Post.Address, "--from", "plumb@ternsound.example", "--tls", "none")
	w.says(0, "", "telling", "import", w.write("telling.yaml", demo.Telling))
	require.Contains(t, w.flat(2, "", "ladder", "check", w.write("bad.yaml", "plumb-ladder: 1\nname: a\nrungs:\n  - {do: explode}\n")), `bad.yaml:4: "explode" is nothing that helps`)
	require.Contains(t, w.flat(2, "", "ladder", "add", "skarvoe-router"), "say what is tried")
	require.Contains(t, w.flat(0, "", "ladder", "add", "skarvoe-cell", "--cycle", "--call", "duty", "--at-most", "2/day", "--show"), "at most: {a device and day: 2}")
	require.Contains(t, w.flat(0, "", "ladder", "import", w.write("routers.yaml", routers)), "In force, and rehearsing: routers.")
	require.Contains(t, w.flat(0, "", "ladder", "list"), "routers rehearsing 1 1 min")

	require.NoError(t, w.lab.Hang("skarvoe-router"))
	later(func() bool { return len(runs()) == 1 }, "it says what it would do")
	require.Equal(t, contract.RunStateShown, runs()[0].State)
	require.Contains(t, w.flat(0, "", "routine", "show", runs()[0].ID), "has not been proved since the estate was changed")
	require.Empty(t, reads[[]contract.Operation](w, "op", "list"))
	w.says(0, "", "cycle", "skarvoe-router", "--hold", "5s", "--yes", "--follow")
	w.eventually(func() bool { return w.verdict("skarvoe-router") == "steady" }, "a person has helped it")
	require.Contains(t, w.flat(0, "", "ladder", "try", "routers"), "its devices hung once")

	require.Contains(t, w.flat(2, "", "ladder", "arm", "routers"), "nobody is there to agree")
	require.Contains(t, w.flat(0, "", "ladder", "arm", "routers", "--yes"), "Ladder routers is armed.")
	require.NoError(t, w.lab.Hang("skarvoe-router"))
	later(func() bool { all := runs(); return len(all) == 2 && all[0].State == contract.RunStateDone }, "it is helped")
	require.Equal(t, "steady", w.verdict("skarvoe-router"))
	require.Equal(t, "standing order routers", w.newest().By)
	require.Equal(t, contract.OperationStateDone, w.newest().State)

	require.NoError(t, w.lab.Hang("skarvoe-router"))
	later(func() bool { all := runs(); return len(all) == 3 && all[0].State == contract.RunStateFailed }, "it is used up")
	require.Len(t, reads[[]contract.Operation](w, "op", "list"), 2)
	require.Contains(t, w.flat(0, "", "ladder", "show", "routers"), "at its end at skarvoe-router")
	w.eventually(func() bool {
		for _, l := range w.lab.Post.Letters() {
			if strings.Contains(l.Subject, "skarvoe-router is hung, and the ladder routers could not help it") {
				return true
			}
		}
		return false
	}, "it calls")
	require.Contains(t, w.flat(2, "", "ladder", "reset", "routers"), "is not at its end there")
	require.Contains(t, w.flat(0, "", "ladder", "reset", "routers", "skarvoe-router"), "goes on")
	w.says(0, "", "ladder", "disarm", "routers")
	w.says(0, "", "ladder", "remove", "routers")
	require.Contains(t, w.flat(2, "", "ladder", "arm", "routers", "--yes"), `there is no ladder "routers"`)
}
