package orders

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/act"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
)

func (h *hands) PreviewGroup(_ context.Context, in act.GroupIntent, _ operation.Asker) (*act.GroupPreview, error) {
	if in.Who.UPS == "empty" {
		return nil, &operation.UsageError{Text: "there is nothing to do"}
	}
	return &act.GroupPreview{Digest: "d", Slots: []group.Slot{{Up: 4 * time.Minute}, {Up: 9 * time.Minute}}}, nil
}

func (h *hands) RequestGroup(_ context.Context, in act.GroupIntent, _ string, c operation.Consent, by operation.Asker, id string) (*group.Group, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	g := &group.Group{ID: id, Intent: in.Intent, State: group.Running, By: by, Consent: c, Members: []group.Member{{Device: "modem", State: group.Pending}}}
	g.Title = in.Who.Words()
	h.groups = append(h.groups, g)
	return g.Clone(), nil
}

func (h *hands) FindGroup(_ context.Context, id string) (*group.Group, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, g := range h.groups {
		if g.ID == id {
			return g.Clone(), nil
		}
	}
	return nil, store.ErrNotFound
}

func (h *hands) NoMoreOf(_ context.Context, id, by string) (*group.Group, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, g := range h.groups {
		if g.ID == id {
			g.State, g.CancelBy, g.Ended = group.Cancelled, by, time.Now()
			g.Members[0].State = group.Skipped
		}
	}
	return nil, nil //nolint:nilnil // nobody looks at it
}

// endBatch ends the newest.
func (h *hands) endBatch(state group.State, member group.MemberState) {
	h.mu.Lock()
	defer h.mu.Unlock()
	g := h.groups[len(h.groups)-1]
	g.State, g.Members[0].State, g.Ended = state, member, time.Now()
}

func (h *hands) batches() (out []string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, g := range h.groups {
		out = append(out, string(g.Intent.Kind)+" "+g.Title+" "+string(g.State))
	}
	return out
}

// battery has the UPS live on its battery, or on the utility.
func (w *world) battery(on bool) {
	w.asked = w.asked.Add(time.Second)
	x := reading.Supply{Source: reading.SourceNormal, Battery: reading.Battery{Charge: new(50.0), Minutes: new(30.0)}}
	if on {
		x.Source = reading.SourceBattery
	}
	w.Keeper.Observe(observation.Observation{Site: "pier", Device: "ups", Endpoint: "card", Result: verdict.Result{SentAt: w.asked, OK: true}, Brought: observation.Payloads{observation.Supply(x)}})
	w.Keeper.JudgeNow()
}

const onBattery = `plumb-routine: 1
name: battery
when: [{while: on_battery("ups")}]
call: [ann]
steps:
  - wait until: '!on_battery("ups") || minutes_left("ups") < minutes_to_do("ups") + 30.0'
    within: 1h
  - shed: ups
    while: on_battery("ups")
  - shut down: ups
    while: on_battery("ups")
    lift: [in-use]
    why: its battery runs down
  - wait until: '!on_battery("ups")'
    within: 1h
  - bring up: ups
`

// TestOnBattery: what hangs on a UPS goes down in order while it lives on its battery, is turned round as soon
// as the utility is back, and comes up again.
func TestOnBattery(t *testing.T) {
	w := begin(t)
	w.order(onBattery)
	w.battery(true)
	require.NoError(t, w.look(w.ctx, time.Now().UTC()))
	batches := func(want ...string) {
		t.Helper()
		require.Eventually(t, func() bool { return len(w.hands.batches()) == len(want) }, 20*time.Second, 10*time.Millisecond)
		require.Equal(t, want, w.hands.batches())
	}
	const shed, down = "off everything that is not essential behind ups ", "shutdown everything behind ups "
	batches(shed + "running")
	w.hands.endBatch(group.Done, group.MemberDone)
	batches(shed+"done", down+"running")
	g := w.hands.groups[1]
	require.Equal(t, operation.Consent{Override: []string{operation.LockInUse}, Why: "its battery runs down"}, g.Consent)
	require.Equal(t, operation.Steward, g.By.Role)
	w.battery(false)
	batches(shed+"done", down+"cancelled", "on everything behind ups running")
	w.hands.endBatch(group.Failed, group.MemberFailed)
	require.Eventually(t, func() bool { return len(w.runs.All()) == 0 }, 20*time.Second, 10*time.Millisecond)
	require.Equal(t, "failed", w.states("battery"), "what could not be brought up is said")
	require.Len(t, w.told, 1)
	require.Contains(t, w.told[0], "The routine battery has failed: ")
	all, err := w.Runs(w.ctx, store.RunFilter{Routine: "battery", Limit: 1})
	require.NoError(t, err)
	notes := ""
	for _, l := range all[0].Log {
		notes += l.Note + "\n"
	}
	require.Contains(t, notes, `0 of 1 done: it is not so any more that on_battery("ups")`)

	f := facts{w.ctx, w.Keeper, w.hands, &w.toDo}
	todo, err := f.ToDo("ups")
	require.NoError(t, err)
	require.InDelta(t, 9, todo, 0)
	_, err = f.ToDo("empty")
	require.Error(t, err)
	left, err := f.Left("ups")
	require.NoError(t, err)
	require.InDelta(t, 30, left, 0, "by what it says, as long as its past tells nothing")
	_, err = f.Left("modem")
	require.ErrorContains(t, err, "no UPS")
}

// TestABatchThroughACrash: it was asked for, and is not asked for again.
func TestABatchThroughACrash(t *testing.T) {
	w := begin(t)
	w.order("plumb-routine: 1\nname: up\nsteps:\n  - bring up: ups\n")
	_, err := w.Begin(w.ctx, "up", nil, operation.Asker{Name: "ann", Role: operation.Operator}, "ann")
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(w.hands.batches()) == 1 }, 20*time.Second, 10*time.Millisecond)
	s := w.Store
	w.stop()
	w.start(s)
	require.True(t, w.resume(w.ctx))
	time.Sleep(50 * time.Millisecond)
	w.hands.endBatch(group.Done, group.MemberDone)
	require.Eventually(t, func() bool { return w.states("up") == "done" }, 20*time.Second, 10*time.Millisecond)
	require.Len(t, w.hands.batches(), 1)
	require.Equal(t, routine.Verbs, []routine.Verb{routine.Shed, routine.TakeIn, routine.BringUp})
	require.Equal(t, estate.Key("ups"), intentOf(routine.Shed, "ups").Who.UPS)
}
