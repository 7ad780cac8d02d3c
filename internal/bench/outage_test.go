package bench

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
	"plumbbob/internal/watch"
)

// reader is a driver that answers at once, or holds its question until that is
// given up.
type reader struct{ silent bool }

func (r reader) ReadOutlets(ctx context.Context) (reading.Outlets, error) {
	if r.silent {
		<-ctx.Done()
		return reading.Outlets{}, ctx.Err()
	}
	return reading.Outlets{}, nil
}
func (reader) SwitchOutlet(context.Context, int, bool) error { return nil }
func (reader) Close() error                                  { return nil }

// BenchmarkOutage: how often 2,000 healthy endpoints are asked of what they should
// be (every 10 s), beside 3,000 that are silent for their whole time-out of 3 s.
// Bare is the same 2,000 alone.
func BenchmarkOutage(b *testing.B) {
	const healthy, every, span = 2000, 10 * time.Second, 40 * time.Second
	for name, silent := range map[string]int{"bare": 0, "outage": 3000} {
		b.Run(name, func(b *testing.B) {
			list := []estate.Device{{Key: "here", Site: "s", Role: "server"}}
			for i := range healthy + silent {
				k := estate.Key(fmt.Sprintf("well-%d", i))
				if i >= healthy {
					k = estate.Key(fmt.Sprintf("silent-%d", i))
				}
				list = append(list, estate.Device{Key: k, Site: "s", Role: "pdu", Endpoints: []estate.Endpoint{{
					Name: "card", Every: every, Timeout: 3 * time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "here"}}},
				}}})
			}
			e, problems := estate.New("outage", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, list)
			require.Empty(b, problems)
			for b.Loop() {
				var asked atomic.Int64
				w := watch.New(watch.Sources{
					Open: func(id estate.EndpointID) (gear.Driver, error) {
						return reader{strings.HasPrefix(string(id.Device), "silent")}, nil
					},
					Bus: hearing(func(o observation.Observation) {
						if o.Result.OK && !o.Beside {
							asked.Add(1)
						}
					}),
				})
				ctx, stop := context.WithTimeout(b.Context(), span)
				go w.SetEstate(ctx, e)
				_ = w.Run(ctx)
				stop()
				b.ReportMetric(float64(asked.Load())/(healthy*span.Seconds()/every.Seconds()), "pace")
			}
		})
	}
}
