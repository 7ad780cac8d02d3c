package bench

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/browser"
	"plumbbob/internal/service"
	"plumbbob/web"
)

// BenchmarkConsole: the board of 5,000 devices in headless Chromium, fed by their
// answers. ready-ms is from the press on "Log in" until its rows stand there; p95-ms is of
// the frames while all of its rows, unfolded, are scrolled through, against a bare table
// of the same texts in the same browser.
func BenchmarkConsole(b *testing.B) {
	w := newWatched(b, web.Console())
	w.settled(b)
	page, err := browser.Open(b.Context())
	require.NoError(b, err)
	b.Cleanup(page.Close)
	there := func(do ...chromedp.Action) float64 {
		began := time.Now()
		require.NoError(b, page.Do(append(do, chromedp.WaitReady(`tbody tr`, chromedp.ByQuery))...))
		return time.Since(began).Seconds() * 1000
	}
	require.NoError(b, page.Do(browser.Size(1280, 800)))
	first := there(browser.LogIn(w.URL, service.FirstAccount, w.FirstPassword))
	again := there(chromedp.Navigate("about:blank"), browser.Visit(w.URL))
	const unfold = `document.querySelector('tbody button[aria-expanded=false]').click()`
	require.NoError(b, page.Do(chromedp.Evaluate(unfold, nil), browser.Text("fold what is steady")))
	bare := httptest.NewServer(http.HandlerFunc(func(out http.ResponseWriter, _ *http.Request) {
		out.Header().Set("Content-Type", "text/html; charset=utf-8")
		_, _ = fmt.Fprint(out, `<!doctype html><table>`)
		for _, d := range w.board(b).Devices {
			_, _ = fmt.Fprintf(out, "<tr><td>%s %s<td>%s<td>%s<td>%s</tr>", d.Key, d.Verdict.State, d.Words, "–", d.Verdict.Since)
		}
		_, _ = fmt.Fprint(out, `</table>`)
	}))
	b.Cleanup(bare.Close)
	b.Run("board", func(b *testing.B) {
		scroll(b, page)
		b.ReportMetric(first, "ready-ms")
		b.ReportMetric(again, "reload-ms")
	})
	b.Run("bare", func(b *testing.B) {
		require.NoError(b, page.Do(chromedp.Navigate(bare.URL)))
		scroll(b, page)
	})
}

func awaited(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }

// BenchmarkThinLink: the same board on a phone with 600 ms and 30 kB/s, from a log-in page
// that is there to the rows. link-s is what the bytes that travel take on the link alone.
func BenchmarkThinLink(b *testing.B) {
	w := newWatched(b, web.Console())
	w.settled(b)
	page, err := browser.Open(b.Context())
	require.NoError(b, err)
	b.Cleanup(page.Close)
	// What is loaded once is there already, as on every visit but the first.
	require.NoError(b, page.Do(browser.Size(390, 844), chromedp.Navigate(w.URL), chromedp.WaitReady(`input[type=password]`, chromedp.ByQuery), chromedp.Sleep(2*time.Second)))
	var bytes, requests atomic.Int64
	require.NoError(b, page.Do(page.Thin(latency, rate, &bytes, &requests)))
	for b.Loop() {
		bytes.Store(0)
		began := time.Now()
		require.NoError(b, page.Do(browser.LogIn(w.URL, service.FirstAccount, w.FirstPassword), chromedp.WaitReady(`tbody tr`, chromedp.ByQuery)))
		b.ReportMetric(time.Since(began).Seconds(), "board-s")
		b.ReportMetric(float64(bytes.Load())/rate+latency/1000, "link-s")
		b.ReportMetric(float64(bytes.Load())/1000, "kB")
	}
}

const (
	latency = 600  // ms there and back
	rate    = 30e3 // bytes a second
)

// scroll goes down the page for five seconds, five screens a second: a quick thumb.
func scroll(b *testing.B, page *browser.Browser) {
	const frames = `new Promise(done => {
		const took = []
		const began = performance.now()
		let last = began
		const step = now => {
			took.push(now - last)
			last = now
			scrollTo(0, 5 * innerHeight * (now - began) / 1000)
			if (now - began < 5000) requestAnimationFrame(step)
			else done(took.slice(2))
		}
		requestAnimationFrame(step)
	})`
	for b.Loop() {
		var took []float64
		require.NoError(b, page.Do(chromedp.Evaluate(frames, &took, awaited)))
		slices.Sort(took)
		b.ReportMetric(took[len(took)*95/100], "p95-ms")
		b.ReportMetric(float64(len(took))/5, "frames/s")
	}
}
