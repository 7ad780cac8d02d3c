package act

import (
	"os"
	"path/filepath"
	"syscall"
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
	r.Retire(ErrStopping)
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

// TestTheLedgersRoom: on a full disk the room that was kept for it is given up.
func TestTheLedgersRoom(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	require.NoError(t, os.Symlink("/dev/full", path))
	l := &ledger{path: path, ops: map[string]*operation.Operation{}}
	require.NoError(t, l.keepRoom())
	info, err := os.Stat(path + reserve)
	require.NoError(t, err)
	require.EqualValues(t, reserveSize, info.Size())
	require.ErrorIs(t, l.write(&operation.Operation{ID: "x"}), syscall.ENOSPC, "this disk stays full")
	require.NoFileExists(t, path+reserve)
	require.NoError(t, os.Remove(path))
	require.NoError(t, l.write(&operation.Operation{ID: "x"}))
	again, err := openLedger(path, nil)
	require.NoError(t, err)
	require.True(t, again.has("x"))
}
