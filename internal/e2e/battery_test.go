package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
)

const battery = `plumb-routine: 1
name: battery
site: ostrel-quay
when: [{while: on_battery("ostrel-ups")}]
steps:
  - wait until: '!on_battery("ostrel-ups") || minutes_left("ostrel-ups") < minutes_to_do("ostrel-ups") + 8.0'
    within: 1h
  - {shed: ostrel-ups, while: on_battery("ostrel-ups"), otherwise: go on}
  - shut down: ostrel-ups
    while: on_battery("ostrel-ups")
    otherwise: go on
  - wait until: '!on_battery("ostrel-ups") && charge("ostrel-ups") > 5.0'
    within: 1h
  - bring up: ostrel-ups
`

// TestOnBattery: the office on battery is shut down in order when as much is left as that takes, and is brought
// up again when the utility is back.
func TestOnBattery(t *testing.T) {
	w := beginAt(t, 10)
	later := func(f func() bool, what string) {
		t.Helper()
		require.Eventually(t, f, 4*time.Minute, 200*time.Millisecond, what)
	}
	groups := func() []contract.Group { return reads[[]contract.Group](w, "group", "list") }
	require.Contains(t, w.flat(2, "", "routine", "check", w.write("bad.yaml", "plumb-routine: 1\nname: a\nsteps:\n  - {shed: ostrel-ups, while: perhaps}\n")), "bad.yaml:4: while: at column 1")
	require.Contains(t, w.flat(0, "", "routine", "import", w.write("battery.yaml", battery)), "battery")
	require.NoError(t, w.lab.Blackout("ostrel-quay", true))
	later(func() bool { return len(reads[[]contract.RoutineRun](w, "routine", "runs", "battery")) == 1 }, "it begins")
	time.Sleep(3 * time.Second)
	require.Empty(t, groups(), "there is time")
	require.NoError(t, w.lab.Drain("ostrel-ups", 30))
	later(func() bool { return len(groups()) > 0 }, "there is not")
	later(func() bool { return w.verdict("ostrel-virt-2") == "parked" }, "the hosts are shut down")
	require.NoError(t, w.lab.Blackout("ostrel-quay", false))
	run := func() contract.RoutineRun { return reads[[]contract.RoutineRun](w, "routine", "runs", "battery")[0] }
	later(func() bool { return run().Ended != nil }, "it comes to its end")
	require.Equal(t, contract.RunStateDone, run().State, run().Note)
	later(func() bool {
		for _, k := range []estate.Key{"ostrel-virt-1", "ostrel-virt-2", "ostrel-store", "ostrel-booking"} {
			if !strings.Contains("steady strained", w.verdict(k)) {
				return false
			}
		}
		return true
	}, "all of it is up again")
	require.GreaterOrEqual(t, len(groups()), 2)
	require.NotContains(t, w.flat(0, "", "incident", "list", "--all"), "nobody asked for that", "what was shut down was meant to be, also where the utility came back meanwhile")
	require.Contains(t, w.flat(0, "", "ups", "ostrel-ups"), "shutting down in order takes about")
}
