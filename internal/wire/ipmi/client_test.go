package ipmi_test

import (
	"context"
	"errors"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/lab/bmc/bmctest"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

func short(t *testing.T, d time.Duration) context.Context {
	ctx, cancel := context.WithTimeout(t.Context(), d)
	t.Cleanup(cancel)
	return ctx
}

// TestEverySuite: with each suite that is allowed, in the order of preference.
func TestEverySuite(t *testing.T) {
	t.Parallel()
	for _, s := range []rmcp.Suite{rmcp.Suite17, rmcp.Suite3, rmcp.Suite16, rmcp.Suite15, rmcp.Suite2, rmcp.Suite1} {
		c := bmctest.Start(t, func(m *bmc.Model) { m.Suites = []rmcp.Suite{s} }, nil)
		if !s.Sound() {
			_, err := c.Dial(t, nil).DeviceID(t.Context())
			require.ErrorIs(t, err, ipmi.ErrSuites, "%s is not used unless it is allowed", s)
		}
		client := c.Dial(t, func(o *ipmi.Options) { o.Suites = []rmcp.Suite{s} })
		id, err := client.DeviceID(t.Context())
		require.NoError(t, err, s)
		require.Equal(t, "2.37", id.Firmware())
		require.Equal(t, "2.0", id.Version())
		info, open := client.Session()
		require.True(t, open)
		require.Equal(t, s, info.Suite, "and it is reported")
	}
	both := bmctest.Start(t, nil, nil)
	client := both.Dial(t, nil)
	_, err := client.DeviceID(t.Context())
	require.NoError(t, err)
	info, _ := client.Session()
	require.Equal(t, rmcp.Suite17, info.Suite, "17 before 3, whatever the controller lists first")
}

func TestLegacySession(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, func(m *bmc.Model) { m.Legacy = true }, nil)
	_, err := c.Dial(t, nil).DeviceID(t.Context())
	require.ErrorIs(t, err, ipmi.ErrOldOnly)
	client := c.Dial(t, func(o *ipmi.Options) { o.Legacy = true })
	s, err := client.ChassisStatus(t.Context())
	require.NoError(t, err)
	require.True(t, s.PowerOn)
	require.NoError(t, client.Control(t.Context(), ipmi.HardReset), "and the privilege is raised there too")
	info, _ := client.Session()
	require.True(t, info.Legacy)
	require.NoError(t, client.Close())
	require.Zero(t, c.Sessions())
}

// TestWhyNot: what is wrong is said as what it is.
func TestWhyNot(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	_, err := c.Dial(t, func(o *ipmi.Options) { o.Password = "wrong" }).DeviceID(t.Context())
	require.ErrorIs(t, err, ipmi.ErrPassword)
	require.NotContains(t, err.Error(), "wrong")
	_, err = c.Dial(t, func(o *ipmi.Options) { o.User = "nobody" }).DeviceID(t.Context())
	require.ErrorIs(t, err, ipmi.ErrUser)
	require.Zero(t, c.Settled(t).Sessions(), "nothing half open is left behind")

	c.Set(func(f *bmc.Faults) { f.Full = true })
	_, err = c.Dial(t, nil).DeviceID(t.Context())
	require.ErrorIs(t, err, ipmi.ErrNoSession)

	c.Set(func(f *bmc.Faults) { *f = bmc.Faults{Garbage: true} })
	_, err = c.Dial(t, func(o *ipmi.Options) { o.Tries = 2 }).DeviceID(short(t, time.Second))
	var silent *ipmi.SilentError
	require.ErrorAs(t, err, &silent, "garbage is no answer")

	client, err := ipmi.Dial(ipmi.Options{Address: "127.0.0.1:9", Tries: 1})
	require.NoError(t, err)
	defer func() { require.NoError(t, client.Close()) }()
	_, err = client.DeviceID(short(t, 300*time.Millisecond))
	require.ErrorAs(t, err, &silent)
}

// TestPing: presence shows without a session, and absence within the time given.
func TestPing(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, bmctest.Bad(0.3, 3))
	pong, err := ipmi.Ping(short(t, 10*time.Second), c.Address)
	require.NoError(t, err)
	require.EqualValues(t, 32473, pong.OEM)
	require.Zero(t, c.Sessions())
	_, err = ipmi.Ping(short(t, 300*time.Millisecond), "127.0.0.1:9")
	require.ErrorIs(t, err, context.DeadlineExceeded)
}

// TestPrivilege: no more than is needed, and no more than the user has.
func TestPrivilege(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	admin := c.Dial(t, nil)
	u := ipmi.UserEntry{ID: 3, Privilege: ipmi.User, Messaging: true}
	require.NoError(t, admin.SetUserName(t.Context(), 3, "watcher"))
	require.NoError(t, admin.SetPassword(t.Context(), 3, "a-long-one-of-20-byt"))
	require.NoError(t, admin.SetUserAccess(t.Context(), u))
	require.NoError(t, admin.EnableUser(t.Context(), 3, true))
	users, err := admin.Users(t.Context())
	require.NoError(t, err)
	require.Len(t, users.Entries, 2)
	require.Equal(t, "watcher", users.Entries[1].Name)
	same, err := admin.TestPassword(t.Context(), 3, "another")
	require.NoError(t, err)
	require.False(t, same)

	watcher := c.Dial(t, func(o *ipmi.Options) { o.User, o.Password = "watcher", "a-long-one-of-20-byt" })
	s, err := watcher.ChassisStatus(t.Context())
	require.NoError(t, err)
	require.True(t, s.PowerOn)
	err = watcher.Control(t.Context(), ipmi.PowerDown)
	var denied *ipmi.PrivilegeError
	require.ErrorAs(t, err, &denied)
	require.Zero(t, c.Box.Commands())
	info, _ := watcher.Session()
	require.Equal(t, ipmi.User, info.Granted)
}

// TestSharing: one session for all, reopened when it is gone, closed at the end.
func TestSharing(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	client := c.Dial(t, func(o *ipmi.Options) { o.KeepAlive = 40 * time.Millisecond })
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			_, err := client.ChassisStatus(t.Context())
			require.NoError(t, err)
		})
	}
	all.Wait()
	require.Equal(t, 1, c.Sessions())
	time.Sleep(100 * time.Millisecond)
	require.Equal(t, 1, c.Sessions())
	c.Set(func(f *bmc.Faults) { f.Forgetful = true })
	require.Zero(t, c.Sessions())
	_, err := client.ChassisStatus(t.Context())
	require.NoError(t, err, "dropped by the controller, and opened again")
	require.NoError(t, client.Close())
	require.Zero(t, c.Sessions())
	_, err = client.ChassisStatus(t.Context())
	require.ErrorIs(t, err, ipmi.ErrClosed)
}

// TestOnce: with a third of the packets lost, a chassis command is never
// carried out twice, and what was lost is said to be unclear.
func TestOnce(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, bmctest.Bad(0.3, 11))
	client := c.Dial(t, func(o *ipmi.Options) { o.Tries = 8 })
	asked, unclear := 0, 0
	for range 4 {
		err := client.Control(t.Context(), ipmi.HardReset)
		if silent, lost := errors.AsType[*ipmi.SilentError](err); lost && silent.Sent {
			unclear++
		} else {
			require.NoError(t, err)
		}
		asked++
	}
	require.LessOrEqual(t, c.Box.Commands(), asked)
	require.GreaterOrEqual(t, c.Box.Commands(), asked-unclear)
	require.Positive(t, asked-unclear)
}

// TestBadNetwork: a walk through everything gets through loss and disorder.
func TestBadNetwork(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, bmctest.Bad(0.1, 5))
	client := c.Dial(t, func(o *ipmi.Options) { o.Tries = 8 })
	repo, err := client.Repository(t.Context(), nil)
	require.NoError(t, err)
	require.Empty(t, repo.Broken)
	require.Greater(t, len(repo.Sensors()), 40)
	require.NotNil(t, repo.Sensor(ipmi.SensorKey{Owner: 0x20, Number: 0}), "number 0 is a legal one")
	again, err := client.Repository(t.Context(), repo)
	require.NoError(t, err)
	require.Same(t, repo, again, "it has not changed")
}

// TestSlow: a controller that takes longer than a try is still understood.
func TestSlow(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	client := c.Dial(t, nil)
	_, err := client.ChassisStatus(t.Context())
	require.NoError(t, err)
	c.Set(func(f *bmc.Faults) { f.Slow = 700 * time.Millisecond })
	for range 2 {
		_, err = client.ChassisStatus(t.Context())
		require.NoError(t, err)
	}
}

func TestReadings(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	client := c.Dial(t, nil)
	repo, err := client.Repository(t.Context(), nil)
	require.NoError(t, err)
	got := map[string]float64{}
	states := map[string]string{}
	for _, s := range repo.Sensors() {
		m, err := client.Read(t.Context(), s)
		if err != nil {
			require.Contains(t, []string{"Firmware", "Start"}, s.Name, "only those that are for events alone")
			continue
		}
		if v, ok, err := client.ValueOf(t.Context(), s, m); ok {
			require.NoError(t, err)
			got[s.Name] = v
		} else {
			states[s.Name] = ipmi.StateWords(s.Type, s.Event, m.States)
		}
	}
	for name, want := range map[string]struct{ v, within float64 }{
		"Inlet temp": {22, 0.5}, "CPU 1 margin": {-56.2, 0.6}, "12 V": {12.09, 0.04}, "Power": {212, 2}, "PSU 1 in": {0.46, 0.02}, "Pump": {3000, 20}, "Duct flow": {46, 0.6},
		"Drives power": {33, 0.8}, "Blower power": {8.7, 0.4}, "Vibration": {1.3, 0.02}, "Filter age": {2.7, 0.04}, "Queue depth": {5, 0.05}, "Door light": {60, 1},
		"Dust": {45, 1}, "Link rate": {1000, 20}, "Duct speed": {3.6, 0.05}, "CPU load": {30, 0.5}, "Coil temp": {31, 0.3},
	} {
		require.InDelta(t, want.v, got[name], want.within, name)
	}
	require.Equal(t, "present", states["PSU 1"])
	require.Equal(t, "fully redundant", states["Power redundancy"])
	require.Equal(t, "drive present", states["Drive 3"], "one record stands for four")
	require.Equal(t, "", states["Lid"])

	c.Box.Set(func(s *bmc.State) { s.On = false; s.Feeds[1] = false })
	m, err := client.Read(t.Context(), repo.Sensor(ipmi.SensorKey{Owner: 0x20, Number: 0x30}))
	require.NoError(t, err)
	require.False(t, m.Present(), "a fan of a host that is off does not turn at 0 rpm: it is not measured")
}

func TestEventLogGrowsAndIsCleared(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	client := c.Dial(t, nil)
	c.Tick(time.Now())
	log, err := client.EventLog(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, log.Events, 8)
	_, since, ok := log.Events[1].Time()
	require.False(t, ok)
	require.Equal(t, 42*time.Second, since, "before its clock was set")

	c.Box.Set(func(s *bmc.State) { s.Feeds[0] = false })
	c.Tick(time.Now())
	more, err := client.EventLog(t.Context(), log)
	require.NoError(t, err)
	require.False(t, more.Anew, "it was read on")
	var words []string
	for _, e := range more.Events[8:] {
		words = append(words, e.Type.String()+": "+e.Words(nil))
	}
	require.Equal(t, []string{"power supply: input lost", "power unit: no longer fully redundant", "power unit: redundancy lost"}, words)
	require.ErrorIs(t, client.ClearEventLog(t.Context(), log), ipmi.ErrLogMoved, "what has not been read is not erased")
	require.NoError(t, client.ClearEventLog(t.Context(), more))
	cleared, err := client.EventLog(t.Context(), more)
	require.NoError(t, err)
	require.True(t, cleared.Anew)
	require.Len(t, cleared.Events, 1)
	require.Equal(t, "log cleared", cleared.Events[0].Words(nil))
}

func TestSettings(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	client, ctx := c.Dial(t, nil), t.Context()
	f, err := client.Inventory(ctx, 0)
	require.NoError(t, err)
	require.Empty(t, f.Faults)
	require.Equal(t, "GW-208-00417", f.Product.Serial)
	require.Equal(t, 2024, f.Board.Made.Year())

	require.NoError(t, client.SetBoot(ctx, ipmi.BootFlags{Device: ipmi.BootSetup, UEFI: true}))
	b, err := client.Boot(ctx)
	require.NoError(t, err)
	require.Equal(t, ipmi.BootFlags{Valid: true, UEFI: true, Device: ipmi.BootSetup}, b)
	require.NoError(t, client.SetRestore(ctx, ipmi.StayOff))
	s, err := client.ChassisStatus(ctx)
	require.NoError(t, err)
	require.Equal(t, ipmi.StayOff, s.Restore)

	l, err := client.LAN(ctx)
	require.NoError(t, err)
	require.Equal(t, ipmi.Administrator, l.Suites[rmcp.Suite17])
	want := l
	want.VLAN, want.Gateway = 42, netip.MustParseAddr("127.0.0.7")
	require.NoError(t, client.SetLAN(ctx, l, want))

	require.NoError(t, client.SetWatchdog(ctx, ipmi.Watchdog{Use: 4, Action: ipmi.WatchdogReset, Initial: 5 * time.Minute}))
	c.ArmWatchdog(ipmi.WatchdogReset, time.Minute, time.Now())
	w, err := client.Watchdog(ctx)
	require.NoError(t, err)
	require.True(t, w.Armed())
	require.InDelta(t, 60, w.Present.Seconds(), 2)

	require.NoError(t, client.SetLimit(ctx, ipmi.PowerLimit{Active: true, Watts: 300}))
	p, err := client.Power(ctx)
	require.NoError(t, err)
	require.EqualValues(t, 212, p.Now)
	require.NoError(t, client.SetName(ctx, "ostrel-virt-1, in rack 2 of the office"))
	now := time.Now().Truncate(time.Second).Add(-time.Hour)
	require.NoError(t, client.SetClock(ctx, now))
	at, err := client.Clock(ctx)
	require.NoError(t, err)
	require.WithinDuration(t, now, at, 2*time.Second)
	g, err := client.SystemGUID(ctx)
	require.NoError(t, err)
	require.Len(t, g.String(), 36)
	n, err := client.Sessions(ctx)
	require.NoError(t, err)
	require.EqualValues(t, bmc.Slots, n.Slots)
	require.EqualValues(t, 1, n.Active)

	c.Set(func(f *bmc.Faults) { f.Obedient = true })
	var not *ipmi.NotTakenError
	require.ErrorAs(t, client.SetBoot(ctx, ipmi.BootFlags{Device: ipmi.BootNetwork}), &not, "accepted is not done")
	want.VLAN = 7
	require.ErrorAs(t, client.SetLAN(ctx, l, want), &not)
}

func TestAlerts(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	traps := make(chan ipmi.Trap, 9)
	c.OnAlert(func(to netip.Addr, community string, trap ipmi.Trap) {
		require.Equal(t, "192.0.2.7", to.String())
		require.Equal(t, "tern", community)
		var got ipmi.Trap
		require.NoError(t, got.Decode(trap.Specific(), trap.Append(nil)))
		traps <- got
	})
	client := c.Dial(t, nil)
	a, err := client.Alerting(t.Context())
	require.NoError(t, err)
	require.False(t, a.Enabled)
	require.NoError(t, client.SendAlerts(t.Context(), 2, netip.MustParseAddr("192.0.2.7"), true, "tern"))
	require.NoError(t, client.TestAlert(t.Context(), 2))
	require.Equal(t, "system event: alert filter acted", (<-traps).Words())
	c.Tick(time.Now())
	c.Box.Set(func(s *bmc.State) { s.Open = true })
	c.Tick(time.Now())
	trap := <-traps
	require.Equal(t, "intrusion: chassis open", trap.Words())
	require.WithinDuration(t, time.Now(), trap.At(), time.Minute)
}
