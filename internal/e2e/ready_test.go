package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/browser"
)

const drillNow = `plumb-routine: 1
name: drill
steps:
  - drill: skarvoe
    who: [duty]
`

// TestReadiness: what could be rescued now, proved by a drill, by hand and by a routine, in client and console.
func TestReadiness(t *testing.T) {
	w := begin(t)
	of := func(k string) contract.ReadyDevice { return reads[contract.Readiness](w, "ready", k).Devices[0] }
	router := of("skarvoe-router")
	require.Equal(t, contract.ReadyDeviceStateReady, router.State)
	require.Equal(t, []string{"ostrel-core", "skarvoe-cell", "skarvoe-pdu"}, router.Single)
	require.Nil(t, router.Ways[0].Drilled)
	require.Contains(t, w.flat(0, "", "ready", "skarvoe-cell"), "skarvoe-pdu is reached through skarvoe-cell itself")
	require.Contains(t, w.flat(0, "", "ready", "skarvoe"), "1 of 10 could not be rescued now: skarvoe-cell (its outlets: skarvoe-pdu is reached through skarvoe-cell itself)")
	w.says(0, "", "ready", "skarvoe-router", "--check")
	require.Contains(t, w.flat(1, "", "ready", "--check"), "not every device could be rescued")
	require.Contains(t, w.flat(2, "", "ready", "atlantis"), `there is no device and no site "atlantis"`)
	require.Contains(t, w.flat(2, "", "drill", "ostrel-ops"), "ostrel-ops cannot hang")

	require.Contains(t, w.flat(0, "", "drill", "skarvoe-router"), "drilled")
	require.True(t, of("skarvoe-router").Ways[0].Drilled.Ok)
	require.Contains(t, w.flat(0, "", "journal"), "Drill: The one device that has a way could be rescued now.")
	require.Empty(t, reads[[]contract.Operation](w, "op", "list"), "no contact moved")
	w.says(0, "", "cycle", "skarvoe-router", "--means", "outlet", "--hold", "2s", "--yes", "--follow")
	require.NotNil(t, of("skarvoe-router").Ways[0].Used)

	// Its card does not answer any more: a drill finds out at once.
	require.NoError(t, w.lab.Silence("skarvoe-pdu"))
	require.Contains(t, w.flat(0, "", "drill", "skarvoe-router"), "in vain")
	require.False(t, of("skarvoe-router").Ways[0].Drilled.Ok)
	w.eventually(func() bool { return of("skarvoe-router").State == contract.ReadyDeviceStateLost }, "and it is lost")

	w.says(0, "", "channel", "set", "office-mail", "--mail", w.lab.Post.Address, "--from", "plumb@ternsound.example", "--tls", "none")
	w.says(0, "", "telling", "import", w.write("telling.yaml", demo.Telling))
	w.says(0, "", "routine", "import", w.write("drill.yaml", drillNow))
	require.Contains(t, w.flat(0, "", "routine", "run", "drill", "--yes", "--follow"), "could not be rescued now")
	w.eventually(func() bool {
		for _, l := range w.lab.Post.Letters() {
			if strings.Contains(l.Text, "could not be rescued now") {
				return true
			}
		}
		return false
	}, "the office is told")

	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices")
	require.NoError(t, b.Do(browser.Visit(w.url+"/readiness")))
	w.sees(b, "Could not be rescued now")
	require.NoError(t, b.Do(browser.Click("skarvoe-router")))
	w.sees(b, "in vain")
	require.NoError(t, w.lab.Heal("skarvoe-pdu"))
	require.Eventually(t, func() bool { return of("skarvoe-router").State == contract.ReadyDeviceStateReady }, soon, time.Second)
	require.NoError(t, b.Do(browser.Click("Drill now")))
	w.sees(b, "By at least one way that works now.")
}
