package e2e

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/browser"
	"plumbbob/internal/client"
	"plumbbob/internal/core/estate"
)

const kiosk = "skarvoe-kiosk"

// pictured holds the newest operation of a kind to the pictures that were taken before it, by its
// width, and after it, when the host had only just answered.
func (w *world) pictured(kind string, before int) {
	w.Helper()
	var o contract.Operation
	w.eventually(func() bool {
		for _, o = range reads[[]contract.Operation](w, "op", "list") {
			if string(o.Kind) == kind {
				return o.State == "done"
			}
		}
		return false
	}, kind+" is done")
	o = reads[contract.Operation](w, "op", "show", o.ID)
	for _, p := range *o.Proof {
		if p.Name != "picture of its screen" {
			continue
		}
		for i, f := range []*contract.ProofFile{p.BeforeFile, p.AfterFile} {
			var m image.Image
			w.eventually(func() (kept bool) {
				var out bytes.Buffer
				kept = client.Main([]string{"op", "file", o.ID, f.ID, "--config", filepath.Join(w.dir, w.login)}, strings.NewReader(""), &out, &out) == 0
				m, _ = png.Decode(&out)
				return kept
			}, "the picture is kept")
			require.True(w, i > 0 || m.Bounds().Dx() == before)
		}
		return
	}
	require.Fail(w, "no picture is proof of it")
}

// onScreen waits for something on the screen of a box in the lab.
func (w *world) onScreen(k estate.Key, text string) {
	w.Helper()
	w.eventually(func() bool { return strings.Contains(w.lab.ScreenText(k), text) }, text)
}

// picture saves what a screen shows, as a user would, and reads that.
func (w *world) picture(k string) image.Image {
	w.Helper()
	file := filepath.Join(w.TempDir(), "screen.png")
	require.Contains(w, w.says(0, "", "screen", k, "--save", file), "bytes written to "+file)
	text, err := os.ReadFile(file)
	require.NoError(w, err)
	m, err := png.Decode(bytes.NewReader(text))
	require.NoError(w, err)
	return m
}

// drawn reads a part of the picture that is on the page, as red, green and blue: off a copy, since
// the browser remarks on a canvas that is read more than once.
func drawn(b *browser.Browser, r image.Rectangle) (out []byte, err error) {
	var all []int
	err = b.Do(chromedp.Evaluate(fmt.Sprintf(`(() => {
		const copy = Object.assign(document.createElement('canvas'), {width: %d, height: %d}).getContext('2d', {willReadFrequently: true})
		copy.drawImage(document.querySelector('canvas'), %d, %d)
		return Array.from(copy.getImageData(0, 0, copy.canvas.width, copy.canvas.height).data)
	})()`, r.Dx(), r.Dy(), -r.Min.X, -r.Min.Y), &all))
	for i, v := range all {
		if i%4 != 3 {
			out = append(out, byte(v))
		}
	}
	return out, err
}

func part(m image.Image, r image.Rectangle) (out []byte) {
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			c, g, b, _ := m.At(x, y).RGBA()
			out = append(out, byte(c>>8), byte(g>>8), byte(b>>8))
		}
	}
	return out
}

// as tells the browser to wait until an expression is true.
func (w *world) holds(b *browser.Browser, expression string) {
	w.Helper()
	w.eventually(func() bool {
		var is bool
		return b.Do(chromedp.Evaluate(expression, &is)) == nil && is
	}, expression)
}

// visitor is somebody else, with a terminal and a browser of their own.
type visitor struct {
	*world
	b *browser.Browser
}

// hires gives somebody an account, and returns its password.
func (w *world) hires(account, role string) string {
	w.Helper()
	_, pass, _ := strings.Cut(w.flat(0, "", "account", "add", account, "--role", role), "once: ")
	pass, _, _ = strings.Cut(pass, " ")
	return pass
}

// joins gives somebody an account, logs them in, and has them look at the kiosk.
func (w *world) joins(account, role string) visitor {
	w.Helper()
	pass := w.hires(account, role)
	v := visitor{&world{T: w.T, lab: w.lab, dir: w.T.TempDir(), login: "client.json", url: w.url, password: pass}, nil}
	v.says(0, v.password+"\n", "login", w.url, "--account", account)
	if role == "viewer" {
		return v
	}
	v.b = v.open()
	v.looks(v.b, account)
	return v
}

// looks logs somebody in, and has them look at the kiosk.
func (w *world) looks(b *browser.Browser, account string) {
	w.Helper()
	require.NoError(w, b.Do(browser.LogIn(w.url, account, w.password)))
	w.sees(b, "54 devices, 6 sites")
	require.NoError(w, b.Do(browser.Visit(w.url+"/devices/"+kiosk+"/screen")))
	w.sees(b, "up by skarvoe-kvm screen")
}

// TestTheScreen: a kiosk that has crashed is seen on its screen, reset from there, led into
// set-up with keys while somebody else looks on, and works again: in a browser, to the pixel.
func TestTheScreen(t *testing.T) {
	w := beginAt(t, 5) // its firmware waits for seconds, and not for a moment
	b := w.open()
	require.NoError(t, b.Do(browser.LogIn(w.url, "admin", w.password)))
	w.sees(b, "54 devices, 6 sites")
	b.Complaints() // the browser remarks on what was refused before the log-in
	require.NoError(t, b.Do(browser.Visit(w.url+"/devices/"+kiosk)))
	w.sees(b, "Sit down at it")
	w.eventually(func() bool { // the page is still being filled, and what is clicked moves
		var there bool
		_ = b.Do(chromedp.Evaluate(`document.querySelector('a[href$="/screen"]')?.click(); location.pathname.endsWith('/screen')`, &there))
		return there
	}, "the way to its screen")
	w.sees(b, "up by skarvoe-kvm screen")
	w.holds(b, `document.querySelector('canvas').width === 1024`)
	still := image.Rect(0, 80, 700, 420) // all but the clock, and the ferry
	w.eventually(func() bool {
		got, err := drawn(b, still)
		return err == nil && bytes.Equal(got, part(w.picture(kiosk), still))
	}, "the page shows the picture, to the pixel")

	// Keys by their position, and the pointer where it is shown.
	require.NoError(t, b.Do(chromedp.KeyEvent("m"), chromedp.KeyEvent("q"), chromedp.KeyEvent("2")))
	var at struct{ X, Y float64 }
	require.NoError(t, b.Do(chromedp.Evaluate(`(() => { const r = document.querySelector('canvas').getBoundingClientRect(); return {x: r.left + 420 / 1024 * r.width, y: r.top + 270 / 768 * r.height} })()`, &at)))
	require.NoError(t, b.Do(chromedp.MouseClickXY(at.X, at.Y)))
	w.onScreen(kiosk, "button 4, name mq2")
	w.says(0, "", "type", "skarvoe-kiosk", "x") // the same person, from elsewhere
	w.onScreen(kiosk, "name mq2x")

	require.Contains(t, w.flat(0, "", "show", kiosk), "admin is at its screen")

	// The crash is seen, and copied as a picture.
	require.NoError(t, w.lab.Crash(kiosk))
	w.onScreen(kiosk, "Kernel panic - not syncing")
	w.holds(b, `document.querySelector('canvas').width === 640`)
	require.Equal(t, image.Rect(0, 0, 640, 400), w.picture(kiosk).Bounds())
	w.eventually(func() bool { // it is drawn a moment after it is said
		var out bytes.Buffer
		status := client.Main([]string{"screen", kiosk, "--text", "--config", filepath.Join(w.dir, w.login)}, strings.NewReader(""), &out, &out)
		return status == 0 && strings.Contains(out.String(), "Kernel panic - not syncing: Fatal exception in interrupt\n")
	}, "its text is read")
	require.NoError(t, b.Do(browser.Click("Read its text")))
	w.sees(b, "BUG: unable to handle page fault for address")
	require.NoError(t, b.Do(browser.Click("Close")))

	w.eventually(func() bool { return w.verdict(kiosk) == "hung" }, "it is found out")

	// What it showed before that is kept, and what stands there is known.
	w.eventually(func() bool { return strings.Contains(w.says(0, "", "screen", kiosk, "--past", "1h"), "it was hung") }, "its film is kept")
	require.Contains(t, w.says(0, "", "show", kiosk), "its screen: kernel panic")
	require.NoError(t, b.Do(browser.Click("What it showed")))
	w.sees(b, "kept because it was hung")
	require.NoError(t, b.Do(browser.Click("Before"), browser.Click("Close")))
	film := t.TempDir()
	w.says(0, "", "screen", kiosk, "--export", film)
	files, err := os.ReadDir(film)
	require.NoError(t, err)
	require.Greater(t, len(files), 1)

	// It is reset from this page, which stays attached, and led into set-up.
	require.NoError(t, b.Do(browser.Click("Reset…")))
	w.sees(b, "Reset skarvoe-kiosk")
	require.NoError(t, b.Do(chromedp.SendKeys(`input[placeholder^="Why?"]`, "its kernel has stopped", chromedp.ByQuery), browser.Click("Reset")))
	w.sees(b, "Wait for")
	require.NoError(t, b.Do(chromedp.KeyEvent("\x1b"))) // closes the panel
	w.eventually(func() bool {
		_ = b.Do(browser.Click("F2")) // as people do, until it is taken
		return strings.Contains(w.lab.ScreenText(kiosk), "Order of starting")
	}, "set-up is entered")
	other := `input[aria-label^="Other keys"]`
	require.NoError(t, b.Do(chromedp.SendKeys(other, "down shift-= f13", chromedp.ByQuery), browser.Click("Press")))
	w.sees(b, `"f13" is no key`)
	require.NotContains(t, w.lab.ScreenText(kiosk), "Not saved yet", "then nothing is pressed")
	require.NoError(t, b.Do(chromedp.SendKeys(other, "\b\b\b\b", chromedp.ByQuery), browser.Click("Press")))
	w.onScreen(kiosk, "1  Network")
	require.NoError(t, b.Do(browser.Click("F10")))
	w.onScreen(kiosk, "Network: no server answers.")
	w.onScreen(kiosk, "button")
	w.holds(b, `document.querySelector('canvas').width === 1024`)
	w.eventually(func() bool { return w.verdict(kiosk) == "steady" }, "and it works again")
	require.Contains(t, w.flat(0, "", "journal", "--limit", "60"), "Sat down at the screen of skarvoe-kiosk")
	w.pictured("reset", 640)
	require.Empty(t, b.Complaints())
}

// TestTwoAtAScreen: one works, one looks on; the keyboard is handed over; who may not see
// screens is told so; and what a pulled plug takes away comes back.
func TestTwoAtAScreen(t *testing.T) {
	w := begin(t)
	b := w.open()
	w.looks(b, "admin")
	colleague := w.joins("i.marsh", "operator")
	colleague.sees(colleague.b, "Ask for the keyboard")
	require.Contains(t, colleague.flat(1, "", "keys", kiosk, "enter"), "admin has the keyboard: ask for it")
	require.NoError(t, colleague.b.Do(browser.Click("Ask for the keyboard")))
	w.sees(b, "i.marsh asks for the keyboard")
	require.NoError(t, b.Do(browser.Click("Give it")))
	colleague.sees(colleague.b, "i.marsh has the keyboard")
	colleague.says(0, "", "type", kiosk, "tide")
	w.onScreen(kiosk, "name tide")
	require.Contains(t, w.flat(0, "", "board"), "i.marsh is at its screen")

	desk := w.joins("desk", "viewer")
	require.Contains(t, desk.flat(5, "", "screen", kiosk, "--save", "x.png"), "this needs the role operator")

	require.NoError(t, w.lab.Flip(estate.OutletEnd("skarvoe-pdu", 2), false)) // the power of the KVM
	w.sees(b, "lost: the screen of skarvoe-kvm")
	require.Contains(t, colleague.flat(4, "", "keys", kiosk, "enter"), "the screen of skarvoe-kiosk is not there")
	require.NoError(t, w.lab.Flip(estate.OutletEnd("skarvoe-pdu", 2), true))
	w.sees(b, "up by skarvoe-kvm screen")
	colleague.says(0, "", "type", kiosk, "s")
	w.onScreen(kiosk, "name tides")
	require.Contains(t, w.flat(2, "", "screen", "skarvoe-router", "--save", "x.png"), "no screen of skarvoe-router is in the estate")
	require.Contains(t, w.flat(1, "", "screen", kiosk, "--text"), "shows a picture of 1024 × 768 pixels")
	require.Contains(t, w.flat(2, "", "screen", kiosk), "say what for")
	require.Contains(t, w.flat(2, "", "keys", kiosk, "ctrl-alt-x-y"), "is no key")
	require.Contains(t, w.flat(2, "", "type", kiosk, "naïve"), "there is no key for 'ï'")

	pretend := func(name string) {
		t.Helper()
		require.NoError(t, colleague.b.Do(browser.Click("View ▾"), browser.Click("Its KVM pretends to be… ▸"), browser.Click("a display "+name)))
		colleague.sees(colleague.b, "Its KVM pretends to be a display "+name+" now")
	}
	pretend("800x600")
	w.holds(colleague.b, `document.querySelector('canvas').width === 800`)
	require.NoError(t, colleague.b.Do(browser.Click("Keep 800x600")))
	colleague.sees(colleague.b, "the display 800x600 is kept")
	pretend("2560x1600") // of which the kiosk sends no picture
	colleague.sees(colleague.b, "nobody kept the display 2560x1600: it is 800x600 again")
	require.Equal(t, "800x600", w.lab.Edid("skarvoe-kvm"))

	// Hosts that share a KVM, of which one port is seen; and a camera.
	at := func(x *world, b *browser.Browser, device, words string) {
		t.Helper()
		require.NoError(t, b.Do(browser.Visit(w.url+"/devices/"+device+"/screen")))
		x.sees(b, words)
	}
	at(colleague.world, colleague.b, "ostrel-virt-1", "up by ostrel-kvm screen, port 1")
	at(w, b, "ostrel-virt-2", "waiting: ostrel-kvm screen shows the screen of ostrel-virt-1, at which is i.marsh since")
	require.NoError(t, b.Do(browser.Click("Show this one now")))
	w.sees(b, "up by ostrel-kvm screen, port 2")
	require.Contains(t, w.says(0, "", "screen", "ostrel-virt-2", "--text"), "ostrel-virt-2 login:")
	require.Contains(t, w.flat(1, "", "screen", "ostrel-store", "--text"), "shows the screen of ostrel-virt-2, at which is admin since")
	leads := w.flat(0, "", "wiring", "check", "ostrel-virt-2", "--leads", "--ask")
	require.Contains(t, leads, `its name stands on it: "ostrel-virt-2 login:"`)
	require.Contains(t, leads, "the light of Num Lock came back")
	require.Contains(t, w.flat(0, "", "glyph", "teach", "ostrel-virt-2", "1", "ostrel-virt-2 login:"), "known already")
	require.Contains(t, w.flat(2, "", "glyph", "teach", "ostrel-virt-2", "1", "ostrel-virt-3"), "column 13 is known as '2', and not '3': is that the row?")
	require.Contains(t, w.flat(2, "", "glyph", "forget", "8x16"), "no characters of 8 × 16 pixels were taught")
	require.NoError(t, w.lab.Deafen("ostrel-virt-2"))
	w.says(0, "", "type", "ostrel-virt-2", "deaf")
	require.NoError(t, b.Do(browser.Click("View ▾"), browser.Click("Plug its keyboard in anew")))
	w.sees(b, "admin had the keyboard of ostrel-virt-2 plugged out and in again")
	w.says(0, "", "type", "ostrel-virt-2", "heard")
	w.onScreen("ostrel-virt-2", "login: heard")
	require.NoError(t, w.lab.Choose("ostrel-kvm", 3))
	w.sees(b, "has chosen another port")
	require.NoError(t, b.Do(browser.Click("Show this one again")))
	w.sees(b, "up by ostrel-kvm screen, port 2")
	at(w, b, "skarvoe-camera-cupboard", "up by skarvoe-camera-cupboard picture")
	require.Contains(t, w.flat(1, "", "keys", "skarvoe-camera-cupboard", "a"), "a camera takes neither keys nor a pointer")

	// Two displays, of which one is looked at; it is turned, and the pointer with it; and a device
	// without power.
	at(w, b, "tamsin-workshop", "up by tamsin-workshop screen")
	lies := func(what ...string) {
		t.Helper()
		for _, text := range what {
			require.NoError(t, b.Do(browser.Click("View ▾"), browser.Click(text)))
		}
	}
	w.holds(b, `document.querySelector('canvas').width === 1824`)
	w.eventually(func() bool { // they are told a moment later
		var there bool
		_ = b.Do(chromedp.Evaluate(`!!document.querySelector('[role=menu]')`, &there))
		if !there {
			_ = b.Do(browser.Click("View ▾"))
		}
		_ = b.Do(chromedp.Evaluate(`!!Array.from(document.querySelectorAll('[role=menuitem]')).find(e => e.textContent.endsWith('Only display 1 of 2'))`, &there),
			chromedp.KeyEvent("\x1b"))
		return there
	}, "its displays")
	w.holds(b, `!document.querySelector('[role=menu]')`)
	lies("Only display 1 of 2", "Only display 2 of 2")
	w.holds(b, `(c => c.getBoundingClientRect().left < c.parentElement.getBoundingClientRect().left - 100)(document.querySelector('canvas'))`)
	lies("All 2 displays", "Turn it to the right", "Twice as large")
	var on struct{ X, Y float64 }
	require.NoError(t, b.Do(chromedp.Evaluate(`(() => {
		const c = document.querySelector('canvas')
		c.parentElement.parentElement.scrollTo(0, 0)
		const r = c.getBoundingClientRect()
		const to = {x: r.right - 260 / 768 * r.width, y: r.top + 120 / 1824 * r.height}
		c.parentElement.parentElement.scrollTo(to.x - 600, 0)
		const s = c.getBoundingClientRect()
		return {x: s.right - 260 / 768 * s.width, y: s.top + 120 / 1824 * s.height}
	})()`, &on)))
	require.NoError(t, b.Do(chromedp.MouseClickXY(on.X, on.Y)))
	w.onScreen("tamsin-workshop", "button 3")
	at(w, b, kiosk, "up by skarvoe-kvm screen")
	require.NoError(t, w.lab.Flip(estate.OutletEnd("skarvoe-pdu", 6), false))
	w.sees(b, "Next to nothing is on it")
	w.sees(b, "and its device is without power or off") // once that is known
}
