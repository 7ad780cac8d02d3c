package keep

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// strip is a PDU with a lamp on its outlet 1 and a router on its outlet 2.
func strip(t *testing.T) *estate.Estate {
	here := []estate.NetworkCable{{Via: estate.End{Device: "here"}}}
	pdu := estate.Device{
		Key: "pdu", Site: "s", Role: "pdu", Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}},
		Outlets:   []estate.Outlet{{Number: 1}, {Number: 2}},
		Endpoints: []estate.Endpoint{{Name: "card", Protocol: estate.SNMP, Profile: "p", Every: time.Minute, Timeout: time.Second, Network: here}},
	}
	e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, []estate.Device{
		{Key: "here", Site: "s", Role: "server"}, pdu,
		{Key: "lamp", Site: "s", Role: "load", Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", 1)}}},
		{Key: "router", Site: "s", Role: "router", Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", 2)}}, Network: here, Probes: []estate.Probe{{Kind: estate.ICMP, Target: "192.0.2.1"}}},
	})
	require.Empty(t, problems)
	return e
}

type kept struct {
	*Keeper
	store *store.Store
	mu    sync.Mutex
	told  map[estate.Key]int
}

func newKept(t *testing.T, s *store.Store) *kept {
	k := &kept{told: map[estate.Key]int{}, store: s}
	b := &bus.Bus{}
	k.Keeper = New(s, slog.New(slog.DiscardHandler), b)
	b.Judged.Listen(func(keys []estate.Key) {
		k.mu.Lock()
		defer k.mu.Unlock()
		for _, key := range keys {
			k.told[key]++
		}
	})
	k.SetEstate(strip(t))
	return k
}

func (k *kept) poll(at time.Time, watts ...float64) {
	r := observation.Outlets{}
	for i, w := range watts {
		r.Outlets = append(r.Outlets, reading.Outlet{Number: i + 1, On: w > 0, Metered: true, Switched: true, W: w})
	}
	k.Observe(observation.Observation{Device: "pdu", Endpoint: "card", Result: verdict.Result{SentAt: at, OK: true}, Brought: observation.Payloads{r}})
}

func (k *kept) ping(at time.Time, ok bool) {
	k.Observe(observation.Observation{Device: "router", Result: verdict.Result{SentAt: at, OK: ok}})
}

func TestOnlyChangesAreTold(t *testing.T) {
	k := newKept(t, storetest.Open(t))
	now := time.Now()
	k.poll(now, 10, 11)
	k.ping(now, true)
	k.judge(now)
	k.judge(now)
	require.Equal(t, map[estate.Key]int{"here": 1, "pdu": 1, "lamp": 1, "router": 1}, k.told)
	k.poll(now.Add(time.Second), 10, 15)
	k.judge(now.Add(time.Second))
	require.Equal(t, map[estate.Key]int{"here": 1, "pdu": 2, "lamp": 1, "router": 2}, k.told)
	require.Equal(t, verdict.Steady, k.Verdict("router").State)
}

// TestTheSameAgainAsksForNoJudging: a quiet estate costs no more than its clock.
func TestTheSameAgainAsksForNoJudging(t *testing.T) {
	k := newKept(t, storetest.Open(t))
	now := time.Now()
	next := func() time.Time { now = now.Add(time.Second); return now }
	asks := func() bool {
		defer k.judge(now)
		select {
		case <-k.dirty:
			return true
		default:
			return false
		}
	}
	k.poll(next(), 10, 11)
	k.ping(next(), true)
	require.True(t, asks(), "all of it is new")
	for range 3 {
		k.poll(next(), 12, 9)
		k.ping(next(), true)
		require.False(t, asks(), "it answers as before, and draws a little more")
	}
	for range 3 {
		k.ping(next(), false)
		require.True(t, asks(), "it falls silent")
	}
	k.poll(next(), 12, 9)
	require.True(t, asks(), "what it hangs on may prove something now")
	k.poll(next(), 12, 0)
	require.True(t, asks(), "its power went")
	k.ping(next(), false)
	require.False(t, asks(), "silent as before, and nothing is open")
	k.ping(next(), true)
	require.True(t, asks(), "it is back")
}

func TestASnapshotStaysAsItWas(t *testing.T) {
	k := newKept(t, storetest.Open(t))
	now := time.Now()
	k.poll(now, 10, 11)
	k.judge(now)
	k.poll(now.Add(time.Second), 10, 44)
	was := k.Snapshot()
	k.poll(now.Add(2*time.Second), 10, 55)
	k.judge(now.Add(2 * time.Second))
	require.Equal(t, []float64{11, 44}, was.Recent("router"))
	require.InDelta(t, 44, was.Evidence.Outlets[estate.OutletEnd("pdu", 2)].W, 0)
	require.Equal(t, []float64{11, 55}, k.Snapshot().Recent("router"), "the last stretch is not over yet")
}

func TestSubscribersHearWhatOperationsNeed(t *testing.T) {
	k := newKept(t, storetest.Open(t))
	sub, leave := k.bus.Measured.Queue(8)
	now := time.Now()
	k.poll(now, 10, 11)
	m := drain(sub).(operation.Measured)
	require.Equal(t, operation.Reading{At: now, On: true, Metered: true, W: 11}, m.Outlets[estate.OutletEnd("pdu", 2)])
	require.IsType(t, operation.Heard{}, func() operation.Event { k.ping(now, true); return drain(sub) }())
	for i := range 3 {
		k.ping(now.Add(time.Duration(i+1)*time.Second), false)
	}
	require.Equal(t, operation.Unheard{At: now.Add(time.Second), Device: "router"}, drain(sub), "since the first question that went unanswered")
	leave()
	k.poll(now.Add(time.Minute), 1, 1)
	require.Empty(t, sub)
}

// drain returns the newest event in the queue.
func drain(s <-chan operation.Event) (last operation.Event) {
	for len(s) > 0 {
		last = <-s
	}
	return last
}

func TestReadingsWaitWhileTheStoreIsAway(t *testing.T) {
	s := storetest.Open(t)
	k := newKept(t, s)
	require.NoError(t, s.Partition(t.Context(), time.Now(), store.DefaultRetention))
	k.poll(time.Now(), 10, 11)
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	require.Error(t, k.Flush(ended))
	require.Len(t, k.spool.waiting, 3, "nothing is lost")
	require.NoError(t, k.Flush(t.Context()))
	require.Empty(t, k.spool.waiting)
	got := stored(t, s, "router", DrawSeries)
	require.NotEmpty(t, got)
	require.Equal(t, 11.0, got[0].Mean)
}

func TestOnlyWhatChangesIsStored(t *testing.T) {
	k := newKept(t, storetest.Open(t))
	now := time.Now()
	for i, w := range []float64{10, 10.05, 10.1, 13, 13.1} {
		k.poll(now.Add(time.Duration(i)*time.Millisecond), 0, w)
	}
	var stored []float64
	for _, w := range k.spool.waiting {
		if w.device == "router" {
			stored = append(stored, w.w)
		}
	}
	require.Equal(t, []float64{10, 13}, stored)
	require.NotEmpty(t, k.Recent("router"))
}

func TestAParkedDeviceThatComesBackIsNotParkedAnyMore(t *testing.T) {
	s := storetest.Open(t)
	k := newKept(t, s)
	now := time.Now()
	require.NoError(t, s.Park(t.Context(), store.Parked{Device: "lamp", Site: "s", Who: "admin", Since: now}))
	k.Park("lamp", verdict.Parking{By: "admin", Since: now})
	k.poll(now, 0, 11)
	k.judge(now)
	require.Equal(t, verdict.Parked, k.Verdict("lamp").State)
	k.poll(now.Add(time.Second), 10, 11)
	k.judge(now.Add(time.Second))
	k.judge(now.Add(time.Second))
	require.Equal(t, verdict.Steady, k.Verdict("lamp").State)
	require.NoError(t, k.Flush(t.Context()), "it is recorded beside the loop that judges")
	left, err := s.AllParked(t.Context())
	require.NoError(t, err)
	require.Empty(t, left)
}

func TestSinceSurvivesARestart(t *testing.T) {
	s := storetest.Open(t)
	now := time.Now().UTC().Truncate(time.Second)
	weeks := now.Add(-500 * time.Hour)
	require.NoError(t, s.SetVerdicts(t.Context(), []store.StandingVerdict{
		{Device: "router", Site: "s", State: "steady", Since: weeks}, {Device: "lamp", Site: "s", State: "steady", Since: weeks},
	}))
	k := newKept(t, s)
	require.NoError(t, k.Remember(t.Context()))
	k.judge(now)
	require.Equal(t, verdict.Unknown, k.Verdict("router").State, "nothing is known at first")
	k.poll(now, 0, 11)
	k.ping(now, true)
	k.judge(now.Add(time.Second))
	require.Equal(t, weeks, k.Verdict("router").Since)
	require.Equal(t, verdict.Dark, k.Verdict("lamp").State)
	require.Equal(t, now.Add(time.Second), k.Verdict("lamp").Since, "it is not as it was")
	require.NoError(t, k.Flush(t.Context()))
	all, err := s.Verdicts(t.Context())
	require.NoError(t, err)
	require.Contains(t, all, store.StandingVerdict{Device: "lamp", Site: "s", State: "dark", Since: now.Add(time.Second)})
}

// TestWhatStoodIsNotOverwrittenBeforeItIsKnown: the records may be read long after
// the first devices have been judged.
func TestWhatStoodIsNotOverwrittenBeforeItIsKnown(t *testing.T) {
	s := storetest.Open(t)
	now := time.Now().UTC().Truncate(time.Second)
	weeks := now.Add(-500 * time.Hour)
	require.NoError(t, s.SetVerdicts(t.Context(), []store.StandingVerdict{
		{Device: "router", Site: "s", State: "steady", Since: weeks}, {Device: "pdu", Site: "s", State: "hung", Since: weeks},
	}))
	k := newKept(t, s)
	k.poll(now, 10, 11)
	k.ping(now, true)
	k.judge(now)
	require.NoError(t, k.Flush(t.Context()))
	require.NoError(t, k.Remember(t.Context()))
	k.judge(now.Add(time.Second))
	require.Equal(t, weeks, k.Verdict("router").Since)
	require.Equal(t, []float64{11}, k.Recent("router"))
	require.NoError(t, k.Flush(t.Context()))
	all, err := s.Verdicts(t.Context())
	require.NoError(t, err)
	require.ElementsMatch(t, []store.StandingVerdict{
		{Device: "router", Site: "s", State: "steady", Since: weeks}, {Device: "here", Site: "s", State: "steady", Since: now},
		{Device: "pdu", Site: "s", State: "steady", Since: now}, {Device: "lamp", Site: "s", State: "steady", Since: now},
	}, all)
}

func TestRunEnds(t *testing.T) {
	k := newKept(t, storetest.Open(t))
	ctx, cancel := context.WithCancelCause(t.Context())
	stopped := errors.New("stopped")
	time.AfterFunc(300*time.Millisecond, func() { cancel(stopped) })
	k.poll(time.Now(), 10, 11)
	require.ErrorIs(t, k.Run(ctx), stopped)
	require.Empty(t, k.spool.waiting, "what waited is stored at the end")
}

// stored returns what is kept of a series of this minute.
func stored(t *testing.T, s *store.Store, device estate.Key, name string) []reading.Stretch {
	t.Helper()
	list, err := s.SeriesNamed(t.Context(), device, name)
	require.NoError(t, err)
	require.Len(t, list, 1)
	now := time.Now()
	got, _, _, err := s.History(t.Context(), list, now.Add(-time.Minute), now.Add(time.Minute), 100, now, store.DefaultRetention)
	require.NoError(t, err)
	return got[list[0].ID]
}

// TestWhatIsLostOnTheWay: is a series, with the round trip; a silence is no loss, and what
// loses nothing, and leads to nothing, has none.
func TestWhatIsLostOnTheWay(t *testing.T) {
	k := newKept(t, storetest.Open(t))
	now := time.Now()
	series := func() map[string]float64 {
		out := map[string]float64{}
		for _, w := range k.spool.waiting {
			if w.device == "router" && strings.HasPrefix(w.name, "way:") {
				out[w.name] = w.w
			}
		}
		return out
	}
	ask := func(n int, ok func(i int) bool) {
		for i := range n {
			now = now.Add(5 * time.Second)
			k.Observe(observation.Observation{Device: "router", Result: verdict.Result{SentAt: now, OK: ok(i), RTT: 20 * time.Millisecond}})
		}
	}
	ask(60, func(i int) bool { return i < 10 || i > 40 })
	require.Empty(t, series())
	ask(60, func(i int) bool { return i%5 != 0 })
	got := series()
	require.InDelta(t, 20, got[WayLossSeries], 5)
	require.InDelta(t, 20, got[WayRTTSeries], 0.1)
	require.Zero(t, got[WayJitterSeries])
}
