package orders

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/act"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/health"
	"plumbbob/internal/keep"
	"plumbbob/internal/orderfile"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// hands is an actor whose operations end when a test says so.
type hands struct {
	mu      sync.Mutex
	asked   []string // devices, in the order in which operations were asked for
	by      []operation.Asker
	all     map[string]*operation.Operation
	refuses bool
	groups  []*group.Group
}

func (h *hands) Preview(_ context.Context, in operation.Intent, _ operation.Asker) (*operation.Preview, error) {
	if in.Kind == operation.Reset {
		return &operation.Preview{Digest: "d", Means: operation.ByChassis}, nil
	}
	return &operation.Preview{Digest: "d", Means: operation.ByOutlet, Outlets: []operation.OutletNow{{End: estate.OutletEnd("pdu", 1)}}}, nil
}

func (h *hands) Request(_ context.Context, req act.Request) (*operation.Operation, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.refuses {
		return nil, &act.RefusedError{Interlocks: []operation.Interlock{{Name: operation.LockGuarded, Reason: "it is guarded"}}}
	}
	o := &operation.Operation{ID: req.ID, Order: operation.Order{Kind: req.Intent.Kind, Device: req.Intent.Device}, Progress: operation.Progress{State: operation.Running}}
	h.asked, h.by, h.all[req.ID] = append(h.asked, string(req.Intent.Device)), append(h.by, req.By), o
	return o, nil
}

func (h *hands) Find(_ context.Context, id string) (*operation.Operation, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if o := h.all[id]; o != nil {
		return o.Clone(), nil
	}
	return nil, store.ErrNotFound
}

func (h *hands) Cancel(_ context.Context, id, _ string) (*operation.Operation, error) {
	h.end(id, operation.Cancelled)
	return nil, nil
}

func (h *hands) AroundOf(context.Context, estate.Key) (act.Around, error) { return act.Around{}, nil }

func (h *hands) end(id string, state operation.State) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if o := h.all[id]; o != nil && o.Ended.IsZero() {
		o.State, o.Ended = state, time.Now()
	}
}

// endAll ends every operation that runs.
func (h *hands) endAll(state operation.State) {
	h.mu.Lock()
	ids := []string{}
	for id := range h.all {
		ids = append(ids, id)
	}
	h.mu.Unlock()
	for _, id := range ids {
		h.end(id, state)
	}
}

func (h *hands) did() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return strings.Join(h.asked, " ")
}

// world is a room over a real store, and a keeper of a few devices.
type world struct {
	*testing.T
	*Room
	hands *hands
	mu    sync.Mutex
	open  []*incident.Incident
	told  []string
	asked time.Time
	stop  func()
}

func begin(t *testing.T) *world {
	w := &world{T: t, hands: &hands{all: map[string]*operation.Operation{}}, asked: time.Now().Add(-8 * time.Second)}
	s := storetest.Open(t)
	w.start(s)
	t.Cleanup(func() { w.stop() })
	return w
}

// start is a service's start: a room, on what is on record.
func (w *world) start(s *store.Store) {
	b := &bus.Bus{}
	k := keep.New(s, slog.New(slog.DiscardHandler), b)
	here := []estate.NetworkCable{{Via: estate.End{Device: "here"}}}
	beyond := func(k estate.Key) estate.Device {
		return estate.Device{Key: k, Site: k, Network: []estate.NetworkCable{{Via: estate.End{Device: "switch"}}}, Probes: []estate.Probe{{Kind: estate.TCP, Target: "192.0.2.4:22", Every: time.Second}}}
	}
	sites := []estate.Site{{Key: "pier", Zone: time.UTC}, {Key: "office", Zone: time.UTC}, {Key: "quay", Zone: time.UTC}, {Key: "boat", Zone: time.UTC}}
	e, problems := estate.New("t", "here", sites, []estate.Device{
		beyond("office"), beyond("quay"), beyond("boat"),
		{Key: "here", Site: "pier", Role: "server"},
		{Key: "room", Site: "pier", Role: "sensor", Endpoints: []estate.Endpoint{{Name: "card", Protocol: estate.SNMP, Profile: "p", Every: time.Minute, Timeout: time.Second, Network: here}}},
		{Key: "lamp", Site: "pier", Role: "light"},
		{Key: "ups", Site: "pier", Role: "ups", Supply: &estate.Supply{RatingW: 900}, Endpoints: []estate.Endpoint{{Name: "card", Protocol: estate.SNMP, Profile: "p", Every: time.Minute, Timeout: time.Second, Network: here}}},
		{Key: "switch", Site: "pier", Role: "switch", Network: here, Probes: []estate.Probe{{Kind: estate.TCP, Target: "192.0.2.2:22", Every: time.Second}}},
		{Key: "pdu", Site: "pier", Role: "pdu", Outlets: []estate.Outlet{{Number: 1}}, Endpoints: []estate.Endpoint{{Name: "card", Protocol: estate.SNMP, Profile: "p", Every: time.Minute, Timeout: time.Second, Network: here}}},
		{
			Key: "modem", Site: "pier", Role: "gateway", Network: []estate.NetworkCable{{Via: estate.End{Device: "switch"}}}, Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", 1)}},
			Probes: []estate.Probe{{Kind: estate.TCP, Target: "192.0.2.3:22", Every: time.Second}},
		},
	})
	require.Empty(w, problems)
	k.SetEstate(e)
	w.Room = New(Parts{
		Store: s, Keeper: k, Actor: w.hands, Log: slog.New(slog.DiscardHandler), Health: health.New(slog.New(slog.DiscardHandler)), Bus: b, Acts: func() bool { return true },
		Incidents: func() []*incident.Incident {
			w.mu.Lock()
			defer w.mu.Unlock()
			return w.open
		},
		Say: func(_ context.Context, _, _ string, _ []string, text string) ([]string, error) {
			w.mu.Lock()
			defer w.mu.Unlock()
			w.told = append(w.told, text)
			return []string{"ann"}, nil
		},
	})
	ctx, stop := context.WithCancel(context.Background())
	w.ctx = ctx
	close(w.begun)
	w.stop = func() { stop(); w.work.Wait() }
}

// order has routines count.
func (w *world) order(text string) {
	all, err := orderfile.Parse("f", []byte(text), w.Around())
	require.NoError(w, err)
	for _, o := range all {
		row := store.RoutineRow{Name: o.Routine.Name, Text: o.Text, SetAt: t0, SetBy: "ann"}
		require.NoError(w, w.Store.SetRoutines(w.ctx, []store.RoutineRow{row}))
	}
	require.NoError(w, w.Refresh(w.ctx))
}

// at looks whether something begins at a moment, and waits until all that has is over.
func (w *world) at(now time.Time) {
	require.NoError(w, w.look(w.ctx, now))
	require.Eventually(w, func() bool {
		w.hands.endAll(operation.Done)
		return len(w.runs.All()) == 0
	}, 30*time.Second, 5*time.Millisecond)
}

func (w *world) states(name string) string {
	all, err := w.Store.Runs(w.ctx, store.RunFilter{Routine: name, Limit: 100})
	require.NoError(w, err)
	var out []string
	for _, r := range all {
		out = append([]string{string(r.State)}, out...)
	}
	return strings.Join(out, " ")
}

var t0 = time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)

const night = `plumb-routine: 1
name: night
site: pier
when: [{at: every day at 03:30, late: 1h}]
steps: [{cycle: modem}]
`

func TestByTheClock(t *testing.T) {
	w := begin(t)
	w.order(night)
	w.at(t0.Add(29 * time.Minute))
	require.Empty(t, w.hands.did(), "its time has not come")
	w.at(t0.Add(31 * time.Minute))
	w.at(t0.Add(32 * time.Minute))
	require.Equal(t, "modem", w.hands.did(), "once")
	require.Equal(t, operation.Asker{Kind: operation.StandingOrder, Name: "night", Role: operation.Operator}, w.hands.by[0])
	w.at(t0.Add(24*time.Hour + 29*time.Minute))
	require.Equal(t, "modem", w.hands.did())
	w.at(t0.Add(3*24*time.Hour + 100*time.Minute)) // nobody looked for two days, and this time is an hour ago
	require.Equal(t, "modem", w.hands.did())
	require.Equal(t, "done missed", w.states("night"))
	w.at(t0.Add(4*24*time.Hour + 80*time.Minute))
	require.Equal(t, "modem modem", w.hands.did(), "late, and not too late")

	// The clock is set back by a day: what was done at a time is not done again for that.
	w.at(t0.Add(3*24*time.Hour + 35*time.Minute))
	w.at(t0.Add(4*24*time.Hour + 35*time.Minute))
	require.Equal(t, "modem modem", w.hands.did())
	w.at(t0.Add(5*24*time.Hour + 35*time.Minute))
	require.Equal(t, "modem modem modem", w.hands.did())

	require.NoError(t, w.Store.SwitchRoutine(w.ctx, "night", true, t0.Add(5*24*time.Hour+40*time.Minute)))
	require.NoError(t, w.Refresh(w.ctx))
	w.at(t0.Add(6*24*time.Hour + 35*time.Minute))
	require.Equal(t, "modem modem modem", w.hands.did(), "it is off")
}

// TestACrashInTheMiddle: what was begun is taken up where it was, and nothing is asked for twice.
func TestACrashInTheMiddle(t *testing.T) {
	w := begin(t)
	w.order(`plumb-routine: 1
name: night
site: pier
when: [{at: every day at 03:30}]
steps: [{cycle: modem}, {on: lamp}]
`)
	require.NoError(t, w.look(w.ctx, t0.Add(31*time.Minute)))
	require.Eventually(t, func() bool { return w.hands.did() == "modem" }, 30*time.Second, 5*time.Millisecond)
	w.stop()
	w.hands.endAll(operation.Done) // while nobody looks
	w.start(w.Store)
	require.True(t, w.resume(w.ctx))
	w.at(t0.Add(32 * time.Minute))
	require.Equal(t, "modem lamp", w.hands.did())
	require.Equal(t, "done", w.states("night"))

	// Died between the record and the request: it is asked for, if that is not long ago.
	r := routine.New("r2", w.Find("night"), nil, nil, operation.Asker{}, "x", time.Now())
	ops, err := routine.Compile(w.Find("night"), w.Find("night").Steps, nil, nil)
	require.NoError(t, err)
	r.Ops = ops
	r.Step(routine.Started{At: time.Now()})
	require.NoError(t, w.Store.CreateRun(w.ctx, r, store.Dealt{Name: "night"}, store.Entry{At: time.Now(), Kind: store.EntryRoutine}))
	late := *r
	late.ID, late.Threads = "r3", []routine.Thread{{ID: 1, Doing: "late", Since: time.Now().Add(-time.Hour)}}
	require.NoError(t, w.Store.CreateRun(w.ctx, &late, store.Dealt{Name: "night"}, store.Entry{At: time.Now(), Kind: store.EntryRoutine}))
	require.True(t, w.resume(w.ctx))
	w.at(t0.Add(33 * time.Minute))
	require.Equal(t, "modem lamp modem lamp", w.hands.did())
	found, err := w.FindRun(w.ctx, "r3")
	require.NoError(t, err)
	require.Equal(t, routine.Failed, found.State)
	require.Contains(t, found.Note, "its turn came 1 h ago")
}

// senses has the sensor unit say that its door is open, or not.
func (w *world) senses(words string) {
	w.Keeper.Observe(observation.Observation{
		Site: "pier", Device: "room", Endpoint: "card", Beside: true, Result: verdict.Result{SentAt: time.Now(), OK: true},
		Brought: observation.Payloads{observation.Sensors{{Name: "door", Series: "door", Words: words, Level: reading.Fine}}},
	})
}

// TestWhile: a lamp follows a door, and what cannot be told changes nothing.
func TestWhile(t *testing.T) {
	w := begin(t)
	w.order(`plumb-routine: 1
name: lamp
site: pier
when: [{while: 'yes("room", "door")', for: 10s}]
steps: [{on: lamp}]
after: [{off: lamp}, {tell: over, who: [ann]}]
`)
	now := t0
	look := func(d time.Duration) {
		now = now.Add(d)
		w.at(now)
	}
	look(0)
	require.Empty(t, w.states("lamp"), "it cannot be told")
	w.senses("no")
	look(time.Second)
	look(time.Minute)
	require.Empty(t, w.states("lamp"), "it was never so")
	w.senses("yes")
	look(time.Second)
	look(5 * time.Second)
	require.Empty(t, w.states("lamp"), "not for so long")
	look(6 * time.Second)
	look(time.Minute)
	require.Equal(t, "done", w.states("lamp"), "once")
	w.senses("neither")
	look(time.Minute)
	look(time.Minute)
	require.Equal(t, "done", w.states("lamp"))
	w.senses("no")
	look(time.Second)
	look(time.Minute)
	require.Equal(t, "done done", w.states("lamp"))
	require.Equal(t, []string{"over"}, w.told)
	require.Equal(t, "lamp lamp", w.hands.did())
}

func TestByIncidents(t *testing.T) {
	w := begin(t)
	w.order(`plumb-routine: 1
name: hung
with: {device: ""}
when: [{incident: [hung], devices: [modem]}]
steps: [{cycle: "${device}"}]
`)
	at := func(id, device, kind string, opened time.Time) {
		w.open = append(w.open, &incident.Incident{ID: id, Device: estate.Key(device), Site: "pier", Kind: kind, Opened: opened})
	}
	at("old", "modem", "hung", t0.Add(-time.Hour))
	at("other", "lamp", "hung", t0.Add(time.Minute))
	at("dark", "modem", "dark", t0.Add(time.Minute))
	w.at(t0.Add(2 * time.Minute))
	require.Empty(t, w.hands.did())
	at("it", "modem", "hung", t0.Add(3*time.Minute))
	w.at(t0.Add(4 * time.Minute))
	w.seen = map[string]bool{} // as after a crash
	w.at(t0.Add(5 * time.Minute))
	require.Equal(t, "modem", w.hands.did())
}

// TestByHand: with arguments; one at a time; stopped; and what is refused is what failed.
func TestByHand(t *testing.T) {
	w := begin(t)
	w.order(`plumb-routine: 1
name: turn
with: {device: ""}
steps: [{cycle: "${device}"}, {on: lamp}]
`)
	_, err := w.Begin(w.ctx, "nothing", nil, operation.Asker{}, "x")
	require.ErrorIs(t, err, store.ErrNotFound)
	var wrong *operation.UsageError
	_, err = w.Begin(w.ctx, "turn", nil, operation.Asker{}, "x")
	require.ErrorAs(t, err, &wrong)
	require.ErrorContains(t, err, "it has to be told its device")
	with := map[string]string{"device": "modem"}
	id, err := w.Begin(w.ctx, "turn", with, operation.Asker{}, "x")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return w.hands.did() == "modem" }, 30*time.Second, 5*time.Millisecond)
	_, err = w.Begin(w.ctx, "turn", with, operation.Asker{}, "x")
	require.ErrorIs(t, err, ErrRunning)
	_, err = w.Stop(w.ctx, id, "ann")
	require.NoError(t, err)
	w.at(t0)
	require.Equal(t, "stopped", w.states("turn"))
	require.Equal(t, "modem", w.hands.did())
	_, err = w.Stop(w.ctx, id, "ann")
	require.True(t, errors.Is(err, act.ErrEnded), err)

	w.hands.refuses = true
	id, err = w.Begin(w.ctx, "turn", with, operation.Asker{}, "x")
	require.NoError(t, err)
	w.at(t0)
	r, err := w.FindRun(w.ctx, id)
	require.NoError(t, err)
	require.Equal(t, routine.Failed, r.State)
	require.Contains(t, r.Note, "guarded")
	steps, err := w.Try(w.ctx, w.Room.Find("turn"), with)
	require.NoError(t, err)
	require.Equal(t, []Trial{{"1", "Cycle modem", true, "by outlet"}, {"2", "Switch lamp on", true, "by outlet"}}, steps)
}

const helper = `plumb-ladder: 1
name: help
for: {roles: [gateway]}
lasting: 1m
rungs:
  - {do: reset, settle: 10s}
  - {do: cycle, by: outlet, settle: 10s}
call: [ann]
`

// ladder has one count, armed or not.
func (w *world) ladder(text string, armed bool) {
	all, err := orderfile.ParseLadders("f", []byte(text), w.Around())
	require.NoError(w, err)
	require.NoError(w, w.Store.SetLadders(w.ctx, []store.LadderRow{{Name: all[0].Ladder.Name, Text: all[0].Text, SetAt: t0, SetBy: "ann"}}))
	if armed {
		require.NoError(w, w.Store.ArmLadder(w.ctx, all[0].Ladder.Name, t0, "ann"))
	}
	w.quickly()
}

// quickly has what counts read, and gives devices no time to recover: the gate goes by the real clock.
func (w *world) quickly() {
	require.NoError(w, w.Refresh(w.ctx))
	l := w.Room.ladders["help"]
	l.Limits.CoolDown = 0
	if l.Armed() {
		l.Lasting = 0
	}
	for i := range l.Rungs {
		l.Rungs[i].Settle = time.Millisecond
	}
}

// hangs has the modem not answer any more, although the way there does and it has power; or answer.
func (w *world) hangs(yes bool) {
	for range 4 {
		w.asked = w.asked.Add(time.Second)
		sent := w.asked
		w.Keeper.Observe(observation.Observation{Site: "pier", Device: "modem", Result: verdict.Result{SentAt: sent, OK: !yes}})
		w.Keeper.Observe(observation.Observation{Site: "pier", Device: "switch", Result: verdict.Result{SentAt: sent.Add(10 * time.Millisecond), OK: true}})
		w.Keeper.Observe(observation.Observation{Site: "pier", Device: "pdu", Endpoint: "card", Result: verdict.Result{SentAt: sent, OK: true}, Brought: observation.Payloads{
			observation.Outlets{Outlets: []reading.Outlet{{Number: 1, On: true, Metered: true, W: 11}}},
		}})
	}
	w.Keeper.JudgeNow()
	want := verdict.Steady
	if yes {
		want = verdict.Hung
	}
	require.Equal(w, want, w.Keeper.Verdict("modem").State, w.Keeper.Verdict("modem").Reasons)
}

// TestClimb: what is not armed does nothing and says what it would do; what is armed goes from gentle
// to hard, leaves out what it must not do, calls, and then rests until somebody says otherwise.
func TestClimb(t *testing.T) {
	w := begin(t)
	w.ladder(helper, false)
	w.hangs(false)
	later := func(d time.Duration) time.Time { return time.Now().Add(d) }
	w.at(later(time.Hour))
	require.Empty(t, w.states("help"), "it does not hang")
	w.hangs(true)
	w.at(later(0))
	require.Empty(t, w.states("help"), "it has not hung for so long")
	w.at(later(time.Hour))
	w.at(later(2 * time.Hour))
	require.Equal(t, "shown", w.states("help"), "once")
	require.Empty(t, w.hands.did())
	all, err := w.Runs(w.ctx, store.RunFilter{Routine: "help", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "Reset modem", all[0].Log[1].Words)

	w.acted = time.Now().Add(-time.Hour)
	w.ladder(helper, true)
	w.at(later(time.Hour))
	require.Equal(t, "modem", w.hands.did(), "the cycle is left out: where its cable leads has not been proved")
	require.Equal(t, "shown failed", w.states("help"))
	require.Len(t, w.told, 1)
	require.Contains(t, w.told[0], "could not help it")
	holds := w.Ladder("help").Holds
	require.Len(t, holds, 1)
	require.Equal(t, estate.Key("modem"), holds[0].Device)
	w.seen = map[string]bool{}
	w.quickly()
	w.at(later(time.Hour))
	require.Equal(t, "modem", w.hands.did(), "it rests")

	acts, err := w.Store.Acts(w.ctx, t0, "")
	require.NoError(t, err)
	require.Len(t, acts, 1)
	require.Equal(t, []estate.Key{"pdu"}, acts[0].Feeds)

	// A person has it go on. Meanwhile it was seen where the cable leads.
	require.NoError(t, w.Store.SaveEstate(w.ctx, 0, "ann", "x", nil, store.Entry{At: t0, Kind: store.EntryEstate}))
	time.Sleep(10 * time.Millisecond) // the record has milliseconds
	o := &operation.Operation{ID: "proof", Order: operation.Order{Kind: operation.Cycle, Device: "modem", Site: "pier", Outlets: []estate.End{estate.OutletEnd("pdu", 1)}, By: "standing order help", Asked: time.Now().UTC()}}
	require.NoError(t, w.Store.CreateOperation(w.ctx, o, store.Entry{At: o.Asked, Kind: store.EntryOperationAsked}))
	o.State, o.Ended, o.SilentAt = operation.Done, o.Asked, o.Asked
	require.NoError(t, w.Store.EndOperation(w.ctx, o, store.Entry{At: o.Asked, Kind: store.EntryOperationEnded}))
	require.NoError(t, w.Store.ResetHold(w.ctx, "help", "modem", time.Now()))
	w.quickly()
	w.at(later(time.Hour))
	require.Equal(t, "modem modem modem", w.hands.did())
}

// TestPast: what a ladder did itself is no person who saw to it.
func TestPast(t *testing.T) {
	w := begin(t)
	w.ladder(helper, false)
	w.Room.ladders["help"].Lasting = time.Minute
	now := time.Now().UTC()
	for n, by := range []string{"standing order help", "ann"} {
		id := []string{"a", "b"}[n]
		o := &operation.Operation{ID: id, Order: operation.Order{Kind: operation.Cycle, Device: "modem", Site: "pier", By: by, Asked: now.Add(-50 * time.Minute)}}
		require.NoError(t, w.Store.CreateOperation(w.ctx, o, store.Entry{At: now, Kind: store.EntryOperationAsked}))
		o.State, o.Ended = operation.Done, o.Asked
		require.NoError(t, w.Store.EndOperation(w.ctx, o, store.Entry{At: now, Kind: store.EntryOperationEnded}))
		i := &incident.Incident{ID: id, Device: "modem", Site: "pier", Kind: "hung", Opened: o.Asked.Add(-time.Second), Ended: now.Add(-time.Minute), Tried: []string{id}}
		require.NoError(t, w.Store.SaveIncident(w.ctx, i, nil))
	}
	past, err := w.Past(w.ctx, w.Ladder("help"), now.Add(-time.Hour))
	require.NoError(t, err)
	acts := map[string]bool{}
	for _, x := range past {
		acts[x.Incident] = x.Acts
	}
	require.Equal(t, map[string]bool{"a": true, "b": false}, acts)
}
