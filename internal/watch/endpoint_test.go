package watch

import (
	"context"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// box is a controller that counts what it is asked; a slow one takes its time.
type box struct {
	mu     sync.Mutex
	asked  map[string]int
	silent bool
	slow   time.Duration
}

func (b *box) ask(ctx context.Context, what string) error {
	b.mu.Lock()
	b.asked[what]++
	silent := b.silent
	b.mu.Unlock() // fake time stands still while somebody waits for a lock
	if silent {
		return &gear.Error{Kind: gear.Unreachable, Text: "its controller does not answer"}
	}
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(b.slow):
		return nil
	}
}

func (b *box) mute(silent bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.silent = silent
}

func (b *box) ReadChassis(ctx context.Context) (reading.Chassis, error) {
	return reading.Chassis{On: true}, b.ask(ctx, "chassis")
}
func (b *box) CommandChassis(context.Context, gear.ChassisCommand) error { return nil }
func (b *box) ReadSensors(ctx context.Context) ([]reading.Sensor, error) {
	return []reading.Sensor{{Name: "Inlet"}}, b.ask(ctx, "sensors")
}
func (b *box) ReadEvents(ctx context.Context) (reading.EventLog, error) {
	return reading.EventLog{Version: "v"}, b.ask(ctx, "events")
}
func (b *box) ClearEvents(context.Context, string) error { return nil }
func (b *box) ReadSheet(ctx context.Context) (reading.Sheet, error) {
	return reading.Sheet{Serial: "1"}, b.ask(ctx, "sheet")
}
func (b *box) Weaknesses(ctx context.Context) ([]reading.Weakness, error) {
	return nil, b.ask(ctx, "weaknesses")
}
func (b *box) Close() error { return nil }

// boxes watches some controllers for a while, on fake time.
func boxes(t *testing.T, span time.Duration, all map[estate.Key]*box, also func(context.Context, *Watcher)) []observation.Observation {
	devices := []estate.Device{{Key: "here", Site: "s", Role: "server"}}
	for k, b := range all {
		b.asked = map[string]int{}
		var network []estate.NetworkCable
		if k != "switch" && all["switch"] != nil {
			network = []estate.NetworkCable{{Via: estate.End{Device: "switch"}}}
		}
		devices = append(devices, estate.Device{Key: k, Site: "s", Role: "server", Network: network, Endpoints: []estate.Endpoint{{
			Name: "bmc", Protocol: estate.IPMI, Every: 5 * time.Second, Sensors: 30 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "here"}}},
		}}})
	}
	e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, devices)
	require.Empty(t, problems)
	var mu sync.Mutex
	var seen []observation.Observation
	w := New(Sources{
		Open: func(id estate.EndpointID) (gear.Driver, error) { return all[id.Device], nil },
		Bus:  hearing(func(o observation.Observation) { mu.Lock(); defer mu.Unlock(); seen = append(seen, o) }),
	})
	ctx, cancel := context.WithTimeoutCause(t.Context(), span, errStop)
	defer cancel()
	go func() { w.SetEstate(ctx, e); also(ctx, w) }()
	require.ErrorIs(t, w.Run(ctx), errStop)
	return seen
}

// TestWhatControllersAreAsked: the chassis often, the sensors and the log now
// and then, what hardly changes seldom; and again at once after a hint.
func TestWhatControllersAreAsked(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		b := &box{}
		seen := boxes(t, 5*time.Minute, map[estate.Key]*box{"host": b}, func(ctx context.Context, w *Watcher) {
			time.Sleep(100 * time.Second)
			w.Again(ctx, "host")
			w.Again(ctx, "nobody")
		})
		require.InDelta(t, 60, b.asked["chassis"], 5)
		require.InDelta(t, 11, b.asked["sensors"], 2)
		require.Equal(t, b.asked["sensors"], b.asked["events"])
		require.Equal(t, 2, b.asked["sheet"])
		beside := 0
		for _, o := range seen {
			require.True(t, o.Result.OK)
			if o.Beside {
				beside++
				require.NotContains(t, kinds(o), observation.Chassis{}.Kind(), "what is asked beside its state says nothing about that")
			}
		}
		require.Equal(t, b.asked["sensors"]+b.asked["sheet"], beside)
	})
}

// TestTheSwitchIsAskedWhoIsThere: when a device on one of its ports falls silent, and
// when it is back.
func TestTheSwitchIsAskedWhoIsThere(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		host := &box{}
		port := &box{}
		asked := func() int {
			port.mu.Lock()
			defer port.mu.Unlock()
			return port.asked["sheet"]
		}
		boxes(t, 10*time.Minute, map[estate.Key]*box{"host": host, "switch": port}, func(_ context.Context, w *Watcher) {
			time.Sleep(time.Minute)
			require.Equal(t, 1, asked())
			host.mute(true)
			time.Sleep(time.Minute)
			require.Equal(t, 2, asked(), "one has fallen silent")
			host.mute(false)
			time.Sleep(time.Minute)
			require.Equal(t, 3, asked(), "and is back")
		})
	})
}

// TestASilentControllerIsNotAskedForMore, and a slow one holds up no other.
func TestASilentControllerIsNotAskedForMore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		silent, slow, well := &box{silent: true}, &box{slow: 2 * time.Second}, &box{}
		boxes(t, 3*time.Minute, map[estate.Key]*box{"silent": silent, "slow": slow, "well": well}, func(context.Context, *Watcher) {})
		require.Zero(t, silent.asked["sensors"]+silent.asked["sheet"])
		require.InDelta(t, 36, well.asked["chassis"], 4)
		require.Greater(t, slow.asked["chassis"], 15)
		require.Positive(t, slow.asked["sensors"])
	})
}

// TestOutcomes: whoever refuses us is there.
func TestOutcomes(t *testing.T) {
	for kind, there := range map[gear.Kind]bool{
		gear.BadSecret: true, gear.NotPermitted: true, gear.Busy: true, gear.Malformed: true, gear.Unsupported: true, gear.Unreachable: false,
	} {
		r := outcome(time.Now(), &gear.Error{Kind: kind, Outcome: sending.Refused, Text: "because"})
		require.Equal(t, there, r.Refused, kind)
		require.False(t, r.OK)
		require.Equal(t, "because", r.Why)
	}
	require.True(t, outcome(time.Now(), nil).OK)
}

func kinds(o observation.Observation) []observation.Kind {
	out := []observation.Kind{}
	for _, p := range o.Brought {
		out = append(out, p.Kind())
	}
	return out
}
