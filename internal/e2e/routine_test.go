package e2e

import (
	"net/http"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/browser"
)

// TestRoutines: written in one line and in a file, tried, begun by hand, by what happens and over
// the network; stopped; with wrong input too.
func TestRoutines(t *testing.T) {
	w := begin(t)
	require.Contains(t, w.flat(0, "", "routine", "list"), "There is none")
	require.Contains(t, w.flat(2, "", "routine", "add", "now and then", "cycle", "skarvoe-cell"), `"now and then" is no time`)
	require.Contains(t, w.flat(2, "", "routine", "add", "every day at 03:30", "explode", "skarvoe-cell"), "is nothing that can be done in one line")
	require.Contains(t, w.flat(2, "", "routine", "add", "every day at 03:30", "cycle", "atlantis"), "atlantis")
	require.Contains(t, w.flat(0, "", "routine", "add", "every day at 03:30", "cycle", "skarvoe-cell"), "In force: cycle-skarvoe-cell. cycle-skarvoe-cell begins next")
	require.Contains(t, w.flat(2, "", "routine", "add", "every day at 04:30", "cycle", "skarvoe-cell"), "there is a routine cycle-skarvoe-cell already")
	times := reads[[]contract.ClockTime](w, "clock", "list", "--days", "2")
	require.Len(t, times, 2)
	require.Equal(t, "Atlantic/Faroe", times[0].Zone)
	require.NotNil(t, reads[[]contract.Routine](w, "routine", "list")[0].Arguments, "a list, also where it is empty")
	w.says(0, "", "routine", "off", "cycle-skarvoe-cell")
	require.Contains(t, w.flat(0, "", "clock", "list"), "Nothing within 7 days")

	require.Contains(t, w.flat(2, "", "routine", "check", w.write("bad.yaml", "plumb-routine: 1\nname: a\nsteps:\n  - cycle: x\n    hold: 90h\n")), `bad.yaml:5: hold: "90h" is no time`)
	file := w.write("routines.yaml", demo.Routines)
	require.Contains(t, w.flat(0, "", "routine", "check", file), "careful: weak-modem: step 2 otherwise 1: duty is nobody who is told of anything")
	w.says(0, "", "channel", "set", "office-mail", "--mail", w.lab.Post.Address, "--from", "plumb@ternsound.example", "--tls", "none")
	w.says(0, "", "telling", "import", w.write("telling.yaml", demo.Telling))
	require.NotContains(t, w.flat(0, "", "routine", "import", file), "careful")
	require.Contains(t, w.flat(0, "", "routine", "try", "weak-modem"), "Cuts our own way to skarvoe-pdu")
	require.Contains(t, w.flat(2, "", "routine", "try", "restart-in-turn"), "it has to be told its device")
	require.Contains(t, w.flat(2, "", "routine", "run", "look-into-cupboard"), "nobody is there to agree")
	out := w.flat(0, "", "routine", "run", "look-into-cupboard", "--yes", "--follow")
	require.Contains(t, out, "✓ 3: Take a picture of the screen of skarvoe-camera-cupboard: kept")
	require.Contains(t, out, "look-into-cupboard: done")
	require.Contains(t, w.flat(0, "", "journal", "--kind", "routine"), "Routine look-into-cupboard: done")

	require.NoError(t, w.lab.Door("ostrel-room"))
	w.eventually(func() bool { return len(w.lab.Post.Letters()) == 1 }, "the door is told of")
	require.NoError(t, w.lab.Heal("ostrel-room"))
	w.eventually(func() bool { return len(w.lab.Post.Letters()) == 2 }, "and that it is closed again")
	require.Equal(t, "The door of the comms room is closed again", w.lab.Post.Letters()[1].Subject)

	// Windows stand in the way of what acts by itself, unless it says that it goes ahead against them.
	require.Contains(t, w.flat(2, "", "window", "open", "tag:nothing"), `no device is tagged "nothing"`)
	require.Contains(t, w.flat(2, "", "window", "open", "skarvoe", "--every", "now and then"), `"now and then" is no time`)
	require.Contains(t, w.flat(2, "", "window", "open", "skarvoe", "--every", "every day at 03:00", "--from", "22:30"), "only one of them")
	require.Contains(t, w.flat(0, "", "window", "open", "skarvoe", "--every", "every day at 03:00", "--for", "30m"), "skarvoe is yours every day at 03:00, next")
	require.Contains(t, w.flat(0, "", "window", "open", "tag:out-of-band", "--every", "every minute", "--for", "1m", "--why", "trial"), "tag:out-of-band is yours every minute")
	require.Contains(t, w.flat(0, "", "window", "list"), "every minute trial")
	w.says(0, "", "routine", "import", w.write("cells.yaml", "plumb-routine: 1\nname: cell\nsteps: [{cycle: tamsin-cell, hold: 2s}]\n---\nplumb-routine: 1\nname: cell-now\nsteps: [{cycle: tamsin-cell, hold: 2s, lift: [window], why: it is agreed}]\n"))
	require.Contains(t, w.flat(1, "", "routine", "run", "cell", "--yes", "--follow"), "is working on what is tagged out-of-band until")
	require.Contains(t, w.flat(0, "", "routine", "run", "cell-now", "--yes", "--follow"), "cell-now: done")

	// By whoever has the token, and by nobody else.
	w.says(0, "a-token-of-some-length\n", "secret", "set", "door", "--token")
	w.says(0, "", "routine", "import", w.write("hook.yaml", "plumb-routine: 1\nname: hook\nwith: {device: \"\"}\nwhen: [{webhook: door}]\nsteps: [{cycle: \"${device}\"}, {wait: 1h}]\n"))
	hook := func(token, body string) int {
		req, err := http.NewRequest(http.MethodPost, w.url+"/orders/hook", strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res.StatusCode
	}
	require.Equal(t, http.StatusUnauthorized, hook("another-token-of-some-length", `{"device":"inch-kiosk"}`))
	require.Equal(t, http.StatusBadRequest, hook("a-token-of-some-length", `{"device":7}`))
	require.Equal(t, http.StatusBadRequest, hook("a-token-of-some-length", `{}`))
	require.Equal(t, http.StatusAccepted, hook("a-token-of-some-length", `{"device":"inch-kiosk"}`))
	require.Equal(t, http.StatusConflict, hook("a-token-of-some-length", `{"device":"inch-kiosk"}`))
	w.eventually(func() bool { return strings.Contains(w.flat(0, "", "routine", "runs", "hook"), "running") }, "it runs")
	w.eventually(func() bool {
		r := reads[[]contract.RoutineRun](w, "routine", "runs", "hook")[0]
		return len(r.Now) == 1 && strings.Contains(r.Now[0], "step 2: Wait 1h")
	}, "its first step is done")
	require.Contains(t, w.flat(0, "", "routine", "pause", "hook"), "paused")
	require.Contains(t, w.flat(0, "", "routine", "resume", "hook"), "running")
	require.Contains(t, w.flat(2, "", "secret", "remove", "door"), "the routine hook is begun with secret door")
	require.Contains(t, w.flat(0, "", "routine", "stop", "hook"), "stopped by admin")
	require.Contains(t, w.flat(2, "", "routine", "stop", "hook"), "does not run now")
	require.Contains(t, w.flat(2, "", "routine", "show", "nothing"), `there is no run "nothing"`)
	w.says(0, "", "routine", "remove", "hook")
	require.Equal(t, http.StatusUnauthorized, hook("a-token-of-some-length", `{}`))
}

// TestARoutineThroughACrash: killed while one of its operations has power off, it goes on with the
// next step afterwards, and does nothing twice.
func TestARoutineThroughACrash(t *testing.T) {
	t.Parallel()
	w, p := apart(t)
	w.says(0, "", "routine", "import", w.write("r.yaml", "plumb-routine: 1\nname: two\nsteps: [{cycle: skarvoe-cell, hold: 6s}, {cycle: skarvoe-kiosk, by: outlet, hold: 2s}]\n"))
	w.says(0, "", "routine", "run", "two", "--yes")
	w.eventually(func() bool { return len(reads[[]contract.Operation](w, "op", "list")) == 1 }, "its first operation runs")
	p.kill(t)
	p.start(t, p.program)
	w.eventually(func() bool {
		all := reads[[]contract.RoutineRun](w, "routine", "runs")
		return len(all) == 1 && all[0].State == contract.RunStateDone
	}, "it is gone on with")
	all := reads[[]contract.Operation](w, "op", "list")
	require.Len(t, all, 2)
	for _, o := range all {
		require.Equal(t, contract.OperationStateDone, o.State)
		require.Equal(t, "standing order two", o.By)
	}
	p.stop(t)
}

// TestStandingOrdersInTheConsole: one is written by the form, tried, begun and seen; a ladder is
// written, and shows what it would have done.
func TestStandingOrdersInTheConsole(t *testing.T) {
	w := begin(t)
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices, 6 sites")
	b.Complaints()
	require.NoError(t, b.Do(chromedp.Navigate(w.url+"/orders")))
	w.sees(b, "Standing orders")
	require.NoError(t, b.Do(browser.Click("Write a routine")))
	require.NoError(t, b.Do(
		chromedp.WaitVisible(`//option[.="inch-kiosk"]/..`, chromedp.BySearch),
		chromedp.SetValue(`//option[.="inch-kiosk"]/..`, "inch-kiosk", chromedp.BySearch),
		chromedp.Evaluate(`document.querySelector('option[value=""]')?.parentElement.dispatchEvent(new Event('change', {bubbles: true}))`, nil),
		browser.Click("Write it"), browser.Click("Look whether it is right"),
	))
	w.sees(b, "It is right: cycle-inch-kiosk")
	require.NoError(t, b.Do(browser.Click("Put it in force")))
	w.sees(b, "It is in force: cycle-inch-kiosk")
	require.NoError(t, b.Do(browser.Click("Close")))
	w.sees(b, "every day at 03:30 · next")
	w.says(0, "", "routine", "import", w.write("r.yaml", "plumb-routine: 1\nname: kiosk\nsteps: [{cycle: inch-kiosk, hold: 2s}]\n"))
	w.sees(b, "by hand")
	require.NoError(t, b.Do(browser.Click("kiosk"), browser.Click("Try it without acting")))
	w.sees(b, "by outlet: Loses power: inch-kiosk")
	require.NoError(t, b.Do(browser.Click("Begin it now")))
	w.sees(b, "It has begun")
	w.eventually(func() bool {
		return strings.Contains(w.flat(0, "", "routine", "runs", "kiosk"), "done begun by admin")
	}, "it is through")

	require.NoError(t, b.Do(browser.Click("Write a ladder"), browser.Click("Put it in force")))
	w.sees(b, "routers: call: duty is nobody who is told of anything")
	w.sees(b, "It is in force, and rehearses: routers")
	require.NoError(t, b.Do(browser.Click("Close"), browser.Click("routers"), browser.Click("What it would have done in 90 days")))
	w.sees(b, "Its devices hung 0 times")
	require.NoError(t, b.Do(browser.Click("Arm it: it acts from now on")))
	w.sees(b, "armed by admin")
	require.Empty(t, b.Complaints())
}
