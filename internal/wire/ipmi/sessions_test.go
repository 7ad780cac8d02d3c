package ipmi_test

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/lab/bmc/bmctest"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// taken expects so many sessions to have been opened, all closed by us but those
// that are open now, and none left to time out.
func taken(t *testing.T, c *bmctest.Controller, opened, open int) {
	t.Helper()
	o, closed, timedOut, n := c.Counts()
	require.Equal(t, []int{opened, opened - open, 0, open}, []int{o, closed, timedOut, n}, "opened, closed, left to time out, open")
}

// TestOneSessionWhoeverGivesUp: callers that run out of time, at any point of a
// handshake or a request, on a way that is slow or loses packets, leave one session
// to the others, and none behind.
func TestOneSessionWhoeverGivesUp(t *testing.T) {
	t.Parallel()
	for name, fate := range map[string]bmc.Fate{
		"slow":  func() (int, time.Duration) { return 1, 60 * time.Millisecond },
		"lossy": bmctest.Bad(0.2, 11),
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := bmctest.Start(t, nil, fate)
			client := c.Dial(t, nil)
			var wg sync.WaitGroup
			for i := range 40 {
				wg.Go(func() {
					ctx, cancel := context.WithTimeout(t.Context(), time.Duration(5+17*i)*time.Millisecond)
					defer cancel()
					_, _ = client.ChassisStatus(ctx)
				})
			}
			wg.Wait()
			for range 20 {
				_, err := client.ChassisStatus(short(t, time.Minute))
				require.NoError(t, err)
			}
			taken(t, c, 1, 1)
			require.NoError(t, client.Close())
			taken(t, c, 1, 0)
		})
	}
}

// TestASlowControllerIsGivenTime: its answers to any repeat count, and it is told
// repeats as such.
func TestASlowControllerIsGivenTime(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, func() (int, time.Duration) { return 1, 700 * time.Millisecond })
	client := c.Dial(t, nil)
	_, err := client.ChassisStatus(short(t, time.Minute))
	require.NoError(t, err)
	require.InDelta(t, 1.4, client.RoundTrip().Seconds(), 0.4)
	taken(t, c, 1, 1)
	require.NoError(t, client.Close())
	taken(t, c, 1, 0)
}

// TestNothingIsLeftAtStop, while a session is being opened.
func TestNothingIsLeftAtStop(t *testing.T) {
	t.Parallel()
	for after := 10 * time.Millisecond; after < 500*time.Millisecond; after += 40 * time.Millisecond {
		c := bmctest.Start(t, nil, func() (int, time.Duration) { return 1, 20 * time.Millisecond })
		client := c.Dial(t, nil)
		ctx, cancel := context.WithTimeout(t.Context(), after)
		_, _ = client.DeviceID(ctx)
		cancel()
		require.NoError(t, client.Close())
		require.Eventually(t, func() bool { return c.Sessions() == 0 }, 5*time.Second, 10*time.Millisecond, "given up after %s", after)
	}
}

// TestALostSessionIsFoundOut: dropped by the controller, it is opened again; while the
// controller is only away, it is kept.
func TestALostSessionIsFoundOut(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	client := c.Dial(t, func(o *ipmi.Options) { o.Tries = 2 })
	_, err := client.DeviceID(t.Context())
	require.NoError(t, err)
	c.Set(func(f *bmc.Faults) { f.Mute = true })
	_, err = client.DeviceID(short(t, 20*time.Second))
	var silent *ipmi.SilentError
	require.ErrorAs(t, err, &silent)
	c.Set(func(f *bmc.Faults) { f.Mute = false })
	_, err = client.DeviceID(short(t, 20*time.Second))
	require.NoError(t, err)
	taken(t, c, 1, 1)
	c.Set(func(f *bmc.Faults) { f.Forgetful = true })
	_, err = client.DeviceID(short(t, 20*time.Second))
	require.NoError(t, err)
	opened, _, _, open := c.Counts()
	require.Equal(t, []int{2, 1}, []int{opened, open})
}

// TestManyLostInARow: behind more lost packets than the controller's window is wide
// (section 6.12.13), the session is dead. It is opened again, and the dead one closed.
func TestManyLostInARow(t *testing.T) {
	t.Parallel()
	c := bmctest.Start(t, nil, nil)
	client := c.Dial(t, func(o *ipmi.Options) { o.Tries = 2 })
	_, err := client.DeviceID(t.Context())
	require.NoError(t, err)
	c.Set(func(f *bmc.Faults) { f.Mute = true })
	for range 10 {
		_, err = client.DeviceID(short(t, 700*time.Millisecond))
		require.Error(t, err)
	}
	c.Set(func(f *bmc.Faults) { f.Mute = false })
	_, err = client.DeviceID(short(t, 20*time.Second))
	require.NoError(t, err)
	opened, _, _, open := c.Counts()
	require.Equal(t, []int{2, 1}, []int{opened, open})
}

// TestControllerKeys: each way in which the two keys do not fit has its own words, is
// not tried again at once, and takes nobody's slot.
func TestControllerKeys(t *testing.T) {
	t.Parallel()
	for _, x := range []struct {
		name       string
		has, given string
		hidden     bool
		want       error
		left       int // sessions that cannot be closed by who has not got the key
	}{
		{"right", "a key of 20 bytes...", "a key of 20 bytes...", false, nil, 1},
		{"missing", "a key of 20 bytes...", "", false, ipmi.ErrKeyNeeded, 0},
		{"superfluous", "", "a key of 20 bytes...", false, ipmi.ErrKeyNone, 0},
		{"wrong", "a key of 20 bytes...", "another key", false, ipmi.ErrKeyWrong, 1},
		{"missing, and it does not say that it has one", "a key of 20 bytes...", "", true, ipmi.ErrForged, 1},
	} {
		c := bmctest.Start(t, func(m *bmc.Model) { m.Key = x.has }, nil)
		c.Set(func(f *bmc.Faults) { f.HideKey = x.hidden })
		client := c.Dial(t, func(o *ipmi.Options) { o.ControllerKey = ipmi.Secret(x.given) })
		for range 20 {
			_, err := client.DeviceID(short(t, 10*time.Second))
			require.ErrorIs(t, err, x.want, x.name)
		}
		require.Equal(t, x.left, c.Settled(t).Sessions(), "%s: tried once, and not again for minutes", x.name)
	}
}

// TestARefusedLogInWaits, however often it is asked for.
func TestARefusedLogInWaits(t *testing.T) {
	t.Parallel()
	var packets atomic.Int32
	c := bmctest.Start(t, nil, func() (int, time.Duration) { packets.Add(1); return 1, 0 })
	client := c.Dial(t, func(o *ipmi.Options) { o.Password = "wrong" })
	_, err := client.DeviceID(t.Context())
	require.ErrorIs(t, err, ipmi.ErrPassword)
	c.Settled(t)
	before := packets.Load()
	for range 50 {
		_, err = client.DeviceID(t.Context())
		require.ErrorIs(t, err, ipmi.ErrPassword)
	}
	c.Settled(t)
	require.Equal(t, before+2, packets.Load(), "nothing more is sent but that last ping, and its answer")
}

// TestALostLastAnswer: the controller has the session open and refuses the repeat.
// Who can answer in it knows the password.
func TestALostLastAnswer(t *testing.T) {
	t.Parallel()
	n := atomic.Int32{}
	c := bmctest.Start(t, nil, func() (int, time.Duration) {
		// There and back alternate; the sixth answer is that to RAKP 3 (suites: two).
		if n.Add(1) == 12 {
			return 0, 0
		}
		return 1, 0
	})
	c.Set(func(f *bmc.Faults) { f.Once = true })
	client := c.Dial(t, nil)
	_, err := client.DeviceID(short(t, 20*time.Second))
	require.NoError(t, err)
	opened, _, _, open := c.Counts()
	require.Equal(t, 1, open)
	require.LessOrEqual(t, opened, 2)
}

// TestHalfAListOfSuitesIsNone: a reply that is lost does not lower what is chosen.
func TestHalfAListOfSuitesIsNone(t *testing.T) {
	t.Parallel()
	many := []rmcp.Suite{rmcp.Suite3, rmcp.Suite1, rmcp.Suite2, rmcp.Suite15, rmcp.Suite16, rmcp.Suite17}
	n := atomic.Int32{}
	c := bmctest.Start(t, func(m *bmc.Model) { m.Suites = many }, func() (int, time.Duration) {
		if i := n.Add(1); i >= 5 && i <= 12 { // the second part of the list, each time it is asked for
			return 0, 0
		}
		return 1, 0
	})
	client := c.Dial(t, nil)
	for {
		_, err := client.DeviceID(short(t, 30*time.Second))
		if err == nil {
			break
		}
		var failed *ipmi.OpenError
		require.ErrorAs(t, err, &failed)
	}
	info, _ := client.Session()
	require.Equal(t, rmcp.Suite17, info.Suite)
}
