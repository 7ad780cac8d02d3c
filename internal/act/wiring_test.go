package act

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/wiring"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store/storetest"
)

// TestAWiringCheckSurvivesARestart: what was being tried is said to be unknown, what
// it switched is switched on again, and the rest is tried.
func TestAWiringCheckSurvivesARestart(t *testing.T) {
	t.Parallel()
	l, s := labtest.Start(t, labtest.Options{Speed: 60}), storetest.Open(t)
	ledger := filepath.Join(t.TempDir(), "ledger")
	r, stop := open(t, l, s, ledger)
	none, err := r.WiringOf(t.Context(), "skarvoe")
	require.NoError(t, err)
	require.Nil(t, none)
	kioskAt, lampAt := r.Keeper.Estate().FeedsOf("skarvoe-kiosk")[0], estate.OutletEnd("skarvoe-pdu", 2)
	require.NoError(t, r.CheckWiring(t.Context(), "skarvoe", []estate.End{kioskAt, lampAt}, operation.Consent{Why: "after the electricians"}, admin))
	require.ErrorIs(t, r.CheckWiring(t.Context(), "skarvoe", []estate.End{lampAt}, operation.Consent{Why: "x"}, admin), ErrWiringRuns)
	off := func() bool { return r.isBusy(kioskAt) && !r.Keeper.World().Evidence.Outlets[kioskAt].On }
	require.Eventually(t, off, 6*soon, often, "it is being tried")
	stop()

	r, stop = start(t, l, s, ledger)
	defer stop()
	var c *wiring.Check
	require.Eventually(t, func() bool {
		c, err = r.WiringOf(t.Context(), "skarvoe")
		return err == nil && c.Over()
	}, 12*soon, often)
	require.Len(t, c.Findings, 2)
	require.Equal(t, wiring.Finding{Outlet: kioskAt, Verdict: wiring.Unknown, Text: wiring.Interrupted}, c.Findings[0])
	require.NotEqual(t, wiring.Interrupted, c.Findings[1].Text)
	require.True(t, r.Keeper.World().Evidence.Outlets[kioskAt].On)
	require.NoError(t, r.StopWiring(t.Context(), "skarvoe", "admin"), "it has ended already")
}
