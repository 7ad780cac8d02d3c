package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/browser"
)

// TestSequences: a row of keys is kept by its name, played into set-up by what stands on the
// screen, and recorded in the console; what is wrong with one is said by its line.
func TestSequences(t *testing.T) {
	w := beginAt(t, 5) // firmware waits for seconds
	file := func(text string) string {
		f := filepath.Join(t.TempDir(), "keys")
		require.NoError(t, os.WriteFile(f, []byte(text), 0o600))
		return f
	}
	require.Contains(t, w.flat(0, "", "sequence", "list"), "There is none")
	require.Contains(t, w.flat(2, "", "sequence", "set", "x", file("key f2\nkey f99")), `sequence x: line 2: "f99" is no key`)
	require.Contains(t, w.flat(2, "", "sequence", "set", "x", file("secret PW")), `"secret" is not known: type, key, wait and pause are`)
	require.Contains(t, w.flat(2, "", "sequence", "set", "x", file("type a"), "--layout", "runes"), `"runes" is no layout`)
	require.Contains(t, w.flat(2, "", "sequence", "set", "Into Set-up", file("key f2")), "cannot be a name")
	require.Contains(t, w.flat(2, "", "keys", kiosk), "say which keys")
	require.Contains(t, w.flat(2, "", "keys", kiosk, "a", "--sequence", "x"), "only one of them")
	require.Contains(t, w.flat(1, "", "keys", kiosk, "--sequence", "x"), `there is no sequence "x"`)

	text := "key ctrl-alt-delete\nwait (?i)set-up 40s\nkey f2\nwait Order of starting 20s\n"
	require.Contains(t, w.flat(0, "", "sequence", "set", "into-set-up", file("# as often\n"+text)), "plumb keys DEVICE --sequence into-set-up plays it")
	require.Contains(t, w.flat(0, "", "sequence", "list"), "into-set-up")
	require.Equal(t, "# as often\n"+text, w.says(0, "", "sequence", "show", "into-set-up"))
	said := w.flat(0, "", "keys", kiosk, "--sequence", "into-set-up")
	require.Contains(t, said, "line 3 waits for \"(?i)set-up\", for 40s at the most")
	require.Contains(t, said, "The sequence into-set-up was played")
	require.Contains(t, w.lab.ScreenText(kiosk), "Order of starting")
	w.says(0, "", "sequence", "set", "never", file("wait Bilge 1s\nkey f10"))
	require.Contains(t, w.flat(1, "", "keys", kiosk, "--sequence", "never"), `it ended at line 1: nothing like "Bilge" came within 1s`)
	w.eventually(func() bool {
		return strings.Contains(w.flat(0, "", "journal", "--limit", "5"), `Played the sequence never at the screen of skarvoe-kiosk: it ended at line 1`)
	}, "it is in the journal")
	require.Contains(t, w.flat(0, "", "sequence", "remove", "never"), "is removed")
	require.Contains(t, w.flat(2, "", "sequence", "show", "never"), "there is no sequence")

	// In the console: recorded, kept, played, and stopped.
	b := w.open()
	w.looks(b, "admin")
	w.holds(b, `document.querySelector('canvas').width > 1`)
	require.NoError(t, b.Do(browser.Click("Sequences…"), browser.Click("Record keys"), chromedp.Focus("canvas", chromedp.ByQuery), chromedp.KeyEvent("1"), browser.Click("↑"), browser.Click("End recording")))
	w.holds(b, `document.querySelector('#sequence').value === 'key 1\nkey up\n'`)
	require.NoError(t, b.Do(chromedp.SendKeys("#sequence", "wait Bilge 1m\n", chromedp.ByQuery), chromedp.SendKeys(`input[aria-label="Its name"]`, "Up", chromedp.ByQuery), browser.Click("Keep it")))
	w.sees(b, "cannot be a name")
	require.NoError(t, b.Do(chromedp.SendKeys(`input[aria-label="Its name"]`, "\b\bupwards", chromedp.ByQuery), browser.Click("Keep it")))
	w.sees(b, "upwards is kept.")
	require.NoError(t, b.Do(browser.Click("Play it")))
	w.sees(b, `line 3 waits for "Bilge"`)
	require.NoError(t, b.Do(browser.Click("Stop it")))
	w.sees(b, "it ended at line 3: it was stopped")
	require.NoError(t, b.Do(browser.Click("Forget it")))
	w.eventually(func() bool { return !strings.Contains(w.says(0, "", "sequence", "list"), "upwards") }, "it is forgotten")
}
