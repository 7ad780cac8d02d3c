package power

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
)

var now = time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)

func card() []estate.Endpoint {
	return []estate.Endpoint{{Name: "card", Protocol: estate.SNMP, Profile: "x", Every: 5 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "here"}}}}}
}

func outlets(n int) (list []estate.Outlet) {
	for i := range n {
		list = append(list, estate.Outlet{Number: i + 1})
	}
	return list
}

// world is a UPS on feed A and the utility on feed B, with two hosts on both,
// a switch on A alone, and a lamp that nobody needs.
func world(t interface{ Fatal(...any) }, watts map[estate.End]float64) World {
	both := func(n int) []estate.PowerCable {
		return []estate.PowerCable{{From: estate.OutletEnd("a", n), Feed: "A"}, {From: estate.OutletEnd("b", n), Feed: "B"}}
	}
	e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, []estate.Device{
		{Key: "here", Site: "s", Role: "server", Essential: true},
		{Key: "ups", Site: "s", Role: "ups", Essential: true, Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}}, Supply: &estate.Supply{RatingW: 1000}, Endpoints: card()},
		{Key: "a", Site: "s", Role: "pdu", Essential: true, Power: []estate.PowerCable{{From: estate.End{Device: "ups"}, Feed: "A"}}, Outlets: outlets(4), Inlet: estate.Inlet{RatingA: 10}, Endpoints: card(),
			Banks: []estate.Bank{{Name: "upper", Outlets: []int{1, 2}, RatingA: 2}}},
		{Key: "b", Site: "s", Role: "pdu", Essential: true, Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}, Feed: "B"}}, Outlets: outlets(4), Inlet: estate.Inlet{RatingA: 10}, Endpoints: card()},
		{Key: "one", Site: "s", Role: "server", Essential: true, Power: both(1), Outlets: []estate.Outlet{{Kind: estate.USB, Number: 1, Unswitched: true}}, Video: []estate.End{{Device: "kvm", Port: "1"}}},
		{Key: "two", Site: "s", Role: "server", Essential: true, Power: both(2)},
		{Key: "switch", Site: "s", Role: "switch", Essential: true, Power: []estate.PowerCable{{From: estate.OutletEnd("a", 3)}}},
		{Key: "lamp", Site: "s", Role: "load", Power: []estate.PowerCable{{From: estate.OutletEnd("a", 4)}}},
		{Key: "kvm", Site: "s", Role: "kvm", Essential: true, Power: []estate.PowerCable{{From: estate.SourceEnd("one", estate.USB, 1)}}},
	})
	if len(problems) > 0 {
		t.Fatal(problems)
	}
	ev := verdict.NewEvidence()
	for end, w := range watts {
		ev.Outlet(end, verdict.Outlet{At: now, On: true, Metered: true, W: w, A: w / 230})
		ev.Totals[end.Device] += w
	}
	for _, k := range []estate.Key{"ups", "a", "b"} {
		ev.Endpoint(estate.EndpointID{Device: k, Name: "card"}, verdict.Result{SentAt: now, OK: true})
	}
	total := ev.Totals["a"]
	ev.TakeSupply("ups", reading.Supply{
		Source: reading.SourceNormal, Battery: reading.Battery{Charge: new(100.0), Minutes: new(30.0)}, Outputs: []reading.Phase{{W: &total, Load: new(total / 10)}}, Inputs: []reading.Phase{{V: new(230.0)}},
	}, now)
	ev.Totals["ups"] = total
	return World{Estate: e, Evidence: ev, Now: now}
}

func usual(t interface{ Fatal(...any) }) World {
	return world(t, map[estate.End]float64{
		estate.OutletEnd("a", 1): 200, estate.OutletEnd("b", 1): 200, estate.OutletEnd("a", 2): 150, estate.OutletEnd("b", 2): 150, estate.OutletEnd("a", 3): 30, estate.OutletEnd("a", 4): 60,
	})
}

func TestElements(t *testing.T) {
	w := usual(t)
	list := w.Elements("s")
	var names []string
	for _, x := range list {
		names = append(names, string(x.Device)+" "+x.Name)
	}
	require.Equal(t, []string{"ups ", "a ", "a upper", "b "}, names, "a host with a USB port is there for something else")
	share, known := list[0].Share()
	require.True(t, known)
	require.InDelta(t, 0.44, share, 1e-9)
	left, _ := list[2].Headroom(230)
	require.InDelta(t, 2*230-350, left, 1e-6)
	require.Equal(t, map[string]float64{"A": 350, "B": 350}, w.Balance("s"), "what hangs on a PDU, and not the PDU once more")
	total, _ := w.SiteW("s")
	require.InDelta(t, 440+350, total, 1e-9)
	hangers := w.Hangers("a")
	require.Len(t, hangers, 4)
	require.False(t, hangers[3].Essential)
	w.Now = now.Add(time.Hour)
	_, known = w.Elements("s")[1].Share()
	require.False(t, known, "what is stale counts for nothing")
}

func TestIfLost(t *testing.T) {
	w := usual(t)
	f := w.IfLost("b")
	require.Empty(t, f.Dark)
	require.Equal(t, []estate.Key{"one", "two"}, f.Alone)
	after := map[string]float64{}
	for _, s := range f.Shifts {
		after[string(s.Device)+s.Name] = s.AfterW
	}
	require.Equal(t, map[string]float64{"ups": 790, "a": 790, "aupper": 700}, after, "what moves is carried all the way up")
	require.False(t, f.Holds(), "700 W are more than 2 A")
	f = w.IfLost("ups")
	require.Equal(t, []estate.Key{"a", "switch", "lamp"}, f.Dark)
	require.Equal(t, []Shift{{Element: f.Shifts[0].Element, BeforeW: 350, AfterW: 700}}, f.Shifts)
}

// TestNothingGetsLost: whatever is lost, what moves is what was carried by the
// lost cables of those who keep running.
func TestNothingGetsLost(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		watts := map[estate.End]float64{}
		for _, pdu := range []estate.Key{"a", "b"} {
			for n := 1; n <= 4; n++ {
				watts[estate.OutletEnd(pdu, n)] = float64(rapid.IntRange(0, 2000).Draw(t, "w"))
			}
		}
		w := world(t, watts)
		lost := rapid.SampledFrom([]estate.Key{"a", "b", "ups"}).Draw(t, "lost")
		f := w.IfLost(lost)
		from, to := estate.Key("a"), estate.Key("b")
		if lost == "b" {
			from, to = to, from
		}
		want := watts[estate.OutletEnd(from, 1)] + watts[estate.OutletEnd(from, 2)]
		for _, s := range f.Shifts {
			if s.Device == to && s.Kind == PDU {
				require.InDelta(t, want, s.AfterW-s.BeforeW, 1e-6)
			}
			require.Equal(t, s.RatingW > 0 && s.AfterW > s.RatingW, s.Over)
		}
		for _, k := range f.Alone {
			require.NotContains(t, f.Dark, k)
		}
	})
}

func TestBattery(t *testing.T) {
	at := now.AddDate(0, 0, -9)
	past := []Discharge{
		{Began: at, Ended: at.Add(10 * time.Minute), W: 440, From: 100, To: 50},
		{Began: at, Ended: at.Add(5 * time.Second), W: 440, From: 100, To: 99}, // tells nothing
	}
	w := usual(t)
	b := w.Battery(w.Estate.Device("ups"), past)
	require.InDelta(t, 20, b.ByPast.Minutes(), 0.01, "half of it lasted ten minutes at this load")
	require.InDelta(t, 30, b.Says.Minutes(), 0)
	require.Equal(t, 1, b.Discharges)
	require.False(t, b.Disagree)
	require.Equal(t, estate.Key("lamp"), b.Shed[0].Device)
	require.InDelta(t, 60, b.ShedW, 0)
	require.Greater(t, b.AfterShed.Minutes(), 23.0, "less load, and more than in proportion")
	_, ok := Estimate(nil, 100, 440)
	require.False(t, ok)
	past[0].To = 0
	require.True(t, w.Battery(w.Estate.Device("ups"), past).Disagree)
	w.Now = now.Add(time.Hour)
	require.Nil(t, w.Battery(w.Estate.Device("ups"), past).ByPast, "a UPS that is not heard lasts for nobody knows how long")
}

// TestEstimate: more load never makes it last longer, and more charge never shorter.
func TestEstimate(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		past := []Discharge{{Began: now, Ended: now.Add(time.Duration(rapid.IntRange(30, 9000).Draw(t, "s")) * time.Second), W: rapid.Float64Range(10, 5000).Draw(t, "w"), From: 100, To: rapid.Float64Range(0, 90).Draw(t, "to")}}
		charge, load := rapid.Float64Range(1, 100).Draw(t, "charge"), rapid.Float64Range(1, 5000).Draw(t, "load")
		left, ok := Estimate(past, charge, load)
		require.True(t, ok)
		more, _ := Estimate(past, charge, load*1.1)
		require.LessOrEqual(t, more, left)
		fuller, _ := Estimate(past, charge*1.1, load)
		require.GreaterOrEqual(t, fuller, left)
	})
}

func TestWeaknesses(t *testing.T) {
	var names []string
	for _, x := range usual(t).Weaknesses("s") {
		names = append(names, string(x.Device)+" "+x.Name)
		require.NotEmpty(t, x.Remedy)
	}
	require.Equal(t, []string{"lamp needless-on-battery", "one fed-by-rescued"}, names)
}
