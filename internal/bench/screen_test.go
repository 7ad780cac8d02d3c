package bench

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/broker"
	"plumbbob/internal/browser"
	"plumbbob/internal/bus"
	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/rfbgear"
	"plumbbob/internal/health"
	"plumbbob/internal/lab/video"
	"plumbbob/internal/service"
	"plumbbob/internal/store"
	"plumbbob/internal/wire/rfb"
	"plumbbob/web"
)

// glass is a screen that is drawn here.
type glass struct {
	c     *canvas.Canvas
	ended chan struct{}
}

func (g glass) Canvas() *canvas.Canvas         { return g.c }
func (g glass) Look(bool) error                { return nil }
func (g glass) Again() error                   { return nil }
func (g glass) Key(bool, uint32, uint16) error { return nil }
func (g glass) Point(int, int, uint8) error    { return nil }
func (g glass) Takes() gear.Takes              { return gear.Takes{Keys: true, Pointer: true} }
func (g glass) Ended() <-chan struct{}         { return g.ended }
func (g glass) Lights() (uint8, bool)          { return 0, false }
func (g glass) Err() error                     { return nil }
func (g glass) Close() error                   { return nil }
func (g glass) attach() (gear.Attached, error) { return g, nil }

// BenchmarkScreenViewers: a desktop on which something moves, 25 times a second for two seconds,
// to one who looks and to fifty. What it costs is the share of a core, its drawing included.
func BenchmarkScreenViewers(b *testing.B) {
	const frames = 50
	for _, viewers := range []int{0, 1, 50} {
		b.Run(fmt.Sprintf("%d-viewers", viewers), func(b *testing.B) {
			g := glass{canvas.New(1, 1), make(chan struct{})}
			desk := video.Desktop{Title: "ticket kiosk"}
			draw := func(n int) {
				p := desk.Draw(time.Unix(1000, 0).Add(time.Duration(n) * 40 * time.Millisecond))
				g.c.Take(p, []picture.Rect{{W: p.W, H: p.H}})
			}
			draw(0)
			room := broker.New(broker.Parts{
				Estate: estate.Empty, Bus: &bus.Bus{}, Health: health.New(slog.New(slog.DiscardHandler)), Record: func(store.Entry) {},
				Screens: func(estate.Key) ([]gear.View, error) {
					return []gear.View{{Name: "kvm", Attach: func(context.Context) (gear.Attached, error) { return g.attach() }}}, nil
				},
			})
			ctx, stop := context.WithCancel(context.Background())
			ran := make(chan error, 1)
			go func() { ran <- room.Run(ctx) }()
			var looking sync.WaitGroup
			var sent [50]int
			for i := range viewers {
				v := looksOn(b, room, fmt.Sprint("v", i))
				looking.Go(func() {
					for {
						n, err := v.Next(ctx, broker.Wants{Picture: true})
						if err != nil {
							return
						}
						sent[i] += len(n.Frame)
					}
				})
			}
			used, began := cpu(b), time.Now()
			for n := range frames {
				draw(n + 1)
				time.Sleep(40 * time.Millisecond)
			}
			b.ReportMetric(100*(cpu(b)-used).Seconds()/time.Since(began).Seconds(), "%core")
			stop()
			looking.Wait()
			<-ran
			b.ReportMetric(float64(sent[0])/frames, "B/frame")
		})
	}
}

// looksOn takes a seat once that can be.
func looksOn(b *testing.B, room *broker.Room, who string) (v *broker.View) {
	require.Eventually(b, func() (is bool) {
		var err error
		v, err = room.View("kiosk", seat.Seat{Who: who, Role: operation.Operator})
		return err == nil
	}, time.Minute, time.Millisecond)
	require.NoError(b, v.Up(context.Background(), time.Minute))
	return v
}

// shown is what a server shows of a canvas.
type shown struct{ *canvas.Canvas }

func (shown) Key(bool, uint32, uint16) {}
func (shown) Point(int, int, uint8)    {}

// aScreen is a served one of 1024 × 768, and what serves it.
func aScreen() (*canvas.Canvas, func(net.Conn)) {
	c := canvas.New(1, 1)
	c.Take(picture.New(1024, 768), nil)
	return c, func(conn net.Conn) {
		_ = rfb.Serve(context.Background(), conn, "a box", rfb.Door{}, shown{c}) // it ends with the connection
	}
}

// BenchmarkScreenPixel: from a pixel that changes at the far end to the picture in Chromium for
// which that was drawn, with the service in between: of 50, the one in the middle and the slowest
// but two. The far end has no frames of its own.
func BenchmarkScreenPixel(b *testing.B) {
	c, serve := aScreen()
	w := farBy(b, web.Console(), "{screen: {protocol: rfb, address: %q}}", serve)
	page, err := browser.Open(b.Context())
	require.NoError(b, err)
	b.Cleanup(page.Close)
	require.NoError(b, page.Do(browser.Size(1280, 800), browser.LogIn(w.URL, service.FirstAccount, w.FirstPassword), chromedp.WaitReady(`tbody tr`, chromedp.ByQuery), browser.Visit(w.URL+"/devices/host/screen")))
	const begin = `(() => {
		const put = CanvasRenderingContext2D.prototype.putImageData
		CanvasRenderingContext2D.prototype.putImageData = function (...how) {
			put.apply(this, how)
			const [image, x, y] = how
			const red = image.data[4 * ((300 - y) * image.width + 500 - x)]
			requestAnimationFrame(() => requestAnimationFrame(() => window.drawn?.(red, Date.now())))
		}
	})()`
	require.NoError(b, page.Do(chromedp.WaitReady(`canvas[width="1024"]`, chromedp.ByQuery), chromedp.Evaluate(begin, nil)))
	p := picture.New(1024, 768)
	for b.Loop() {
		var took []float64
		for n := range 50 {
			require.NoError(b, page.Do(chromedp.Evaluate(fmt.Sprintf(`void (window.will = new Promise(done => { window.drawn = (red, at) => red === %d && done(at) }))`, n+1), nil)))
			time.Sleep(20 * time.Millisecond) // not in step with anything
			p.Fill(picture.Rect{X: 500, Y: 300, W: 1, H: 1}, uint32(0x010101*(n+1)))
			began := time.Now()
			c.Take(p, []picture.Rect{{X: 500, Y: 300, W: 1, H: 1}})
			var at float64
			require.NoError(b, page.Do(chromedp.Evaluate(`window.will`, &at, awaited)))
			took = append(took, at-float64(began.UnixMicro())/1000)
		}
		slices.Sort(took)
		b.ReportMetric(took[len(took)/2], "median-ms")
		b.ReportMetric(took[len(took)-3], "p95-ms")
	}
}

// BenchmarkIdleScreen: what a screen of 1024 × 768 takes in memory at which somebody sits and
// nothing happens: its two pictures are 6 MiB, one as it was sent, and one that many look at. Of
// both ends.
func BenchmarkIdleScreen(b *testing.B) {
	_, serve := aScreen()
	address := farEnd(b, serve)
	const screens = 20
	for b.Loop() {
		before, routines := heap(), runtime.NumGoroutine()
		d, err := rfbgear.Open(rfbgear.Options{Name: "host", Addresses: []string{address}, Timeout: time.Minute})
		require.NoError(b, err)
		for range screens {
			a, err := d.Attach(b.Context())
			require.NoError(b, err)
			require.NoError(b, a.Look(true))
			require.Eventually(b, a.Canvas().Drawn, time.Minute, time.Millisecond)
		}
		b.ReportMetric(float64(heap()-before)/screens/(1<<20), "MiB/screen")
		b.ReportMetric(float64(runtime.NumGoroutine()-routines)/screens, "goroutines/screen")
		require.NoError(b, d.Close())
		time.Sleep(100 * time.Millisecond)
	}
}
