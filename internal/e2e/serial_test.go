package e2e

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/browser"
	"plumbbob/internal/client"
	"plumbbob/internal/lab"
)

// TestAtTheSerialLine: somebody types in the browser, somebody else watches from a terminal
// and may not type, and both see the device start anew without losing their seats.
func TestAtTheSerialLine(t *testing.T) {
	w := begin(t)
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices, 6 sites")
	b.Complaints()
	require.NoError(t, b.Do(chromedp.Navigate(w.url+"/devices/ostrel-firewall")))
	w.sees(b, "Sit down at it")
	require.NoError(t, b.Do(browser.Click("Sit down at it")))
	w.sees(b, "up by line, at ")
	w.sees(b, "9600 8N1, carrier, ready, clear to send")
	w.sees(b, "you · keyboard")
	keys := func(text string) chromedp.Action {
		return chromedp.SendKeys(`.xterm-helper-textarea`, text, chromedp.ByQuery)
	}
	require.NoError(t, b.Do(keys(kb.Enter)))
	w.sees(b, "ostrel-firewall login:")
	require.NoError(t, b.Do(keys("plumb"+kb.Enter)))
	w.sees(b, "Password:")

	said := w.says(0, "now\n", "serial", "ostrel-firewall")
	require.Contains(t, said, "Password:", "what was said before")
	require.Contains(t, said, "admin has the keyboard: ask for it")
	require.NotContains(t, said, "now")
	require.Contains(t, w.says(0, "hello\n", "serial", "skarvoe-router"), "hello: not known here", "and at a command line of its own, over SSH")
	for range 5 { // who leaves is gone at once, and is not thought to come back
		require.NotContains(t, w.says(0, "", "show", "skarvoe-router"), "is on its serial line")
		w.says(0, "", "serial", "skarvoe-router")
	}
	require.Contains(t, w.says(0, "\n", "serial", "ostrel-virt-1"), "ostrel-virt-1 login:", "and through a controller")
	require.NoError(t, w.lab.Baud("ostrel-core", 115200))
	require.NotContains(t, w.says(0, "\n", "serial", "ostrel-core"), "ostrel-core login:", "at the wrong speed nothing can be read")
	w.eventually(func() bool { return strings.Contains(w.says(0, "\n", "serial", "ostrel-core"), "framing errors") }, "which the console server tells")
	said = w.says(0, "\n", "serial", "ostrel-core", "--port", "115200 8N1")
	require.Contains(t, said, "admin has set the port to 115200 8N1")
	require.Contains(t, w.says(0, "\n", "serial", "ostrel-core"), "ostrel-core login:")
	require.Contains(t, w.says(0, "", "serial", "ostrel-core", "--port", "fast"), "write 9600 8N1, for instance")
	require.Contains(t, w.says(0, "", "serial", "ostrel-virt-1", "--port", "9600"), "does not let its serial port be set")
	run := func(status int, sequence string) string {
		t.Helper()
		file := filepath.Join(w.dir, "log-in")
		require.NoError(t, os.WriteFile(file, []byte(sequence), 0o600))
		return w.says(status, "", "serial", "ostrel-core", "--run", file)
	}
	said = run(0, "key enter\nwait login:\ntype plumb\nwait Password: 20s\ntype "+lab.ShellSecret.Password+"\nwait >\ntype make coffee\nwait not known\ntype exit\nwait login:")
	require.Contains(t, said, "admin sends the sequence log-in")
	require.Contains(t, said, "make coffee: not known here")
	require.Contains(t, run(1, "key enter\nwait never 1s"), `line 2: nothing like "never" came within 1s`)
	require.Contains(t, run(2, "shout x"), `--run: line 1: "shout" is not known`)
	file := filepath.Join(w.dir, "half-typed")
	require.NoError(t, os.WriteFile(file, []byte("nobody"+strings.Repeat("x", 100)), 0o600))
	require.Contains(t, w.says(0, "", "serial", "ostrel-core", "--send", file), "nobody"+strings.Repeat("x", 100))
	require.Contains(t, w.says(2, "", "serial", "ostrel-mgmt"), "no serial line, and no command line, of ostrel-mgmt is in the estate")
	require.Contains(t, w.says(2, "", "serial", "nowhere"), `there is no device "nowhere"`)
	require.Contains(t, w.says(2, "", "serial", "ostrel-firewall", "--escape", "ctrl-m"), "a key that every line needs")

	require.NoError(t, w.lab.Restart("ostrel-firewall"))
	w.sees(b, "Firmware of ostrel-firewall, 2.37")
	w.sees(b, "ostrel-firewall is up.")
	require.NoError(t, b.Do(chromedp.Reload()))
	w.sees(b, "you · keyboard") // the window was loaded again, and is the same one
	require.NoError(t, b.Do(browser.Click("Journal")))
	w.sees(b, "Sat down at the serial line of ostrel-firewall")
	w.eventually(func() bool {
		return strings.Contains(w.says(0, "", "journal"), "Left the serial line of ostrel-firewall")
	}, "leaving is on record")
	require.Empty(t, b.Complaints(), "neither errors nor what the content policy forbids")
}

// TestASeatSurvivesTheService: one that is killed, and one that is stopped, in the middle.
func TestASeatSurvivesTheService(t *testing.T) {
	w, p := apart(t)
	keys, typing := io.Pipe()
	out, done := &output{}, make(chan int, 1)
	go func() {
		done <- client.Main([]string{"serial", "ostrel-firewall", "--config", filepath.Join(w.dir, w.login)}, keys, out, out)
	}()
	says := func(text string, times int) {
		t.Helper()
		w.eventually(func() bool { return strings.Count(out.String(), text) >= times }, text)
	}
	says("admin has the keyboard", 1)
	for i, end := range []func(*testing.T){p.kill, p.stop} {
		before := strings.Count(out.String(), "ostrel-firewall login:")
		w.eventually(func() bool {
			_, err := io.WriteString(typing, "\n") // the line may not be up yet
			return err == nil && strings.Count(out.String(), "ostrel-firewall login:") > before
		}, "what is typed arrives")
		end(t)
		says("the connection is lost; coming back", i+1)
		p.start(t, p.program)
		says("[plumb: back]", i+1)
	}
	require.NoError(t, typing.Close())
	require.Zero(t, <-done, out.String())
}

// TestWhatALineSaid while nobody sat there: before a device died, in set-up, and afterwards;
// read as text, as a screen, as a recording and as events.
func TestWhatALineSaid(t *testing.T) {
	w := begin(t)
	const core = "ostrel-core"
	past := func(more ...string) string {
		return w.flat(0, "", append([]string{"serial", core, "--past", "1h"}, more...)...)
	}
	require.NoError(t, w.lab.Crash(core))
	w.eventually(func() bool { return w.verdict(core) == "hung" }, "it is found out")
	w.eventually(func() bool { return strings.Contains(w.flat(0, "", "show", core), "its serial line: kernel panic") }, "and why")
	require.Contains(t, past("--find", "NOT SYNCING"), "Kernel panic - not syncing: Fatal exception in interrupt")
	require.NotContains(t, past("--find", "not syncing"), "Call Trace")
	events := w.flat(0, "", "events", "--site", "ostrel-quay", "--level", "critical")
	require.Contains(t, events, "kernel panic")
	require.Contains(t, w.flat(0, "", "events", "skarvoe-router"), "Nothing like that was logged")

	// A host that is told to go into set-up waits there, and is used there by keys.
	const host = "ostrel-virt-2"
	w.says(0, "", "controller", "boot", host, "--next", "setup", "--yes")
	w.says(0, "", "reset", host, "--means", "chassis", "--yes")
	var screen string
	w.eventually(func() bool {
		w.says(0, "\x1b[B", "serial", host) // what it drew before somebody sat there is not known
		screen = w.says(0, "", "serial", host, "--screen")
		return strings.Contains(screen, "Order of starting\n\n    1  Disk 1\n    2  Network")
	}, "a menu that was drawn with the cursor reads right")
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices, 6 sites")
	require.NoError(t, b.Do(chromedp.Navigate(w.url+"/devices/"+host)))
	w.sees(b, "Order of starting")
	require.NoError(t, b.Do(browser.Click("Events")))
	w.sees(b, "kernel panic, on its serial line")
	w.says(0, "+\x1b[21~", "serial", host)
	w.eventually(func() bool {
		return strings.Contains(w.flat(0, "", "serial", host, "--find", "saved. starting"), "Saved. Starting anew.")
	}, "it was saved")

	file := filepath.Join(w.dir, "core.cast")
	require.Contains(t, w.says(0, "", "serial", core, "--export", file), "bytes written to")
	require.Contains(t, w.says(2, "", "serial", core, "--export", file), "is there already")
	require.Contains(t, w.says(0, "", "serial", core, "--play", "--speed", "1000"), "Kernel panic - not syncing")
	require.Contains(t, w.flat(0, "", "serial", "skarvoe-router", "--past", "1h"), "has said nothing like that")
	require.Contains(t, w.says(2, "", "serial", core, "--find", "x", "--play"), "--find is for lines of text")
	require.Contains(t, w.says(2, "", "events", "--site", "nowhere"), `there is no site "nowhere"`)
}
