package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/act"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/broker"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/core/wiring"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/keep"
	"plumbbob/internal/people"
	"plumbbob/internal/store"
)

var t0 = time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)

// seen is the demo estate with everything answering, and some of it not.
func seen(t *testing.T, silent ...estate.Key) glance {
	t.Helper()
	e, err := estatefile.Parse("demo", []byte(demo.Estate(demo.Default)))
	require.NoError(t, err)
	ev := verdict.NewEvidence()
	mute := map[estate.Key]bool{}
	for _, k := range silent {
		mute[k] = true
		for _, b := range e.OnlyBehind(k) {
			if b.Name == "" {
				mute[b.Device] = true
			}
		}
	}
	var vs map[estate.Key]verdict.Verdict
	now := t0
	for round := range 5 {
		now = t0.Add(time.Duration(round) * time.Second)
		for i, k := range e.ReachOrder() {
			for n := range e.Device(k).Probes {
				ok := round < 2 || !mute[k]
				ev.Probe(verdict.ProbeID{Device: k, Index: n}, verdict.Result{SentAt: now.Add(time.Duration(i) * time.Millisecond), RTT: time.Millisecond, OK: ok})
			}
		}
		ev.Endpoint(estate.EndpointID{Device: "skarvoe-pdu", Name: "card"}, verdict.Result{SentAt: now.Add(500 * time.Millisecond), RTT: 4 * time.Millisecond, OK: true})
		ev.Totals["skarvoe-pdu"] = 981.44
		for n := 1; n <= 10; n++ {
			ev.Outlet(estate.OutletEnd("skarvoe-pdu", n), verdict.Outlet{At: now.Add(500 * time.Millisecond), On: true, Metered: true, W: 10 * float64(n), Switched: n < 9})
		}
		vs = verdict.Judge(e, ev, vs, now.Add(900*time.Millisecond))
	}
	now = now.Add(time.Second)
	return glance{e, ev, vs, now, verdict.At(e, ev, nil, now), func(estate.Key) []float64 { return []float64{1.04, 2} }, func(estate.Key) *keep.Inside { return nil }, func(estate.Key) operation.GearTraits { return operation.GearTraits{} }, func(estate.Key) *incident.Incident { return nil }, func(estate.Key) (line, screen []broker.On) { return nil, nil }, func(estate.Key) wiring.Leads { return wiring.Leads{} }}
}

func TestBoardView(t *testing.T) {
	b := seen(t, "skarvoe-router").board("e-7")
	require.Equal(t, "e-7", b.Event)
	require.Len(t, b.Devices, 54)
	require.Equal(t, []contract.Trouble{{
		Device: "skarvoe-router", Verdict: b.Trouble[0].Verdict, Explains: []string{"skarvoe-switch", "skarvoe-recorder", "skarvoe-kiosk", "skarvoe-gate", "skarvoe-camera-east", "skarvoe-camera-west", "skarvoe-camera-cupboard"},
	}}, b.Trouble)
	require.Equal(t, 981.4, *b.Sites[1].W)
	require.Nil(t, b.Sites[0].W, "nothing is measured at the office")
	by := map[string]contract.DeviceSummary{}
	for _, d := range b.Devices {
		by[d.Key] = d
	}
	router, gate := by["skarvoe-router"], by["skarvoe-gate"]
	require.Equal(t, contract.VerdictStateHung, router.Verdict.State)
	require.Equal(t, 30.0, *router.W)
	require.Equal(t, []float64{1, 2}, router.Recent)
	require.Equal(t, "[sound sound sound broken]", fmt.Sprint(router.Lines.Reach))
	require.Equal(t, contract.Feed{Outlet: "skarvoe-pdu/3", Switched: true, On: ptr(true)}, router.Feeds[0])
	require.Equal(t, "skarvoe-router", *gate.Verdict.CutBy)
	require.Equal(t, "unswitched", gate.WaysIn[0].Kind)
	text, err := json.Marshal(b)
	require.NoError(t, err)
	require.NotContains(t, string(text), ":null", "what is absent is left out, and lists are never null")
}

func TestDeviceView(t *testing.T) {
	g := seen(t, "skarvoe-router")
	d := g.device(g.e.Device("skarvoe-router"))
	require.Equal(t, []string{"skarvoe-switch", "skarvoe-recorder", "skarvoe-kiosk", "skarvoe-gate", "skarvoe-camera-east", "skarvoe-camera-west", "skarvoe-camera-cupboard", "skarvoe-switch agent", "skarvoe-kiosk cli", "skarvoe-camera-cupboard picture"}, d.Behind)
	require.Equal(t, "Atlantic/Faroe", d.Zone)
	require.Equal(t, "answers in 4.0 ms", g.waysIn(g.e.Device("skarvoe-router"))[1].Text)
	later := g
	later.now = g.now.Add(time.Minute)
	require.Equal(t, "answered 1 min ago, in 4.0 ms", later.waysIn(g.e.Device("skarvoe-router"))[1].Text, "what has gone silent a moment ago does not seem to answer")
	var line []string
	for _, h := range d.Power[0] {
		line = append(line, h.Label+": "+h.Text)
	}
	require.Equal(t, []string{"utility: present", "skarvoe-pdu: 981 W", "outlet 3: on, 30.0 W", "skarvoe-router: powered"}, line)
	pdu := g.device(g.e.Device("skarvoe-pdu"))
	require.Len(t, pdu.Outlets, 10)
	require.Equal(t, []string{"skarvoe-router"}, pdu.Outlets[2].Feeds)
	require.True(t, pdu.Outlets[2].Fresh && *pdu.Outlets[2].On && pdu.Outlets[2].Switched)
	require.False(t, pdu.Outlets[8].Switched)
	g.now = g.now.Add(time.Hour)
	g.moment = verdict.At(g.e, g.ev, nil, g.now)
	require.False(t, g.device(g.e.Device("skarvoe-pdu")).Outlets[2].Fresh)
	require.Equal(t, "outlet 3: stale: was on, 30.0 W", func() string { h := g.device(g.e.Device("skarvoe-router")).Power[0][2]; return h.Label + ": " + h.Text }())
}

func TestOperationView(t *testing.T) {
	end := estate.OutletEnd("pdu", 3)
	o := &operation.Operation{ID: "abc", Order: operation.Order{Kind: operation.Cycle, Device: "router", Outlets: []estate.End{end}, Hold: 10 * time.Second, By: "admin", Asked: t0}, Plan: operation.Plan{Usual: operation.Usual{Min: 38 * time.Second, Max: 47 * time.Second, N: 3}}}
	o.Lay(true)
	o.Step(operation.Started{At: t0})
	o.Step(operation.Measured{At: t0.Add(time.Second), Outlets: map[estate.End]operation.Reading{end: {At: t0.Add(time.Second), On: true, Metered: true, W: 11.24}}})
	v := operationView(o, time.UTC)
	var steps []string
	for _, s := range v.Steps {
		steps = append(steps, string(s.State)+": "+s.Text)
	}
	require.Equal(t, []string{
		"sending: Switch outlet 3 off, and measure that nothing flows", "pending: Wait 10 s, and see who falls silent",
		"pending: Switch outlet 3 on, and measure that it draws", "pending: Wait for the first answer of router",
	}, steps)
	require.Equal(t, 11.2, *v.Steps[0].Before.W)
	require.Equal(t, 11.2, *v.BeforeW)
	require.Nil(t, v.AfterW)
	require.Nil(t, v.Ended)
	require.Equal(t, "38–47 s", *v.Usually)
	require.Equal(t, "cycle by admin is running: switching outlet 3 of pdu off", v.Doing)
	o.Kind = operation.Off
	o.Lay(false)
	require.Equal(t, "See who falls silent", operationView(o, time.UTC).Steps[1].Text)
	o.Kind, o.ByGear = operation.Cycle, true
	o.Lay(false)
	require.Equal(t, "pdu cycles outlet 3 by itself", operationView(o, time.UTC).Steps[0].Text)
}

// TestProofWithoutLines: what serial lines have said is not for viewers, also not in what
// was kept before it was marked.
func TestProofWithoutLines(t *testing.T) {
	p := operation.Proof{Before: []operation.Fact{
		{Name: "chassis", Text: "on"}, {Name: "screen of its serial line", Text: "secret", Line: true},
		{Name: "last lines of line", Text: "secret", File: &operation.File{ID: "x"}},
	}}
	require.Equal(t, "secret", *(*proofView(p, true))[1].Before)
	less := *proofView(p, false)
	require.Len(t, less, 3)
	require.Equal(t, "on", *less[0].Before)
	for _, x := range less[1:] {
		require.Equal(t, notForViewers, *x.Before)
		require.Nil(t, x.BeforeFile)
	}
	require.Equal(t, "secret", p.Before[1].Text, "the record stays as it is")
}

func TestProblemOf(t *testing.T) {
	lock := func(name string) error {
		return fmt.Errorf("wrapped: %w", &act.RefusedError{Interlocks: []operation.Interlock{{Name: name, Reason: "so it is"}}, Preview: &operation.Preview{}})
	}
	for _, c := range []struct {
		err    error
		status int
		kind   contract.ProblemKind
		detail string
	}{
		{people.ErrNotIn, 401, contract.NotLoggedIn, "log in first"},
		{people.ErrWrong, 401, contract.WrongPassword, "check both"},
		{&people.WaitError{Wait: 12300 * time.Millisecond}, 429, contract.TooManyTries, "wait 13 s"},
		{&notPermitted{"keeper", "viewer"}, 403, contract.NotPermitted, "needs the role keeper; yours is viewer"},
		{&missing{"there is no x"}, 404, contract.NotFound, "there is no x"},
		{usage("wrong %d", 7), 422, contract.Usage, "wrong 7"},
		{lock("busy"), 409, contract.Refused, "refused: so it is"},
		{lock("out-of-reach"), 502, contract.GearUnreachable, "so it is"},
		{&act.ChangedError{Now: &operation.Preview{}}, 409, contract.PreviewChanged, "no longer holds"},
		{&estatefile.Faults{File: "f", List: []estatefile.Fault{{Line: 3, Text: "bad"}}}, 422, contract.FaultyFile, "f:3: bad"},
		{fmt.Errorf("x: %w", store.ErrNotFound), 404, contract.NotFound, "no such thing"},
		{fmt.Errorf("look again: %w", store.ErrConflict), 409, contract.Conflict, "look again"},
		{act.ErrEnded, 409, contract.Conflict, "has ended already"},
		{fmt.Errorf("x: %w", store.ErrAway), 503, contract.DatabaseAway, "try again in a moment"},
		{errors.New("boom"), 500, contract.Internal, "the service's log says what"},
	} {
		p := problemOf(c.err)
		require.Equal(t, c.status, p.Status, c.err)
		require.Equal(t, c.kind, p.Kind, c.err)
		require.Contains(t, *p.Detail, c.detail)
		require.NotEmpty(t, p.Title)
	}
	require.Equal(t, 3, (*problemOf(&estatefile.Faults{File: "f", List: []estatefile.Fault{{Line: 3, Text: "bad"}}}).Faults)[0].Line)
}

func TestSmallThings(t *testing.T) {
	require.Equal(t, []int{50, 1, 7, 500}, []int{limitOf(nil), limitOf(ptr(-3)), limitOf(ptr(7)), limitOf(ptr(9999))})
	require.Equal(t, 11.2, tenth(11.24))
	changes := strings.Split(strings.Repeat("a ", mostInEntry+3), " ")[:mostInEntry+3]
	require.True(t, strings.HasSuffix(summarize(changes), "; and 3 more"))
	_, err := outletEnds(&[]string{"pdu/3", "pdu"})
	require.EqualError(t, err, `"pdu" is not an outlet: name it PDU/NUMBER`)
	r, err := http.NewRequest("GET", "/", nil)
	require.NoError(t, err)
	r.Header.Set("Authorization", "Basic x")
	require.Empty(t, bearer(r))
	r.Header.Set("Authorization", "Bearer x")
	require.Equal(t, "x", bearer(r))
}
