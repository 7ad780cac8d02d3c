package asking

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
)

// TestWhoIsAskedAtOnce: what explains a silence, at its beginning and when it is certain;
// what waits for proof, once that has come; and all behind what is back, on every path.
func TestWhoIsAskedAtOnce(t *testing.T) {
	probe := []estate.Probe{{Kind: estate.ICMP, Target: "192.0.2.1", Every: time.Second, Timeout: time.Second}}
	via := func(k estate.Key) []estate.NetworkCable { return []estate.NetworkCable{{Via: estate.End{Device: k}}} }
	e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, []estate.Device{
		{Key: "here", Site: "s", Role: "server"},
		{Key: "switch", Site: "s", Role: "switch", Probes: probe, Network: via("here")},
		{Key: "cell", Site: "s", Role: "router", Probes: probe, Network: via("here")},
		{Key: "host", Site: "s", Role: "server", Probes: probe, Network: via("switch"), Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", 1)}}},
		{Key: "pdu", Site: "s", Role: "pdu", Outlets: []estate.Outlet{{Number: 1}}, Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}},
			Endpoints: []estate.Endpoint{{Name: "card", Protocol: "snmp", Profile: "p", Network: via("cell"), Every: time.Second, Timeout: time.Second}}},
	})
	require.Empty(t, problems)
	a := New(e)
	host, card := estate.EndpointID{Device: "host"}, estate.EndpointID{Device: "pdu", Name: "card"}
	require.Equal(t, []estate.Key{"switch", "pdu"}, a.Missed(host, 1))
	require.Empty(t, a.Missed(host, 2))
	require.Empty(t, a.Answered(estate.EndpointID{Device: "switch"}, false), "nothing is certain yet")
	require.Equal(t, []estate.Key{"switch", "pdu"}, a.Missed(host, 3))
	require.Equal(t, []estate.EndpointID{host}, a.Answered(estate.EndpointID{Device: "switch"}, false), "one more question tells")
	require.Empty(t, a.Answered(estate.EndpointID{Device: "switch"}, false), "and no more than one")
	require.Equal(t, []estate.EndpointID{host, {Device: "here"}}, a.Answered(estate.EndpointID{Device: "switch"}, true), "and what it is reached through")
	require.Equal(t, []estate.Key{"cell"}, a.Missed(card, 1), "by its own path")
	require.Equal(t, []estate.EndpointID{card, {Device: "here"}}, a.Answered(estate.EndpointID{Device: "cell"}, true))
	require.Equal(t, []estate.Key{"cell"}, a.Missed(estate.EndpointID{Device: "switch"}, 1), "our other neighbours tell whether it is our own port")
	require.Empty(t, a.Missed(estate.EndpointID{Device: "nobody"}, 1))
	require.Equal(t, []estate.Key{"host", "switch", "pdu"}, Look(e, "host"))
	require.Equal(t, []estate.Key{"pdu", "cell"}, Look(e, "pdu"), "by its own path")
	require.Empty(t, Look(e, "nobody"))
}

// TestHowOftenALossyWayIsAsked: what is lost to one counts for all behind the same hop.
func TestHowOftenALossyWayIsAsked(t *testing.T) {
	devices := []estate.Device{{Key: "here", Site: "s", Role: "server"}}
	for _, k := range []estate.Key{"switch", "a", "b", "c"} {
		via := estate.Key("switch")
		if k == via {
			via = "here"
		}
		devices = append(devices, estate.Device{Key: k, Site: "s", Role: "server", Probes: []estate.Probe{{Kind: estate.ICMP, Target: "192.0.2.1"}}, Network: []estate.NetworkCable{{Via: estate.End{Device: via}}}})
	}
	e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, devices)
	require.Empty(t, problems)
	a := New(e)
	side := func(k estate.Key) estate.EndpointID { return estate.EndpointID{Device: k} }
	require.Equal(t, 3, a.Need(side("c")))
	for range 10 {
		for _, k := range []estate.Key{"a", "b"} {
			a.Missed(side(k), 1)
			a.Answered(side(k), false)
		}
	}
	require.Greater(t, a.Need(side("c")), 20, "half is lost")
	require.Equal(t, 3, a.Need(side("switch")))
	for range 200 {
		a.Answered(side("a"), false)
		a.Answered(side("b"), false)
	}
	require.Equal(t, 3, a.Need(side("c")), "and is not any more")
}
