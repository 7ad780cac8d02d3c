package lab_test

import (
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/wire/ipmi"
)

// TestAStartIsHeldInSetUp, as its controller was told, seen and used over its serial line;
// and a kernel that stops says so there.
func TestAStartIsHeldInSetUp(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	const host = "skarvoe-recorder"
	c := console(t, l, host)
	ep, _ := l.Estate.Device(host).Controller()
	line, err := ipmi.OpenSerial(t.Context(), ipmi.Options{Address: ep.Addresses[0], User: lab.ControllerSecret.User, Password: ipmi.Secret(lab.ControllerSecret.Password), Tries: 2})
	require.NoError(t, err)
	var mu sync.Mutex
	var heard strings.Builder
	var reading sync.WaitGroup
	reading.Go(func() {
		var b [256]byte
		for {
			n, err := line.Read(b[:])
			if err != nil {
				return
			}
			mu.Lock()
			heard.Write(b[:n])
			mu.Unlock()
		}
	})
	defer reading.Wait()
	defer func() { require.NoError(t, line.Close()) }()
	says := func(what string) {
		t.Helper()
		require.Eventually(t, func() bool {
			mu.Lock()
			defer mu.Unlock()
			if !strings.Contains(heard.String(), what) {
				return false
			}
			heard.Reset()
			return true
		}, 30*time.Second, 20*time.Millisecond, what)
	}
	types := func(keys string) {
		t.Helper()
		_, err := line.Write([]byte(keys))
		require.NoError(t, err)
	}

	require.NoError(t, c.SetBoot(t.Context(), ipmi.BootFlags{Device: ipmi.BootSetup}))
	time.Sleep(200 * time.Millisecond) // some looks at a box that runs already: none of them is a start
	kept, err := c.Boot(t.Context())
	require.NoError(t, err)
	require.True(t, kept.Valid)
	require.NoError(t, c.Control(t.Context(), ipmi.HardReset))
	says("Order of starting")
	boot, err := c.Boot(t.Context())
	require.NoError(t, err)
	require.False(t, boot.Valid, "it was for one start")
	time.Sleep(1500 * time.Millisecond) // a start takes 1.1 s here
	require.False(t, state(l, host).Up, "it waits for somebody")
	types("\x1b[B+")
	says("Not saved yet")
	types("\x1b[21~")
	says("no server answers")
	require.Eventually(t, func() bool { return state(l, host).Up }, 30*time.Second, 20*time.Millisecond)
	says(host + " login: ")

	require.NoError(t, l.Crash(host))
	says("Kernel panic - not syncing")
	require.NoError(t, c.Control(t.Context(), ipmi.HardReset))
	says("Firmware of " + host)
}
