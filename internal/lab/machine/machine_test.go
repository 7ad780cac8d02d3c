package machine

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var t0 = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func press(m *Machine, keys string) (text string) {
	for _, b := range []byte(keys) {
		text += m.Key(b, t0)
	}
	return text
}

// TestAStart without anybody goes through to the system.
func TestAStart(t *testing.T) {
	m := New("kiosk")
	require.Empty(t, m.Crash(), "what is off does not crash")
	text := m.Begin("")
	for part := 0.0; part < 1; part += 0.01 {
		text += m.Tick(t0, part)
		require.False(t, m.Held())
	}
	for _, want := range []string{"Firmware of kiosk", "F12 the boot menu", "Disk 1: a loader", "Kernel of kiosk", "services: started"} {
		require.Contains(t, text, want)
	}
	m.Up()
	require.True(t, m.Running())
	require.Contains(t, m.Crash(), "Kernel panic - not syncing")
	require.Empty(t, m.Crash(), "it says so once")
}

// TestSetUp changes what the next start does.
func TestSetUp(t *testing.T) {
	m := New("kiosk")
	m.Begin("")
	m.Tick(t0, 0.1)
	require.Contains(t, press(m, "\x1b[3~"), "Set-up is entered")
	require.Contains(t, m.Tick(t0, 0.4), "Order of starting")
	require.True(t, m.Held())
	require.Empty(t, m.Tick(t0, 0.9), "it waits")
	require.Contains(t, press(m, "\x1b[B+"), "Not saved yet")
	require.Contains(t, press(m, "\x1b[21~"), "Saved")
	require.True(t, m.Anew())
	require.False(t, m.Anew(), "once")
	require.Equal(t, []string{Network, Disk, Disc}, m.Order)
	m.Begin("")
	require.Contains(t, m.Tick(t0, 0.4), "no server answers.\nDisk 1")

	m.Begin(Setup)
	m.Tick(t0, 0.4)
	require.True(t, m.Held(), "as it was set from outside")
	press(m, "\x1b")
	require.Contains(t, m.Tick(t0.Add(time.Second), 0.4), "Left as it was")
}

// TestTheBootMenu, and a loader that is stopped.
func TestTheBootMenu(t *testing.T) {
	m := New("kiosk")
	m.Begin("")
	m.Tick(t0, 0.1)
	press(m, "\x1b[24~")
	require.Contains(t, m.Tick(t0, 0.4), "Start once from")
	require.Contains(t, press(m, "\x1b[A\x1b[A\r"), "Disc drive: empty.\nDisk 1", "once from the disc")
	require.Equal(t, []string{Disk, Network, Disc}, m.Order)
	require.Contains(t, press(m, " "), "loader> ")
	require.True(t, m.Held())
	require.Contains(t, press(m, "bt\b\boops\r"), "oops: not known here")
	press(m, "boot\r")
	require.False(t, m.Held())
	require.Contains(t, m.Tick(t0, 0.6), "Kernel of kiosk")

	m.Order = []string{Disc}
	m.Begin("")
	require.True(t, strings.HasSuffix(m.Tick(t0, 0.4), "No system was found. Press a key to start anew.\n"))
	press(m, "x")
	require.True(t, m.Anew())
}
