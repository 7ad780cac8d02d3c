package incidents

import (
	"context"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/keep"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const (
	soon  = 40 * time.Second
	often = 20 * time.Millisecond
)

// rooms are a keeper that watches one router, and a room on that.
type rooms struct {
	*testing.T
	*Room
	keeper *keep.Keeper

	mu   sync.Mutex
	told []*incident.Incident
}

func start(t *testing.T, s *store.Store) (*rooms, func()) {
	r := &rooms{T: t}
	b := &bus.Bus{}
	r.keeper = keep.New(s, slog.New(slog.DiscardHandler), b)
	here := []estate.NetworkCable{{Via: estate.End{Device: "here"}}}
	e, problems := estate.New("t", "here", []estate.Site{{Key: "pier", Zone: time.UTC}}, []estate.Device{
		{Key: "here", Site: "pier", Role: "server"},
		{Key: "router", Site: "pier", Role: "router", Network: here, Probes: []estate.Probe{{Kind: estate.ICMP, Target: "192.0.2.1"}}},
	})
	require.Empty(t, problems)
	r.keeper.SetEstate(e)
	r.Room = New(Parts{Store: s, Keeper: r.keeper, Log: slog.New(slog.DiscardHandler), Bus: b})
	b.Incidents.Listen(func(i *incident.Incident) {
		r.keeper.Estate() // whoever is told may look
		r.mu.Lock()
		r.told = append(r.told, i)
		r.mu.Unlock()
	})
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { _ = r.keeper.Run(ctx) })
	running.Go(func() { _ = r.Room.Run(ctx) })
	return r, func() { stop(); running.Wait() }
}

func (r *rooms) ping() {
	r.keeper.Observe(observation.Observation{Device: "router", Result: verdict.Result{SentAt: time.Now(), OK: true}})
}

// awaited is a cycle whose device should have come back long ago.
func awaited(state operation.State) *operation.Operation {
	return &operation.Operation{
		ID:       "op1",
		Order:    operation.Order{Kind: operation.Cycle, Device: "router", Asked: time.Now().Add(-2 * time.Minute)},
		Plan:     operation.Plan{Usual: operation.Usual{Min: 38 * time.Second, Max: 47 * time.Second, N: 4}},
		Progress: operation.Progress{State: state, Steps: []operation.Step{{Kind: operation.Answer, State: operation.Waiting, Began: time.Now().Add(-90 * time.Second)}}},
	}
}

// TestWhatDoesNotComeBack is an incident before the operation gives up, outlives a
// restart, and ends by itself.
func TestWhatDoesNotComeBack(t *testing.T) {
	s := storetest.Open(t)
	r, stop := start(t, s)
	r.keeper.SetOperating([]estate.Key{"router"}, "being cycled")
	r.Bus.Operations.Publish(awaited(operation.Running))
	require.Eventually(t, func() bool { return r.Of("router") != nil }, soon, often)
	i := r.Of("router")
	require.Equal(t, []any{incident.Late, []string{"op1"}}, []any{i.Kind, i.Tried})
	require.Regexp(t, `^router has not come back after \d+ s \(usually 38–47 s\)$`, i.Text)
	require.Nil(t, r.Of("here"))

	_, err := r.Say(t.Context(), i.ID, "ada", func(i *incident.Incident, now time.Time) (string, error) {
		return i.Acknowledge("ada", "on my way", now)
	})
	require.NoError(t, err)
	_, err = r.Say(t.Context(), i.ID, "bo", func(i *incident.Incident, now time.Time) (string, error) {
		return i.Acknowledge("bo", "", now)
	})
	require.ErrorContains(t, err, "ada sees to it already")
	_, err = r.Say(t.Context(), "nobody", "bo", nil)
	require.ErrorIs(t, err, store.ErrNotFound)
	stop()

	r, stop = start(t, s)
	defer stop()
	r.keeper.SetOperating([]estate.Key{"router"}, "being cycled")
	require.Eventually(t, func() bool { return len(r.Open()) == 1 }, soon, often, "it is still open")
	require.Equal(t, "ada", r.Open()[0].Seen.By)
	r.keeper.SetOperating([]estate.Key{"router"}, "")
	require.Eventually(t, func() bool { r.ping(); return len(r.Open()) == 0 }, soon, often)
	var ended *incident.Incident
	require.Eventually(t, func() bool {
		ended, err = s.Incident(t.Context(), i.ID)
		return err == nil && !ended.Open()
	}, soon, often)
	require.Equal(t, "it is steady again", ended.Ending)
	found, err := r.Find(t.Context(), i.ID)
	require.NoError(t, err)
	require.Equal(t, ended.Ended.Unix(), found.Ended.Unix())

	for what, f := range map[string]store.IncidentFilter{
		"all": {Limit: 5}, "of the device": {Device: "router", Limit: 5}, "by a word": {Text: "on my way", Limit: 5}, "lately": {Open: true, EndedSince: time.Now().Add(-time.Minute), Limit: 5},
	} {
		list, err := s.Incidents(t.Context(), f)
		require.NoError(t, err)
		require.Len(t, list, 1, what)
	}
	list, err := s.Incidents(t.Context(), store.IncidentFilter{Open: true, Limit: 5})
	require.NoError(t, err)
	require.Empty(t, list)
	entries, err := s.Journal(t.Context(), store.JournalFilter{Limit: 10})
	require.NoError(t, err)
	texts := []string{}
	for _, e := range entries {
		texts = append(texts, e.Who+" "+e.Text)
	}
	require.Contains(t, texts, " Opened: "+i.Text)
	require.Contains(t, texts, "ada Seen, and seen to: on my way")
	require.Len(t, texts, 3)
}

// TestTheDatabaseIsAway: incidents open and end all the same.
func TestTheDatabaseIsAway(t *testing.T) {
	s := storetest.Open(t)
	r, stop := start(t, s)
	defer stop()
	require.Eventually(t, func() bool { r.Room.mu.Lock(); defer r.Room.mu.Unlock(); return r.ready }, soon, often)
	require.NoError(t, s.Close())
	r.keeper.SetOperating([]estate.Key{"router"}, "being cycled")
	r.Bus.Operations.Publish(awaited(operation.Running))
	require.Eventually(t, func() bool { return len(r.Open()) == 1 }, soon, often)
	r.Bus.Operations.Publish(&operation.Operation{ID: "op2", Order: operation.Order{Device: "router", Asked: time.Now()}, Progress: operation.Progress{State: operation.Running}})
	require.Equal(t, []string{"op1", "op2"}, r.Open()[0].Tried)
	r.keeper.SetOperating([]estate.Key{"router"}, "")
	require.Eventually(t, func() bool { r.ping(); return len(r.Open()) == 0 }, soon, often)
	r.mu.Lock()
	defer r.mu.Unlock()
	require.GreaterOrEqual(t, len(r.told), 3)
}
