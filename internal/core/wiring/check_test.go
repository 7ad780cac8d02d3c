package wiring

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
)

var (
	t0   = time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC)
	one  = estate.OutletEnd("pdu", 1)
	two  = estate.OutletEnd("pdu", 2)
	fine = Finding{Verdict: Right}
)

func TestACheckGoesOnWhereItWas(t *testing.T) {
	c := &Check{ID: "c", Outlets: []estate.End{one, two}}
	require.Equal(t, []Command{Save{}, Try{one}}, c.Step(Started{t0}), "nothing is tried that is not on record")
	require.Nil(t, (&Check{Outlets: c.Outlets}).Step(Tried{t0, fine}), "what was not tried has no finding")

	text, err := json.Marshal(c) // the service dies in the middle of the first
	require.NoError(t, err)
	var again Check
	require.NoError(t, json.Unmarshal(text, &again))
	require.Equal(t, []Command{Save{}, Try{two}}, again.Step(Started{t0}))
	require.Equal(t, []Finding{{Outlet: one, Verdict: Unknown, Text: Interrupted}}, again.Findings)
	require.Equal(t, []Command{Save{}, Finish{}}, again.Step(Tried{t0, Finding{Outlet: two, Verdict: Wrong}}))
	require.True(t, again.Over())
	require.Equal(t, 1, again.Wrong())
	require.Nil(t, again.Step(Started{t0}))
}

func TestACheckStopsBetweenOutlets(t *testing.T) {
	c := &Check{Outlets: []estate.End{one, two}}
	c.Step(Started{t0})
	require.Equal(t, []Command{Save{}}, c.Step(StopAsked{t0, "k.oster"}), "the outlet that it is at is finished")
	require.Nil(t, c.Step(StopAsked{t0, "l.oduya"}))
	seen := c.Clone()
	require.Equal(t, []Command{Save{}, Finish{}}, c.Step(Tried{t0, fine}))
	require.Len(t, c.Findings, 1)
	require.Empty(t, seen.Findings)
	require.False(t, seen.Over())
}
