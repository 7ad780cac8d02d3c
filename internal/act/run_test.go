package act

import (
	"log/slog"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/durable"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/keep"
)

// Two operations at one place at the same time: what falls silent by the one is not laid
// to the cables of the other, even before the verdicts know why it is silent.
func TestSilenceByAnotherOperation(t *testing.T) {
	e, err := estatefile.Parse("demo", []byte(demo.Estate(demo.Default)))
	require.NoError(t, err)
	a := &Actor{Parts: Parts{Keeper: keep.New(nil, slog.New(slog.DiscardHandler), &bus.Bus{})}, operations: durable.NewShelf[operation.Operation, operation.Event, operation.Command]()}
	a.Keeper.SetEstate(e)
	put := func(id string, k estate.Key) {
		r := &run{a: a, o: &operation.Operation{ID: id, Order: operation.Order{Device: k}}}
		a.operations.Put(id, durable.New(r))
	}
	put("a", "skarvoe-kiosk")
	require.False(t, a.explained("skarvoe-gate", "a"), "nobody knows why")
	require.False(t, a.explained("skarvoe-kiosk", "a"), "itself is no excuse")
	put("b", "skarvoe-router")
	require.True(t, a.explained("skarvoe-router", "a"), "the other one cuts it")
	require.True(t, a.explained("skarvoe-gate", "a"), "it is reached through what the other one cuts")
	require.False(t, a.explained("skarvoe-heater", "a"), "nothing explains this one")
	a.operations.Drop("b")
	require.False(t, a.explained("skarvoe-gate", "a"))
}
