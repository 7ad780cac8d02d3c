package bmc_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/lab/bmc/bmctest"
	"plumbbob/internal/wire/cursor"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// refused sends raw data, and returns the completion code of the refusal.
func refused(t *testing.T, c *ipmi.Client, cmd ipmi.Command, data ...byte) ipmi.CompletionCode {
	t.Helper()
	cmd.Once = false
	err := c.Do(t.Context(), cmd, data, nil)
	if err == nil {
		return ipmi.OK
	}
	var e *ipmi.CompletionError
	require.ErrorAs(t, err, &e)
	return e.Code
}

// TestTheStandardsErrors: the stand-in accepts only what the standard allows,
// also from ourselves.
func TestTheStandardsErrors(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	c := stand.Dial(t, nil)
	raw := func(cmd ipmi.Command, code uint8) ipmi.Command { cmd.Code = code; return cmd }
	for _, x := range []struct {
		name string
		cmd  ipmi.Command
		data []byte
		want ipmi.CompletionCode
	}{
		{"a command that nobody knows", raw(ipmi.GetDeviceID, 0x7f), nil, ipmi.InvalidCommand},
		{"too many bytes", ipmi.GetDeviceID, []byte{1}, ipmi.BadLength},
		{"too few bytes", ipmi.GetSDR, []byte{1, 2}, ipmi.BadLength},
		{"a sensor that is not there", ipmi.GetSensorReading, []byte{0xee}, ipmi.NotPresent},
		{"a sensor that only sends events", ipmi.GetSensorReading, []byte{0x6a}, ipmi.NotPresent},
		{"thresholds of a sensor with states", ipmi.GetThresholds, []byte{0x63}, ipmi.IllegalForSensor},
		{"factors of a sensor with states", ipmi.GetReadingFactors, []byte{0x63, 1}, ipmi.IllegalForSensor},
		{"a threshold that is not there", ipmi.SetThresholds, []byte{0x10, 0x04, 0, 0, 0, 0, 0, 0}, ipmi.InvalidField},
		{"a piece that is too large", ipmi.GetSDR, []byte{0, 0, 0, 0, 0, 64}, ipmi.CannotReturnSoMany},
		{"a piece without a reservation", ipmi.GetSDR, []byte{9, 9, 0, 0, 5, 8}, ipmi.ReservationLost},
		{"a record that is not there", ipmi.GetSDR, []byte{0, 0, 0xee, 0x0e, 0, 8}, ipmi.NotPresent},
		{"an event that is not there", ipmi.GetSELEntry, []byte{0, 0, 0xee, 0x0e, 0, 0xff}, ipmi.NotPresent},
		{"erasing without a reservation", ipmi.ClearSEL, []byte{9, 9, 'C', 'L', 'R', 0xaa}, ipmi.ReservationLost},
		{"an inventory that is not there", ipmi.GetFRUInfo, []byte{7}, ipmi.NotPresent},
		{"beyond the inventory", ipmi.ReadFRU, []byte{0, 0, 0x7f, 8}, ipmi.OutOfRange},
		{"a LAN parameter that is not there", ipmi.GetLANConfig, []byte{0x0e, 200, 0, 0}, 0x80},
		{"a LAN parameter that cannot be written", ipmi.SetLANConfig, []byte{0x0e, 5, 1, 2, 3, 4, 5, 6}, 0x82},
		{"an address of the wrong length", ipmi.SetLANConfig, []byte{0x0e, 3, 1, 2, 3}, ipmi.BadLength},
		{"a destination that is not there", ipmi.GetLANConfig, []byte{0x0e, 18, 9, 0}, ipmi.OutOfRange},
		{"a LAN parameter of another channel", ipmi.GetLANConfig, []byte{3, 3, 0, 0}, ipmi.InvalidField},
		{"the access of another channel", ipmi.GetChannelAccess, []byte{3, 0x40}, ipmi.InvalidField},
		{"what a channel is that is not there", ipmi.GetChannelInfo, []byte{7}, ipmi.InvalidField},
		{"a piece of an event without a reservation", ipmi.GetSELEntry, []byte{0, 0, 0, 0, 4, 4}, ipmi.ReservationLost},
		{"a session that is not there", ipmi.GetSessionInfo, []byte{0xff, 1, 2, 3, 4}, ipmi.NotPresent},
		{"a watchdog that was never set", ipmi.Command{Name: "Reset Watchdog Timer", NetFn: rmcp.App, Code: 0x22}, nil, 0x80},
		{"a boot parameter that is not there", ipmi.GetBootOptions, []byte{77, 0, 0}, 0x80},
		{"a filter that is not there", ipmi.GetPEFConfig, []byte{6, 99, 0}, 0x80},
		{"a filter count that cannot be written", ipmi.SetPEFConfig, []byte{5, 1}, 0x82},
		{"a user that is not there", ipmi.GetUserAccess, []byte{0x0e, 60}, ipmi.OutOfRange},
		{"a name for the user without one", ipmi.SetUserName, append([]byte{1, 'x'}, make([]byte, 15)...), ipmi.InvalidField},
		{"a name that is taken", ipmi.SetUserName, append([]byte{5}, append([]byte("plumb"), make([]byte, 11)...)...), ipmi.InvalidField},
		{"a password of the wrong length", ipmi.SetUserPassword, []byte{2, 2, 'x'}, ipmi.BadLength},
		{"a chassis command that is not one", ipmi.ChassisControlCmd, []byte{9}, ipmi.InvalidField},
		{"a restore policy that is not one", ipmi.SetRestorePolicy, []byte{5}, ipmi.InvalidField},
	} {
		require.Equal(t, x.want, refused(t, c, x.cmd, x.data...), x.name)
	}
	stand.Box.Set(func(s *bmc.State) { s.On = false })
	require.Equal(t, ipmi.NotInPresentState, refused(t, c, ipmi.ChassisControlCmd, byte(ipmi.PowerCycle)), "a cycle of what is off")
	require.Zero(t, stand.Box.Commands())

	require.Equal(t, ipmi.OK, refused(t, c, ipmi.SetLANConfig, 0x0e, 0, 1))
	require.EqualValues(t, 0x81, refused(t, c, ipmi.SetLANConfig, 0x0e, 0, 1), "somebody is changing it")
	require.Equal(t, ipmi.OK, refused(t, c, ipmi.SetLANConfig, 0x0e, 0, 0))
	require.Equal(t, ipmi.OK, refused(t, c, ipmi.SetLANConfig, 0x0e, 4, byte(ipmi.SourceDHCP)))
	require.Equal(t, ipmi.NotInPresentState, refused(t, c, ipmi.SetLANConfig, 0x0e, 3, 127, 0, 0, 9), "the address comes from the server")
}

// TestFourSessions: no fifth one, and each ends by itself when nobody uses it.
// TestWhatEveryControllerAnswers: also what nobody here asks for.
func TestWhatEveryControllerAnswers(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil).Dial(t, nil)
	for name, x := range map[string]struct {
		cmd  ipmi.Command
		data []byte
		want []byte
	}{
		"self test":            {ipmi.Command{NetFn: rmcp.App, Code: 0x04}, nil, []byte{0x55, 0}},
		"chassis capabilities": {ipmi.Command{NetFn: rmcp.Chassis, Code: 0x00}, nil, []byte{1, 0x20, 0x20, 0x20, 0x20}},
		"PEF capabilities":     {ipmi.Command{NetFn: rmcp.SensorEvt, Code: 0x10}, nil, []byte{0x51, 1, 6}},
		"channel access":       {ipmi.GetChannelAccess, []byte{0x0e, 0x80}, []byte{2, 4}},
		"channel":              {ipmi.GetChannelInfo, []byte{0x0e}, []byte{1, 4, 1, 0x81, 0xf2, 0x1b, 0, 0, 0}},
		"revision alone":       {ipmi.GetLANConfig, []byte{0x81, 3, 0, 0}, []byte{0x11}},
		"authentication types": {ipmi.GetLANConfig, []byte{1, 1, 0, 0}, []byte{0x11, 4}},
		"no second session":    {ipmi.GetSessionInfo, []byte{2}, []byte{0, 4, 1}},
	} {
		var got blob
		require.NoError(t, c.Do(t.Context(), x.cmd, x.data, &got), name)
		require.Equal(t, x.want, []byte(got), name)
	}
}

// blob takes a reply as it is.
type blob []byte

func (b *blob) Decode(r *cursor.Reader) error {
	*b = bytes.Clone(r.Rest())
	return nil
}

func TestFourSessions(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	for range bmc.Slots {
		_, err := stand.Dial(t, nil).DeviceID(t.Context())
		require.NoError(t, err)
	}
	fifth := stand.Dial(t, nil)
	_, err := fifth.DeviceID(t.Context())
	require.ErrorIs(t, err, ipmi.ErrNoSession)
	require.Equal(t, bmc.Slots, stand.Sessions())
	// A minute later a stray packet finds nobody any more.
	stand.Handle(rmcp.AppendPing(nil, 1), time.Now())
	l := rmcp.Legacy{}
	m := rmcp.Message{To: rmcp.Controller, From: rmcp.Console, NetFn: rmcp.App, Command: ipmi.GetAuthCaps.Code, Data: []byte{0x0e, 4}}
	reply, _ := stand.Handle(l.Seal(nil, m.Append(nil)), time.Now().Add(61*time.Second))
	require.NotNil(t, reply)
	require.Zero(t, stand.Sessions())
	_, err = fifth.DeviceID(t.Context())
	require.NoError(t, err)
}

// TestWatchdogActs: nobody resets it, so it resets the host, once.
func TestWatchdogActs(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	now := time.Now()
	stand.ArmWatchdog(ipmi.WatchdogCycle, time.Minute, now)
	stand.Tick(now.Add(50 * time.Second))
	require.Zero(t, stand.Box.Commands())
	stand.Tick(now.Add(61 * time.Second))
	stand.Tick(now.Add(200 * time.Second))
	require.Equal(t, []ipmi.ChassisControl{ipmi.PowerCycle}, stand.Box.Done)
	log, err := stand.Dial(t, nil).EventLog(t.Context(), nil)
	require.NoError(t, err)
	require.Equal(t, "power cycled the host, set for the operating system", log.Events[len(log.Events)-1].Words(nil))
}

// TestTheLogFills: a full log keeps the oldest entries, and says so.
func TestTheLogFills(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	now := time.Now()
	for n := range 300 {
		stand.Box.Set(func(s *bmc.State) { s.Open = n%2 == 0; s.Feeds[0] = n%2 == 0 })
		stand.Tick(now.Add(time.Duration(n) * time.Second))
	}
	c := stand.Dial(t, nil)
	log, err := c.EventLog(t.Context(), nil)
	require.NoError(t, err)
	require.True(t, log.Info.Overflow)
	require.Zero(t, log.Info.Room)
	require.Len(t, log.Events, 512)
	require.Equal(t, "log cleared", log.Events[0].Words(nil))
	same, err := c.EventLog(t.Context(), log)
	require.NoError(t, err)
	require.Same(t, log, same)
}

// TestWithoutPower: what a controller forgets when standby power is lost.
func TestWithoutPower(t *testing.T) {
	t.Parallel()
	stand := bmctest.Start(t, nil, nil)
	c := stand.Dial(t, nil)
	require.NoError(t, c.SetRestore(t.Context(), ipmi.StayOff))
	stand.ArmWatchdog(ipmi.WatchdogReset, time.Hour, time.Now())
	stand.PowerLost()
	require.Zero(t, stand.Sessions())
	w, err := c.Watchdog(t.Context())
	require.NoError(t, err, "a new session")
	require.False(t, w.Running)
	s, err := c.ChassisStatus(t.Context())
	require.NoError(t, err)
	require.Equal(t, ipmi.StayOff, s.Restore, "settings are kept")
}

// FuzzController: whatever comes, it answers or it does not; it does not break.
func FuzzController(f *testing.F) {
	stand := bmctest.Start(f, nil, nil)
	l := rmcp.Legacy{}
	for _, cmd := range []ipmi.Command{ipmi.GetAuthCaps, ipmi.GetCipherSuites, ipmi.GetChallenge, ipmi.GetDeviceID} {
		m := rmcp.Message{To: rmcp.Controller, From: rmcp.Console, NetFn: cmd.NetFn, Command: cmd.Code, Data: []byte{0x0e, 0, 0x80}}
		f.Add(l.Seal(nil, m.Append(nil)))
	}
	f.Add(rmcp.NewHandshake(rmcp.Suite17, rmcp.Credentials{User: "plumb"}, 4, 7, [16]byte{}).Next(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		stand.Handle(b, time.Now())
		require.Zero(t, stand.Box.Commands(), "nobody without a session presses a button")
	})
}
