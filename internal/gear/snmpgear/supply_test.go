package snmpgear

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

// on opens an endpoint of the lab with the profile that the estate names.
func on(t *testing.T, l *labtest.Lab, k estate.Key, s secret.Value) gear.Driver {
	t.Helper()
	ep := l.Estate.Device(k).Endpoints[0]
	p, err := profile.Find(ep.Profile)
	require.NoError(t, err)
	d, err := Open(Options{Name: string(k), Addresses: ep.Addresses, Profile: p, Secret: s, Timeout: patient})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

func supplyOfLab(t *testing.T, u gear.Supply) *reading.Supply {
	t.Helper()
	s, err := u.ReadSupply(t.Context())
	require.NoError(t, err)
	return &s
}

// TestUPS: everything of RFC 1628 that is read, through an outage and back.
func TestUPS(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 60})
	d := on(t, l, "ostrel-ups", lab.V3Secret)
	u := part[gear.Supply](t, d)
	require.Eventually(t, func() bool { w, _ := supplyOfLab(t, u).W(); return w > 500 }, 30*time.Second, 50*time.Millisecond)
	s := supplyOfLab(t, u)
	require.Equal(t, "on line", s.State())
	require.Equal(t, "Lab Works LU-2700", s.Maker+" "+s.Model)
	require.Equal(t, reading.SourceNormal, s.Source)
	require.InDelta(t, 100, *s.Battery.Charge, 1)
	require.InDelta(t, 54.6, *s.Battery.V, 0.1, "0.1 V")
	require.InDelta(t, 231, *s.Inputs[0].V, 3, "whole volts")
	require.InDelta(t, 50, *s.Inputs[0].Hz, 0.1, "0.1 Hz")
	load, known := s.Load()
	require.True(t, known)
	require.InDelta(t, 27, load, 6)
	require.InDelta(t, 2700, *s.Config.OutW, 0)
	require.True(t, *s.Control.AutoRestart)
	require.Nil(t, s.Control.ShutdownIn, "-1 is none")
	require.Empty(t, s.Alarms)
	require.Empty(t, s.Troubles())

	require.NoError(t, l.Blackout("ostrel-quay", true))
	require.Eventually(t, func() bool { return supplyOfLab(t, u).State() == "on battery" }, 30*time.Second, 50*time.Millisecond)
	s = supplyOfLab(t, u)
	require.Equal(t, reading.SourceBattery, s.Source)
	require.Positive(t, s.Battery.OnBattery)
	require.InDelta(t, 0, *s.Inputs[0].V, 0)
	var names []string
	for _, a := range s.Alarms {
		names = append(names, a.Name)
	}
	require.Subset(t, names, []string{"upsAlarmOnBattery", "upsAlarmInputBad"})
	require.NoError(t, l.Drain("ostrel-ups", 6))
	require.Eventually(t, func() bool { return supplyOfLab(t, u).State() == "low battery" }, 30*time.Second, 50*time.Millisecond)
	require.Eventually(t, func() bool { _, err := u.ReadSupply(t.Context()); return err != nil }, 20*time.Second, 50*time.Millisecond, "empty: its card is dark as well")
	require.NoError(t, l.Blackout("ostrel-quay", false))
	require.Eventually(t, func() bool { s, err := u.ReadSupply(t.Context()); return err == nil && s.State() == "on line" }, 20*time.Second, 50*time.Millisecond)
}

func TestUPSCommands(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 20})
	d := on(t, l, "tamsin-ups", lab.V3Secret)
	u, c := part[gear.Supply](t, d), part[gear.SupplyControl](t, d)
	do := func(cmd gear.SupplyCommand) { t.Helper(); require.NoError(t, c.CommandSupply(t.Context(), cmd)) }
	result := func(want string) {
		t.Helper()
		require.Eventually(t, func() bool { return supplyOfLab(t, u).Test.Result == want }, 30*time.Second, 30*time.Millisecond, want)
	}
	do(gear.SupplyCommand{Do: gear.TestQuick})
	result("in progress")
	require.Equal(t, "quick battery", supplyOfLab(t, u).Test.Kind)
	result("passed")
	require.NoError(t, l.Age("tamsin-ups", 0.3))
	do(gear.SupplyCommand{Do: gear.TestGeneral})
	result("error")
	require.True(t, supplyOfLab(t, u).BatteryBad())
	do(gear.SupplyCommand{Do: gear.TestDeep})
	result("in progress")
	do(gear.SupplyCommand{Do: gear.TestAbort})
	result("aborted")

	require.Error(t, c.CommandSupply(t.Context(), gear.SupplyCommand{Do: gear.SupplyCancel}), "nothing counts down")
	require.NoError(t, l.Countdown("tamsin-ups", time.Hour))
	require.NotNil(t, supplyOfLab(t, u).Control.ShutdownIn)
	do(gear.SupplyCommand{Do: gear.SupplyCancel})
	require.Nil(t, supplyOfLab(t, u).Control.ShutdownIn)

	do(gear.SupplyCommand{Do: gear.SupplyAutoStart, On: false})
	require.False(t, *supplyOfLab(t, u).Control.AutoRestart)
	do(gear.SupplyCommand{Do: gear.SupplyAutoStart, On: true})
	require.Error(t, c.CommandSupply(t.Context(), gear.SupplyCommand{Do: "sing"}))

	err := part[gear.SupplyControl](t, on(t, l, "tamsin-ups", lab.ReadSecret)).CommandSupply(t.Context(), gear.SupplyCommand{Do: gear.TestQuick})
	require.Equal(t, gear.NotPermitted, gear.KindOf(err))
}

// TestTheOutputOfAUPS: told at once, and seen by what it gives.
func TestTheOutputOfAUPS(t *testing.T) {
	// Our way to it hangs on something else, so that it can be seen throughout.
	l := labtest.Start(t, labtest.Options{Speed: 20, Text: strings.ReplaceAll(demo.Estate(demo.Addresses{Loopback: demo.Default.Loopback, NoEcho: true}), "[tamsin-pdu/1]", "[utility]")})
	d := on(t, l, "tamsin-ups", lab.V3Secret)
	u, c := part[gear.Supply](t, d), part[gear.SupplyControl](t, d)
	output := part[gear.Output](t, d)
	is := func(want string) {
		t.Helper()
		require.Eventually(t, func() bool { return supplyOfLab(t, u).State() == want }, 30*time.Second, 20*time.Millisecond, want)
	}
	require.NoError(t, output.SwitchOutput(t.Context(), false))
	is("output off")
	require.Error(t, c.CommandSupply(t.Context(), gear.SupplyCommand{Do: gear.SupplyCancel}), "what is off is not taken back by that")
	require.NoError(t, output.SwitchOutput(t.Context(), true))
	is("on line")
	require.NoError(t, output.CycleOutput(t.Context(), 30*time.Second))
	is("output off")
	require.Error(t, c.CommandSupply(t.Context(), gear.SupplyCommand{Do: gear.SupplyCancel}), "a reboot that is forgotten would leave it off")
	is("on line")
}

// TestPoE: a port is switched like an outlet, and it shows whether something
// takes power from it.
func TestPoE(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 40})
	o := part[gear.Outlets](t, on(t, l, "skarvoe-switch", lab.WriteSecret))
	read := func(n int) reading.Outlet {
		t.Helper()
		r, err := o.ReadOutlets(t.Context())
		require.NoError(t, err)
		require.Len(t, r.Outlets, 4)
		return r.Outlets[n-1]
	}
	east := read(1)
	require.Equal(t, estate.PoE, east.Kind)
	require.True(t, east.On && *east.Giving && east.Switched)
	require.Equal(t, "skarvoe-camera-east", east.Name)
	empty, err := part[gear.Outlets](t, on(t, l, "quill-switch", lab.WriteSecret)).ReadOutlets(t.Context())
	require.NoError(t, err)
	require.False(t, *empty.Outlets[3].Giving, "nobody is on it")
	require.NoError(t, o.SwitchOutlet(t.Context(), 1, false))
	require.Eventually(t, func() bool { r := read(1); return !r.On && !*r.Giving }, 30*time.Second, 30*time.Millisecond)
	require.NoError(t, o.SwitchOutlet(t.Context(), 1, true))
	require.Eventually(t, func() bool { r := read(1); return r.On && *r.Giving }, 30*time.Second, 30*time.Millisecond)
	require.Equal(t, gear.Unsupported, gear.KindOf(o.SwitchOutlet(t.Context(), 9, true)))
}

func TestSensorsAndNeighbours(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	sensors := part[gear.Sensors](t, on(t, l, "ostrel-room", lab.ReadSecret))
	list, err := sensors.ReadSensors(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 4)
	require.Equal(t, "temperature", list[0].Kind)
	require.InDelta(t, 21.4, *list[0].Value, 1, "scale and precision")
	require.Equal(t, 1, list[0].Digits)
	require.Equal(t, "no", list[2].Words)
	require.NoError(t, l.Door("ostrel-room"))
	list, err = sensors.ReadSensors(t.Context())
	require.NoError(t, err)
	require.Equal(t, "yes", list[2].Words)

	ports, err := part[gear.Neighbours](t, on(t, l, "tamsin-switch", lab.ReadSecret)).ReadNeighbours(t.Context())
	require.NoError(t, err)
	require.Equal(t, "port 5", ports[4].Port)
	require.Equal(t, "tamsin-workshop", ports[4].Name)
	require.Empty(t, ports[7].Name)
	require.False(t, ports[7].Up)
}

// TestTheCard: what is written to outlets is kept, and the card has a clock,
// a log and a restart that leaves the outlets alone.
func TestTheCard(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 40})
	d := on(t, l, "tamsin-pdu", lab.V3Secret)
	set := part[gear.OutletSettings](t, d)
	require.NoError(t, set.NameOutlet(t.Context(), 3, "the router"))
	require.NoError(t, set.SetAfterLoss(t.Context(), 3, reading.LossOff))
	require.NoError(t, set.SetDelays(t.Context(), 3, new(7*time.Second), nil))
	require.Equal(t, gear.Unsupported, gear.KindOf(set.SetAfterLoss(t.Context(), 3, "perhaps")))
	require.Error(t, set.NameOutlet(t.Context(), 3, "a name that is a good deal longer than this card can keep"))
	r, err := part[gear.Outlets](t, d).ReadOutlets(t.Context())
	require.NoError(t, err)
	o := r.Outlets[2]
	require.Equal(t, "the router", o.Name)
	require.Equal(t, reading.LossOff, o.AfterLoss)
	require.Equal(t, 7*time.Second, *o.OnDelay)
	require.InDelta(t, 229.6, *r.Meters[0].V, 0.1)

	at, err := part[gear.Clock](t, d).ReadClock(t.Context())
	require.NoError(t, err)
	require.WithinDuration(t, time.Now(), at, 3*time.Second)
	sheet, err := part[gear.Inventory](t, d).ReadSheet(t.Context())
	require.NoError(t, err)
	require.Equal(t, "1.5.0", sheet.Firmware)
	require.NoError(t, part[gear.Restarter](t, d).Restart(t.Context(), false))
	require.Eventually(t, func() bool {
		log, err := part[gear.EventLog](t, d).ReadEvents(t.Context())
		return err == nil && log.Events[len(log.Events)-1].Text == "card restarted by command"
	}, 30*time.Second, 50*time.Millisecond)
	closed, _ := l.Contact(estate.OutletEnd("tamsin-pdu", 3))
	require.True(t, closed)
}

// TestEngineTime: an engine whose clock jumps is found again without anybody's help.
func TestEngineTime(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	o := part[gear.Outlets](t, on(t, l, "tamsin-pdu", lab.V3Secret))
	_, err := o.ReadOutlets(t.Context())
	require.NoError(t, err)
	for _, skew := range []time.Duration{10 * time.Minute, 0, time.Hour} {
		require.NoError(t, l.Skew("tamsin-pdu", skew))
		require.Eventually(t, func() bool { _, err := o.ReadOutlets(t.Context()); return err == nil }, 30*time.Second, 50*time.Millisecond, "%s", skew)
	}
	require.NoError(t, o.SwitchOutlet(t.Context(), 8, true))
}
