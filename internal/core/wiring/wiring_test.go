package wiring

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

func pier(t *testing.T) *estate.Estate {
	var outlets []estate.Outlet
	for n := 1; n <= 6; n++ {
		outlets = append(outlets, estate.Outlet{Number: n})
	}
	box := func(k estate.Key, n int, via estate.Key) estate.Device {
		return estate.Device{Key: k, Site: "s", Role: "box", Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", n)}}, Network: []estate.NetworkCable{{Via: estate.End{Device: via}}}}
	}
	e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, []estate.Device{
		{Key: "here", Site: "s", Role: "server"}, {Key: "pdu", Site: "s", Role: "pdu", Outlets: outlets, Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}}},
		box("router", 1, "here"), box("switch", 2, "router"), box("kiosk", 3, "switch"), {Key: "lamp", Site: "s", Role: "load", Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", 4)}}},
	})
	require.Empty(t, problems)
	return e
}

func TestJudge(t *testing.T) {
	e := pier(t)
	type ks = []estate.Key
	for _, c := range []struct {
		name         string
		outlet       int
		before, off  float64
		silent, kept ks
		want         Verdict
		text         string
	}{
		{"it is where the estate says", 3, 40, 0, ks{"kiosk"}, ks{"router", "switch"}, Right, "kiosk fell silent with it"},
		{"what hangs behind falls silent too", 1, 11, 0, ks{"router", "switch", "kiosk"}, nil, Right, "router fell silent with it"},
		{"somebody else falls silent", 3, 40, 0, ks{"switch", "kiosk"}, ks{"router"}, Wrong, "switch hangs there as well"},
		{"two are swapped", 2, 40, 0, ks{"kiosk"}, ks{"router", "switch"}, Wrong, "kiosk hangs there, and not switch"},
		{"nobody falls silent", 3, 40, 0, nil, ks{"router", "switch", "kiosk"}, Wrong, "kiosk went on answering without it"},
		{"its contact is welded", 3, 40, 40, nil, ks{"kiosk"}, Unknown, "its contact did not open"},
		{"a lamp is asked nothing", 4, 60, 0, nil, ks{"kiosk"}, Unknown, "60.0 W went with it"},
		{"nothing hangs there", 5, 0, 0, nil, ks{"kiosk"}, Empty, "as the estate says"},
		{"something unknown hangs there", 5, 25, 0, nil, ks{"kiosk"}, Wrong, "takes 25.0 W"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := Judge(e, Trial{Outlet: estate.OutletEnd("pdu", c.outlet), BeforeW: &c.before, OffW: &c.off, Silent: c.silent, Kept: c.kept})
			require.Equal(t, c.want, f.Verdict, f.Text)
			require.Contains(t, f.Text, c.text)
		})
	}
}

func TestCompare(t *testing.T) {
	e := pier(t)
	past := func(f func(i int) float64) (list []reading.Stretch) {
		for i := range 48 {
			list = append(list, reading.Stretch{At: time.Unix(int64(i)*300, 0), Mean: f(i)})
		}
		return list
	}
	busy := func(i int) float64 { return 200 + 40*math.Sin(float64(i)/3) }
	night := func(i int) float64 { return 150 + 30*math.Cos(float64(i)/7) }
	calm := func(int) float64 { return 100 }
	outlet := func(n int, f func(int) float64) Load {
		return Load{Outlet: estate.OutletEnd("pdu", n), Past: past(func(i int) float64 { return f(i)*1.04 + 2 })}
	}
	devices := []Load{{Device: "router", Past: past(busy)}, {Device: "switch", Past: past(night)}, {Device: "kiosk", Past: past(calm)}}
	got := Compare(e, []Load{outlet(1, busy), outlet(2, busy), outlet(3, calm), outlet(4, busy)}, devices)
	require.Len(t, got, 3, "what does not measure itself is left out")
	require.Equal(t, []Verdict{Right, Wrong, Unknown}, []Verdict{got[0].Verdict, got[1].Verdict, got[2].Verdict})
	require.Equal(t, []estate.Key{"router"}, got[1].Found)
	few := Compare(e, []Load{{Outlet: estate.OutletEnd("pdu", 1), Past: past(busy)[:3]}}, devices)
	require.Contains(t, few[0].Text, "too little is known")
}
