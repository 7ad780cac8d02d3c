package bench

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/broker"
	"plumbbob/internal/bus"
	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
	"plumbbob/internal/health"
	"plumbbob/internal/lab/video"
	"plumbbob/internal/store"
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
