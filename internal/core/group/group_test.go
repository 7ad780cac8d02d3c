package group

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

var t0 = time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)

// pier is a PDU with a bridge, a router behind it, a switch behind that, and a
// store and a host behind the switch; the host needs the store.
func pier(t testing.TB) *estate.Estate {
	t.Helper()
	box := func(k, via estate.Key, n int, needs ...estate.Key) estate.Device {
		return estate.Device{
			Key: k, Site: "pier", Role: "box", Tags: []string{"field"}, Needs: needs,
			Network: []estate.NetworkCable{{Via: estate.End{Device: via}}}, Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", n)}},
		}
	}
	pdu := estate.Device{Key: "pdu", Site: "pier", Role: "pdu", Power: []estate.PowerCable{{From: estate.End{Device: "ups"}}}}
	for n := range 6 {
		pdu.Outlets = append(pdu.Outlets, estate.Outlet{Number: n + 1})
	}
	e, problems := estate.New("t", "ops", []estate.Site{{Key: "pier", Zone: time.UTC}, {Key: "quay", Zone: time.UTC}}, []estate.Device{
		{Key: "ops", Site: "quay", Role: "server"}, box("host", "switch", 5, "store"), box("store", "switch", 4), box("switch", "router", 3),
		box("router", "bridge", 2), box("bridge", "ops", 1), pdu,
		{Key: "ups", Site: "pier", Role: "ups", Supply: &estate.Supply{}, Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}}},
	})
	require.Empty(t, problems)
	return e
}

func order(ms []Member) string {
	var words []string
	for _, m := range ms {
		words = append(words, string(m.Device))
	}
	return strings.Join(words, " ")
}

func TestArrange(t *testing.T) {
	e := pier(t)
	all, err := Selection{PDU: "pdu"}.Pick(e)
	require.NoError(t, err)
	on := Arrange(e, all, operation.On)
	require.Equal(t, "bridge router switch store host", order(on))
	require.ElementsMatch(t, []estate.Key{"bridge", "router", "switch", "store"}, on[4].After)
	off := Arrange(e, all, operation.Off)
	require.Equal(t, "host store switch router bridge", order(off))
	require.Equal(t, "host switch bridge", order(Arrange(e, []estate.Key{"bridge", "switch", "host"}, operation.Shutdown)))
	require.Equal(t, "bridge host", order(Arrange(e, []estate.Key{"host", "bridge"}, operation.Cycle)))
}

func TestWhoIsMeant(t *testing.T) {
	e := pier(t)
	for _, c := range []struct {
		s    Selection
		want string // or the error
		say  string
	}{
		{Selection{Devices: []estate.Key{"host", "switch"}}, "host switch", "2 devices"},
		{Selection{Devices: []estate.Key{"host"}}, "host", "host"},
		{Selection{Site: "quay"}, "ops", "everything at quay"},
		{Selection{PDU: "pdu"}, "host store switch router bridge", "everything on pdu"},
		{Selection{UPS: "ups"}, "host store switch router bridge pdu", "everything behind ups"},
		{Selection{Tag: "field", Site: "pier"}, "host store switch router bridge", "everything tagged field at pier"},
		{Selection{}, "nobody is meant: name devices, or a site, a PDU, a UPS or a tag", ""},
		{Selection{Devices: []estate.Key{"host"}, Site: "pier"}, "name devices, or say which by site, PDU, UPS or tag: not both", ""},
		{Selection{Devices: []estate.Key{"host", "host"}}, "host is named twice", ""},
		{Selection{Devices: []estate.Key{"nobody"}}, `there is no device "nobody": plumb board lists them`, ""},
		{Selection{Site: "atlantis"}, `there is no site "atlantis"`, ""},
		{Selection{PDU: "host"}, `"host" is nothing that power can be taken from`, ""},
		{Selection{UPS: "pdu"}, `"pdu" is no UPS`, ""},
		{Selection{Tag: "none"}, "there is nothing: everything tagged none", ""},
	} {
		ks, err := c.s.Pick(e)
		if err != nil {
			require.EqualError(t, err, c.want)
			continue
		}
		var words []string
		for _, k := range ks {
			words = append(words, string(k))
		}
		require.Equal(t, c.want, strings.Join(words, " "))
		require.Equal(t, c.say, c.s.Words())
	}
}

func newGroup(t testing.TB, o Order) *Group {
	e := pier(t)
	ks, err := Selection{PDU: "pdu"}.Pick(e)
	require.NoError(t, err)
	g := &Group{ID: "g", Intent: operation.Intent{Kind: operation.On}, Asked: t0, Order: o, Members: Arrange(e, ks, operation.On), State: Running}
	for i := range g.Members {
		g.Members[i].Expect, g.Members[i].W, g.Members[i].Surge = 30*time.Second, 10, 25
	}
	return g
}

// said is what the commands are, in words.
func said(cs []Command) string {
	var words []string
	for _, c := range cs {
		switch c := c.(type) {
		case Begin:
			words = append(words, "begin "+string(c.Device))
		case Stop:
			words = append(words, "stop "+string(c.Device))
		case Wake:
			words = append(words, "wake "+c.At.Sub(t0).String())
		default:
			words = append(words, strings.ToLower(strings.TrimPrefix(fmt.Sprintf("%T", c), "group.")))
		}
	}
	return strings.Join(words, ", ")
}

func TestOneAfterTheOther(t *testing.T) {
	g := newGroup(t, Order{AtOnce: 1, Gap: 3 * time.Second, Until: Answers})
	at := func(s int) time.Time { return t0.Add(time.Duration(s) * time.Second) }
	for _, x := range []struct {
		in   Event
		want string
	}{
		{Started{At: at(0)}, "save, begin bridge, wake 3s"},
		{Begun{At: at(0), Device: "bridge"}, "save, wake 3s"},
		{Started{At: at(1)}, "wake 3s"}, // after a crash: it is under way
		{Progress{At: at(2), Device: "bridge", Powered: true, State: operation.Running}, "save, wake 3s"},
		{Expired{at(3)}, ""}, // it has power, but does not answer yet
		{Progress{At: at(30), Device: "bridge", State: operation.Done}, "save, begin router, wake 33s"},
		{Begun{At: at(30), Device: "router", Refused: true, Why: "somebody works there"}, "save, finish"},
	} {
		require.Equal(t, x.want, said(g.Step(x.in)), "%T", x.in)
	}
	require.Equal(t, Failed, g.State)
	require.Equal(t, Refused, g.Members[1].State)
	require.Equal(t, "not done, because one before it failed", g.Members[4].Note)
	require.Empty(t, g.Step(Expired{at(99)}), "what has ended stays so")
}

func TestAskedForWhenWeDied(t *testing.T) {
	g := newGroup(t, Order{AtOnce: 1, Until: Answers})
	g.Step(Started{At: t0})
	require.Equal(t, "begin bridge", said(g.Step(Started{At: t0.Add(time.Minute)})), "under the same id, so that it is not done twice")
}

// TestNobodyCouldGoOn: what was agreed to for one evening is not done the next, but by
// what is under way already.
func TestNobodyCouldGoOn(t *testing.T) {
	g := newGroup(t, Order{AtOnce: 1, Until: Answers})
	g.Step(Started{At: t0})
	g.Step(Begun{At: t0, Device: "bridge"})
	require.Equal(t, "", said(g.Step(Started{At: t0.Add(MissedAfter), Down: MissedAfter})))
	require.Equal(t, "save", said(g.Step(Started{At: t0.Add(9 * time.Hour), Down: 8*time.Hour + time.Minute})))
	require.Equal(t, "not done, because nothing here could act for 8h1m0s", g.Members[1].Note)
	require.Equal(t, MemberRunning, g.Members[0].State)
	require.Equal(t, "save, finish", said(g.Step(Progress{At: t0.Add(9 * time.Hour), Device: "bridge", State: operation.Done})))
	require.Equal(t, Missed, g.State)
}

func TestAtItsTime(t *testing.T) {
	g := newGroup(t, Order{AtOnce: 2, Until: Powered})
	g.State, g.At = Scheduled, t0.Add(time.Hour)
	require.Equal(t, "wake 1h0m0s", said(g.Step(Started{At: t0})))
	require.Equal(t, "wake 1h0m0s", said(g.Step(Expired{t0.Add(59 * time.Minute)})))
	require.Equal(t, "save, begin bridge", said(g.Step(Expired{t0.Add(time.Hour)})))
	later := newGroup(t, Order{AtOnce: 2})
	later.State, later.At = Scheduled, t0.Add(time.Hour)
	require.Equal(t, "save, finish", said(later.Step(CancelAsked{At: t0, By: "ann"})))
	require.Equal(t, Cancelled, later.State)

	for late, want := range map[time.Duration]State{MissedAfter: Running, MissedAfter + time.Second: Missed, 6 * time.Hour: Missed} {
		g := newGroup(t, Order{AtOnce: 2})
		g.State, g.At = Scheduled, t0.Add(time.Hour)
		cmds := g.Step(Started{At: g.At.Add(late)})
		require.Equal(t, want, g.State, "%s late", late)
		if want == Missed {
			require.Equal(t, "save, finish", said(cmds), "what was meant for the night is not done in office hours")
			require.Equal(t, Skipped, g.Members[0].State)
		}
	}
}

// TestWhatHoldsWhateverHappens: in whatever order things happen, nothing begins
// before what it depends on is up, nothing begins twice, no more are under way
// than may be, after a failure or a cancel nothing begins that may not, and once
// every operation has ended the group has.
func TestWhatHoldsWhateverHappens(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		g := newGroup(t, Order{
			AtOnce: rapid.IntRange(1, 3).Draw(rt, "at once"), GoOn: rapid.Bool().Draw(rt, "go on"), Gap: time.Duration(rapid.IntRange(0, 4).Draw(rt, "gap")) * time.Second,
			Until: rapid.SampledFrom([]Ready{Answers, Powered, AfterA}).Draw(rt, "until"), Wait: 5 * time.Second,
		})
		began := map[estate.Key]int{}
		running := map[estate.Key]bool{}
		var asked []estate.Key
		now := t0
		stopped, gently := false, rapid.Bool().Draw(rt, "gently")
		take := func(in Event) {
			for _, c := range g.Step(in) {
				if _, stop := c.(Stop); stop {
					require.False(rt, gently, "what has begun goes on to its end")
				}
				b, ok := c.(Begin)
				if !ok {
					continue
				}
				if _, again := in.(Started); again && running[b.Device] {
					continue
				}
				began[b.Device]++
				running[b.Device] = true
				asked = append(asked, b.Device)
				require.False(rt, stopped, "%s begins although it was cancelled", b.Device)
				for _, up := range g.member(b.Device).After {
					require.Equal(rt, MemberDone, g.member(up).State, "%s begins before %s is up", b.Device, up)
				}
				require.LessOrEqual(rt, g.underWay(), g.Order.AtOnce)
			}
		}
		take(Started{At: now})
		for range 200 {
			if g.Final() {
				break
			}
			now = now.Add(time.Duration(rapid.IntRange(0, 6).Draw(rt, "later")) * time.Second)
			switch rapid.IntRange(0, 9).Draw(rt, "what") {
			case 0:
				take(Started{At: now})
			case 1:
				if rapid.IntRange(0, 9).Draw(rt, "really") == 0 {
					take(CancelAsked{At: now, By: "ann", Gently: gently})
					stopped = true
				}
			case 2, 3:
				take(Expired{now})
			default:
				if len(asked) == 0 {
					continue
				}
				k := asked[rapid.IntRange(0, len(asked)-1).Draw(rt, "which")]
				if g.member(k).State == Beginning {
					why := rapid.SampledFrom([]string{"", "", "", "no"}).Draw(rt, "why")
					take(Begun{At: now, Device: k, Why: why, Refused: why != "" && rapid.Bool().Draw(rt, "refused")})
					continue
				}
				take(Progress{At: now, Device: k, Powered: rapid.Bool().Draw(rt, "powered"), State: rapid.SampledFrom([]operation.State{operation.Running, operation.Running, operation.Done, operation.Done, operation.Failed}).Draw(rt, "state")})
			}
		}
		for k, n := range began {
			require.Equal(rt, 1, n, "%s began", k)
		}
		for !g.Final() { // everything that is under way ends well
			now = now.Add(time.Minute)
			for _, k := range slices.Clone(asked) {
				take(Begun{At: now, Device: k})
				take(Progress{At: now, Device: k, Powered: true, State: operation.Done})
			}
			take(Expired{now})
			require.Less(rt, now.Sub(t0), 10*time.Hour, "it ends")
		}
		for _, m := range g.Members {
			require.True(rt, m.final() && m.Over)
		}
	})
}

func TestTimetable(t *testing.T) {
	g := newGroup(t, Order{AtOnce: 1, Gap: 3 * time.Second, Until: Answers})
	slots := g.Timetable()
	require.Equal(t, Slot{"bridge", 0, 30 * time.Second}, slots[0])
	require.Equal(t, Slot{"host", 120 * time.Second, 150 * time.Second}, slots[4])
	curve := g.Curve(slots, 100)
	require.Equal(t, []Point{{0, 125}, {time.Second, 110}, {30 * time.Second, 135}, {31 * time.Second, 120}}, curve[:4])
	require.Equal(t, 165.0, Peak(curve), "the last inrush on top of all the others")
	require.Equal(t, Pending, g.Members[0].State, "looking changes nothing")

	g.Order.Until = Powered
	slots = g.Timetable()
	require.Equal(t, 3*time.Second, slots[1].Begins, "as soon as there is power, but not within the inrush of the one before")
	g.Order = Order{AtOnce: 1, Until: AfterA, Wait: 10 * time.Second}
	require.Equal(t, 12*time.Second, g.Timetable()[1].Begins)
}
