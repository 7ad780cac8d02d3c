package api

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/keep"
	"plumbbob/internal/secret"
)

// settable is a controller that notes what it is told.
type settable struct {
	gear.Controller
	told []string
}

func (s *settable) SetClock(context.Context, time.Time) error {
	s.told = append(s.told, "clock")
	return nil
}
func (s *settable) SetBoot(_ context.Context, b gear.Boot) error {
	s.told = append(s.told, "boot "+b.Device)
	return nil
}

func TestChangesInWords(t *testing.T) {
	g := garage.New()
	g.SetSecret("controllers", secret.Value{Kind: secret.IPMI, User: "plumb", Password: "x"})
	s := &Server{Parts: Parts{Garage: g}}
	d := &estate.Device{Key: "host"}
	ep := estate.Endpoint{Secret: "controllers", Addresses: []string{"192.0.2.7:623"}}
	was := gear.Settings{
		Network: gear.Network{Address: "192.0.2.7", Mask: "255.255.255.0", Source: "static"}, Users: []gear.User{{ID: 2, Name: "plumb", Privilege: "administrator", Enabled: true}},
		Drift: -7 * time.Minute, Watchdog: gear.Watchdog{Running: true, Action: "reset", Initial: time.Minute}, Restore: reading.ComesOn, Boot: gear.Boot{Device: "normal"}, Limit: 300, Name: "bmc",
		Alerts: gear.Alerts{Destinations: []gear.AlertDestination{{Number: 1, Address: "192.0.2.1"}}},
	}
	for _, c := range []struct {
		name     string
		change   contract.ControllerChange
		says     []string
		warnings int
	}{
		{"an address", contract.ControllerChange{Network: &contract.ControllerNetwork{Address: ptr("192.0.2.8")}}, []string{"address: 192.0.2.7 → 192.0.2.8"}, 1},
		{"the same address", contract.ControllerChange{Network: &contract.ControllerNetwork{Address: ptr("192.0.2.7")}}, nil, 0},
		{"a gateway", contract.ControllerChange{Network: &contract.ControllerNetwork{Gateway: ptr("192.0.2.1")}}, []string{"gateway: none → 192.0.2.1"}, 1},
		{"a VLAN", contract.ControllerChange{Network: &contract.ControllerNetwork{Vlan: ptr(7)}}, []string{"VLAN: none → 7"}, 1},
		{"our own user", contract.ControllerChange{User: &contract.ControllerUser{ID: 2, Password: ptr("y"), Enabled: ptr(false)}}, []string{"user 2 (plumb) password: a new one", "user 2 (plumb): may not log in any more"}, 1},
		{"a new user", contract.ControllerChange{User: &contract.ControllerUser{ID: 3, Name: ptr("i.marsh"), Privilege: ptr("user")}}, []string{"user 3 name: none → i.marsh", "user 3 privilege: none → user"}, 0},
		{"the clock", contract.ControllerChange{SetClock: ptr(true)}, []string{"clock: set to ours, which it is 7m0s off"}, 0},
		{"an alert", contract.ControllerChange{Alert: &contract.AlertDestination{Number: 1, Address: "192.0.2.9"}}, []string{"alert destination 1: 192.0.2.1 → 192.0.2.9", "alerts: off → on"}, 0},
		{"a running watchdog", contract.ControllerChange{Watchdog: &contract.ControllerWatchdog{Action: "power off", Seconds: 90}}, []string{"watchdog: reset after 1m0s → power off after 1m30s"}, 1},
		{"a policy that strands", contract.ControllerChange{Restore: ptr("stays off")}, []string{"when power comes back: comes on → stays off"}, 1},
		{"the next start", contract.ControllerChange{Boot: &contract.ControllerBoot{Device: "setup"}}, []string{"starts from: normal → setup"}, 0},
		{"every start", contract.ControllerChange{Boot: &contract.ControllerBoot{Device: "network", Persistent: ptr(true)}}, []string{"starts from: normal → network, every time"}, 1},
		{"no limit", contract.ControllerChange{LimitW: ptr(0)}, []string{"power limit: 300 W → none"}, 0},
		{"a name", contract.ControllerChange{Name: ptr("x")}, []string{"name: bmc → x"}, 0},
		{"the light", contract.ControllerChange{IdentifySeconds: ptr(60)}, []string{"identify light: on for 60 s"}, 0},
		{"a test", contract.ControllerChange{TestAlert: ptr(1)}, []string{"a test alert to destination 1"}, 0},
	} {
		got, err := s.changeOf(d, ep, &settable{}, was, &c.change)
		require.NoError(t, err, c.name)
		require.Equal(t, c.says, got.texts, c.name)
		require.Len(t, got.warnings, c.warnings, "%s: %v", c.name, got.warnings)
		require.Equal(t, c.change.IdentifySeconds == nil && c.change.TestAlert == nil, needsSettings(&c.change), c.name)
	}
	driver := &settable{}
	for _, b := range []contract.ControllerChange{{SetClock: ptr(true)}, {Boot: &contract.ControllerBoot{Device: "disk"}}} {
		c, err := s.changeOf(d, ep, driver, was, &b)
		require.NoError(t, err)
		require.NoError(t, c.apply(t.Context()))
	}
	require.Equal(t, []string{"clock", "boot disk"}, driver.told)
	for _, b := range []contract.ControllerChange{{}, {Name: ptr("x"), SetClock: ptr(true)}} {
		_, err := s.changeOf(d, ep, driver, was, &b)
		var usage *operation.UsageError
		require.ErrorAs(t, err, &usage)
	}
	view := settingsView(was)
	require.Equal(t, -420.0, view.DriftSeconds)
	require.Nil(t, view.Users[0].Password, "a password is only ever written")
}

// TestGearProblems: gear that is away, that will not, and what makes no sense
// are three different things.
func TestGearProblems(t *testing.T) {
	for _, c := range []struct {
		err    *gear.Error
		status int
		kind   contract.ProblemKind
	}{
		{&gear.Error{Kind: gear.Unreachable, Text: "x"}, 502, contract.GearUnreachable},
		{&gear.Error{Kind: gear.BadSecret, Text: "x"}, 502, contract.GearRefused},
		{&gear.Error{Kind: gear.Malformed, Outcome: operation.Accepted, Text: "x"}, 502, contract.GearRefused},
		{&gear.Error{Kind: gear.Unsupported, Outcome: operation.NotSent, Text: "x"}, 422, contract.Usage},
	} {
		p := problemOf(c.err)
		require.Equal(t, c.status, p.Status)
		require.Equal(t, c.kind, p.Kind)
		require.Equal(t, "x", *p.Detail)
	}
}

func TestChassisView(t *testing.T) {
	g := seen(t, "skarvoe-router")
	watts := 52.74
	g.ev.Controller("skarvoe-recorder", reading.Chassis{At: g.now, On: true, State: "S0, working", Restore: reading.ComesOn, Watts: &watts, Watchdog: &reading.Watchdog{Action: "reset", Left: time.Minute, For: "operating system"}})
	g.inside = func(k estate.Key) *keep.Inside {
		v := 97.0
		return &keep.Inside{Sensors: []reading.Sensor{{Name: "CPU 1 temp", Unit: "°C", Value: &v, Level: reading.Critical}}, Weak: []reading.Weakness{{Name: "clock", Text: "t", Remedy: "r"}}}
	}
	d := g.device(g.e.Device("skarvoe-recorder"))
	require.Equal(t, "armed: reset in 60 s unless its operating system is heard of", *d.Chassis.Watchdog)
	require.Equal(t, 52.7, *d.Chassis.W)
	require.True(t, d.Chassis.Fresh)
	require.Equal(t, contract.Telling{Name: "CPU 1 temp", Text: "97 °C", Level: contract.LevelCritical}, *d.Summary.Telling)
	require.Equal(t, 1, *d.Summary.Weaknesses)
	require.Equal(t, []contract.Weakness{{Name: "clock", Text: "t", Remedy: "r"}}, d.Weaknesses)
	require.Nil(t, g.device(g.e.Device("skarvoe-router")).Chassis, "it has no controller")
}
