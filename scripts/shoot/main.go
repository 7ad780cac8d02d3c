// Shoot takes pictures of the console of a running demo:
//
//	go run ./scripts/shoot -password-file .demo/admin-password PATH=FILE.png …
//
// A path may be followed by options: PATH@390,tall,dark,wait:3s,click:TEXT,check:LABEL=FILE.png.
package main

import (
	"context"
	"flag"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"plumbbob/internal/browser"
)

func main() {
	url := flag.String("url", "http://127.0.0.1:8025", "the console")
	account := flag.String("account", "admin", "who looks at it")
	file := flag.String("password-file", ".demo/admin-password", "the file with their password")
	flag.Parse()
	if err := run(*url, *account, *file, flag.Args()); err != nil {
		fmt.Fprintln(os.Stderr, "shoot:", err)
		os.Exit(1)
	}
}

func run(url, account, file string, shots []string) error {
	password, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	b, err := browser.Open(context.Background())
	if err != nil {
		return err
	}
	defer b.Close()
	if err := b.Do(browser.Size(1280, 800), browser.LogIn(url, account, strings.TrimSpace(string(password))), browser.Text("devices")); err != nil {
		return err
	}
	for _, s := range shots {
		i := strings.LastIndex(s, "=")
		if err := shoot(b, url, s[:i], s[i+1:]); err != nil {
			return fmt.Errorf("%s: %w", s, err)
		}
	}
	for _, c := range b.Complaints() {
		fmt.Fprintln(os.Stderr, "the page complains:", c)
	}
	return nil
}

func shoot(b *browser.Browser, url, what, file string) error {
	path, options, _ := strings.Cut(what, "@")
	width, height, dark, wait := int64(1280), int64(800), false, 1200*time.Millisecond
	var clicks []chromedp.Action
	for o := range strings.SplitSeq(options, ",") {
		switch {
		case o == "390":
			width, height = 390, 844
		case o == "dark":
			dark = true
		case o == "tall":
			height = 1240
		case strings.HasPrefix(o, "click:"):
			clicks = append(clicks, browser.Click(strings.TrimPrefix(o, "click:")), chromedp.Sleep(1500*time.Millisecond))
		case strings.HasPrefix(o, "check:"):
			box := fmt.Sprintf(`input[aria-label=%q]`, strings.TrimPrefix(o, "check:"))
			clicks = append(clicks, chromedp.ScrollIntoView(box, chromedp.ByQuery), chromedp.Click(box, chromedp.ByQuery), chromedp.Sleep(500*time.Millisecond))
		case strings.HasPrefix(o, "wait:"):
			d, err := time.ParseDuration(strings.TrimPrefix(o, "wait:"))
			if err != nil {
				return err
			}
			wait = d
		}
	}
	var picture []byte
	look := append([]chromedp.Action{browser.Size(width, height), browser.Dark(dark), chromedp.Navigate(url + path), chromedp.Sleep(wait)}, clicks...)
	if err := b.Do(append(look, chromedp.CaptureScreenshot(&picture))...); err != nil {
		return err
	}
	return os.WriteFile(file, picture, 0o644)
}
