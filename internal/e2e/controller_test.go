package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/browser"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/bmc"
)

// TestInsideAServer: somebody looks inside a box from afar, finds what is
// wrong, changes a setting, and presses its buttons.
func TestInsideAServer(t *testing.T) {
	w := begin(t)
	const store, virt = "ostrel-store", "ostrel-virt-2"
	w.eventually(func() bool { return len(reads[contract.Sensors](w, "sensors", store).Sensors) > 40 }, "its sensors are read")
	require.NoError(t, w.lab.FailFan(store, 2))
	w.eventually(func() bool { // a machine that is busy may strain it before, with readings that are late
		return w.verdict(store) == "strained" && strings.Contains(w.flat(0, "", "show", store), "Fan 2 is 0 rpm, below its critical limit of 900 rpm")
	}, "a fan that stands still is noticed")
	require.Regexp(t, `out of bounds\s+Fan 2\s+0 rpm\s+critical`, w.says(0, "", "sensors", store))
	w.eventually(func() bool {
		return len(reads[contract.EventLog](w, "events", store, "--log", "--since", "1h").Events) >= 2
	}, "and stands in the event log")

	file := filepath.Join(w.dir, "events.json")
	require.Contains(t, w.flat(2, "", "events", store, "--clear"), "--clear needs a file to save the log to first")
	w.says(0, "", "events", store, "--clear", "--save", file, "--why", "sent to the maker")
	saved, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(saved), "Fan 2")
	require.Contains(t, w.flat(2, "", "events", store, "--save", file), "is there already")
	w.eventually(func() bool { return len(reads[contract.EventLog](w, "events", store, "--log").Events) == 1 }, "it is cleared")

	sheet := w.says(0, "", "sheet", store)
	for _, want := range []string{"Gannet 4U Drive", "G4-224-", "firmware         2.42"} {
		require.Contains(t, sheet, want)
	}
	require.Contains(t, w.says(0, "", "sheet", "--all"), "2.31")

	require.Contains(t, w.flat(0, "", "show", virt), "it stays off when power comes back")
	require.Contains(t, w.flat(0, "", "cycle", virt, "--means", "outlet", "--preview"), "its chassis is switched on afterwards")
	changed := w.flat(0, "", "controller", "power", virt, "--restore", "comes on", "--yes")
	require.Contains(t, changed, "when power comes back: stays off → comes on Done, and read back.")
	w.eventually(func() bool { return reads[contract.Device](w, "show", virt).Chassis.Restore == "comes on" }, "it is seen")
	require.Contains(t, w.flat(2, "", "controller", "power", virt, "--restore", "perhaps", "--yes"), "restore policy")
	require.Contains(t, w.flat(2, "", "controller", "network", virt, "--vlan", "7"), "our own way in is cut")
	w.says(0, "", "controller", "boot", virt, "--next", "network", "--yes")
	require.Contains(t, w.says(0, "", "controller", "show", virt), "next start         network")
	w.says(0, "new-password-42\n", "controller", "users", "skarvoe-recorder", "--user", "3", "--password", "--yes")
	w.eventually(func() bool { return len(reads[contract.Device](w, "show", "skarvoe-recorder").Weaknesses) == 0 }, "no password that anybody would try")

	require.Contains(t, w.flat(0, "", "shutdown", virt, "--yes", "--follow"), "Shut ostrel-virt-2 down: off at")
	w.eventually(func() bool { return w.verdict(virt) == "parked" }, "it is meant to be off")
	require.Contains(t, w.flat(0, "", "cycle", virt, "--yes", "--follow"), "it was off already")
	require.Contains(t, w.flat(2, "", "reset", "skarvoe-gate", "--yes"), "has no management controller")
	require.Contains(t, w.flat(2, "", "sensors", "skarvoe-router"), "has no management controller")
}

// TestAHostileController: one that talks nonsense is said to, and no other is
// asked less for it.
func TestAHostileController(t *testing.T) {
	w := begin(t)
	require.NoError(t, w.lab.Upset("ostrel-virt-1", func(f *bmc.Faults) { f.Garbage = true }))
	require.NoError(t, w.lab.Upset("ostrel-virt-2", func(f *bmc.Faults) { f.Slow = 2 * time.Second }))
	require.NoError(t, w.lab.Silence("ostrel-store"))
	w.eventually(func() bool {
		return w.verdict("ostrel-virt-1") == "strained" && w.verdict("ostrel-store") == "strained"
	}, "a way in is lost")
	require.Contains(t, w.flat(0, "", "show", "ostrel-store"), "a way in is lost: its bmc does not answer")
	require.Contains(t, w.flat(4, "", "controller", "show", "ostrel-store"), "its controller does not answer")
	require.Contains(t, w.flat(0, "", "cycle", "ostrel-store", "--preview"), "Not by its chassis, which is gentler: bmc of ostrel-store does not answer")
	require.Contains(t, w.flat(4, "", "reset", "ostrel-store", "--yes", "--name", "ostrel-store"), "ostrel-store cannot be reached: its bmc does not answer")
	at := func(k string) time.Time { return *reads[contract.Device](w, "show", k).Chassis.At }
	before := at("ostrel-booking")
	w.eventually(func() bool { return at("ostrel-booking").Sub(before) > 8*time.Second }, "the others are asked as often as ever")
	require.Equal(t, "steady", w.verdict("ostrel-booking"))
}

// TestControllerInTheConsole goes through the same with clicks.
func TestControllerInTheConsole(t *testing.T) {
	w := begin(t)
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices, 6 sites")
	b.Complaints() // the browser remarks on what was refused before the log-in
	require.NoError(t, b.Do(browser.Visit(w.url+"/devices/ostrel-virt-2")))
	w.sees(b, "CPU 1 temp")
	w.sees(b, "it stays off when power comes back")
	w.sees(b, "correctable error, module 3")
	w.sees(b, "Gannet 2U")
	require.NoError(t, b.Do(browser.Click("What went wrong"), chromedp.WaitNotPresent(`//span[text()="log cleared"]`, chromedp.BySearch)))
	require.NoError(t, b.Do(browser.Click("Read its settings now")))
	w.sees(b, "cipher suite 17")
	require.NoError(t, b.Do(browser.Click("Light its identify light")))
	w.sees(b, "identify light: on for 60 s")
	require.NoError(t, b.Do(browser.Click("Make this change")))
	w.sees(b, "Done, and read back.")
	require.NoError(t, b.Do(browser.Click("Shut down…")))
	w.sees(b, "Shuts down in good order: ostrel-virt-2")
	require.NoError(t, b.Do(browser.Click("Shut down")))
	w.sees(b, "Shut ostrel-virt-2 down: off at")
	require.NoError(t, b.Do(browser.Click("Close this panel"), browser.Visit(w.url+"/estate")))
	w.sees(b, "behind a sister")
	require.False(t, w.lab.State()[slot(w, "ostrel-virt-2")].Up)
	require.Empty(t, b.Complaints())
}

func slot(w *world, k estate.Key) int {
	for i, s := range w.lab.State() {
		if s.Device == k {
			return i
		}
	}
	require.Fail(w, "no such device")
	return 0
}
