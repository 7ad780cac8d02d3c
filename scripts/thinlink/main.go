// Thinlink goes from a first visit to a cycled outlet on a phone with a thin link (600 ms,
// 30 kB/s by default), against a running demo in which skarvoe-router hangs, and says of
// each step how long it took, what travelled, and how long that takes on the link alone:
//
//	bin/plumb-lab fault hang skarvoe-router && go run ./scripts/thinlink
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"github.com/chromedp/chromedp"

	"plumbbob/internal/browser"
)

var (
	url     = flag.String("url", "http://127.0.0.1:8025", "the console")
	account = flag.String("account", "admin", "who looks at it")
	file    = flag.String("password-file", ".demo/admin-password", "the file with their password")
	latency = flag.Float64("latency", 600, "ms that the link takes there and back")
	rate    = flag.Float64("rate", 30e3, "bytes that it carries in a second")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "thinlink:", err)
		os.Exit(1)
	}
}

func run() error {
	password, err := os.ReadFile(*file)
	if err != nil {
		return err
	}
	b, err := browser.Open(context.Background())
	if err != nil {
		return err
	}
	defer b.Close()
	var bytes, requests atomic.Int64
	if err := b.Do(browser.Size(390, 844), b.Thin(*latency, *rate, &bytes, &requests)); err != nil {
		return err
	}
	for _, step := range []struct {
		name string
		do   []chromedp.Action
	}{
		{"the log-in page, first visit", []chromedp.Action{browser.Visit(*url + "/login"), browser.Text("Log in")}},
		{"the board", []chromedp.Action{browser.LogIn(*url, *account, strings.TrimSpace(string(password))), browser.Text("skarvoe-router is hung")}},
		{"the device", []chromedp.Action{chromedp.Navigate(*url + "/devices/skarvoe-router"), browser.Text("Why we say hung")}},
		{"the preview", []chromedp.Action{browser.Click("Cycle outlet 3…"), browser.Text("Loses power: skarvoe-router")}},
		{"asked for", []chromedp.Action{tap, browser.Text("Switch outlet 3 off")}},
		{"its chart, behind it", []chromedp.Action{chromedp.Sleep(10 * time.Second)}},
		{"half a minute live", []chromedp.Action{chromedp.Sleep(30 * time.Second)}},
	} {
		bytes.Store(0)
		requests.Store(0)
		began := time.Now()
		if err := b.Do(step.do...); err != nil {
			return fmt.Errorf("%s: %w", step.name, err)
		}
		took, moved := time.Since(began).Seconds(), float64(bytes.Load())
		fmt.Printf("%-30s %5.1f s  %6.1f kB in %d requests; on the link alone %.1f s\n", step.name, took, moved/1000, requests.Load(), moved / *rate + *latency/1000)
	}
	return nil
}

// tap asks for what the panel offers, as a finger does: where the button is now.
var tap = chromedp.ActionFunc(func(ctx context.Context) error {
	var at struct{ X, Y float64 }
	const middle = `(() => { const r = document.querySelector("button[type=submit]").getBoundingClientRect(); return {X: r.x + r.width / 2, Y: r.y + r.height / 2} })()`
	if err := chromedp.Evaluate(middle, &at).Do(ctx); err != nil {
		return err
	}
	return chromedp.MouseClickXY(at.X, at.Y).Do(ctx)
})
