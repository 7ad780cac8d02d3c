package verdict

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// TestUtilityGone: what a UPS measures explains what hangs on the utility
// itself, and what carries on is no break.
func TestUtilityGone(t *testing.T) {
	now := time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)
	card := []estate.Endpoint{{Name: "card", Protocol: estate.SNMP, Profile: "x", Every: 5 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "here"}}}}}
	utility := estate.End{Device: estate.Utility}
	one := []estate.Outlet{{Number: 1}}
	e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, []estate.Device{
		{Key: "here", Site: "s", Role: "server"},
		{Key: "ups", Site: "s", Role: "ups", Power: []estate.PowerCable{{From: utility}}, Supply: &estate.Supply{}, Endpoints: card},
		{Key: "a", Site: "s", Role: "pdu", Power: []estate.PowerCable{{From: estate.End{Device: "ups"}}}, Outlets: one, Endpoints: card},
		{Key: "b", Site: "s", Role: "pdu", Power: []estate.PowerCable{{From: utility}}, Outlets: one, Endpoints: card},
		{Key: "lamp", Site: "s", Role: "load", Power: []estate.PowerCable{{From: estate.OutletEnd("b", 1)}}},
	})
	require.Empty(t, problems)
	ev := NewEvidence()
	at := func(k estate.Key, after time.Duration, ok bool) {
		ev.Endpoint(estate.EndpointID{Device: k, Name: "card"}, Result{SentAt: now.Add(after), OK: ok, Why: "no answer"})
	}
	supply := func(volts float64, source reading.Source, after time.Duration) {
		ev.TakeSupply("ups", reading.Supply{Source: source, Inputs: []reading.Phase{{V: &volts}}, Battery: reading.Battery{Minutes: new(12.0), Charge: new(90.0)}}, now.Add(after))
	}
	for _, k := range []estate.Key{"ups", "a", "b"} {
		at(k, 0, true)
	}
	supply(230, reading.SourceNormal, 0)
	for _, n := range []estate.Key{"a", "b"} {
		ev.Outlet(estate.OutletEnd(n, 1), Outlet{At: now, On: true, Metered: true, W: 20, Switched: true})
	}
	vs := Judge(e, ev, nil, now)
	require.Equal(t, Steady, vs["ups"].State)
	require.Equal(t, Steady, vs["lamp"].State)
	line := At(e, ev, nil, now).LinesOf("a").Power[0]
	require.Equal(t, "230 V, on line", line[0].Text+", "+line[1].Text)

	supply(0, reading.SourceBattery, 2*time.Second)
	for i := range 3 {
		after := time.Duration(2+i) * time.Second
		at("ups", after, true)
		at("a", after, true)
		at("b", after, false)
	}
	then := now.Add(5 * time.Second)
	vs = Judge(e, ev, vs, then)
	require.Equal(t, Strained, vs["ups"].State)
	require.Contains(t, vs["ups"].Reasons[0].Text.String(), "12 min left by its own reckoning")
	require.Equal(t, Dark, vs["b"].State, "its UPS measures that the utility is gone, and it does not answer")
	require.Equal(t, Steady, vs["a"].State)
	require.Equal(t, Dark, vs["lamp"].State, "what hangs on what is dark")
	require.True(t, Powerless(e, ev, "b", then))
	require.False(t, Powerless(e, ev, "a", then))
	line = At(e, ev, nil, then).LinesOf("a").Power[0]
	require.Equal(t, []HopState{HopBroken, HopSound, HopSound}, []HopState{line[0].State, line[1].State, line[2].State}, "the UPS carries on")
	there, _, known := At(e, ev, nil, then.Add(time.Hour)).Utility("s")
	require.False(t, there || known, "what is stale counts for nothing")
	ups := ev.Supplies["ups"]
	require.Equal(t, "on battery", ups.State())
	require.Equal(t, now.Add(2*time.Second), ev.Supplies["ups"].Since)
}

// TestAsleepByItsDraw: a device without a controller that takes what it takes
// asleep is parked, and one that takes more, or nothing, is not.
func TestAsleepByItsDraw(t *testing.T) {
	for w, want := range map[float64]State{2.6: Parked, 38: Hung, 0: Dark} {
		s := newStory(t)
		s.e.Device("kiosk").SleepW = 4
		s.poll(2)
		require.Equal(t, Steady, s.vs["kiosk"].State)
		s.mute["kiosk"], s.draw[5] = true, w
		s.poll(4)
		require.Equal(t, want, s.vs["kiosk"].State, "%g W", w)
	}
}
