package e2e

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
)

// TestStoppingPaysBack: a service that is told to stop while power is owed stops when it
// is back; told so twice, it stops at once and says what stays off, and the next start
// takes that up.
func TestStoppingPaysBack(t *testing.T) {
	t.Parallel()
	w, p := apart(t)
	closed := func() bool { on, _ := w.lab.Contact(estate.OutletEnd("skarvoe-pdu", 6)); return on }
	w.eventually(func() bool { return w.verdict("skarvoe-kiosk") == "steady" }, "all is well before")
	w.says(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "5s", "--yes")
	w.eventually(func() bool { return !closed() }, "it is off")
	p.stop(t)
	require.True(t, closed(), "power is back: %s", p.out)
	require.Contains(t, p.out.String(), "stopping waits for power that is owed to skarvoe-kiosk")

	p.start(t, p.program)
	w.eventually(func() bool {
		return w.verdict("skarvoe-kiosk") == "steady" && strings.Contains(w.flat(0, "", "show", "skarvoe-kiosk"), "outlet 6 on,")
	}, "all is well again, and its outlet has been read")
	w.says(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "10m", "--yes")
	w.eventually(func() bool { return !closed() }, "it is off")
	require.NoError(t, p.Process.Signal(os.Interrupt))
	w.eventually(func() bool { return strings.Contains(p.out.String(), "stopping waits") }, "it waits")
	require.Contains(t, w.flat(4, "", "cycle", "skarvoe-heater", "--yes"), "begins nothing new")
	require.NoError(t, p.Process.Signal(os.Interrupt))
	require.NoError(t, p.Wait())
	require.Contains(t, p.out.String(), "STAYS OFF until the service is started again: skarvoe-kiosk at outlet 6 of skarvoe-pdu")
	require.False(t, closed())

	p.start(t, p.program)
	w.eventually(func() bool { return w.newest().State == contract.OperationStateRunning }, "it is taken up")
	w.says(0, "", "op", "cancel", w.newest().ID)
	w.eventually(closed, "and it is on again")
	p.stop(t)
}
