package act

import (
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// settable is a controller that notes what it is told.
type settable struct {
	gear.NetworkSetter
	gear.UserSetter
	gear.AlertSetter
	gear.WatchdogSetter
	gear.RestoreSetter
	gear.LimitSetter
	gear.NameSetter
	gear.Lighter
	told []string
}

func (s *settable) Close() error { return nil }

func (s *settable) SetClock(context.Context, time.Time) error {
	s.told = append(s.told, "clock")
	return nil
}
func (*settable) ReadBoot(context.Context) (gear.Boot, error) { return gear.Boot{}, nil }
func (s *settable) SetBoot(_ context.Context, b gear.Boot) error {
	s.told = append(s.told, "boot "+b.Device)
	return nil
}

// TestChangesInWords: what a setting of a controller would change, in words.
func TestChangesInWords(t *testing.T) {
	ep := estate.Endpoint{Secret: "controllers", Addresses: []string{"192.0.2.7:623"}}
	was := gear.Settings{
		Network: gear.Network{Address: "192.0.2.7", Mask: "255.255.255.0", Source: "static"}, Users: []gear.User{{ID: 2, Name: "plumb", Privilege: "administrator", Enabled: true}},
		Drift: -7 * time.Minute, Watchdog: gear.Watchdog{Running: true, Action: "reset", Initial: time.Minute}, Restore: reading.ComesOn, Boot: gear.Boot{Device: "normal"}, Limit: 300, Name: "bmc",
		Alerts: gear.Alerts{Destinations: []gear.AlertDestination{{Number: 1, Address: "192.0.2.1"}}},
	}
	for _, c := range []struct {
		name     string
		change   ControllerSetting
		says     []string
		warnings int
	}{
		{"an address", ControllerSetting{Network: &NetworkSetting{Address: "192.0.2.8"}}, []string{"address: 192.0.2.7 → 192.0.2.8"}, 1},
		{"the same address", ControllerSetting{Network: &NetworkSetting{Address: "192.0.2.7"}}, nil, 0},
		{"a gateway", ControllerSetting{Network: &NetworkSetting{Gateway: "192.0.2.1"}}, []string{"gateway: none → 192.0.2.1"}, 1},
		{"a VLAN", ControllerSetting{Network: &NetworkSetting{VLAN: new(7)}}, []string{"VLAN: none → 7"}, 1},
		{"our own user", ControllerSetting{User: &UserSetting{ID: 2, Password: new("y"), Enabled: new(false)}}, []string{"user 2 (plumb) password: a new one", "user 2 (plumb): may not log in any more"}, 1},
		{"a new user", ControllerSetting{User: &UserSetting{ID: 3, Name: new("i.marsh"), Privilege: new("user")}}, []string{"user 3 name: none → i.marsh", "user 3 privilege: none → user"}, 0},
		{"the clock", ControllerSetting{SetClock: true}, []string{"clock: set to ours, which it is 7m0s off"}, 0},
		{"an alert", ControllerSetting{Alert: &gear.AlertChange{Number: 1, Address: "192.0.2.9"}}, []string{"alert destination 1: 192.0.2.1 → 192.0.2.9", "alerts: off → on"}, 0},
		{"a running watchdog", ControllerSetting{Watchdog: &gear.WatchdogChange{Action: "power off", Initial: 90 * time.Second}}, []string{"watchdog: reset after 1m0s → power off after 1m30s"}, 1},
		{"a policy that strands", ControllerSetting{Restore: new(reading.StaysOff)}, []string{"when power comes back: comes on → stays off"}, 1},
		{"the next start", ControllerSetting{Boot: &gear.Boot{Device: "setup"}}, []string{"starts from: normal → setup"}, 0},
		{"every start", ControllerSetting{Boot: &gear.Boot{Device: "network", Persistent: true}}, []string{"starts from: normal → network, every time"}, 1},
		{"no limit", ControllerSetting{LimitW: new(0)}, []string{"power limit: 300 W → none"}, 0},
		{"a name", ControllerSetting{Name: new("x")}, []string{"name: bmc → x"}, 0},
		{"the light", ControllerSetting{Identify: new(time.Minute)}, []string{"identify light: on for 60 s"}, 0},
		{"a test", ControllerSetting{TestAlert: new(1)}, []string{"a test alert to destination 1"}, 0},
	} {
		got, err := controllerPlan(&settable{}, was, &c.change, ep, "plumb")
		require.NoError(t, err, c.name)
		require.Equal(t, c.says, got.words, c.name)
		require.Len(t, got.warnings, c.warnings, "%s: %v", c.name, got.warnings)
	}
	driver := &settable{}
	for _, b := range []ControllerSetting{{SetClock: true}, {Boot: &gear.Boot{Device: "disk"}}} {
		c, err := controllerPlan(driver, was, &b, ep, "plumb")
		require.NoError(t, err)
		require.NoError(t, c.send(t.Context()))
	}
	require.Equal(t, []string{"clock", "boot disk"}, driver.told)
	was.Slots = 10
	for _, b := range []ControllerSetting{{}, {Name: new("x"), SetClock: true}, {User: &UserSetting{ID: 99, Enabled: new(false)}}, {User: &UserSetting{}}} {
		_, err := controllerPlan(driver, was, &b, ep, "plumb")
		var usage *operation.UsageError
		require.ErrorAs(t, err, &usage)
	}
	// One that knows fewer settings is told so before anything is sent.
	clock := struct {
		gear.Driver
		gear.ClockSetter
	}{}
	require.Equal(t, []gear.Part{gear.PartClock}, gear.Changeable(clock))
	_, err := controllerPlan(clock, was, &ControllerSetting{LimitW: new(200)}, ep, "plumb")
	require.Equal(t, gear.Unsupported, gear.KindOf(err))
	require.Equal(t, sending.NotSent, gear.OutcomeOf(err))
	text, err := json.Marshal(UserSetting{ID: 2, Password: new("never on record")})
	require.NoError(t, err)
	require.NotContains(t, string(text), "never")
}
