// Package browser drives headless Chromium, as the tests and the pictures in
// docs/screenshots need it.
package browser

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"sync"
	"sync/atomic"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/log"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// Browser is one headless Chromium with one page.
type Browser struct {
	context.Context
	close []func()

	mu       sync.Mutex
	messages []string
}

// Open starts Chromium with a new, empty profile.
func Open(ctx context.Context) (*Browser, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, errors.New("chromium is not installed: apt-get install chromium")
	}
	profile, err := os.MkdirTemp("", "plumb-browser-")
	if err != nil {
		return nil, fmt.Errorf("browser: %w", err)
	}
	options := append(chromedp.DefaultExecAllocatorOptions[:],
		chromedp.ExecPath(path), chromedp.UserDataDir(profile), chromedp.NoSandbox,
		chromedp.Flag("disable-quic", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.Flag("force-color-profile", "srgb"), chromedp.Flag("font-render-hinting", "none"))
	alloc, cancelAlloc := chromedp.NewExecAllocator(ctx, options...)
	tab, cancelTab := chromedp.NewContext(alloc)
	b := &Browser{Context: tab, close: []func(){cancelTab, cancelAlloc, func() { _ = os.RemoveAll(profile) }}}
	chromedp.ListenTarget(tab, b.listen)
	if err := chromedp.Run(tab, log.Enable()); err != nil {
		b.Close()
		return nil, fmt.Errorf("browser: %w", err)
	}
	return b, nil
}

// Close ends Chromium.
func (b *Browser) Close() {
	for _, f := range b.close {
		f()
	}
}

// listen gathers what the page complains about.
func (b *Browser) listen(ev any) {
	var text string
	switch ev := ev.(type) {
	case *log.EventEntryAdded:
		if ev.Entry.Level == log.LevelError || ev.Entry.Level == log.LevelWarning {
			text = fmt.Sprintf("%s: %s", ev.Entry.Text, ev.Entry.URL)
		}
	case *runtime.EventExceptionThrown:
		text = ev.ExceptionDetails.Error()
	}
	if text != "" {
		b.mu.Lock()
		b.messages = append(b.messages, text)
		b.mu.Unlock()
	}
}

// Complaints returns what the page has complained about so far, and forgets it.
func (b *Browser) Complaints() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	out := b.messages
	b.messages = nil
	return out
}

const patience = 40 * time.Second

// Do runs actions, for a while at the most.
func (b *Browser) Do(actions ...chromedp.Action) error {
	ctx, cancel := context.WithTimeout(b.Context, patience)
	defer cancel()
	return chromedp.Run(ctx, actions...)
}

// Size sets the window, in CSS pixels; below 600 it is a phone.
func Size(width, height int64) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		return emulation.SetDeviceMetricsOverride(width, height, 1, width < 600).Do(ctx)
	})
}

// Dark chooses the paper that the system wants.
func Dark(dark bool) chromedp.Action {
	value := "light"
	if dark {
		value = "dark"
	}
	return emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: value}})
}

// Text waits until some text stands on the page, all white space made single.
func Text(text string) chromedp.Action {
	return chromedp.Poll(fmt.Sprintf(`document.body.innerText.replace(/\s+/g, " ").includes(%q)`, text), nil, chromedp.WithPollingInterval(50*time.Millisecond))
}

// Click clicks the one button or link with this text.
func Click(text string) chromedp.Action {
	xpath := fmt.Sprintf(`//*[self::button or self::a or self::summary or @role="menuitem"][normalize-space(.)=%q and not(@disabled)]`, text)
	return chromedp.ActionFunc(func(ctx context.Context) error {
		for range clickTries {
			tasks := chromedp.Tasks{chromedp.WaitVisible(xpath, chromedp.BySearch), stands(xpath), hears(text), chromedp.Click(xpath, chromedp.BySearch, chromedp.NodeVisible)}
			if err := tasks.Do(ctx); err != nil {
				return err
			}
			if arrived(ctx) {
				return nil
			}
		}
		return fmt.Errorf("clicks on %q do not arrive there: something lies over it, or it is made anew all the time", text)
	})
}

// A click that does not arrive, because something lay over its target until then, or its
// target was made anew under the pointer, is made again, as a person would.
const (
	clickTries    = 5
	arrivesWithin = 2 * time.Second
)

// hears has it noted when a click arrives at what has this text, even if that is made anew.
func hears(text string) chromedp.Action {
	return chromedp.Evaluate(fmt.Sprintf(`(() => {
		window.clickArrived = false
		document.addEventListener('click', function heard(e) {
			const n = e.target.closest('button, a, summary, [role=menuitem]')
			if (n && n.textContent.replace(/\s+/g, ' ').trim() === %q) {
				window.clickArrived = true
				document.removeEventListener('click', heard, true)
			}
		}, true)
	})()`, text), nil)
}

// arrived says whether it has; what led to another document has as well.
func arrived(ctx context.Context) bool {
	for began := time.Now(); time.Since(began) < arrivesWithin; time.Sleep(standsEvery) {
		missed := true
		if err := chromedp.Evaluate(`window.clickArrived === false`, &missed).Do(ctx); err != nil || !missed {
			return true
		}
	}
	return false
}

// How long something may take until it stands still, and how often it is looked at.
const (
	standsWithin = 5 * time.Second
	standsEvery  = 80 * time.Millisecond
)

// stands waits until an element stays where it is: what loads beside it may push it away
// under the pointer.
func stands(xpath string) chromedp.Action {
	where := fmt.Sprintf(`(() => {
		const n = document.evaluate(%q, document, null, XPathResult.FIRST_ORDERED_NODE_TYPE, null).singleNodeValue
		if (!n) return ''
		n.scrollIntoViewIfNeeded()
		const r = n.getBoundingClientRect()
		return [r.x, r.y, r.width, r.height].join(' ')
	})()`, xpath)
	return chromedp.ActionFunc(func(ctx context.Context) error {
		last := ""
		for began := time.Now(); time.Since(began) < standsWithin; time.Sleep(standsEvery) {
			var now string
			if err := chromedp.Evaluate(where, &now).Do(ctx); err != nil {
				return err
			}
			if now != "" && now == last {
				return nil
			}
			last = now
		}
		return nil // the click says what is wrong
	})
}

// Visit goes to an address, and does not wait for the page: look for what
// should stand on it.
func Visit(url string) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		_, _, _, _, err := page.Navigate(url).Do(ctx)
		return err
	})
}

// LogIn logs in on the log-in page.
func LogIn(url, account, password string) chromedp.Action {
	return chromedp.Tasks{
		chromedp.Navigate(url), chromedp.WaitVisible(`input[type=password]`, chromedp.ByQuery),
		chromedp.Evaluate(`document.querySelector('input[autocomplete=username]').select()`, nil),
		chromedp.SendKeys(`input[autocomplete=username]`, account, chromedp.ByQuery),
		chromedp.SendKeys(`input[type=password]`, password, chromedp.ByQuery), Click("Log in"),
	}
}

// Thin makes the link thin, latency in ms there and back and rate in bytes a second, and
// counts what goes over it.
func (b *Browser) Thin(latency, rate float64, bytes, requests *atomic.Int64) chromedp.Action {
	return chromedp.ActionFunc(func(ctx context.Context) error {
		chromedp.ListenTarget(b.Context, func(ev any) {
			switch ev := ev.(type) {
			case *network.EventRequestWillBeSent:
				requests.Add(1)
			case *network.EventDataReceived:
				bytes.Add(ev.EncodedDataLength)
			}
		})
		if err := network.Enable().Do(ctx); err != nil {
			return err
		}
		return network.EmulateNetworkConditions(false, latency, rate, rate).Do(ctx)
	})
}
