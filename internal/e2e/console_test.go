package e2e

import (
	"testing"
	"time"

	"github.com/chromedp/cdproto/input"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/browser"
)

// open starts a browser on the console.
func (w *world) open() *browser.Browser {
	b, err := browser.Open(w.Context())
	require.NoError(w, err)
	w.Cleanup(b.Close)
	require.NoError(w, b.Do(browser.Size(1280, 800)))
	return b
}

// sees waits for text on the page, patiently: gear takes its time.
func (w *world) sees(b *browser.Browser, text string) {
	w.Helper()
	var page string
	began := time.Now()
	defer func() { w.Logf("%5.1f s for %s", time.Since(began).Seconds(), text) }()
	for deadline := time.Now().Add(2 * soon); time.Now().Before(deadline); {
		if b.Do(browser.Text(text)) == nil {
			return
		}
	}
	_ = b.Do(chromedp.Evaluate(`document.body.innerText`, &page))
	require.Contains(w, page, text)
}

// TestTheStoryInTheConsole is TestTheStory with clicks.
func TestTheStoryInTheConsole(t *testing.T) {
	w := begin(t)
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", "wrong")))
	w.sees(b, "check both; the first password was printed when the service first started")
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices, 6 sites")
	b.Complaints() // the browser remarks on what was refused before the log-in

	require.NoError(t, w.lab.Hang("skarvoe-router"))
	w.sees(b, "skarvoe-router is hung")
	w.sees(b, "Explains 7 cut-off devices. Nobody sees to it yet")
	require.NoError(t, b.Do(browser.Click("Incidents")))
	w.sees(b, "Explains skarvoe-camera-cupboard, skarvoe-camera-east, skarvoe-camera-west")
	require.NoError(t, b.Do(
		chromedp.SendKeys(`input[placeholder="What you know of it"]`, "the storm, I think", chromedp.ByQuery),
		browser.Click("I see to it"),
	))
	w.sees(b, "admin sees to it: the storm, I think")
	require.NoError(t, b.Do(browser.Click("Board")))
	w.sees(b, "admin sees to it")
	require.NoError(t, b.Do(browser.Click("Cycle outlet 3…")))
	w.sees(b, "Loses power: skarvoe-router, for about 10 s.")
	w.sees(b, "Our way to skarvoe-pdu goes through skarvoe-cell and is not touched.")
	require.NoError(t, b.Do(
		chromedp.SendKeys(`input[placeholder^="Why?"]`, "hung since the storm", chromedp.ByQuery),
		browser.Click("Cycle outlet 3"),
	))
	w.sees(b, "Wait 10 s, and see who falls silent")
	require.NoError(t, b.Do(chromedp.Reload())) // the panel is in the address: it survives
	w.sees(b, "Wait for the first answer of skarvoe-router")
	w.sees(b, "Cycled outlet 3 of skarvoe-pdu: 11")
	require.NoError(t, b.Do(browser.Click("Close this panel")))
	w.sees(b, "54 steady")

	require.NoError(t, b.Do(browser.Click("Incidents")))
	w.sees(b, "Nothing is wrong that somebody would have to see to.")
	w.sees(b, "Seen to by admin.")
	require.NoError(t, b.Do(browser.Click("Journal")))
	w.sees(b, "Because hung since the storm")
	require.NoError(t, b.Do(browser.Click("skarvoe-router")))
	w.sees(b, "Why we say steady")
	w.sees(b, "Draw, last")
	require.NoError(t, b.Do(chromedp.WaitVisible(`.uplot canvas`, chromedp.ByQuery)))
	require.Empty(t, b.Complaints(), "neither errors nor what the content policy forbids")
}

// TestInterlocksInTheConsole: a guarded device wants its name, our own path a
// reason, and an unswitched outlet is not offered at all.
func TestInterlocksInTheConsole(t *testing.T) {
	w := begin(t)
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices")
	go_ := func(path string) { require.NoError(t, b.Do(browser.Visit(w.url+path))) }

	go_("/devices/skarvoe-recorder?act=off&on=skarvoe-recorder")
	w.sees(b, "is guarded. Type its name to cut it:")
	var disabled bool
	isDisabled := chromedp.Evaluate(`[...document.querySelectorAll('button')].find(b => b.innerText === 'Switch off the chassis').disabled`, &disabled)
	require.NoError(t, b.Do(isDisabled))
	require.True(t, disabled)
	require.NoError(t, b.Do(chromedp.SendKeys(`form input`, "skarvoe-recorder", chromedp.ByQuery), isDisabled))
	require.False(t, disabled)

	go_("/devices/skarvoe-cell?act=off&on=skarvoe-cell")
	w.sees(b, "nothing could switch it on again from here")
	go_("/devices/skarvoe-cell?act=cycle&on=skarvoe-cell")
	w.sees(b, "skarvoe-pdu will switch it back on by itself after 10 s.")

	go_("/devices/skarvoe-gate?act=off&on=skarvoe-gate")
	w.sees(b, "Outlet 9 of skarvoe-pdu cannot be switched: it is always on.")
	go_("/devices/nobody")
	w.sees(b, `there is no device "nobody"`)
	go_("/nowhere")
	w.sees(b, "There is no page at this address")

	// On a phone, with one thumb.
	require.NoError(t, b.Do(browser.Size(390, 844)))
	go_("/")
	w.sees(b, "skarvoe-router")
	var wide bool
	require.NoError(t, b.Do(chromedp.Evaluate(`document.documentElement.scrollWidth > innerWidth`, &wide)))
	require.False(t, wide, "nothing sticks out")
	require.True(t, w.closed(5) && w.closed(7) && w.closed(9), "looking changes nothing")

	// By keyboard alone.
	require.NoError(t, b.Do(browser.Size(1280, 800), chromedp.KeyEvent("k", chromedp.KeyModifiers(input.ModifierCtrl))))
	require.NoError(t, b.Do(chromedp.WaitVisible(`[role=combobox]`, chromedp.ByQuery), chromedp.KeyEvent("cycle kiosk"), chromedp.Sleep(often), chromedp.KeyEvent("\r")))
	w.sees(b, "Its power button is pressed for 6 s, which forces it off.")
	require.NoError(t, b.Do(browser.Click("Use its outlets instead")))
	w.sees(b, "Loses power: skarvoe-kiosk, for about 10 s.")
	require.NoError(t, b.Do(chromedp.KeyEvent("\x1b")))
}

// TestPeopleInTheConsole: an account is added, and what its role does not allow is
// said before anybody tries.
func TestPeopleInTheConsole(t *testing.T) {
	w := begin(t)
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices")
	require.NoError(t, b.Do(browser.Visit(w.url+"/people")))
	w.sees(b, "Who may log in")
	require.NoError(t, b.Do(chromedp.SendKeys(`input[placeholder=name]`, "eskil", chromedp.ByQuery), browser.Click("Add the account")))
	w.sees(b, "The password of eskil, shown this once:")
	var pass string
	require.NoError(t, b.Do(chromedp.Text(`[role=status] code`, &pass, chromedp.ByQuery)))
	require.NoError(t, b.Do(chromedp.SendKeys(`input[placeholder=name]`, "eskil", chromedp.ByQuery), browser.Click("Add the account")))
	w.sees(b, "there is an account eskil already")

	other := w.open()
	require.NoError(t, other.Do(browser.LogIn(w.url, "eskil", pass)))
	w.sees(other, "54 devices")
	require.NoError(t, other.Do(browser.Visit(w.url+"/devices/skarvoe-router?act=cycle&on=skarvoe-router")))
	w.sees(other, "You are viewer: you see everything, and act on nothing.")
	require.NoError(t, other.Do(browser.Visit(w.url+"/people")))
	w.sees(other, "Your own password")
	require.NoError(t, other.Do(
		chromedp.SendKeys(`input[autocomplete=current-password]`, pass, chromedp.ByQuery),
		chromedp.SendKeys(`input[autocomplete=new-password]`, "a word of my own", chromedp.ByQuery), browser.Click("Change it")))
	w.sees(other, "It is changed.")

	w.sees(other, "There is none.") // of keys
	require.NoError(t, other.Do(chromedp.SendKeys(`textarea`, "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIPYmCvQoFZWPxkjXzM8dHlOB1s2GvE6qGzhtjHqHMvGd eskil's laptop", chromedp.ByQuery), browser.Click("Add the key")))
	w.sees(other, "eskil's laptop")
	require.NoError(t, other.Do(browser.Click("Remove")))
	w.sees(other, "There is none.")
	require.NoError(t, other.Do(chromedp.SendKeys(`textarea`, "ssh-rsa nonsense", chromedp.ByQuery), browser.Click("Add the key")))
	w.sees(other, "that is no public key")

	w.says(0, "", "account", "remove", "eskil")
	w.sees(other, "Log in")
}

// TestSeveralInTheConsole: devices are selected on the board, the timetable is
// shown, and the group is followed to its end.
func TestSeveralInTheConsole(t *testing.T) {
	w := begin(t)
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices, 6 sites")
	b.Complaints() // the browser remarks on what was refused before the log-in
	require.NoError(t, b.Do(browser.Click("Select several")))
	w.sees(b, "Select devices, or a whole site")
	for _, k := range []string{"skarvoe-heater", "skarvoe-kvm"} {
		box := `input[aria-label="` + k + `"]`
		require.NoError(t, b.Do(chromedp.ScrollIntoView(box, chromedp.ByQuery), chromedp.Click(box, chromedp.ByQuery)))
	}
	w.sees(b, "2 selected")
	require.NoError(t, b.Do(browser.Click("Cycle…")))
	w.sees(b, "Cycle 2 devices")
	w.sees(b, "W at the most")
	require.NoError(t, b.Do(browser.Click("Cycle 2 devices")))
	w.sees(b, "2 of 2 done")
	require.NoError(t, b.Do(browser.Click("skarvoe-heater")))
	w.sees(b, "Cycled outlet 8 of skarvoe-pdu: 8")
	w.sees(b, "Measured and seen before and after")
	require.Empty(t, b.Complaints())
}

// TestUtilityFailureInTheConsole: the Power page tells it live, and ends it.
func TestUtilityFailureInTheConsole(t *testing.T) {
	w := begin(t)
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices, 6 sites")
	b.Complaints() // the browser remarks on what was refused before the log-in
	require.NoError(t, b.Do(chromedp.Navigate(w.url+"/power?site=ostrel-quay")))
	w.sees(b, "If it is lost")
	w.sees(b, "on line")
	w.sees(b, "hangs on the power of ostrel-store itself")
	require.NoError(t, w.lab.Blackout("ostrel-quay", true))
	w.sees(b, "on battery")
	w.sees(b, "gone")
	require.NoError(t, w.lab.Blackout("ostrel-quay", false))
	w.sees(b, "on line")
	require.NoError(t, b.Do(chromedp.Navigate(w.url+"/devices/ostrel-ups")))
	w.sees(b, "Run its self-test")
	w.sees(b, "History of")
	require.Empty(t, b.Complaints())
}
