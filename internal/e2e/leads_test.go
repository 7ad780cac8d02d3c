package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/browser"
)

// TestSwappedLeads: whose name a serial line says gives it away, in the terminal and on
// the page; and a press shows whom a lead to a front moves.
func TestSwappedLeads(t *testing.T) {
	w := begin(t)
	require.Contains(t, w.says(0, "", "show", "ostrel-firewall"), "wired, not proved")
	checks := func(device, text string) {
		t.Helper()
		w.eventually(func() bool {
			return strings.Contains(w.flat(0, "", "wiring", "check", device, "--leads", "--ask"), text)
		}, text)
	}
	checks("ostrel-firewall", `right the line says its name: "ostrel-firewall login:"`)
	require.NotContains(t, w.says(0, "", "show", "ostrel-firewall"), "wired, not proved")
	require.NoError(t, w.lab.Cross("ostrel-firewall", "ostrel-core"))
	checks("ostrel-firewall", `wrong at the line is ostrel-core: "ostrel-core login:" → two leads are swapped`)
	require.Contains(t, w.flat(0, "", "show", "ostrel-firewall"), "at the line is ostrel-core")
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices")
	require.NoError(t, b.Do(browser.Visit(w.url+"/devices/ostrel-core")))
	w.sees(b, "Check the leads")
	require.NoError(t, b.Do(browser.Click("Check the leads")))
	w.sees(b, "is not where the estate says: at the line is ostrel-firewall")
	require.NoError(t, w.lab.Heal(""))
	checks("ostrel-core", "right the line says its name")

	require.Contains(t, w.flat(0, "", "wiring", "check", "skarvoe-kiosk", "--leads"), "button skarvoe-kvm/1 unknown no button was pressed")
	require.Contains(t, w.flat(2, "", "wiring", "check", "skarvoe-kiosk", "--press"), "add --why TEXT")
	require.Contains(t, w.flat(0, "", "wiring", "check", "skarvoe-kiosk", "--press", "--yes", "--why", "which lead"), "button skarvoe-kvm/1", "whatever came of it: here it starts faster than anybody looks")
	w.says(0, "", "press", "skarvoe-kiosk", "--yes", "--why", "which lead", "--follow") // its light goes dark
	require.Contains(t, w.flat(0, "", "wiring", "check", "skarvoe-kiosk", "--leads"), "button skarvoe-kvm/1 right a press moved this device")
	require.Contains(t, w.flat(2, "", "wiring", "check", "skarvoe-gate", "--leads"), "has neither panel leads, nor a serial line, nor a video cable")
}
