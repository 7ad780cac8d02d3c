package act

import (
	"context"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// group asks for a group, and returns it when it has ended.
func (r *rooms) group(in GroupIntent, c operation.Consent) *group.Group {
	r.Helper()
	return r.groupEnds(r.askGroup(in, c).ID)
}

func (r *rooms) askGroup(in GroupIntent, c operation.Consent) *group.Group {
	r.Helper()
	g, err := agreed(r, func() (*group.Group, error) {
		p, err := r.PreviewGroup(r.Context(), in, admin)
		require.NoError(r, err)
		return r.RequestGroup(r.Context(), in, p.Digest, c, admin, "")
	})
	require.NoError(r, err)
	return g
}

func (r *rooms) groupEnds(id string) *group.Group {
	r.Helper()
	var g *group.Group
	require.Eventually(r, func() bool {
		var err error
		g, err = r.FindGroup(r.Context(), id)
		return err == nil && g.Final()
	}, 8*soon, often, "%+v", lazy(func() any { return g }))
	return g
}

// TestASiteDownAndUpInOrder: what depends on others goes first and comes back
// last; what carries our own way stays as it is.
func TestASiteDownAndUpInOrder(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	r, stop := open(t, l, storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	down := GroupIntent{Intent: operation.Intent{Kind: operation.Off, Means: operation.ByOutlet}, Who: group.Selection{PDU: "skarvoe-pdu"}, Order: group.Order{AtOnce: 2, Gap: 100 * time.Millisecond}}
	p, err := r.PreviewGroup(t.Context(), down, admin)
	require.NoError(t, err)
	require.Contains(t, p.LeftOut, LeftOut{"skarvoe-cell", "carries our own way to skarvoe-pdu"})
	require.Contains(t, p.LeftOut, LeftOut{"skarvoe-gate", "cannot be switched"})
	require.NotEmpty(t, p.Interlocks, "the recorder is guarded")
	_, err = r.RequestGroup(t.Context(), down, p.Digest, operation.Consent{}, admin, "")
	var refused *RefusedError
	require.ErrorAs(t, err, &refused)
	_, err = r.RequestGroup(t.Context(), down, "another", operation.Consent{Names: []estate.Key{"skarvoe-recorder"}}, admin, "")
	var changed *ChangedError
	require.ErrorAs(t, err, &changed)

	g := r.group(down, operation.Consent{Names: []estate.Key{"skarvoe-recorder"}, Why: "winter"})
	require.Equal(t, group.Done, g.State, "%+v", g.Members)
	began := map[estate.Key]time.Time{}
	for _, m := range g.Members {
		began[m.Device] = m.Began
		for _, first := range m.After {
			require.False(t, m.Began.Before(began[first]))
		}
	}
	require.True(t, began["skarvoe-bridge"].After(began["skarvoe-router"]) && began["skarvoe-router"].After(began["skarvoe-switch"]) && began["skarvoe-switch"].After(began["skarvoe-kiosk"]))

	up := GroupIntent{Intent: operation.Intent{Kind: operation.On, Means: operation.ByOutlet}, Who: down.Who, Order: group.Order{AtOnce: 3, Gap: 100 * time.Millisecond}}
	p, err = r.PreviewGroup(t.Context(), up, admin)
	require.NoError(t, err)
	require.Greater(t, group.Peak(p.Curve), p.Curve[0].W+150, "the curve rises")
	g = r.group(up, operation.Consent{})
	require.Equal(t, group.Done, g.State, "%+v", g.Members)
	for i := range g.Members {
		o, err := r.Find(t.Context(), g.Members[i].Operation)
		require.NoError(t, err)
		require.Equal(t, operation.Done, o.State)
	}
	_, err = r.PreviewGroup(t.Context(), up, admin)
	require.ErrorContains(t, err, "there is nothing to do: ")
	entries, err := r.store.Journal(t.Context(), store.JournalFilter{Kind: store.EntryGroup, Limit: 9})
	require.NoError(t, err)
	require.Len(t, entries, 4)
	require.Contains(t, entries[0].Text, "Switch everything on skarvoe-pdu on, ")
}

// TestASiteOffAndThenOn, by whatever means: what is switched on by gear that is down as
// well waits for that, and what was switched off by its chassis or its panel is not on
// because its outlet is.
func TestASiteOffAndThenOn(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	r, stop := open(t, l, storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	quick := group.Order{AtOnce: 4, Gap: 100 * time.Millisecond}
	down := GroupIntent{Intent: operation.Intent{Kind: operation.Off}, Who: group.Selection{Site: "skarvoe"}, Order: quick}
	g := r.group(down, operation.Consent{Names: []estate.Key{"skarvoe-recorder"}, Why: "winter"})
	require.Equal(t, group.Done, g.State, "%+v", g.Members)
	kiosk := r.Keeper.Estate().Device("skarvoe-kiosk")
	require.Eventually(t, func() bool { return r.Keeper.Verdict("skarvoe-switch").State == verdict.Parked }, soon, often)

	up := GroupIntent{Intent: operation.Intent{Kind: operation.On}, Who: down.Who, Order: quick}
	spared := up
	spared.Who.LeaveParked = true
	_, err := r.PreviewGroup(t.Context(), spared, operation.Asker{Kind: operation.StandingOrder, Name: "watch", Role: operation.Operator})
	require.ErrorContains(t, err, "skarvoe-kiosk was switched off by admin")
	p, err := r.PreviewGroup(t.Context(), spared, admin)
	require.NoError(t, err)
	require.NotEmpty(t, p.Group.Members, "what one has switched off oneself")
	p, err = r.PreviewGroup(t.Context(), up, admin)
	require.NoError(t, err)
	require.NotContains(t, p.LeftOut, LeftOut{"skarvoe-kiosk", "is on already"})
	require.Empty(t, p.Interlocks, "what is out of reach now is brought up by the plan itself")
	for _, m := range p.Group.Members {
		if strings.HasPrefix(string(m.Device), "skarvoe-camera") {
			require.Contains(t, m.After, estate.Key("skarvoe-switch"))
		}
	}
	g = r.group(up, operation.Consent{})
	require.Equal(t, group.Done, g.State, "%+v", g.Members)
	require.Eventually(t, func() bool {
		for _, m := range g.Members {
			if s := r.Keeper.Verdict(m.Device).State; s != verdict.Steady && s != verdict.Strained {
				return false
			}
		}
		return r.Keeper.Verdict(kiosk.Key).State == verdict.Steady
	}, 8*soon, often, "everything is up again")
}

// TestAGroupSurvivesARestart: the service stops in the middle; the next one goes
// on, nothing is done twice, and a group that waits for its time still does.
func TestAGroupSurvivesARestart(t *testing.T) {
	t.Parallel()
	l, s, ledger := labtest.Start(t, labtest.Options{Speed: 60}), storetest.Open(t), filepath.Join(t.TempDir(), "ledger")
	r, stop := open(t, l, s, ledger)
	in := GroupIntent{
		Intent: operation.Intent{Kind: operation.Cycle, Means: operation.ByOutlet, Hold: operation.MinHold},
		Who:    group.Selection{Devices: []estate.Key{"skarvoe-kiosk", "skarvoe-heater", "skarvoe-kvm"}}, Order: group.Order{AtOnce: 1, Gap: time.Millisecond},
	}
	g := r.askGroup(in, operation.Consent{})
	in.Who, in.At = group.Selection{Devices: []estate.Key{"inch-kiosk"}}, time.Now().Add(12*time.Second)
	later := r.askGroup(in, operation.Consent{})
	require.Equal(t, group.Scheduled, later.State)
	require.Eventually(t, func() bool {
		now, err := r.FindGroup(t.Context(), g.ID)
		return err == nil && now.Members[0].State == group.MemberDone
	}, 4*soon, often)
	stop()

	r, stop = start(t, l, s, ledger)
	defer stop()
	ended := r.groupEnds(g.ID)
	require.Equal(t, group.Done, ended.State, "%+v", ended.Members)
	for _, n := range []int{6, 8, 2} {
		_, orders := l.Contact(estate.OutletEnd("skarvoe-pdu", n))
		require.Equal(t, 2, orders, "outlet %d was switched off and on once", n)
	}
	require.Equal(t, group.Done, r.groupEnds(later.ID).State)

	// One whose time comes while nobody is there.
	r.MissedAfter = 100 * time.Millisecond
	in.At = time.Now().Add(time.Second)
	missed := r.askGroup(in, operation.Consent{})
	stop()
	require.Eventually(t, func() bool { return time.Since(in.At) > r.MissedAfter }, soon, often)
	_, before := l.Contact(estate.OutletEnd("inch-strip", 3))
	r, stop = start(t, l, s, ledger)
	defer stop()
	require.Equal(t, group.Missed, r.groupEnds(missed.ID).State)
	_, after := l.Contact(estate.OutletEnd("inch-strip", 3))
	require.Equal(t, before, after, "it is not done at another time")
}

// TestAGroupStops: at the first failure, or when somebody says so.
func TestAGroupStops(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	r, stop := open(t, l, storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	in := GroupIntent{
		Intent: operation.Intent{Kind: operation.Off, Means: operation.ByOutlet},
		Who:    group.Selection{Devices: []estate.Key{"skarvoe-heater", "skarvoe-kvm", "skarvoe-kiosk"}}, Order: group.Order{AtOnce: 1},
	}
	require.NoError(t, l.Weld(estate.OutletEnd("skarvoe-pdu", 8)))
	g := r.group(in, operation.Consent{})
	require.Equal(t, group.Failed, g.State)
	require.Equal(t, []group.MemberState{group.MemberFailed, group.Skipped, group.Skipped}, []group.MemberState{g.Members[0].State, g.Members[1].State, g.Members[2].State})
	in.Order.GoOn = true
	g = r.group(in, operation.Consent{})
	require.Equal(t, group.Failed, g.State)
	require.Equal(t, []group.MemberState{group.MemberFailed, group.MemberDone, group.MemberDone}, []group.MemberState{g.Members[0].State, g.Members[1].State, g.Members[2].State})

	r.Role = func(context.Context, string) (operation.Role, error) { return operation.Viewer, nil }
	in.Intent.Kind = operation.On
	g = r.group(in, operation.Consent{})
	require.Equal(t, group.Failed, g.State)
	require.Equal(t, "admin may not act any more", g.Members[0].Note, "what was asked for is asked for with the rights of now")
	r.Role = nil

	in.At = time.Now().Add(time.Hour)
	waiting := r.askGroup(in, operation.Consent{})
	_, err := r.CancelGroup(t.Context(), waiting.ID, "ann")
	require.NoError(t, err)
	require.Equal(t, group.Cancelled, r.groupEnds(waiting.ID).State)
	p, err := r.PreviewGroup(t.Context(), in, admin)
	require.NoError(t, err)
	again, err := r.RequestGroup(t.Context(), in, p.Digest, operation.Consent{}, admin, waiting.ID)
	require.NoError(t, err)
	require.Equal(t, waiting.ID, again.ID, "asked for twice, done once")
	in.Intent.Kind = operation.Cycle
	_, err = r.RequestGroup(t.Context(), in, p.Digest, operation.Consent{}, admin, waiting.ID)
	require.ErrorContains(t, err, "used before", "for something else it is another wish")
	in.Intent.Kind = operation.On
	_, err = r.CancelGroup(t.Context(), waiting.ID, "ann")
	require.ErrorIs(t, err, ErrEnded)
	_, err = r.CancelGroup(t.Context(), "nobody", "ann")
	require.ErrorIs(t, err, store.ErrNotFound)
	for _, bad := range []struct {
		in   GroupIntent
		want string
	}{
		{GroupIntent{Who: in.Who, Order: group.Order{AtOnce: 99}}, "at once there can be 1 to 32, not 99"},
		{GroupIntent{Who: in.Who, Order: group.Order{Gap: 2 * time.Hour}}, "no longer than an hour"},
		{GroupIntent{Who: in.Who, Order: group.Order{Until: "soon"}}, `"soon" is no condition`},
		{GroupIntent{Who: in.Who, At: time.Now().Add(-time.Hour)}, "is over already"},
		{GroupIntent{Who: in.Who, At: time.Now().AddDate(1, 0, 0)}, "more than 60 days away"},
	} {
		_, err := r.PreviewGroup(t.Context(), bad.in, admin)
		require.ErrorContains(t, err, bad.want)
	}
}

// TestWhatChangedOfAGroup since it was looked at is said of each device.
func TestWhatChangedOfAGroup(t *testing.T) {
	of := func(looks ...*operation.Preview) *GroupPreview {
		return &GroupPreview{Group: &group.Group{}, Previews: looks}
	}
	look := func(k estate.Key, digest string, lines ...operation.Line) *operation.Preview {
		return &operation.Preview{Device: k, Digest: digest, Lines: lines}
	}
	was := of(look("a", "1"), look("b", "1"), look("c", "1"))
	now := of(look("a", "1"), look("b", "2", operation.Line{Text: "b is strained"}), look("d", "1"))
	require.Equal(t, "b: b is strained; d is part of it now; c is no part of it any more", now.since(was))
	require.Equal(t, "they would be done in another order now", was.since(was))
	require.Empty(t, now.since(nil))
}
