package api

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/keep"
)

// onBattery is the office a moment after the utility has gone.
func onBattery(t *testing.T) glance {
	g := seen(t)
	now := g.now
	ep := g.e.Device("ostrel-ups").Endpoints[0]
	g.ev.Endpoint(estate.EndpointID{Device: "ostrel-ups", Name: ep.Name}, verdict.Result{SentAt: now, OK: true})
	g.ev.Endpoint(estate.EndpointID{Device: "ostrel-pdu-a", Name: "card"}, verdict.Result{SentAt: now, OK: true})
	g.ev.TakeSupply("ostrel-ups", reading.Supply{
		Maker: "Lab Works", Source: reading.SourceBattery, Inputs: []reading.Phase{{V: new(0.0)}}, Outputs: []reading.Phase{{W: new(1200.0), V: new(230.0), Load: new(44.0)}},
		Battery: reading.Battery{Status: "normal", Charge: new(80.0), Minutes: new(16.0), V: new(52.1), OnBattery: 90 * time.Second},
		Alarms:  []reading.Alarm{{Name: "upsAlarmOnBattery", Text: "it draws from its battery", Level: reading.Warning}},
		Test:    reading.Test{Kind: "general", Result: "passed"}, Control: reading.Control{What: "output", AutoRestart: new(true), ShutdownIn: new(30 * time.Second)},
		Config: reading.SupplyConfig{OutW: new(2700.0)},
	}, now)
	g.ev.Totals["ostrel-ups"] = 1200
	g.ev.Totals["ostrel-pdu-a"] = 1190
	for n := 1; n <= 12; n++ {
		g.ev.Outlet(estate.OutletEnd("ostrel-pdu-a", n), verdict.Outlet{At: now, On: true, Metered: true, W: 100, A: 0.44, Switched: true, AfterLoss: "as before", OnDelay: new(3 * time.Second)})
	}
	began := now.AddDate(0, 0, -7)
	past := []power.Discharge{{Device: "ostrel-ups", Began: began, Ended: began.Add(10 * time.Minute), W: 1200, From: 100, To: 0}}
	g.inside = func(k estate.Key) *keep.Inside {
		if k == "ostrel-ups" {
			return &keep.Inside{Discharges: past}
		}
		return nil
	}
	return g
}

func TestSitePower(t *testing.T) {
	g := onBattery(t)
	x := g.sitePower(g.e.Site("ostrel-quay"))
	require.Equal(t, contract.Gone, *x.Utility)
	require.Equal(t, "ostrel-ups", x.Elements[0].Device)
	require.Equal(t, contract.Ups, x.Elements[0].Kind)
	require.InDelta(t, 1200.0/2700, *x.Elements[0].Share, 1e-9)
	require.Equal(t, []string{"ostrel-ups"}, x.Elements[1].From)
	banks := 0
	for _, e := range x.Elements {
		if e.Kind == contract.Bank && e.Device == "ostrel-pdu-a" {
			banks++
			require.InDelta(t, 600, *e.W, 0)
		}
	}
	require.Equal(t, 2, banks)
	require.Len(t, x.Supplies, 1)
	require.Equal(t, "ostrel-ups", x.Failovers[0].Lost)
	require.False(t, x.Failovers[0].Holds)
	names := map[string]bool{}
	for _, w := range x.Weaknesses {
		names[w.Name] = true
	}
	require.True(t, names["fed-by-rescued"], "the KVM hangs on the host that it should rescue")
	require.True(t, names["needless-on-battery"])
}

func TestSupplyView(t *testing.T) {
	g := onBattery(t)
	u := g.supply(g.e.Device("ostrel-ups"))
	b := u.Brief
	require.Equal(t, "on battery", b.State)
	require.Equal(t, contract.LevelWarning, b.Level)
	require.True(t, b.Fresh && b.OnBattery && *b.Disagree)
	require.InDelta(t, 8, *b.MinutesByPast, 0.1, "four fifths of ten minutes")
	require.InDelta(t, 16, *b.Minutes, 0)
	require.InDelta(t, 2700, *b.RatingW, 0)
	require.Equal(t, []string{"ostrel-blade-2"}, *b.Shed)
	require.Equal(t, 90, *u.SecondsOnBattery)
	require.Len(t, u.Discharges, 1)
	require.Contains(t, u.Control, contract.NamedText{Name: "shuts down in", Text: "30 s"})
	require.Contains(t, u.Config, contract.NamedText{Name: "carries", Text: "2700 W"})
	g.now = g.now.Add(time.Hour)
	g.moment = verdict.At(g.e, g.ev, nil, g.now)
	require.False(t, g.supplyBrief(g.e.Device("ostrel-ups")).Fresh)
	require.Equal(t, "not heard yet", g.supplyBrief(g.e.Device("tamsin-ups")).State)
}

func TestOutletView(t *testing.T) {
	g := onBattery(t)
	d := g.device(g.e.Device("ostrel-pdu-a"))
	require.Equal(t, "upper", *d.Outlets[0].Bank)
	require.Equal(t, "as before", *d.Outlets[0].AfterLoss)
	require.Equal(t, 3, *d.Outlets[0].OnDelay)
	sw := g.device(g.e.Device("skarvoe-switch")).Outlets[1]
	require.Equal(t, "poe-2", sw.Port)
	require.Equal(t, contract.OutletKindPoe, sw.Kind)
	require.Equal(t, []string{"skarvoe-camera-west"}, sw.Feeds)
	require.Equal(t, "12", portNumber("port 12"))
	require.Equal(t, "eth", portNumber("eth"))
}
