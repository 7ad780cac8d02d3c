package estate

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func device(k Key, power []End, via ...Key) Device {
	d := Device{Key: k, Site: "s", Role: "box"}
	for _, p := range power {
		d.Power = append(d.Power, PowerCable{From: p})
	}
	for _, v := range via {
		d.Network = append(d.Network, NetworkCable{End{Device: v}})
	}
	return d
}

func pdu(k Key, power End, via Key) Device {
	d := device(k, []End{power})
	d.Outlets = []Outlet{{Number: 1}, {Number: 2}, {Number: 3}}
	d.Endpoints = []Endpoint{{Name: "card", Network: []NetworkCable{{End{Device: via}}}}}
	return d
}

// quay has two feeds: host on both, the switches on one each, and a second
// PDU that hangs on the first.
func quay(t *testing.T) *Estate {
	t.Helper()
	mains := End{Device: Utility}
	e, problems := New("quay", "ops", []Site{{Key: "s", Zone: time.UTC}}, []Device{
		device("ops", nil),
		device("left", []End{{"a", "1"}}, "ops"), device("right", []End{{"b", "1"}}, "ops"),
		device("host", []End{{"a", "2"}, {"b", "2"}}, "left", "right"),
		device("guest", nil, "host"), device("lamp", []End{{"c", "1"}}),
		pdu("a", mains, "right"), pdu("b", mains, "left"), pdu("c", End{"a", "3"}, "left"),
	})
	require.Empty(t, problems)
	return e
}

func TestLosesPower(t *testing.T) {
	e := quay(t)
	for _, c := range []struct {
		cut  []End
		want string
	}{
		{[]End{{"a", "1"}}, "[{left true 0 1}]"},
		{[]End{{"a", "2"}}, "[{host false 1 2}]"},
		{[]End{{"a", "2"}, {"b", "2"}}, "[{host true 0 2}]"},
		{[]End{{"a", "3"}}, "[{lamp true 0 1} {c true 0 1}]"}, // through the PDU that hangs on it
	} {
		cut := map[End]bool{}
		for _, end := range c.cut {
			cut[end] = true
		}
		require.Equal(t, c.want, fmt.Sprint(e.LosesPower(cut)))
	}
}

func TestCutOff(t *testing.T) {
	e := quay(t)
	devices, endpoints := e.CutOff(map[Key]bool{"left": true})
	require.Empty(t, devices, "the other way is enough")
	require.Equal(t, map[EndpointID]bool{{"b", "card"}: true, {"c", "card"}: true}, endpoints)
	devices, _ = e.CutOff(map[Key]bool{"left": true, "right": true})
	require.Equal(t, map[Key]bool{"host": true, "guest": true}, devices)
}

func TestReach(t *testing.T) {
	e := quay(t)
	require.Equal(t, [][]Key{{"ops", "left", "host", "guest"}, {"ops", "right", "host", "guest"}}, e.ReachLine("guest", ""))
	require.Equal(t, []EndpointID{{Device: "guest"}}, e.OnlyBehind("host"))
	require.Equal(t, []EndpointID{{"b", "card"}, {"c", "card"}}, e.OnlyBehind("left"))
	require.Equal(t, [][]End{{{Device: Utility}, {"a", "3"}, {"c", "1"}, {Device: "lamp"}}}, e.PowerLine("lamp"))
}

func TestEnds(t *testing.T) {
	for text, want := range map[string]End{
		"skarvoe-pdu/3": {"skarvoe-pdu", "3"}, "skarvoe-bridge": {"skarvoe-bridge", ""}, "core/eth0/1": {"core", "eth0/1"},
	} {
		got, err := ParseEnd(text)
		require.NoError(t, err)
		require.Equal(t, want, got)
		require.Equal(t, text, got.String())
	}
	for _, bad := range []string{"", "/3", "PDU/3", "a b", "pdu/", "-a", "a-", "ä", strings.Repeat("x", 64)} {
		_, err := ParseEnd(bad)
		require.Error(t, err, bad)
	}
	require.Equal(t, []int{3, 0, 0, 0}, []int{End{"p", "3"}.Outlet(), End{"p", "eth0"}.Outlet(), End{"p", "-1"}.Outlet(), End{"p", ""}.Outlet()})
	require.Equal(t, End{"p", "7"}, OutletEnd("p", 7))
}

func TestProbesAreNamedAsPeopleDo(t *testing.T) {
	for want, p := range map[string]Probe{
		"ICMP": {Kind: ICMP, Target: "192.0.2.1"}, "TCP 22": {Kind: TCP, Target: "192.0.2.1:22"}, "TCP 443": {Kind: TCP, Target: "[2001:db8::1]:443"}, "HTTP": {Kind: HTTP, Target: "http://192.0.2.1/"},
	} {
		require.Equal(t, want, p.String())
	}
}

func TestFinding(t *testing.T) {
	e := quay(t)
	require.Nil(t, e.Device("nobody"))
	require.Nil(t, e.Site("nowhere"))
	require.Equal(t, time.UTC, e.Zone("nobody"))
	require.Nil(t, e.ReachLine("nobody", ""))
	require.Nil(t, e.PowerLine("nobody"))
	require.Nil(t, e.FeedsOf("nobody"))
	require.Nil(t, e.PathOf("nobody", ""))
	require.Equal(t, []End{{"a", "2"}, {"b", "2"}}, e.FeedsOf("host"))
	require.Empty(t, e.FeedsOf("a"), "the utility is no outlet")
	require.Equal(t, []Key{"host"}, e.Fed(End{"b", "2"}))
	a := e.Device("a")
	ep, ok := a.Endpoint("card")
	require.True(t, ok)
	require.Equal(t, "card", ep.Name)
	_, ok = a.Endpoint("other")
	require.False(t, ok)
	_, ok = a.SourceAt("9")
	require.False(t, ok)
	_, ok = a.OutletEndpoint()
	require.False(t, ok, "an endpoint without a profile cannot read outlets")
	_, ok = e.Device("host").OutletEndpoint()
	require.False(t, ok)
	require.Equal(t, "box", e.Device("host").Words())
	require.Empty(t, Empty().Devices)
}

// TestReachOrder: every device comes after all that it is reached through.
func TestReachOrder(t *testing.T) {
	e := quay(t)
	place := map[Key]int{}
	for i, k := range e.ReachOrder() {
		place[k] = i
	}
	require.Len(t, place, len(e.Devices))
	for _, d := range e.Devices {
		for _, c := range d.Network {
			require.Less(t, place[c.Via.Device], place[d.Key])
		}
	}
}

// TestManyPathsAreBounded: strands multiply; only so many are spelled out.
func TestManyPathsAreBounded(t *testing.T) {
	devices := []Device{device("ops", nil)}
	above := []Key{"ops"}
	for level := range 6 {
		var here []Key
		for i := range 3 {
			k := Key(fmt.Sprintf("l%d-%d", level, i))
			devices = append(devices, device(k, nil, above...))
			here = append(here, k)
		}
		above = here
	}
	devices = append(devices, device("end", nil, above...))
	e, problems := New("mesh", "ops", []Site{{Key: "s", Zone: time.UTC}}, devices)
	require.Empty(t, problems)
	require.Len(t, e.ReachLine("end", ""), MaxStrands)
	require.Empty(t, e.OnlyBehind("l0-0"), "there is always another way")
	require.Len(t, e.OnlyBehind("ops"), len(devices)-1)
	off, _ := e.CutOff(map[Key]bool{"l3-0": true, "l3-1": true, "l3-2": true})
	require.Len(t, off, 2*3+1, "two levels and the end")
}

func TestChecks(t *testing.T) {
	base := func() []Device { return []Device{device("ops", nil), pdu("p", End{Device: Utility}, "ops")} }
	for want, change := range map[string]func([]Device) []Device{
		`devices.utility: "utility" means the mains: give the device another key`: func(ds []Device) []Device { return append(ds, device("utility", nil)) },
		`devices.x.power.0: the utility has no ports: write just utility`:         func(ds []Device) []Device { return append(ds, device("x", []End{{Utility, "1"}})) },
		`devices.x.power.0: x cannot feed itself`:                                 func(ds []Device) []Device { return append(ds, device("x", []End{{"x", "1"}})) },
		`devices.x.power.0: there is no device "y" to be fed from: add it under devices, or correct the name`: func(ds []Device) []Device {
			return append(ds, device("x", []End{{"y", "1"}}))
		},
		`devices.x.network.0: there is no device "y" to be reached through: add it under devices, or correct the name`: func(ds []Device) []Device { return append(ds, device("x", nil, "y")) },
		`devices.ops.network.0: ops is the standpoint, where reach lines begin: it is reached through nothing`: func(ds []Device) []Device {
			ds[0].Network = []NetworkCable{{End{Device: "p"}}}
			return ds
		},
		`devices.p.endpoints.card: no network cable says what it is reached through: add network: [DEVICE]`: func(ds []Device) []Device {
			ds[1].Endpoints[0].Network = nil
			return ds
		},
		`devices.x.needs-feeds: is 2, but there are only 1 power cables`: func(ds []Device) []Device {
			x := device("x", []End{{"p", "1"}})
			x.NeedsFeeds = 2
			return append(ds, x)
		},
	} {
		e, problems := New("t", "ops", []Site{{Key: "s", Zone: time.UTC}}, change(base()))
		require.Nil(t, e)
		require.Len(t, problems, 1)
		require.EqualError(t, problems[0], want)
	}
	_, problems := New("t", "", []Site{{Key: "s", Zone: time.UTC}}, base())
	require.EqualError(t, problems[0], "standpoint: is missing: name the device on which the service runs")
}

// TestSeveralOnOnePort: a telephone with a desk computer behind it, of which the
// estate has one.
func TestSeveralOnOnePort(t *testing.T) {
	e, problems := New("t", "sw", []Site{{Key: "s", Zone: time.UTC}}, []Device{
		{Key: "sw", Site: "s", Role: "switch"},
		{Key: "desk", Site: "s", Role: "box", Network: []NetworkCable{{Via: End{Device: "sw", Port: "4"}}}},
	})
	require.Empty(t, problems)
	require.Empty(t, CompareNeighbours(e, "sw", map[string][]string{"4": {"desk", "phone"}}))
	require.Empty(t, CompareNeighbours(e, "sw", map[string][]string{"4": {"phone", "desk"}}))
	require.Equal(t, []string{"phone, other is on port 4, where the estate has desk"}, CompareNeighbours(e, "sw", map[string][]string{"4": {"phone", "other"}}))
}
