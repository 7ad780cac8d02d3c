package act

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

func TestLedger(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	l, err := openLedger(path, nil)
	require.NoError(t, err)
	at := time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)
	op := func(id string, after time.Duration) *operation.Operation {
		o := &operation.Operation{ID: id, Order: operation.Order{Kind: operation.Cycle, Outlets: []estate.End{estate.OutletEnd("pdu", 3)}, Asked: at.Add(after)}, Progress: operation.Progress{Saved: at.Add(after)}}
		o.Lay(true)
		return o
	}
	second, first := op("second", time.Second), op("first", 0)
	require.NoError(t, l.write(second))
	require.NoError(t, l.write(first))
	first.Saved = at.Add(time.Minute)
	first.Steps[0].MaySent = true
	require.NoError(t, l.write(first))

	// Killed while a line was being written.
	f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteString(`{"id":"torn","ki`)
	require.NoError(t, err)
	require.NoError(t, f.Close())

	again, err := openLedger(path, nil)
	require.NoError(t, err)
	require.Equal(t, []*operation.Operation{first, second}, again.newest(), "as asked for, each as it stood last")
	require.True(t, again.has("second"))
	require.False(t, again.has("torn"))

	stale := first.Clone()
	first.Saved = at.Add(2 * time.Minute)
	require.NoError(t, again.write(first))
	require.NoError(t, again.forget(stale))
	require.True(t, again.has("first"), "it has moved on since it was copied")
	require.NoError(t, again.forget(first))
	require.FileExists(t, path)
	require.NoError(t, again.forget(second))
	require.NoFileExists(t, path, "nothing waits any more")
}

// TestALedgerStaysShort: what has ended takes no room for long, whatever else goes on.
func TestALedgerStaysShort(t *testing.T) {
	path := filepath.Join(t.TempDir(), "ledger")
	l, err := openLedger(path, nil)
	require.NoError(t, err)
	long := &operation.Operation{ID: "long"}
	require.NoError(t, l.write(long))
	for range linesMost / 2 {
		require.NoError(t, l.write(&operation.Operation{ID: "short"}))
		require.NoError(t, l.ended("short"))
		require.NoError(t, l.write(long))
	}
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Less(t, len(text), linesMost*100)
	again, err := openLedger(path, nil)
	require.NoError(t, err)
	require.Len(t, again.newest(), 1)
	require.NoError(t, again.ended("long"))
	require.NoFileExists(t, path)
}
