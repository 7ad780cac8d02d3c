package store_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/operation"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// TestDrills: of each way the last drill and the last use are known.
func TestDrills(t *testing.T) {
	s, at := storetest.Open(t), time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)
	first := []store.Tried{{Device: "router", Means: operation.ByOutlet, At: at, OK: true, Who: "ann"}, {Device: "host", Means: operation.ByChassis, At: at, Why: "it refuses us", Who: "ann"}}
	require.NoError(t, s.SaveDrills(t.Context(), first))
	first[0].At, first[0].OK, first[0].Why = at.Add(time.Hour), false, "silent"
	require.NoError(t, s.SaveDrills(t.Context(), first[:1], store.Entry{At: at, Kind: store.EntryDrill, Text: "Drill"}))
	all, err := s.Drills(t.Context())
	require.NoError(t, err)
	require.ElementsMatch(t, first, all)

	for n, state := range []operation.State{operation.Done, operation.Done, operation.Failed} {
		o := &operation.Operation{ID: []string{"a", "b", "c"}[n], Order: operation.Order{Kind: operation.Cycle, Means: operation.ByOutlet, Device: "router", Site: "pier", Asked: at.Add(time.Duration(n) * time.Minute)}}
		require.NoError(t, s.CreateOperation(t.Context(), o, store.Entry{At: at, Kind: store.EntryOperationAsked}))
		o.State, o.Ended = state, o.Asked.Add(time.Second)
		require.NoError(t, s.EndOperation(t.Context(), o, store.Entry{At: at, Kind: store.EntryOperationEnded}))
	}
	used, err := s.Used(t.Context(), at.Add(-time.Hour))
	require.NoError(t, err)
	require.Equal(t, []store.Tried{{Device: "router", Means: operation.ByOutlet, At: at.Add(61 * time.Second), OK: true}}, used)
	none, err := s.Used(t.Context(), at.Add(time.Hour))
	require.NoError(t, err)
	require.Empty(t, none)
}
