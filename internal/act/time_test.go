package act

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/keep"
	"plumbbob/internal/store"
	"plumbbob/internal/watch"
)

// strip is a PDU on fake time: what it is told happens after a moment, and on
// is lost for as long as somebody wants.
type strip struct {
	mu    sync.Mutex
	on    bool
	deaf  time.Time // until then it does not hear on
	moved []time.Time
}

func (s *strip) Close() error { return nil }

func (s *strip) ReadOutlets(context.Context) (reading.Outlets, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	w := 0.0
	if s.on {
		w = 11
	}
	return reading.Outlets{Outlets: []reading.Outlet{{Number: 1, Switched: true, On: s.on, Metered: true, W: w}}}, nil
}

func (s *strip) SwitchOutlet(_ context.Context, _ int, on bool) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if on && time.Now().Before(s.deaf) {
		return &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: "it does not answer"}
	}
	s.on, s.moved = on, append(s.moved, time.Now())
	return nil
}

func (s *strip) isOn() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.on
}

func (s *strip) moves() []time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Clone(s.moved)
}

// onFakeTime runs f with an actor whose gear is a strip, and whose database is
// away: what is recorded is on disk all the same.
func onFakeTime(t *testing.T, s *strip, f func(ctx context.Context, a *Actor)) {
	t.Helper()
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		box := estate.Device{Key: "router", Site: "s", Role: "router", Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", 1)}}}
		pdu := estate.Device{
			Key: "pdu", Site: "s", Role: "pdu", Outlets: []estate.Outlet{{Number: 1}}, Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}},
			Endpoints: []estate.Endpoint{{Name: "card", Protocol: estate.SNMP, Profile: "lab-pdu", Every: 5 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "here"}}}}},
		}
		e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, []estate.Device{{Key: "here", Site: "s", Role: "server"}, pdu, box})
		require.Empty(t, problems)
		db, err := store.Prepare(&mysql.Config{Net: "unix", Addr: filepath.Join(dir, "nobody")})
		require.NoError(t, err)
		log := slog.New(slog.DiscardHandler)
		b := &bus.Bus{}
		k := keep.New(db, log, b)
		k.SetEstate(e)
		w := watch.New(watch.Sources{Open: func(estate.EndpointID) (gear.Driver, error) { return s, nil }, Bus: b})
		g := garage.New()
		g.SetEstate(e)
		a, err := New(Parts{
			Store: db, Keeper: k, Watcher: w, Garage: g, Log: log, Ledger: filepath.Join(dir, "ledger"), Bus: b,
			Command: func(ctx context.Context, c operation.Send) error {
				return s.SwitchOutlet(ctx, 1, c.Do == operation.SwitchOn)
			},
		})
		require.NoError(t, err)
		ctx, stop := context.WithCancelCause(t.Context())
		var running sync.WaitGroup
		for _, run := range []func(context.Context) error{w.Run, k.Run, a.Run} {
			running.Go(func() { _ = run(ctx) })
		}
		w.SetEstate(ctx, e)
		time.Sleep(20 * time.Second)
		f(ctx, a)
		stop(errors.New("the test is over"))
		running.Wait() // and nothing that was started outlives it
		require.NoError(t, db.Close())
	})
}

// cycle asks for a cycle of the router.
func cycle(t *testing.T, ctx context.Context, a *Actor, hold time.Duration) string {
	t.Helper()
	in := operation.Intent{Kind: operation.Cycle, Device: "router", Hold: hold}
	p, err := a.Preview(ctx, in, admin)
	require.NoError(t, err)
	o, err := a.Request(ctx, Request{Intent: in, Digest: p.Digest, By: admin})
	require.NoError(t, err)
	return o.ID
}

// stateOf is how an operation is, which only the ledger knows once it has ended.
func stateOf(a *Actor, id string) operation.State {
	for _, o := range a.ledger.newest() {
		if o.ID == id {
			return o.State
		}
	}
	return ""
}

// TestTheHoldIsKept: off for as long as was asked for, to the poll.
func TestTheHoldIsKept(t *testing.T) {
	s := &strip{on: true}
	onFakeTime(t, s, func(ctx context.Context, a *Actor) {
		id := cycle(t, ctx, a, 5*time.Minute)
		time.Sleep(6 * time.Minute)
		require.Equal(t, operation.Done, stateOf(a, id))
		moved := s.moves()
		require.Len(t, moved, 2)
		require.InDelta(t, 300, moved[1].Sub(moved[0]).Seconds(), 2)
	})
}

// TestPowerIsOwedForAsLongAsItTakes: the gear does not hear us for two hours;
// then power returns within a minute or so.
func TestPowerIsOwedForAsLongAsItTakes(t *testing.T) {
	s := &strip{on: true}
	onFakeTime(t, s, func(ctx context.Context, a *Actor) {
		s.deaf = time.Now().Add(2 * time.Hour)
		id := cycle(t, ctx, a, operation.MinHold)
		time.Sleep(2*time.Hour - time.Minute)
		require.Equal(t, operation.Running, stateOf(a, id), "it does not give up")
		require.False(t, s.isOn())
		time.Sleep(3 * time.Minute)
		require.True(t, s.isOn())
		require.Equal(t, operation.Done, stateOf(a, id))
		require.Len(t, s.moves(), 2)
	})
}

// TestACancelEndsTheWait: power comes back at once, and not at the end of the hold.
func TestACancelEndsTheWait(t *testing.T) {
	s := &strip{on: true}
	onFakeTime(t, s, func(ctx context.Context, a *Actor) {
		id := cycle(t, ctx, a, 10*time.Minute)
		time.Sleep(10 * time.Second)
		require.False(t, s.isOn())
		_, err := a.Cancel(ctx, id, "ann")
		require.NoError(t, err)
		time.Sleep(10 * time.Second)
		require.True(t, s.isOn())
		require.Equal(t, operation.Cancelled, stateOf(a, id))
	})
}
