package verdict

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
)

func at(s float64) time.Time { return t0.Add(time.Duration(s * float64(time.Second))) }

// pulse feeds results to a Pulse: '.' is an answer, 'x' a miss, 'r' a refusal,
// a second apart.
func pulse(results string) (p Pulse) {
	for i, c := range results {
		p = p.After(Result{SentAt: at(float64(i)), RTT: 10 * time.Millisecond, OK: c == '.', Refused: c == 'r', Why: "why"})
	}
	return p
}

func TestPulse(t *testing.T) {
	for _, c := range []struct {
		results         string
		answers, silent bool
		since, up       float64 // -1: never
		flips           int
	}{
		{"", false, false, -1, -1, 0},
		{".", true, false, -1, 0, 0},
		{"x", false, false, 0, -1, 0},
		{"xxx", false, true, 0, -1, 0}, // never heard of: that is no change
		{"..x", false, false, 2, 0, 0},
		{"..xx.", true, false, -1, 0, 0}, // lost packets are no outage
		{"..xxx", false, true, 2, 0, 1},
		{"..xxxxx", false, true, 2, 0, 1},
		{"..xxx.", true, false, -1, 5, 2},
		{"..xxx.xxx.", true, false, -1, 9, 4},
		{"r", true, false, -1, 0, 0}, // a refusal is an answer
		{"xxxr", true, false, -1, 3, 1},
	} {
		p := pulse(c.results)
		when := func(s float64) time.Time {
			if s < 0 {
				return time.Time{}
			}
			return at(s)
		}
		require.Equal(t, c.answers, p.Answers(), c.results)
		require.Equal(t, c.silent, p.Silent(), c.results)
		require.Equal(t, when(c.since), p.SilentSince, c.results)
		if c.up >= 0 {
			c.up += 0.01 // it is the answer that shows it to be up
		}
		require.Equal(t, when(c.up), p.UpSince, c.results)
		require.Equal(t, c.flips, p.flips(at(20)), c.results)
	}
	late := pulse("..").After(Result{SentAt: at(-5)})
	require.True(t, late.Answers(), "an answer that was overtaken changes nothing")
	require.Zero(t, pulse("..xxx.xxx.").flips(at(10).Add(FlapWindow+10*time.Second)), "it is forgiven")
	require.Equal(t, misses{at(4), at(5), at(6)}, pulse("..xxxxx").Missed)
}

func TestOutletNotesWhenPowerReturned(t *testing.T) {
	ev := NewEvidence()
	end := estate.OutletEnd("pdu", 1)
	see := func(s float64, on bool) Outlet {
		ev.Outlet(end, Outlet{At: at(s), On: on})
		return ev.Outlets[end]
	}
	require.Zero(t, see(0, true).OnSince, "it was on when it was first seen")
	require.Zero(t, see(1, false).OnSince)
	require.Equal(t, at(2), see(2, true).OnSince)
	require.Equal(t, at(2), see(3, true).OnSince)
	require.True(t, see(1, false).On, "an older reading does not count")
}

func TestForget(t *testing.T) {
	old := pier(t)
	ev := NewEvidence()
	ev.Probe(ProbeID{"router", 0}, Result{SentAt: t0, OK: true})
	ev.Probe(ProbeID{"kiosk", 0}, Result{SentAt: t0, OK: true})
	ev.Endpoint(estate.EndpointID{Device: "pdu", Name: "card"}, Result{SentAt: t0, OK: true})
	ev.Outlet(estate.OutletEnd("pdu", 8), Outlet{At: t0})
	ev.Outlet(estate.OutletEnd("pdu", 1), Outlet{At: t0})
	ev.Totals["pdu"] = 100

	var devices []estate.Device
	for _, d := range old.Devices {
		switch d.Key {
		case "kiosk":
			continue
		case "router":
			d.Probes = []estate.Probe{{Kind: estate.TCP, Target: "192.0.2.1:22"}}
		case "pdu":
			d.Outlets = d.Outlets[:7]
		}
		devices = append(devices, d)
	}
	now, problems := estate.New("t", "here", old.Sites, devices)
	require.Empty(t, problems)
	ev.Forget(old, now)
	require.Empty(t, ev.Probes, "one is gone, the other asks something else now")
	require.Len(t, ev.Endpoints, 1)
	require.Len(t, ev.Outlets, 1)
	require.Contains(t, ev.Totals, estate.Key("pdu"))
	ev.Forget(now, estate.Empty())
	require.Empty(t, ev.Endpoints)
	require.Empty(t, ev.Outlets)
	require.Empty(t, ev.Totals)
}

func TestListen(t *testing.T) {
	voices := func(must bool, results ...string) []voice {
		var vs []voice
		for i, r := range results {
			vs = append(vs, voice{name: []string{"ICMP", "TCP 22"}[i], must: must && i == 1, pulse: pulse(r)})
		}
		return vs
	}
	for _, c := range []struct {
		name            string
		vs              []voice
		answers, silent bool
		reason          string
		partly          int
	}{
		{"nothing asked", nil, false, false, "", 0},
		{"all answer", voices(false, "...", "..."), true, false, "for answers ICMP, TCP 22 in 10 ms", 0},
		{"any is enough", voices(false, "...", "xxx"), true, false, "for answers ICMP in 10 ms", 1},
		{"unsure", voices(false, ".xx", "..x"), false, false, "for has not answered 3 of 3 probes (ICMP, TCP 22)", 0},
		{"one silent, one unsure", voices(false, ".xxx", "...x"), false, false, "for has not answered 4 of 4 probes (ICMP, TCP 22)", 0},
		{"all silent", voices(false, ".xxx", ".xxxx"), false, true, "for has not answered 7 of 7 probes (ICMP, TCP 22)", 0},
		{"what must, does", voices(true, "xxx", "..."), true, false, "for answers TCP 22 in 10 ms", 1},
		{"what must, does not", voices(true, "....", ".xxx"), false, true, "against answers ICMP in 10 ms", 0},
	} {
		h := listen(c.vs, at(10))
		require.Equal(t, []bool{c.answers, c.silent}, []bool{h.answers, h.silent}, c.name)
		require.Len(t, h.partly, c.partly, c.name)
		if c.reason != "" {
			require.Equal(t, c.reason, string(h.reasons[0].Stance)+" "+h.reasons[0].Text.String(), c.name)
		}
	}
}

func TestWords(t *testing.T) {
	for want, got := range map[string]string{
		"0.3 ms": Millis(300 * time.Microsecond), "41 ms": Millis(41 * time.Millisecond), "1.8 s": Millis(1800 * time.Millisecond),
		"11.2 W": Watts(11.24), "148 W": Watts(148.2), "2.31 kW": Watts(2310),
		"36000": Figure(36000), "1234568": Figure(1234567.9), "21.46": Figure(21.456), "0.049": Figure(0.049), "-12.5": Figure(-12.5), "0": Figure(0),
		"12 s": Age(12 * time.Second), "4 min": Age(4 * time.Minute), "3 h": Age(3 * time.Hour), "24 days": Age(24 * 24 * time.Hour),
	} {
		require.Equal(t, want, got)
	}
	require.Equal(t, "cut off", CutOff.Words())
}

// TestTwoFeedsAndNeeds: a device runs while any feed carries power, unless it
// says how many it needs.
func TestTwoFeedsAndNeeds(t *testing.T) {
	e := pier(t)
	d := *e.Device("kiosk")
	d.Power = []estate.PowerCable{{From: estate.OutletEnd("pdu", 2)}, {From: estate.OutletEnd("pdu", 5)}}
	judge := func(needs int, outlets ...Outlet) powered {
		d.NeedsFeeds = needs
		m := At(e, NewEvidence(), nil, at(1))
		for i, n := range []int{2, 5} {
			if i < len(outlets) {
				m.ev.Outlet(estate.OutletEnd("pdu", n), outlets[i])
			}
		}
		return m.power(&d).state
	}
	live, off, bare := Outlet{At: t0, On: true, Metered: true, W: 10}, Outlet{At: t0}, Outlet{At: t0, On: true}
	welded, idle := Outlet{At: t0, Metered: true, W: 10}, Outlet{At: t0, On: true, Metered: true, W: 0.1}
	for _, c := range []struct {
		needs   int
		outlets []Outlet
		want    powered
	}{
		{1, []Outlet{live, live}, powerYes}, {1, []Outlet{live, off}, powerYes}, {1, []Outlet{off, off}, powerNo},
		{2, []Outlet{live, live}, powerYes}, {2, []Outlet{live, off}, powerNo}, {1, []Outlet{off}, powerUnknown},
		{1, []Outlet{bare, off}, powerYes}, {1, []Outlet{welded, off}, powerYes}, {1, []Outlet{idle, idle}, powerNo}, {1, nil, powerUnknown},
	} {
		require.Equal(t, c.want, judge(c.needs, c.outlets...), "%+v", c)
	}
}

// TestWhyAnEndpointCannotBeUsed: one that is starting up does not refuse us.
func TestWhyAnEndpointCannotBeUsed(t *testing.T) {
	var p Pulse
	require.Equal(t, "is not ready: it is starting up", p.After(Result{SentAt: at(1), Refused: true, Updating: true, Why: "it is starting up"}).Fault())
	require.Equal(t, "refuses us: wrong community", p.After(Result{SentAt: at(1), Refused: true, Why: "wrong community"}).Fault())
	require.Equal(t, "does not answer", p.After(Result{SentAt: at(1)}).Fault())
}
