package bench

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/service"
	"plumbbob/internal/store/storetest"
)

var noConsole = fstest.MapFS{"index.html": {Data: []byte("x")}}

// watched is a running service with 5,000 devices that each answer an echo
// request every 10 s.
type watched struct {
	*service.Service
	client *http.Client
	token  string
}

func newWatched(b *testing.B, console fs.FS) *watched {
	w := newService(b, console)
	var text strings.Builder
	text.WriteString("plumb-estate: 1\nname: Many\nstandpoint: here\nsites:\n  s: {name: S, zone: UTC}\ndevices:\n  here: {site: s, role: server}\n")
	for i := range targets {
		fmt.Fprintf(&text, "  box-%d: {site: s, role: box, network: [here], probes: [{icmp: %s, every: 10s}]}\n", i, target(i))
	}
	w.send(b, "PUT", "/api/v1/estate", map[string]string{"text": text.String()})
	return w
}

// newService is a running service without an estate.
func newService(b *testing.B, console fs.FS) *watched {
	s, err := service.Open(b.Context(), service.Options{
		DataDir: b.TempDir(), Database: storetest.Config(b).FormatDSN(), Listen: "127.0.0.1:0", Gate: "127.0.0.1:0",
		Console: console, Log: slog.New(slog.DiscardHandler),
	})
	require.NoError(b, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	b.Cleanup(func() { stop(); <-ended })
	w := &watched{Service: s, client: &http.Client{Transport: &http.Transport{MaxConnsPerHost: 300, MaxIdleConnsPerHost: 300}}}
	var token contract.Token
	require.NoError(b, json.Unmarshal(w.send(b, "POST", "/api/v1/tokens", map[string]string{"account": service.FirstAccount, "password": s.FirstPassword}), &token))
	w.token = token.Token
	return w
}

func (w *watched) send(b testing.TB, method, path string, body any) []byte {
	text, err := json.Marshal(body)
	require.NoError(b, err)
	req, err := http.NewRequestWithContext(b.Context(), method, w.URL+path, bytes.NewReader(text))
	require.NoError(b, err)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Authorization", "Bearer "+w.token)
	res, err := w.client.Do(req)
	require.NoError(b, err)
	defer func() { _ = res.Body.Close() }()
	got, err := io.ReadAll(res.Body)
	require.NoError(b, err)
	require.Less(b, res.StatusCode, 300, "%s %s: %.300s", method, path, got)
	return got
}

func (w *watched) board(b testing.TB) (board contract.Board) {
	require.NoError(b, json.Unmarshal(w.send(b, "GET", "/api/v1/board", nil), &board))
	return board
}

// settled waits until every device is believed to be well.
func (w *watched) settled(b *testing.B) {
	require.Eventually(b, func() bool {
		return !slices.ContainsFunc(w.board(b).Devices, func(d contract.DeviceSummary) bool { return d.Verdict.State != "steady" })
	}, 2*time.Minute, time.Second)
}

// BenchmarkIdle: what 5,000 devices cost that are well, with nobody looking: CPU
// in percent of one core, and memory for each.
func BenchmarkIdle(b *testing.B) {
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	w := newWatched(b, noConsole)
	w.settled(b)
	const span = 20 * time.Second
	for b.Loop() {
		used := cpu(b)
		time.Sleep(span)
		b.ReportMetric(100*(cpu(b)-used).Seconds()/span.Seconds(), "%core")
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	b.ReportMetric(float64(after.HeapInuse+after.StackInuse-before.HeapInuse-before.StackInuse)/targets/1024, "KiB/device")
	runtime.KeepAlive(w)
}

const streams = 200

// BenchmarkPages: boards and devices served while 200 clients listen to the
// stream, four requests at a time, and the same bytes by a bare Echo handler.
func BenchmarkPages(b *testing.B) {
	w := newWatched(b, noConsole)
	w.settled(b)
	listen := func(url string) {
		req, err := http.NewRequestWithContext(b.Context(), "GET", url, nil)
		require.NoError(b, err)
		req.Header.Set("Authorization", "Bearer "+w.token)
		res, err := w.client.Do(req)
		require.NoError(b, err)
		go func() {
			_, _ = io.Copy(io.Discard, res.Body)
			_ = res.Body.Close()
		}()
	}
	for range streams {
		listen(w.URL + "/api/v1/events")
	}
	for name, path := range map[string]string{"board": "/api/v1/board", "device": "/api/v1/devices/box-77"} {
		text := w.send(b, "GET", path, nil)
		e := echo.New()
		e.GET("/*", func(c *echo.Context) error { return c.Blob(http.StatusOK, "application/json", text) })
		bare := httptest.NewServer(e)
		b.Run(name+"/bare", func(b *testing.B) {
			(&watched{Service: &service.Service{URL: bare.URL}, client: w.client}).ask(b, path)
		})
		b.Run(name+"/service", func(b *testing.B) { w.ask(b, path) })
		bare.Close()
	}
}

// ask asks again and again, four at a time.
func (w *watched) ask(b *testing.B, path string) {
	var mu sync.Mutex
	var took []time.Duration
	var all sync.WaitGroup
	left := make(chan struct{}, b.N)
	for range b.N {
		left <- struct{}{}
	}
	close(left)
	for range 4 {
		all.Go(func() {
			for range left {
				began := time.Now()
				w.send(b, "GET", path, nil)
				mu.Lock()
				took = append(took, time.Since(began))
				mu.Unlock()
			}
		})
	}
	all.Wait()
	slices.Sort(took)
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "requests/s")
	b.ReportMetric(took[len(took)*99/100].Seconds()*1000, "p99-ms")
}

// BenchmarkFlood: boards served to somebody who is in, while nobody else asks, and while
// a thousand at once try passwords, again and again.
func BenchmarkFlood(b *testing.B) {
	w := newWatched(b, noConsole)
	w.settled(b)
	b.Run("quiet", func(b *testing.B) { w.ask(b, "/api/v1/board") })
	ctx, stop := context.WithCancel(b.Context())
	var guessing sync.WaitGroup
	strangers := &http.Client{Transport: &http.Transport{MaxConnsPerHost: 1000, MaxIdleConnsPerHost: 1000}}
	for i := range 1000 {
		guessing.Go(func() {
			for ctx.Err() == nil {
				req, err := http.NewRequestWithContext(ctx, "POST", w.URL+"/api/v1/tokens", strings.NewReader(fmt.Sprintf(`{"account":"guess%d","password":"a guess"}`, i)))
				if err != nil {
					return
				}
				req.Header.Set("Content-Type", "application/json")
				if res, err := strangers.Do(req); err == nil {
					_, _ = io.Copy(io.Discard, res.Body)
					_ = res.Body.Close()
				}
				time.Sleep(time.Second)
			}
		})
	}
	b.Run("flooded", func(b *testing.B) { w.ask(b, "/api/v1/board") })
	stop()
	guessing.Wait()
}
