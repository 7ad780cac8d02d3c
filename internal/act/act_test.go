package act

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/keep"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
	"plumbbob/internal/watch"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const (
	soon  = 40 * time.Second
	often = 20 * time.Millisecond
)

// rooms is an actor with everything that it works with, on the lab.
type rooms struct {
	*testing.T
	*Actor
	lab   *labtest.Lab
	store *store.Store

	mu      sync.Mutex
	changes int
}

// open starts the rooms, and waits until all is steady and every controller
// has been read: a preview rests on both.
func open(t *testing.T, l *labtest.Lab, s *store.Store, ledger string) (*rooms, func()) {
	r, stop := start(t, l, s, ledger)
	require.Eventually(t, func() bool {
		for i := range l.Estate.Devices {
			d := &l.Estate.Devices[i]
			_, controlled := d.Controller()
			if _, read := r.Keeper.World().Evidence.Chassis[d.Key]; controlled && !read || r.Keeper.Verdict(d.Key).State != verdict.Steady {
				return false
			}
		}
		return true
	}, 3*soon, often, "all of the estate is judged, so that bystanders are known as such")
	return r, stop
}

// start starts the rooms on a lab and a store, as the service does.
func start(t *testing.T, l *labtest.Lab, s *store.Store, ledger string) (*rooms, func()) {
	r := &rooms{T: t, lab: l, store: s}
	log := slog.New(slog.DiscardHandler)
	g := garage.New()
	for name, v := range lab.Secrets {
		g.SetSecret(name, v)
	}
	g.SetEstate(l.Estate)
	b := &bus.Bus{}
	k := keep.New(s, log, b)
	k.SetEstate(l.Estate)
	w := watch.New(watch.Sources{Open: g.Open, Bus: b})
	var err error
	r.Actor, err = New(Parts{
		Store: s, Keeper: k, Watcher: w, Garage: g, Log: log, Ledger: ledger, Bus: b,
		Screen: func(k estate.Key) []string { return []string{"the screen of " + string(k)} },
	})
	b.Operations.Listen(func(*operation.Operation) {
		r.mu.Lock()
		r.changes++
		r.mu.Unlock()
	})
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { _ = w.Run(ctx) })
	running.Go(func() { _ = k.Run(ctx) })
	w.SetEstate(ctx, l.Estate)
	running.Go(func() { _ = r.Actor.Run(ctx) })
	return r, func() { stop(); running.Wait(); require.NoError(t, g.Close()) }
}

func (r *rooms) ask(in operation.Intent, c operation.Consent) (*operation.Operation, error) {
	return agreed(r, func() (*operation.Operation, error) {
		p, err := r.Preview(r.Context(), in, admin)
		require.NoError(r, err)
		return r.Request(r.Context(), Request{Intent: in, Digest: p.Digest, Consent: c, By: admin})
	})
}

// agreed looks and asks, and does so again when something has changed between the two,
// as a person would.
func agreed[T any](r *rooms, lookAndAsk func() (T, error)) (done T, err error) {
	for range 10 {
		done, err = lookAndAsk()
		var changed *ChangedError
		if !errors.As(err, &changed) {
			break
		}
		r.T.Log(err)
		require.NotEmpty(r, changed.What, "it is said in what")
	}
	return done, err
}

// lazy is worked out only when it is printed.
type lazy func() any

func (f lazy) String() string { return fmt.Sprint(f()) }

func (r *rooms) ends(id string) *operation.Operation {
	var o *operation.Operation
	require.Eventually(r, func() bool {
		var err error
		o, err = r.Find(r.Context(), id)
		return err == nil && o.State != operation.Running
	}, 6*soon, often, "%v", lazy(func() any { return o.Doing() }))
	return o
}

var admin = operation.Asker{Name: "admin", Role: operation.Keeper}

var kiosk = operation.Intent{Kind: operation.Cycle, Device: "skarvoe-kiosk", Means: operation.ByOutlet, Hold: operation.MinHold}

func TestWhatIsAgreedToMustStillHold(t *testing.T) {
	t.Parallel()
	r, stop := open(t, labtest.Start(t, labtest.Options{Speed: 60}), storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	_, err := r.Request(t.Context(), Request{Intent: kiosk, Digest: "of another preview", By: admin})
	var changed *ChangedError
	require.ErrorAs(t, err, &changed)
	require.NotEmpty(t, changed.Now.Digest)

	_, err = r.ask(operation.Intent{Kind: operation.Off, Device: "skarvoe-recorder"}, operation.Consent{})
	var refused *RefusedError
	require.ErrorAs(t, err, &refused)
	require.Equal(t, operation.LockGuarded, refused.Interlocks[0].Name)
	_, err = r.ask(operation.Intent{Kind: operation.Off, Device: "skarvoe-gate"}, operation.Consent{Override: []string{"unswitched"}, Why: "x"})
	require.ErrorAs(t, err, &refused)
	ops, err := r.List(t.Context(), store.OperationFilter{Limit: 9})
	require.NoError(t, err)
	require.Empty(t, ops, "nothing was begun")
}

func TestACycleFromEndToEnd(t *testing.T) {
	t.Parallel()
	r, stop := open(t, labtest.Start(t, labtest.Options{Speed: 60}), storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	p, err := r.Preview(t.Context(), kiosk, admin)
	require.NoError(t, err)
	asked := Request{Intent: kiosk, Digest: p.Digest, Consent: operation.Consent{Why: "frozen"}, By: admin, ID: "oncealone1"}
	o, err := r.Request(t.Context(), asked)
	require.NoError(t, err)
	again, err := r.Request(t.Context(), asked)
	require.NoError(t, err, "the answer was lost, perhaps")
	require.Equal(t, o.ID, again.ID)
	other := asked
	other.Intent.Kind = operation.Off
	_, err = r.Request(t.Context(), other)
	require.ErrorContains(t, err, "that key has been used before")
	_, err = r.ask(kiosk, operation.Consent{})
	var refused *RefusedError
	require.ErrorAs(t, err, &refused, "one at a time")
	require.Equal(t, operation.LockBusy, refused.Interlocks[0].Name)
	ended := r.ends(o.ID)
	require.Equal(t, operation.Done, ended.State, ended.Outcome(time.UTC))
	require.Contains(t, ended.Bystanders, estate.Key("skarvoe-recorder"))
	require.NotZero(t, ended.CameBackIn())
	require.Greater(t, r.changes, 5, "it was told about step by step")
	p, err = r.Preview(t.Context(), kiosk, admin)
	require.NoError(t, err, "and the outlet is free again")
	require.Empty(t, p.Interlocks)
	require.Equal(t, 1, p.Usual.N)
	_, err = r.Cancel(t.Context(), o.ID, "admin")
	require.ErrorIs(t, err, ErrEnded)
	asked.ID = ""
	_, err = r.Request(t.Context(), asked)
	var changed *ChangedError
	require.ErrorAs(t, err, &changed, "what was agreed to was done: it is not done again")
	require.Contains(t, changed.What, "operation "+o.ID+" was carried out since")
	_, err = r.Cancel(t.Context(), "nobody", "admin")
	require.ErrorIs(t, err, store.ErrNotFound)

	journal, err := r.store.Journal(t.Context(), store.JournalFilter{Limit: 9})
	require.NoError(t, err)
	require.Len(t, journal, 2)
	require.Equal(t, []string{"done", "asked"}, []string{journal[0].Result, journal[1].Result})
	require.InDelta(t, 41, *journal[0].BeforeW, 2)
}

// TestStoppedInTheMiddle: the service stops while power is owed; the next one
// takes the operation up, and the device is not made waking for ever.
func TestStoppedInTheMiddle(t *testing.T) {
	t.Parallel()
	l, s, ledger := labtest.Start(t, labtest.Options{Speed: 60}), storetest.Open(t), filepath.Join(t.TempDir(), "ledger")
	r, stop := open(t, l, s, ledger)
	o, err := r.ask(operation.Intent{Kind: operation.Cycle, Device: "skarvoe-kiosk", Means: operation.ByOutlet, Hold: 3 * time.Second}, operation.Consent{})
	require.NoError(t, err)
	end := estate.OutletEnd("skarvoe-pdu", 6)
	require.Eventually(t, func() bool { closed, _ := l.Contact(end); return !closed }, soon, often)
	stop()
	kept, err := s.Operation(t.Context(), o.ID)
	require.NoError(t, err)
	require.Equal(t, operation.Running, kept.State)
	closed, _ := l.Contact(end)
	require.False(t, closed, "it is off, and owed")

	r, stop = start(t, l, s, ledger)
	defer stop()
	ended := r.ends(o.ID)
	require.Equal(t, operation.Done, ended.State, ended.Outcome(time.UTC))
	closed, orders := l.Contact(end)
	require.True(t, closed)
	require.Equal(t, 2, orders)
}

// TestOffParksAndOnUnparks: what was meant to be off is on record as that.
func TestOffParksAndOnUnparks(t *testing.T) {
	t.Parallel()
	r, stop := open(t, labtest.Start(t, labtest.Options{Speed: 60}), storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	parked := func() (names []estate.Key) {
		all, err := r.store.AllParked(t.Context())
		require.NoError(t, err)
		for _, p := range all {
			names = append(names, p.Device)
		}
		return names
	}
	o, err := r.ask(operation.Intent{Kind: operation.Off, Device: "skarvoe-heater"}, operation.Consent{Why: "summer"})
	require.NoError(t, err)
	require.Equal(t, operation.Done, r.ends(o.ID).State)
	require.Equal(t, []estate.Key{"skarvoe-heater"}, parked())
	require.Eventually(t, func() bool { return r.Keeper.Verdict("skarvoe-heater").State == verdict.Parked }, soon, often)
	o, err = r.ask(operation.Intent{Kind: operation.On, Device: "skarvoe-heater"}, operation.Consent{})
	require.NoError(t, err)
	require.Equal(t, operation.Done, r.ends(o.ID).State)
	require.Empty(t, parked())
}
