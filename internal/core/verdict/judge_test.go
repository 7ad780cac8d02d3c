package verdict

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/estate"
)

var t0 = time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)

// pier is a small skarvoe: the PDU's card hangs on cell, everything else on
// bridge → router → switch. The numbers are outlets of pdu.
func pier(t require.TestingT) *estate.Estate {
	probe := []estate.Probe{{Kind: estate.ICMP, Target: "198.18.0.9", Every: 5 * time.Second, Timeout: time.Second}}
	dev := func(k estate.Key, outlet int, via ...estate.Key) estate.Device {
		d := estate.Device{Key: k, Site: "pier", Role: "box", Probes: probe, Boot: time.Minute}
		if outlet > 0 {
			d.Power = []estate.PowerCable{{From: estate.OutletEnd("pdu", outlet)}}
		}
		for _, v := range via {
			d.Network = append(d.Network, estate.NetworkCable{Via: estate.End{Device: v}})
		}
		return d
	}
	pdu := estate.Device{
		Key: "pdu", Site: "pier", Role: "pdu", Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}},
		Endpoints: []estate.Endpoint{{Name: "card", Protocol: "snmp", Profile: "p", Every: 5 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "cell"}}}}},
	}
	for n := 1; n <= 8; n++ {
		pdu.Outlets = append(pdu.Outlets, estate.Outlet{Number: n})
	}
	here := estate.Device{Key: "here", Site: "pier", Role: "server"}
	heater := dev("heater", 6)
	heater.Probes = nil
	e, problems := estate.New("test", "here", []estate.Site{{Key: "pier", Zone: time.UTC}}, []estate.Device{
		here, dev("core", 0, "here"), dev("bridge", 1, "core"), dev("router", 3, "bridge"), dev("switch", 4, "router"), dev("kiosk", 5, "switch"),
		dev("cell", 7, "core"), heater, pdu,
	})
	require.Empty(t, problems)
	return e
}

// story is evidence as it comes in: each row of a scene is one poll of
// everything, five seconds after the row before.
type story struct {
	e    *estate.Estate
	ev   *Evidence
	vs   map[estate.Key]Verdict
	now  time.Time
	off  map[int]bool        // outlets that are off
	draw map[int]float64     // instead of 10 W
	mute map[estate.Key]bool // does not answer

	elsewhere estate.Key // is connected directly, whatever the estate says
}

func newStory(t require.TestingT) *story {
	return &story{e: pier(t), ev: NewEvidence(), now: t0, off: map[int]bool{}, draw: map[int]float64{}, mute: map[estate.Key]bool{}}
}

// poll asks everything once: who is mute, or behind somebody mute, does not answer.
func (s *story) poll(times int) *story {
	for range times {
		s.now = s.now.Add(5 * time.Second)
		for i, k := range s.e.ReachOrder() {
			d := s.e.Device(k)
			r := Result{SentAt: s.now.Add(time.Duration(i) * time.Millisecond), RTT: time.Millisecond, OK: (s.elsewhere == k || s.reachable(d.Network)) && !s.mute[k]}
			if len(d.Probes) > 0 {
				s.ev.Probe(ProbeID{k, 0}, r)
			}
		}
		s.card()
		s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(time.Second))
	}
	return s
}

func (s *story) card() {
	pdu := s.e.Device("pdu")
	r := Result{SentAt: s.now.Add(500 * time.Millisecond), RTT: time.Millisecond, OK: s.reachable(pdu.Endpoints[0].Network) && !s.mute["pdu"]}
	s.ev.Endpoint(estate.EndpointID{Device: "pdu", Name: "card"}, r)
	for n := 1; r.OK && n <= 8; n++ {
		o := Outlet{At: r.SentAt, On: !s.off[n], Metered: true, Switched: true, W: 10}
		if w, set := s.draw[n]; set {
			o.W = w
		}
		if !o.On {
			o.W = 0
		}
		s.ev.Outlet(estate.OutletEnd("pdu", n), o)
	}
}

func (s *story) reachable(path []estate.NetworkCable) bool {
	for _, c := range path {
		via := c.Via.Device
		if via == "here" || !s.mute[via] && s.reachable(s.e.Device(via).Network) {
			return true
		}
	}
	return false
}

func TestJudge(t *testing.T) {
	set := func(ks ...estate.Key) func(*story) {
		return func(s *story) {
			for _, k := range ks {
				s.mute[k] = true
			}
		}
	}
	for _, c := range []struct {
		name string
		do   func(*story) // after two quiet polls
		then int          // polls afterwards
		want map[estate.Key]State
		by   estate.Key // of the devices that are cut off
	}{
		{"all is well", func(*story) {}, 1, map[estate.Key]State{"here": Steady, "router": Steady, "pdu": Steady, "heater": Steady}, ""},
		{"one lost packet changes nothing", set("router"), 1, map[estate.Key]State{"router": Steady, "switch": Steady}, ""},
		{"a hung router is hung, and what is behind it is cut off", set("router"), 3,
			map[estate.Key]State{"router": Hung, "switch": CutOff, "kiosk": CutOff, "bridge": Steady, "pdu": Steady}, "router"},
		{"a router without power is dark", func(s *story) { s.off[3] = true; s.mute["router"] = true }, 3,
			map[estate.Key]State{"router": Dark, "switch": CutOff}, "router"},
		{"on, but nothing drawn, is dark as well", func(s *story) { s.draw[3] = 0; s.mute["router"] = true }, 3, map[estate.Key]State{"router": Dark}, ""},
		{"draw beats the word of the relay", func(s *story) { s.off[3] = false; s.draw[3] = 11; s.mute["router"] = true }, 3, map[estate.Key]State{"router": Hung}, ""},
		{"with the cell gone, nobody is called hung on stale evidence", set("cell", "router"), 12,
			map[estate.Key]State{"cell": Silent, "pdu": CutOff, "router": Silent, "switch": CutOff, "bridge": Strained}, ""},
		{"a silent core cuts everything off, but what is behind it is not blamed", set("core"), 4,
			map[estate.Key]State{"core": Silent, "bridge": CutOff, "router": CutOff, "pdu": CutOff, "cell": CutOff}, "core"},
		{"a device without probes lives by its draw", func(s *story) { s.off[6] = true }, 1, map[estate.Key]State{"heater": Dark}, ""},
		{"what was switched off on purpose is parked", func(s *story) {
			s.off[5], s.mute["kiosk"] = true, true
			s.ev.Parked["kiosk"] = Parking{By: "admin", Why: "winter", Since: s.now}
		}, 3, map[estate.Key]State{"kiosk": Parked}, ""},
		{"what is parked and answers is not parked", func(s *story) { s.ev.Parked["kiosk"] = Parking{By: "admin"} }, 1, map[estate.Key]State{"kiosk": Steady}, ""},
		{"an operation makes it waking, whatever else", func(s *story) { s.ev.Operating["router"] = "cycle"; s.mute["router"] = true }, 4,
			map[estate.Key]State{"router": Waking, "switch": CutOff}, "router"},
		{"what another service may have switched is no fault at once", func(s *story) {
			s.e.Site("pier").Acts = "core"
			s.off[3], s.off[6], s.mute["router"] = true, true, true
		}, 4, map[estate.Key]State{"router": Parked, "heater": Parked}, ""},
		{"nor is what starts again after that", func(s *story) {
			s.e.Site("pier").Acts = "core"
			s.off[3], s.mute["router"] = true, true
			s.poll(4)
			s.off[3] = false
		}, 2, map[estate.Key]State{"router": Waking}, ""},
		{"but what stays off is", func(s *story) {
			s.e.Site("pier").Acts = "core"
			s.off[3], s.off[6], s.mute["router"] = true, true, true
		}, 125, map[estate.Key]State{"router": Dark, "heater": Dark}, ""},
		{"and what hangs with power is not its doing", func(s *story) { s.e.Site("pier").Acts = "core"; s.mute["router"] = true }, 3, map[estate.Key]State{"router": Hung}, ""},
		{"power that has just come back gives time to start", func(s *story) {
			s.off[3], s.mute["router"] = true, true
			s.poll(3)
			s.off[3] = false
		}, 2, map[estate.Key]State{"router": Waking}, ""},
		{"but not for ever", func(s *story) {
			s.off[3], s.mute["router"] = true, true
			s.poll(3)
			s.off[3] = false
		}, 14, map[estate.Key]State{"router": Hung}, ""},
		{"answering without power on its outlet: the cable is elsewhere", func(s *story) { s.off[4] = true }, 3, map[estate.Key]State{"switch": Strained}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newStory(t).poll(2)
			c.do(s)
			s.poll(c.then)
			for k, want := range c.want {
				require.Equal(t, want, s.vs[k].State, "%s: %+v", k, s.vs[k])
				if want == CutOff && c.by != "" {
					require.Equal(t, c.by, s.vs[k].CutBy)
				}
			}
		})
	}
}

func TestReasons(t *testing.T) {
	s := newStory(t).poll(2)
	s.mute["router"] = true
	s.poll(3)
	v := s.vs["router"]
	var said []string
	for _, r := range v.Reasons {
		said = append(said, string(r.Stance)+" "+r.Text.String())
	}
	require.Equal(t, []string{"for draws 10.0 W on pdu outlet 3", "for has not answered 3 of 3 probes (ICMP)", "for bridge before it answers"}, said)
	require.Equal(t, t0.Add(15*time.Second+3*time.Millisecond), v.Since, "it began when the first question went unanswered")
	require.Equal(t, []Trouble{{"router", []estate.Key{"switch", "kiosk"}}}, Troubles(s.e, s.vs))
}

func TestADeviceThatPassesTrafficIsNotHung(t *testing.T) {
	s := newStory(t).poll(2)
	s.mute["router"], s.elsewhere = true, "switch" // the router itself is mute, but what is behind it answers
	s.poll(4)
	require.Equal(t, Steady, s.vs["router"].State, "that may be lost packets yet")
	s.poll(4)
	require.Equal(t, Strained, s.vs["router"].State)
	require.Equal(t, Critical, s.vs["router"].Severity)
	require.Equal(t, Steady, s.vs["switch"].State)
}

// TestAPathThatComesBackAccusesNobody: what is behind a router that answers
// again was asked in vain while it did not, and is not hung for that.
func TestAPathThatComesBackAccusesNobody(t *testing.T) {
	s := newStory(t).poll(2)
	s.mute["router"] = true
	s.poll(4)
	require.Equal(t, CutOff, s.vs["switch"].State)
	// The router answers before the switch is asked again.
	s.ev.Probe(ProbeID{"router", 0}, Result{SentAt: s.now.Add(2 * time.Second), OK: true})
	s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(3*time.Second))
	require.Equal(t, Steady, s.vs["router"].State)
	require.Equal(t, CutOff, s.vs["switch"].State, "nothing is known of it yet: %+v", s.vs["switch"])
	// What is behind the switch answers before the switch itself is asked again.
	s.ev.Probe(ProbeID{"kiosk", 0}, Result{SentAt: s.now.Add(2500 * time.Millisecond), OK: true})
	s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(3*time.Second))
	require.Equal(t, CutOff, s.vs["switch"].State, "that it passes traffic on says nothing about itself: %+v", s.vs["switch"])
	// It really hangs as well: that takes as many questions as ever.
	s.mute["router"], s.mute["switch"] = false, true
	for range 2 {
		s.poll(1)
		require.NotEqual(t, Hung, s.vs["switch"].State)
	}
	s.poll(2)
	require.Equal(t, Hung, s.vs["switch"].State)
}

// TestALateAnswerIsNoOldOne: an answer to a question that waited for the router to
// come up does not show that it was up when it was asked.
func TestALateAnswerIsNoOldOne(t *testing.T) {
	s := newStory(t).poll(2)
	s.mute["router"] = true
	s.poll(4)
	waits := s.ev.Probes[ProbeID{"router", 0}]
	waits.Asked = s.now.Add(-11 * time.Second)
	s.ev.Probes[ProbeID{"router", 0}] = waits.After(Result{SentAt: waits.Asked, RTT: 12 * time.Second, OK: true})
	s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(2*time.Second))
	require.Equal(t, CutOff, s.vs["switch"].State, "%+v", s.vs["switch"])
}

func TestFlapping(t *testing.T) {
	s := newStory(t).poll(2)
	for range 3 {
		s.mute["kiosk"] = true
		s.poll(3)
		s.mute["kiosk"] = false
		s.poll(2)
	}
	require.Equal(t, Strained, s.vs["kiosk"].State)
	require.Contains(t, s.vs["kiosk"].Reasons[0].Text.String(), "comes and goes")
	for range 130 {
		s.poll(1)
	}
	require.Equal(t, Steady, s.vs["kiosk"].State, "it is forgiven after a while")
	for range 3 {
		s.mute["router"] = true
		s.poll(3)
		s.mute["router"] = false
		s.poll(2)
	}
	require.Equal(t, Strained, s.vs["router"].State)
	require.Equal(t, Steady, s.vs["kiosk"].State, "the router comes and goes, and not what is behind it")
}

// TestNobodyIsHungWithoutProof: whatever happens in whatever order, hung means
// a fresh measurement of power, an answer of the hop before, and silence.
func TestNobodyIsHungWithoutProof(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := newStory(t).poll(1)
		names := []estate.Key{"core", "bridge", "router", "switch", "kiosk", "cell", "pdu"}
		for range rapid.IntRange(1, 25).Draw(t, "polls") {
			k := rapid.SampledFrom(names).Draw(t, "who")
			s.mute[k] = rapid.Bool().Draw(t, "mute")
			s.off[rapid.IntRange(1, 7).Draw(t, "outlet")] = rapid.Bool().Draw(t, "off")
			s.poll(1)
			for k, v := range s.vs {
				if v.State != Hung {
					continue
				}
				d := s.e.Device(k)
				h := s.ev.Probes[ProbeID{k, 0}]
				require.True(t, h.Silent(), "%s answers", k)
				out := s.ev.Outlets[d.Power[0].From]
				require.True(t, Fresh(s.e.Device("pdu").Endpoints[0], out.At, s.now.Add(time.Second)), "%s is hung on a stale reading", k)
				require.Greater(t, out.W, DefaultIdleW)
			}
		}
	})
}

func TestLines(t *testing.T) {
	s := newStory(t).poll(2)
	s.mute["router"] = true
	s.poll(3)
	l := At(s.e, s.ev, nil, s.now).LinesOf("kiosk")
	states := func(hops []Hop) (out string) {
		for _, h := range hops {
			out += fmt.Sprintf("%s %s, ", h.Label, h.State)
		}
		return out
	}
	require.Equal(t, "here sound, core sound, bridge sound, router broken, switch slack, kiosk slack, ", states(l.Reach[0]))
	require.Equal(t, "utility sound, pdu sound, outlet 5 sound, kiosk sound, ", states(l.Power[0]))
}

func BenchmarkJudge5000(b *testing.B) {
	var devices []estate.Device
	devices = append(devices, estate.Device{Key: "here", Site: "pier", Role: "server"})
	ev := NewEvidence()
	for i := range 5000 {
		k := estate.Key(fmt.Sprintf("d%d", i))
		via := estate.Key("here")
		if i > 0 {
			via = estate.Key(fmt.Sprintf("d%d", (i-1)/10))
		}
		devices = append(devices, estate.Device{Key: k, Site: "pier", Role: "box", Probes: []estate.Probe{{Kind: estate.ICMP}}, Network: []estate.NetworkCable{{Via: estate.End{Device: via}}}})
		ev.Probe(ProbeID{k, 0}, Result{SentAt: t0, OK: true})
	}
	e, problems := estate.New("b", "here", []estate.Site{{Key: "pier", Zone: time.UTC}}, devices)
	require.Empty(b, problems)
	var vs map[estate.Key]Verdict
	for b.Loop() {
		vs = Judge(e, ev, vs, t0.Add(time.Second))
	}
}

// TestDrawAloneIsNoAnswer: the draw is known before the first probe returns.
func TestDrawAloneIsNoAnswer(t *testing.T) {
	s := newStory(t)
	s.now = s.now.Add(5 * time.Second)
	s.card()
	vs := Judge(s.e, s.ev, nil, s.now.Add(time.Second))
	require.Equal(t, Unknown, vs["kiosk"].State, "it has probes, which nobody has asked yet")
	require.Equal(t, Steady, vs["heater"].State, "it has none, so its draw is all that there is")
}

// TestTroublesHaveOneCause: what cuts others off while it is cut off itself is no
// cause, whether that which cuts it off answers again or not.
func TestTroublesHaveOneCause(t *testing.T) {
	e := newStory(t).e
	cut := func(by estate.Key) Verdict { return Verdict{State: CutOff, CutBy: by} }
	vs := map[estate.Key]Verdict{"router": {State: Hung}, "switch": cut("router"), "kiosk": cut("switch")}
	require.Equal(t, []Trouble{{"router", []estate.Key{"switch", "kiosk"}}}, Troubles(e, vs))
	vs["router"] = Verdict{State: Steady}
	require.Empty(t, Troubles(e, vs), "they have only not been asked since")
	vs["router"], vs["switch"] = cut("switch"), cut("router")
	require.Empty(t, Troubles(e, vs), "nobody runs in circles")
}

// TestRedundantLayersCostNoMoreThanTheyHave: forty layers of two switches of
// which nothing is known have 2^40 ways through, and eighty switches.
func TestRedundantLayersCostNoMoreThanTheyHave(t *testing.T) {
	for _, asked := range []bool{false, true} {
		devices := []estate.Device{{Key: "here", Site: "s", Role: "server"}}
		above := []estate.NetworkCable{{Via: estate.End{Device: "here"}}}
		add := func(k estate.Key, probed bool) {
			d := estate.Device{Key: k, Site: "s", Role: "box", Network: above}
			if probed {
				d.Probes = []estate.Probe{{Kind: estate.ICMP, Target: "192.0.2.1"}}
			}
			devices = append(devices, d)
		}
		for l := range 40 {
			a, b := estate.Key(fmt.Sprint("a", l)), estate.Key(fmt.Sprint("b", l))
			add(a, asked)
			add(b, asked)
			above = []estate.NetworkCable{{Via: estate.End{Device: a}}, {Via: estate.End{Device: b}}}
		}
		add("host", true)
		e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, devices)
		require.Empty(t, problems)
		ev := NewEvidence()
		for i := range e.Devices {
			for round := range 4 {
				ev.Probe(ProbeID{e.Devices[i].Key, 0}, Result{SentAt: at(float64(round)), OK: round == 0})
			}
		}
		m := At(e, ev, nil, at(10))
		v := m.Judge()["host"]
		if asked {
			require.Equal(t, CutOff, v.State)
			require.Equal(t, estate.Key("here"), v.CutBy, "both that it is connected to are silent")
		}
		require.NotEmpty(t, m.WayLine("host", ""))
	}
}
