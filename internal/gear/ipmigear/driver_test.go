package ipmigear

import (
	"context"
	"errors"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/geartest"
	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/lab/bmc/bmctest"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

func open(t *testing.T, c *bmctest.Controller, change func(*Options)) *Driver {
	o := Options{Name: "host", Addresses: []string{c.Address}, Secret: secret.Value{Kind: secret.IPMI, User: bmctest.User, Password: bmctest.Password}}
	if change != nil {
		change(&o)
	}
	d, err := Open(o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

// TestErrorsSayWhatHelps: each kind of trouble is told apart, and whether a
// command may have happened.
func TestErrorsSayWhatHelps(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		name    string
		model   func(*bmc.Model)
		options func(*Options)
		faults  bmc.Faults
		kind    gear.Kind
		outcome sending.Outcome
		says    string
	}{
		{name: "a wrong password", options: func(o *Options) { o.Secret.Password = "guessed" }, kind: gear.BadSecret, outcome: sending.NotSent, says: `password refused for user "plumb"`},
		{name: "a wrong user", options: func(o *Options) { o.Secret.User = "nobody" }, kind: gear.BadSecret, outcome: sending.NotSent, says: `user "nobody" refused`},
		{name: "no session left", faults: bmc.Faults{Full: true}, kind: gear.Busy, outcome: sending.NotSent, says: "all its sessions are taken"},
		{name: "only weak suites", model: func(m *bmc.Model) { m.Suites = []rmcp.Suite{rmcp.Suite1} }, kind: gear.Unsupported, outcome: sending.NotSent, says: "allow one with cipher-suites"},
		{name: "only IPMI 1.5", model: func(m *bmc.Model) { m.Legacy = true }, kind: gear.Unsupported, outcome: sending.NotSent, says: "allow that with legacy: true"},
		{name: "an update", faults: bmc.Faults{Updating: true}, kind: gear.Updating, outcome: sending.Refused, says: "its firmware is being updated"},
		{name: "garbage", faults: bmc.Faults{Garbage: true}, kind: gear.Unreachable, outcome: sending.NotSent, says: "does not answer"},
		{name: "nobody there", options: func(o *Options) { o.Addresses = []string{"127.0.0.1:9"} }, kind: gear.Unreachable, outcome: sending.NotSent, says: "host: chassis reset: "},
	} {
		stand := bmctest.Start(t, c.model, nil)
		stand.Set(func(f *bmc.Faults) { *f = c.faults })
		d := open(t, stand, c.options)
		ctx, cancel := context.WithTimeout(t.Context(), 700*time.Millisecond)
		err := d.CommandChassis(ctx, gear.ChassisReset)
		cancel()
		require.Equal(t, c.kind, gear.KindOf(err), "%s: %v", c.name, err)
		require.Equal(t, c.outcome, gear.OutcomeOf(err), c.name)
		require.ErrorContains(t, err, c.says, c.name)
		require.NotContains(t, err.Error(), "guessed")
		require.Zero(t, stand.Box.Commands(), c.name)
	}
	off := bmctest.Start(t, nil, nil)
	off.Box.Set(func(s *bmc.State) { s.On = false })
	err := open(t, off, nil).CommandChassis(t.Context(), gear.ChassisReset)
	require.Equal(t, sending.Refused, gear.OutcomeOf(err))
	require.ErrorContains(t, err, "not possible in the present state")
}

// TestItIsBusyWithItself, and says so: that stands in the way of operations.
func TestItIsBusyWithItself(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	d := open(t, stand, nil)
	for _, busy := range []bool{false, true} {
		stand.Set(func(f *bmc.Faults) { f.Updating = busy })
		c, err := d.ReadChassis(t.Context())
		require.NoError(t, err)
		require.Equal(t, busy, c.Updating)
	}
}

// TestLostReply: what was sent and not answered is unclear, never "not sent".
func TestLostReply(t *testing.T) {
	t.Parallel()
	deaf := make(chan bool, 1)
	stand := bmctest.Start(t, nil, func() bmc.Fate {
		lost, way := false, 0
		return func() (int, time.Duration) {
			select {
			case lost = <-deaf:
				way = 0
			default:
			}
			way++
			if lost && way%2 == 0 {
				return 0, 0 // there, but not back
			}
			return 1, 0
		}
	}())
	d := open(t, stand, nil)
	c, err := d.ReadChassis(t.Context())
	require.NoError(t, err)
	require.True(t, c.On)
	require.NoError(t, d.Light(t.Context(), time.Second)) // it needs the same privilege, which is raised now
	deaf <- true
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Second)
	defer cancel()
	err = d.CommandChassis(ctx, gear.ChassisOff)
	require.Equal(t, sending.Unclear, gear.OutcomeOf(err), "%v", err)
	require.Equal(t, 1, stand.Box.Commands(), "and it was sent once")
}

// TestAnotherAddress: the first address is silent, so the next one is used.
func TestAnotherAddress(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	d := open(t, stand, func(o *Options) { o.Addresses = []string{"127.0.0.1:9", stand.Address} })
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	_, err := d.ReadChassis(ctx)
	cancel()
	require.Equal(t, gear.Unreachable, gear.KindOf(err))
	_, err = d.ReadChassis(t.Context())
	require.NoError(t, err)
}

func TestReadings(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	stand.Box.Set(func(s *bmc.State) { s.Fans[1] = false; s.Feeds[1] = false; s.Ambient = 39 })
	d := open(t, stand, nil)
	list, err := d.ReadSensors(t.Context())
	require.NoError(t, err)
	by, series := map[string]reading.Sensor{}, map[string]bool{}
	for _, s := range list {
		require.False(t, series[s.Series], "%s is a series of its own", s.Series)
		by[s.Name], series[s.Series] = s, true
	}
	require.Equal(t, reading.Critical, by["Fan 2"].Level)
	require.Equal(t, reading.Warning, by["Inlet temp"].Level)
	require.Equal(t, "Inlet temp is 39 °C, above its limit of 38 °C", by["Inlet temp"].Trouble())
	require.Equal(t, reading.Warning, by["PSU 2"].Level)
	require.Equal(t, "present, input lost", by["PSU 2"].Text())
	require.Equal(t, "power", by["Power"].Kind)
	require.Equal(t, "°C", by["Coil temp"].Unit)
	require.True(t, series["battery"] && series["drive-4"])
	for range 20 {
		_, err = d.ReadSensors(t.Context())
		require.NoError(t, err)
	}
}

func TestSettingsAreReadBack(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, func(m *bmc.Model) { m.Restore = ipmi.StayOff; m.Empty = true }, nil)
	d, ctx := open(t, stand, func(o *Options) { o.Shared = true }), t.Context()
	s, err := d.ReadSettings(ctx)
	require.NoError(t, err)
	require.Equal(t, reading.StaysOff, s.Restore)
	require.Equal(t, "cipher suite 17 (HMAC-SHA256, AES-128)", s.Suite)
	stand.Set(func(f *bmc.Faults) { f.Clock = 7 * time.Minute })
	weak, err := d.Weaknesses(ctx)
	require.NoError(t, err)
	var names []string
	for _, w := range weak {
		names = append(names, w.Name)
		require.NotEmpty(t, w.Remedy)
	}
	require.ElementsMatch(t, []string{"stays-off", "shared-port", "anonymous", "clock", "password"}, names)

	require.NoError(t, d.SetRestore(ctx, reading.ComesOn))
	require.NoError(t, d.SetClock(ctx, time.Now()))
	require.NoError(t, d.SetUser(ctx, gear.UserChange{ID: 1, Enabled: new(false)}))
	require.NoError(t, d.SetUser(ctx, gear.UserChange{ID: 4, Name: new("i.marsh"), Password: new("a-password-of-20-b.x"), Privilege: new("operator"), Enabled: new(true)}))
	require.NoError(t, d.SetBoot(ctx, gear.Boot{Device: "cd", UEFI: true}))
	require.NoError(t, d.SetWatchdog(ctx, gear.WatchdogChange{Action: "power cycle", Initial: time.Minute}))
	require.NoError(t, d.SetLimit(ctx, 250))
	require.NoError(t, d.SetName(ctx, "a new name"))
	require.NoError(t, d.Light(ctx, time.Minute))
	require.NoError(t, d.SetNetwork(ctx, gear.Network{Gateway: "127.0.0.9", VLAN: 0}))
	require.NoError(t, d.SetAlerts(ctx, gear.AlertChange{Number: 1, Address: "192.0.2.9", Community: "tern"}))
	s, err = d.ReadSettings(ctx)
	require.NoError(t, err)
	require.Equal(t, gear.Boot{Device: "cd", UEFI: true}, s.Boot)
	require.Equal(t, 250, s.Limit)
	require.Equal(t, "192.0.2.9", s.Alerts.Destinations[0].Address)
	require.True(t, s.Alerts.Enabled)
	require.Equal(t, netip.MustParseAddr("127.0.0.9").String(), s.Network.Gateway)
	require.Less(t, s.Drift.Abs(), 3*time.Second)
	require.Equal(t, "a new name", s.Name)

	for _, wrong := range []error{
		d.SetNetwork(ctx, gear.Network{Address: "here"}), d.SetRestore(ctx, "perhaps"), d.SetBoot(ctx, gear.Boot{Device: "toaster"}), d.SetWatchdog(ctx, gear.WatchdogChange{Action: "bark"}),
		d.SetLimit(ctx, -1), d.Light(ctx, time.Hour), d.SetUser(ctx, gear.UserChange{ID: 0}), d.SetUser(ctx, gear.UserChange{ID: 3, Password: new("")}), d.SetAlerts(ctx, gear.AlertChange{Number: 1, Address: "x"}),
	} {
		require.Equal(t, sending.NotSent, gear.OutcomeOf(wrong), "%v", wrong)
	}
	stand.Set(func(f *bmc.Faults) { f.Obedient = true })
	err = d.SetRestore(ctx, reading.StaysOff)
	require.ErrorContains(t, err, "accepted it, but the restore policy reads back as comes on, not as stays off")
	stand.Set(func(f *bmc.Faults) { f.Obedient = false })
	require.NoError(t, d.Restart(ctx, true))
	_, err = d.ReadChassis(ctx)
	require.NoError(t, err, "a new session after the controller has started again")

	sheet, err := d.ReadSheet(ctx)
	require.NoError(t, err)
	require.Equal(t, "GW-208-00417", sheet.Serial)
	require.Contains(t, sheet.More, "chassis type: rack mount")
	require.Contains(t, sheet.More, "product id: 0x0107")
	log, err := d.ReadEvents(ctx)
	require.NoError(t, err)
	require.True(t, errors.Is(d.ClearEvents(ctx, "another version"), ipmi.ErrLogMoved))
	require.NoError(t, d.ClearEvents(ctx, log.Version))
}

func TestItConforms(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	at := func(password string) func(*testing.T, string) gear.Driver {
		return func(t *testing.T, address string) gear.Driver {
			return open(t, stand, func(o *Options) { o.Addresses, o.Secret.Password = []string{address}, password })
		}
	}
	geartest.Conforms(t, geartest.Subject{
		Address: stand.Address, Network: "udp", Open: at(bmctest.Password), Stranger: at("guessed"), Password: "guessed", Refusals: []gear.Kind{gear.BadSecret},
	})
}

// What our user may not do is known before anybody asks for it.
func TestAUserWhoMayOnlyLook(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	ours := open(t, stand, nil)
	require.NoError(t, ours.SetUser(t.Context(), gear.UserChange{ID: 5, Name: new("looker"), Password: new("only-a-look"), Privilege: new("user"), Enabled: new(true)}))
	c, err := ours.ReadChassis(t.Context())
	require.NoError(t, err)
	require.Empty(t, c.LooksAs)
	theirs := open(t, stand, func(o *Options) { o.Secret.User, o.Secret.Password = "looker", "only-a-look" })
	c, err = theirs.ReadChassis(t.Context())
	require.NoError(t, err)
	require.Equal(t, "user", c.LooksAs)
	err = theirs.CommandChassis(t.Context(), gear.ChassisOff)
	require.Equal(t, gear.NotPermitted, gear.KindOf(err), "%v", err)
	require.Zero(t, stand.Box.Commands())
	require.NoError(t, ours.SetUser(t.Context(), gear.UserChange{ID: 5, Privilege: new("operator")}))
	require.NoError(t, theirs.CommandChassis(t.Context(), gear.ChassisOff), "it counts from the next try on")
}
