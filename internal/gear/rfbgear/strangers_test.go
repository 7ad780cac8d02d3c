//go:build strangers

package rfbgear

import (
	"net"
	"os/exec"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/screen"
)

// TestAMachineOfSomebodyElse: an emulated one, with real firmware in its own font: its text is
// read, its boot menu opened by a key, and it is reset while somebody looks, through changes of
// its picture's size.
func TestAMachineOfSomebodyElse(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := ln.Addr().(*net.TCPAddr).Port
	require.NoError(t, ln.Close())
	q := exec.CommandContext(t.Context(), "qemu-system-x86_64", "-accel", "tcg", "-m", "64", "-nodefaults", "-vga", "std",
		"-vnc", "127.0.0.1:"+strconv.Itoa(port-5900), "-net", "none", "-boot", "menu=on,splash-time=6000")
	require.NoError(t, q.Start())
	t.Cleanup(func() { _ = q.Process.Kill(); _, _ = q.Process.Wait() })
	address := ln.Addr().String()
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		return err == nil && c.Close() == nil
	}, time.Minute, 20*time.Millisecond)
	d, err := Open(Options{Name: "machine", Addresses: []string{address}, Timeout: 20 * time.Second})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	a, err := d.Attach(t.Context())
	require.NoError(t, err)
	require.NoError(t, a.Look(true))
	last, sizes := "", map[int]bool{}
	shows := func(want string) bool {
		p := a.Canvas().Picture()
		sizes[p.H] = true
		text, is := screen.Read(p)
		if is {
			last = strings.Join(text.Rows, "\n")
		}
		return is && strings.Contains(last, want)
	}
	sees := func(want string) {
		t.Helper()
		require.Eventually(t, func() bool { return shows(want) }, time.Minute, 50*time.Millisecond, "%s in:\n%s", want, &last)
	}
	pressKey := func(name string) {
		c, err := keyboard.Parse(name)
		require.NoError(t, err)
		press(t, a, c)
	}
	sees("Press ESC for boot menu")
	require.True(t, a.Takes().ByPosition)
	pressKey("escape")
	sees("Select boot device:")
	t.Logf("its screen:\n%s", last)
	pressKey("ctrl-alt-delete")
	sees("Press ESC for boot menu")
	sees("No bootable device.")
	t.Logf("its screen:\n%s\nsizes: %v", last, sizes)
}
