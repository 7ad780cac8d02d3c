package watch

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
)

var errStop = errors.New("stopped")

// card is a driver that answers at once, or never.
type card struct{ silent bool }

func (c card) ReadOutlets(ctx context.Context) (reading.Outlets, error) {
	if c.silent {
		<-ctx.Done()
		return reading.Outlets{}, ctx.Err()
	}
	return reading.Outlets{}, nil
}
func (card) SwitchOutlet(context.Context, int, bool) error { return nil }
func (card) Close() error                                  { return nil }

func cards(t *testing.T, names ...estate.Key) *estate.Estate {
	devices := []estate.Device{{Key: "here", Site: "s", Role: "server"}}
	for _, k := range names {
		devices = append(devices, estate.Device{Key: k, Site: "s", Role: "pdu", Endpoints: []estate.Endpoint{{
			Name: "card", Every: 10 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "here"}}},
		}}})
	}
	e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, devices)
	require.Empty(t, problems)
	return e
}

// counting watches some cards on fake time, and counts who was asked how often.
func counting(t *testing.T, span time.Duration, e *estate.Estate, also func(context.Context, *Watcher)) map[estate.Key]int {
	var mu sync.Mutex
	seen := map[estate.Key]int{}
	w := New(Sources{
		Open: func(id estate.EndpointID) (gear.Driver, error) { return card{silent: id.Device == "silent"}, nil },
		Bus: hearing(func(o observation.Observation) {
			mu.Lock()
			seen[o.Device]++
			mu.Unlock()
		}),
	})
	ctx, cancel := context.WithTimeoutCause(t.Context(), span, errStop)
	defer cancel()
	go func() {
		w.SetEstate(ctx, e)
		also(ctx, w)
	}()
	require.ErrorIs(t, w.Run(ctx), errStop)
	return seen
}

func TestASilentEndpointDoesNotDelayItsNeighbour(t *testing.T) {
	synctest.Test(t, func(t *testing.T) { // also fails if a goroutine outlives Run
		seen := counting(t, 65*time.Second, cards(t, "silent", "well"), func(context.Context, *Watcher) {})
		require.InDelta(t, 8, seen["well"], 1)
		require.Greater(t, seen["silent"], 3)
	})
}

// TestAMassOutageDoesNotSlowTheWatch: 3,000 of 5,000 endpoints are silent for their
// whole time-out, and the rest are asked as often as ever. A silence among them is
// confirmed as soon as it is for one alone.
func TestAMassOutageDoesNotSlowTheWatch(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var names []estate.Key
		for i := range 5000 {
			name := estate.Key(fmt.Sprintf("well-%d", i))
			if i%5 < 3 {
				name = estate.Key(fmt.Sprintf("silent-%d", i))
			}
			names = append(names, name)
		}
		e := cards(t, names...)
		var mu sync.Mutex
		asked, misses, confirmed := map[estate.Key]int{}, map[estate.Key]int{}, map[estate.Key]time.Duration{}
		began := time.Now()
		w := New(Sources{
			Open: func(id estate.EndpointID) (gear.Driver, error) {
				return card{silent: strings.HasPrefix(string(id.Device), "silent")}, nil
			},
			Bus: hearing(func(o observation.Observation) {
				mu.Lock()
				defer mu.Unlock()
				k := o.Device
				asked[k]++
				if !o.Result.OK && !o.Beside {
					if misses[k]++; misses[k] == verdict.SilentAfter {
						confirmed[k] = time.Since(began)
					}
				}
			}),
		})
		const span = 5 * time.Minute
		ctx, cancel := context.WithTimeoutCause(t.Context(), span, errStop)
		defer cancel()
		go w.SetEstate(ctx, e)
		require.ErrorIs(t, w.Run(ctx), errStop)
		for k, n := range asked {
			if strings.HasPrefix(string(k), "well") {
				require.Greater(t, float64(n), span.Seconds()/(1.2*10), "%s is asked too seldom", k)
			}
		}
		require.Len(t, confirmed, 3000)
		late := 0
		for _, took := range confirmed {
			if took > 30*time.Second {
				late++
			}
		}
		require.Zero(t, late, "of 3,000 silences confirmed late")
	})
}

// panicking is a driver with a fault.
type panicking struct{ card }

func (panicking) ReadOutlets(context.Context) (reading.Outlets, error) {
	panic("index out of range")
}

func TestADriverThatPanicsTakesNothingDown(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		e := cards(t, "bad", "well")
		failed, heard := 0, 0
		var mu sync.Mutex
		w := New(Sources{
			Open: func(id estate.EndpointID) (gear.Driver, error) {
				if id.Device == "bad" {
					return panicking{}, nil
				}
				return card{}, nil
			},
			Bus: hearing(func(o observation.Observation) {
				mu.Lock()
				defer mu.Unlock()
				if o.Device == "well" && o.Result.OK {
					heard++
				} else if !o.Beside {
					require.True(t, o.Result.Refused, "it is there, and cannot be used: %s", o.Result.Why)
				}
			}),
		})
		w.from.Bus.Broken.Listen(func(x bus.Broken) {
			mu.Lock()
			defer mu.Unlock()
			require.Equal(t, estate.Key("bad"), x.Endpoint.Device)
			require.Contains(t, x.Where, "ReadOutlets")
			failed++
		})
		ctx, cancel := context.WithTimeoutCause(t.Context(), 35*time.Second, errStop)
		defer cancel()
		go w.SetEstate(ctx, e)
		require.ErrorIs(t, w.Run(ctx), errStop)
		require.GreaterOrEqual(t, heard, 3)
		require.Positive(t, failed)
	})
}

func TestCloseWatch(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		seen := counting(t, 30*time.Second, cards(t, "a", "b"), func(ctx context.Context, w *Watcher) {
			time.Sleep(5 * time.Second)
			stop := w.Closely(ctx, []estate.Key{"a"})
			time.Sleep(10 * time.Second)
			stop()
		})
		require.InDelta(t, 23, seen["a"], 2, "every half second for ten seconds, and its type plate once")
		require.InDelta(t, 4, seen["b"], 1)
	})
}

// TestALook: asks at once, and waits for those who answer, and no longer than it may for
// those who do not.
func TestALook(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		seen := counting(t, 30*time.Second, cards(t, "a", "silent"), func(ctx context.Context, w *Watcher) {
			time.Sleep(5 * time.Second)
			began := time.Now()
			require.NoError(t, w.Look(ctx, []estate.Key{"a"}))
			require.Less(t, time.Since(began), time.Second)
			require.NoError(t, w.Look(ctx, []estate.Key{"silent"}))
			require.NoError(t, w.Look(ctx, []estate.Key{"gone"}), "there is nobody to ask")
			short, cancel := context.WithTimeout(ctx, time.Millisecond)
			defer cancel()
			require.Error(t, w.Look(short, []estate.Key{"silent"}))
		})
		require.InDelta(t, 5, seen["a"], 1)
	})
}

func TestASilenceIsExplainedAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		e := cards(t, "pdu")
		devices := append(e.Devices, estate.Device{
			Key: "silent", Site: "s", Role: "pdu", Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", 1)}},
			Endpoints: []estate.Endpoint{{Name: "card", Every: 3 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "here"}}}}},
		})
		devices[1].Endpoints[0].Every = time.Hour
		devices[1].Outlets = []estate.Outlet{{Number: 1}}
		e, problems := estate.New("t", "here", e.Sites, devices)
		require.Empty(t, problems)
		seen := counting(t, 40*time.Second, e, func(context.Context, *Watcher) {})
		require.Equal(t, 4, seen["pdu"], "once at the start, with its type plate, and when what hangs on it missed a question, and fell silent")
	})
}

func TestProbes(t *testing.T) {
	status := http.StatusOK
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }))
	defer s.Close()
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody := closed.Addr().String()
	require.NoError(t, closed.Close())
	w := New(Sources{})
	ask := func(kind estate.ProbeKind, target string) error {
		_, err := w.probe(t.Context(), estate.Probe{Kind: kind, Target: target}, time.Second)
		return err
	}
	require.NoError(t, ask(estate.TCP, s.Listener.Addr().String()))
	require.EqualError(t, ask(estate.TCP, nobody), "refuses the connection")
	require.NoError(t, ask(estate.HTTP, s.URL))
	status = http.StatusNotFound
	require.NoError(t, ask(estate.HTTP, s.URL), "it answers, whatever it thinks of the address")
	status = http.StatusBadGateway
	require.EqualError(t, ask(estate.HTTP, s.URL), "gives status 502")
	for _, wrong := range []error{ask(estate.HTTP, s.URL), ask(estate.TCP, nobody), ask(estate.HTTP, "https://"+s.Listener.Addr().String())} {
		var heard *heardError
		require.ErrorAs(t, wrong, &heard, "its host has answered")
	}
	require.Error(t, ask(estate.ICMP, "127.0.0.1"), "without a socket for it")
}

// hearing is a bus on which one listens to what is observed.
func hearing(f func(observation.Observation)) *bus.Bus {
	b := &bus.Bus{}
	b.Observed.Listen(f)
	return b
}
