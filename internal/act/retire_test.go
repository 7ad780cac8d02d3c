package act

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store/storetest"
)

// TestRetiring: nothing new is begun, no second feed is switched off any more, and the
// first comes back.
func TestRetiring(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	r, stop := open(t, l, storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	both := operation.Intent{Kind: operation.Cycle, Device: "ostrel-virt-1", Means: operation.ByOutlet, Hold: 3 * time.Second}
	o, err := r.ask(both, operation.Consent{})
	require.NoError(t, err)
	a, b := estate.OutletEnd("ostrel-pdu-a", 4), estate.OutletEnd("ostrel-pdu-b", 4)
	require.Eventually(t, func() bool { closed, _ := l.Contact(a); return !closed }, soon, time.Millisecond)
	r.Retire()
	require.NotEmpty(t, r.Owed())
	_, err = r.ask(kiosk, operation.Consent{})
	require.ErrorIs(t, err, ErrStopping)
	require.Eventually(t, func() bool { return len(r.Owed()) == 0 }, 6*soon, often, "%v", lazy(func() any { return r.Owed() }))
	for _, end := range []estate.End{a, b} {
		closed, _ := l.Contact(end)
		require.True(t, closed, "%s has power", end)
	}
	r.ends(o.ID)
}
