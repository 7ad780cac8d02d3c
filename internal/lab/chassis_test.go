package lab_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/wire/ipmi"
)

// console dials the controller of a device.
func console(t *testing.T, l *labtest.Lab, k estate.Key) *ipmi.Client {
	ep, ok := l.Estate.Device(k).Controller()
	require.True(t, ok)
	c, err := ipmi.Dial(ipmi.Options{Address: ep.Addresses[0], User: lab.ControllerSecret.User, Password: ipmi.Secret(lab.ControllerSecret.Password), Tries: 2})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, c.Close()) })
	return c
}

// TestStandbyPower: a controller goes on while its host is off, and is gone
// only when both feeds are.
func TestStandbyPower(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	const host = estate.Key("ostrel-virt-1")
	c := console(t, l, host)
	soon := func(want func() bool, what string) {
		t.Helper()
		require.Eventually(t, want, 30*time.Second, 20*time.Millisecond, what)
	}
	answers := func() bool { _, err := c.ChassisStatus(t.Context()); return err == nil }
	on := func() bool { s, err := c.ChassisStatus(t.Context()); return err == nil && s.PowerOn }

	require.NoError(t, c.Control(t.Context(), ipmi.PowerDown))
	soon(func() bool { return !on() }, "off")
	require.InDelta(t, 3.75, state(l, host).W, 0.5, "half of what its controller takes, through each of two feeds")
	require.False(t, state(l, host).Up)
	require.NoError(t, c.Control(t.Context(), ipmi.PowerUp))
	soon(func() bool { return state(l, host).Up }, "it has started")

	a, b := estate.OutletEnd("ostrel-pdu-a", 4), estate.OutletEnd("ostrel-pdu-b", 4)
	require.NoError(t, l.Flip(a, false))
	time.Sleep(300 * time.Millisecond)
	require.True(t, answers() && state(l, host).Up, "one feed is enough")
	require.InDelta(t, 228, state(l, host).W, 40, "and carries it all")
	require.NoError(t, l.Flip(b, false))
	soon(func() bool { return !state(l, host).Powered }, "both are gone")
	require.False(t, answers())
	require.NoError(t, l.Flip(b, true))
	soon(on, "it comes on by itself, as it is set to")
	require.NoError(t, c.SetRestore(t.Context(), ipmi.StayOff))
	require.NoError(t, l.Flip(b, false))
	soon(func() bool { return !state(l, host).Powered }, "off again")
	require.NoError(t, l.Flip(b, true))
	soon(answers, "its controller is back")
	require.False(t, on(), "and the host stays off")
}

// TestShutDownTakesTime: an operating system listens, unless it hangs.
func TestShutDownTakesTime(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	const host = estate.Key("ostrel-booking")
	c := console(t, l, host)
	on := func() bool { s, err := c.ChassisStatus(t.Context()); require.NoError(t, err); return s.PowerOn }
	require.NoError(t, c.Control(t.Context(), ipmi.SoftOff))
	require.True(t, on(), "it takes its time")
	require.Eventually(t, func() bool { return !on() }, 30*time.Second, 20*time.Millisecond)
	require.NoError(t, l.Heal(host))
	require.Eventually(t, func() bool { return state(l, host).Up }, 30*time.Second, 20*time.Millisecond)
	require.NoError(t, l.Hang(host))
	require.NoError(t, c.Control(t.Context(), ipmi.SoftOff))
	time.Sleep(600 * time.Millisecond)
	require.True(t, on(), "what hangs does not listen")
	require.NoError(t, c.Control(t.Context(), ipmi.HardReset))
	require.Eventually(t, func() bool { return state(l, host).Up }, 30*time.Second, 20*time.Millisecond, "a reset wakes it")
}

// TestFaultCommands: every one can be given by its words, and taken back.
func TestFaultCommands(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	for _, words := range [][]string{
		{"sleep", "ostrel-virt-1"}, {"crash", "ostrel-virt-2"}, {"stick", "ostrel-booking"}, {"lid", "ostrel-store"}, {"full", "ostrel-store"}, {"garbage", "ostrel-store"}, {"update", "ostrel-store"},
		{"obedient", "ostrel-store"}, {"forget", "ostrel-store"}, {"slow", "ostrel-store", "2s"}, {"drift", "ostrel-store", "10m"}, {"watchdog", "ostrel-store", "1h"},
		{"heat", "ostrel-store", "20"}, {"fan", "ostrel-store", "2"}, {"supply", "ostrel-store", "1"}, {"off", "ostrel-virt-1"}, {"delay", "ostrel-core", "5ms"}, {"door", "ostrel-room"}, {"heat", "ostrel-room", "9"}, {"age", "ostrel-ups", "40"}, {"drain", "ostrel-ups", "80"}, {"sleep", "tamsin-workshop"}, {"say", "ostrel-core", "hello"}, {"baud", "ostrel-core", "9600"},
	} {
		require.NoError(t, l.Do(words), words)
	}
	require.False(t, state(l, "ostrel-virt-1").Up || state(l, "ostrel-virt-2").Up)
	for want, words := range map[string][]string{
		"has no management controller": {"lid", "skarvoe-router"}, "nothing is wired": {"say", "skarvoe-gate", "hello"}, "is no UPS": {"age", "skarvoe-router", "50"}, "no site": {"blackout", "nowhere"}, "watches no door": {"door", "skarvoe-router"}, "has no fan 9: it has 6": {"fan", "ostrel-store", "9"}, "has no power supply 3": {"supply", "ostrel-store", "3"},
		"is no number of bits per second": {"baud", "ostrel-core", "fast"}, "is not a whole number": {"heat", "ostrel-store", "much"}, "is not a time": {"slow", "ostrel-store", "much"}, "has no device": {"lid", "nobody"}, "write: plumb-lab fault fan": {"fan", "x"},
	} {
		require.ErrorContains(t, l.Do(words), want)
	}
	require.NoError(t, l.Do([]string{"heal", "all"}))
	require.Eventually(t, func() bool {
		for _, s := range l.State() {
			if !s.Up && s.Device != "ostrel-ops" {
				return false
			}
		}
		return true
	}, 30*time.Second, 50*time.Millisecond)
	_, err := console(t, l, "ostrel-store").DeviceID(t.Context())
	require.NoError(t, err)
}
