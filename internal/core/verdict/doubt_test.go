package verdict

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// yard is an estate of one switch with hosts that hang on one PDU, which hangs on a UPS.
// change may change the devices: here, sw, pdu, ups, and h0 to h4.
func yard(t *testing.T, change func(d map[estate.Key]*estate.Device)) *story {
	via := func(k estate.Key) []estate.NetworkCable { return []estate.NetworkCable{{Via: estate.End{Device: k}}} }
	card := func(k estate.Key) []estate.Endpoint {
		return []estate.Endpoint{{Name: "card", Protocol: "snmp", Profile: "p", Every: 5 * time.Second, Timeout: time.Second, Network: via(k)}}
	}
	devices := []estate.Device{
		{Key: "here", Site: "s", Role: "server"},
		{Key: "sw", Site: "s", Role: "switch", Network: via("here")},
		{Key: "mgmt", Site: "s", Role: "switch", Network: via("here")},
		{Key: "ups", Site: "s", Role: "ups", Supply: &estate.Supply{}, Endpoints: card("mgmt"), Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}}},
		{Key: "pdu", Site: "s", Role: "pdu", Endpoints: card("mgmt"), Power: []estate.PowerCable{{From: estate.End{Device: "ups"}}}},
	}
	for n := range 5 {
		devices[4].Outlets = append(devices[4].Outlets, estate.Outlet{Number: n + 1})
		devices = append(devices, estate.Device{Key: estate.Key(fmt.Sprintf("h%d", n)), Site: "s", Role: "server", Network: via("sw"), Boot: time.Minute, Power: []estate.PowerCable{{From: estate.OutletEnd("pdu", n+1)}}})
	}
	by := map[estate.Key]*estate.Device{}
	for i := range devices {
		d := &devices[i]
		if d.Role == "server" && d.Key != "here" || d.Role == "switch" {
			d.Probes = []estate.Probe{{Kind: estate.ICMP, Target: "192.0.2.1", Every: 5 * time.Second, Timeout: time.Second}}
		}
		by[d.Key] = d
	}
	if change != nil {
		change(by)
	}
	e, problems := estate.New("t", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, devices)
	require.Empty(t, problems)
	return &story{e: e, ev: NewEvidence(), now: t0, off: map[int]bool{}, draw: map[int]float64{}, mute: map[estate.Key]bool{}}
}

// rounds asks everything as often; extra is called in each, before it is judged.
func (s *story) rounds(n int, extra func()) *story {
	for range n {
		s.now = s.now.Add(5 * time.Second)
		for i, k := range s.e.ReachOrder() {
			d := s.e.Device(k)
			ok := (s.elsewhere == k || s.reachable(d.Network)) && !s.mute[k]
			sent := s.now.Add(time.Duration(i) * time.Millisecond)
			if len(d.Probes) > 0 {
				s.ev.Probe(ProbeID{k, 0}, Result{SentAt: sent, RTT: time.Millisecond, OK: ok})
			}
			for _, ep := range d.Endpoints {
				id := estate.EndpointID{Device: k, Name: ep.Name}
				up := s.reachable(s.e.PathOf(k, ep.Name)) && !s.mute[estate.Key(id.String())] && (len(d.Probes) > 0 || !s.mute[k])
				s.ev.Endpoint(id, Result{SentAt: sent, RTT: time.Millisecond, OK: up})
				for _, o := range d.Outlets {
					if !up || s.mute["outlets"] {
						break
					}
					w, set := s.draw[o.Number]
					if !set {
						w = 100
					}
					if s.off[o.Number] {
						w = 0
					}
					s.ev.Outlet(estate.End{Device: k, Port: o.Port()}, Outlet{At: sent, On: !s.off[o.Number], Metered: !s.mute["meters"], W: w, Switched: true})
				}
			}
		}
		if extra != nil {
			extra()
		}
		s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(time.Second))
	}
	return s
}

func (s *story) states() map[estate.Key]State {
	out := map[estate.Key]State{}
	for k, v := range s.vs {
		out[k] = v.State
	}
	return out
}

func (s *story) said(k estate.Key) (all string) {
	for _, r := range s.vs[k].Reasons {
		all += r.Text.String() + "; "
	}
	return all
}

// TestARefusalIsAnAnswer: of a host that says no it is said what it says, and it is never
// called hung for it; once is nothing.
func TestARefusalIsAnAnswer(t *testing.T) {
	s := yard(t, nil).rounds(2, nil)
	refuses := func() {
		s.ev.Probe(ProbeID{"h0", 0}, Result{SentAt: s.now.Add(500 * time.Millisecond), RTT: time.Millisecond, Wrong: true, Why: "refuses the connection"})
	}
	s.mute["h0"] = true
	for i := range 8 {
		s.ev.Probes[ProbeID{"h0", 0}] = s.ev.Probes[ProbeID{"h0", 0}].After(Result{SentAt: s.now.Add(time.Second), Wrong: true, Why: "refuses the connection"})
		s.rounds(1, refuses)
		require.NotEqual(t, Hung, s.vs["h0"].State)
		if i == 0 {
			require.Equal(t, Steady, s.vs["h0"].State)
		}
	}
	s.ev.Probes[ProbeID{"h0", 0}] = Pulse{}
	for range 3 {
		s.now = s.now.Add(5 * time.Second)
		refuses()
	}
	s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(time.Second))
	require.Equal(t, Strained, s.vs["h0"].State)
	require.Equal(t, Critical, s.vs["h0"].Severity)
	require.Contains(t, s.said("h0"), "its host answers; ICMP refuses the connection")
}

// TestOneWrongCable: a host that answers although its switch is dead does not prove that
// the switch passes traffic, when everybody else behind it is silent.
func TestOneWrongCable(t *testing.T) {
	s := yard(t, nil).rounds(2, nil)
	s.mute["sw"], s.elsewhere = true, "h4"
	s.rounds(6, nil)
	require.NotContains(t, []State{Steady, Strained}, s.vs["sw"].State)
	for _, k := range []estate.Key{"h0", "h1", "h2", "h3"} {
		require.Equal(t, CutOff, s.vs[k].State)
		require.Equal(t, estate.Key("sw"), s.vs[k].CutBy)
	}
	require.Contains(t, s.said("h4"), "answers although sw, through which alone it is reached, is silent with 4 others behind it")
}

// TestAHopThatWasAwayForAMoment, and whose own silence nobody noticed, proves nothing.
func TestAHopThatWasAwayForAMoment(t *testing.T) {
	s := yard(t, nil).rounds(2, nil)
	for range 3 { // the host is asked three times while the switch starts anew; the switch is not
		s.now = s.now.Add(time.Second)
		s.ev.Probe(ProbeID{"h0", 0}, Result{SentAt: s.now})
	}
	s.now = s.now.Add(time.Second)
	s.ev.Probe(ProbeID{"sw", 0}, Result{SentAt: s.now, RTT: time.Millisecond, OK: true})
	s.ev.Outlet(estate.OutletEnd("pdu", 1), Outlet{At: s.now, On: true, Metered: true, W: 100})
	s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(100*time.Millisecond))
	require.NotEqual(t, Hung, s.vs["h0"].State, "nobody has asked it since: %s", s.said("h0"))
	s.now = s.now.Add(time.Second)
	s.ev.Probe(ProbeID{"h0", 0}, Result{SentAt: s.now})
	s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(100*time.Millisecond))
	require.Equal(t, Hung, s.vs["h0"].State, s.said("h0"))
}

// TestWhoIsNotHung: asleep, off, on a broken cable or with a voice of its own.
func TestWhoIsNotHung(t *testing.T) {
	board := func(d *estate.Device) {
		d.Endpoints = append(d.Endpoints, estate.Endpoint{Name: "board", Protocol: estate.IPMI, Every: 5 * time.Second, Timeout: time.Second, Network: d.Network})
	}
	says := func(s *story, c reading.Chassis) func() {
		return func() {
			c.At = s.now.Add(600 * time.Millisecond)
			s.ev.Controller("h0", c)
		}
	}
	for _, x := range []struct {
		name   string
		change func(h *estate.Device)
		then   func(s *story) (each func())
		want   State
		says   string
	}{
		{"asleep by ACPI, with a sleep draw stated that nobody meters", func(h *estate.Device) { board(h); h.SleepW = 5 },
			func(s *story) func() {
				s.mute["meters"] = true
				return says(s, reading.Chassis{On: true, Asleep: true, State: "S3"})
			}, Parked, "S3"},
		{"asleep by its draw, which is under what its controller takes", func(h *estate.Device) { board(h); h.SleepW = 5 },
			func(s *story) func() { s.draw[1] = 4; return nil }, Parked, "which is what it takes while it sleeps"},
		{"a draw that collapsed", nil, func(s *story) func() { s.draw[1] = 3; return nil }, Silent, "draws 3.0 W, and drew 100 W when it last answered"},
		{"a relay that nobody meters, and a chassis that is off", board,
			func(s *story) func() { s.mute["meters"] = true; return says(s, reading.Chassis{On: false}) }, Dark, "its chassis is off"},
		{"its controller fell silent with it, on its port", board, func(s *story) func() { s.mute["h0 board"] = true; return nil }, Silent, "its controller fell silent with it"},
		{"its agent answers all the time, by another way", func(h *estate.Device) {
			h.Endpoints = append(h.Endpoints, estate.Endpoint{Name: "agent", Protocol: "snmp", Profile: "p", Every: 5 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: "mgmt"}}}})
		}, func(*story) func() { return nil }, Strained, "its agent answered all through that"},
		{"nothing says whether it has power", nil, func(s *story) func() { s.mute["outlets"] = true; return nil }, Silent, "whether it has power is not known"},
		{"it hangs", nil, func(*story) func() { return nil }, Hung, "sw before it answers"},
	} {
		t.Run(x.name, func(t *testing.T) {
			s := yard(t, func(d map[estate.Key]*estate.Device) {
				if x.change != nil {
					x.change(d["h0"])
				}
			}).rounds(3, nil)
			s.mute["h0"] = true
			s.rounds(8, x.then(s))
			require.Equal(t, x.want, s.vs["h0"].State, s.said("h0"))
			require.Contains(t, s.said("h0"), x.says)
		})
	}
}

// TestWhatWakesIsGivenTime to start, as what power came back to.
func TestWhatWakesIsGivenTime(t *testing.T) {
	s := yard(t, func(d map[estate.Key]*estate.Device) { d["h0"].SleepW = 5 }).rounds(3, nil)
	s.mute["h0"], s.draw[1] = true, 4
	s.rounds(8, nil)
	require.Equal(t, Parked, s.vs["h0"].State)
	s.draw[1] = 90
	s.rounds(3, nil)
	require.Equal(t, Waking, s.vs["h0"].State, s.said("h0"))
	require.Contains(t, s.said("h0"), "it, or what it hangs on, came back, and it may take 60 s to start")
	s.rounds(12, nil)
	require.Equal(t, Hung, s.vs["h0"].State, s.said("h0"))
}

// TestOneCauseTakesAlong all that hangs on it.
func TestOneCauseTakesAlong(t *testing.T) {
	hosts := []estate.Key{"h0", "h1", "h2", "h3", "h4"}
	output := func(s *story, x reading.Supply) func() {
		return func() { s.ev.TakeSupply("ups", x, s.now.Add(600*time.Millisecond)) }
	}
	for _, x := range []struct {
		name string
		then func(s *story) func()
		want []Trouble
	}{
		{"the output of a UPS is off", func(s *story) func() {
			for _, k := range append(hosts, "pdu") {
				s.mute[k] = true
			}
			return output(s, reading.Supply{Source: reading.SourceNone})
		}, []Trouble{{"ups", append(slices.Clone(hosts), "pdu")}}},
		{"a PDU dies", func(s *story) func() {
			for _, k := range append(hosts, "pdu") {
				s.mute[k] = true
			}
			return nil
		}, []Trouble{{"pdu", hosts}}},
		{"a breaker trips", func(s *story) func() {
			for n, k := range hosts {
				s.mute[k], s.draw[n+1] = true, 0.001
			}
			return nil
		}, []Trouble{{"pdu", hosts}}},
		{"the breaker of a bank trips", func(s *story) func() {
			s.e.Device("pdu").Banks = []estate.Bank{{Name: "B", Outlets: []int{1, 2}}}
			for n, k := range hosts[:2] {
				s.mute[k], s.draw[n+1] = true, 0.001
			}
			return nil
		}, []Trouble{{"pdu", hosts[:2]}}},
		{"our own port is down", func(s *story) func() { s.mute["sw"], s.mute["mgmt"] = true, true; return nil },
			[]Trouble{{"here", append(slices.Clone(hosts), "mgmt", "pdu", "sw", "ups")}}},
		{"the card of a PDU is dead", func(s *story) func() { s.mute["pdu"] = true; return nil }, []Trouble{{"pdu", nil}}},
	} {
		t.Run(x.name, func(t *testing.T) {
			s := yard(t, nil)
			s.rounds(3, output(s, reading.Supply{Source: reading.SourceNormal}))
			s.rounds(10, x.then(s))
			got := Troubles(s.e, s.vs)
			require.Len(t, got, len(x.want), "%+v\n%v", got, s.states())
			for i, w := range x.want {
				require.Equal(t, w.Device, got[i].Device)
				require.ElementsMatch(t, w.Explains, got[i].Explains, s.states())
				for _, k := range w.Explains {
					require.True(t, s.vs[k].State != Silent || strings.Contains(s.said(k), "pdu, on which it hangs, fell silent with it"), s.said(k))
				}
			}
		})
	}
}

// TestACardThatIsSilentIsToldOf: what hangs on it alone answers, so it gives power.
func TestACardThatIsSilentIsToldOf(t *testing.T) {
	s := yard(t, nil).rounds(3, nil)
	s.mute["pdu"] = true
	s.rounds(5, nil)
	require.Equal(t, Silent, s.vs["pdu"].State)
	require.Contains(t, s.said("pdu"), "but it gives power: h0, which hangs on it alone, answers")
}

// TestTheWiringIsBlamedByReadingsOfOneMoment, newer than what they contradict, and twice.
func TestTheWiringIsBlamedByReadingsOfOneMoment(t *testing.T) {
	s := yard(t, nil).rounds(3, nil)
	s.off[1], s.mute["h0"] = true, true // power goes: the outlet is read before the host is asked
	s.ev.Outlet(estate.OutletEnd("pdu", 1), Outlet{At: s.now.Add(2 * time.Second), Metered: true})
	s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(3*time.Second))
	require.Equal(t, Steady, s.vs["h0"].State, s.said("h0"))
	s.rounds(1, nil)
	require.NotContains(t, s.said("h0"), "is the cable where")
	s.mute["h0"] = false
	s.rounds(3, nil)
	require.Equal(t, Strained, s.vs["h0"].State)
	require.Contains(t, s.said("h0"), "is the cable where the estate says?")
}

// TestWhatIsLostOfTwo is told while the other carries on.
func TestWhatIsLostOfTwo(t *testing.T) {
	s := yard(t, func(d map[estate.Key]*estate.Device) {
		d["h0"].Power = append(d["h0"].Power, estate.PowerCable{From: estate.OutletEnd("pdu", 2)})
		d["h1"].Power = nil
		d["h0"].Network = append(d["h0"].Network, estate.NetworkCable{Via: estate.End{Device: "mgmt"}})
	}).rounds(3, nil)
	require.Equal(t, Steady, s.vs["h0"].State, s.said("h0"))
	s.off[2], s.mute["sw"] = true, true
	s.rounds(5, nil)
	require.Equal(t, Strained, s.vs["h0"].State)
	require.Contains(t, s.said("h0"), "one of its 2 feeds is lost: outlet 2 of pdu is off")
	require.Contains(t, s.said("h0"), "one of its 2 ways is lost: sw is silent")
}

// TestWhatGoesOverIsGivenTime: when one of two ways dies, the other may not be used at once.
func TestWhatGoesOverIsGivenTime(t *testing.T) {
	s := yard(t, func(d map[estate.Key]*estate.Device) {
		d["h0"].Network = append(d["h0"].Network, estate.NetworkCable{Via: estate.End{Device: "mgmt"}})
	}).rounds(3, nil)
	began := s.now
	s.mute["h0"], s.mute["sw"] = true, true
	for s.now.Sub(began) < 60*time.Second {
		s.rounds(1, nil)
		require.NotContains(t, []State{Hung, Silent}, s.vs["h0"].State, s.said("h0"))
	}
	require.Equal(t, Hung, s.rounds(8, nil).vs["h0"].State, s.said("h0"))
}

// TestADrawFarFromUsual: is a note with both numbers, and no strain; near it is nothing, and
// so is what is known of a few days.
func TestADrawFarFromUsual(t *testing.T) {
	s := yard(t, nil).rounds(3, nil)
	for _, c := range []struct {
		usual reading.Usual
		told  bool
	}{{reading.Usual{W: 40, Spread: 3, Days: 14}, true}, {reading.Usual{W: 40, Spread: 30, Days: 14}, false}, {reading.Usual{W: 90, Spread: 1, Days: 14}, false}, {reading.Usual{W: 40, Spread: 1, Days: 3}, false}} {
		s.ev.TakeUsual(map[estate.Key]reading.Usual{"h0": c.usual})
		s.rounds(1, nil)
		require.Equal(t, Steady, s.vs["h0"].State)
		require.Equal(t, c.told, strings.Contains(s.said("h0"), "draws 100 W, where 40.0 W is usual at this hour (14 days)"), s.said("h0"))
	}
}

// TestASlowHopProvesNothing: what is behind it may answer, and too late.
func TestASlowHopProvesNothing(t *testing.T) {
	s := yard(t, nil).rounds(3, nil)
	s.mute["h0"] = true
	s.rounds(6, func() {
		for i := range 2 {
			s.ev.Probe(ProbeID{"sw", 0}, Result{SentAt: s.now.Add(time.Duration(10+i) * time.Millisecond), RTT: 700 * time.Millisecond, OK: true})
		}
		s.ev.Probe(ProbeID{"h0", 0}, Result{SentAt: s.now.Add(time.Second)})
	})
	require.Equal(t, Strained, s.vs["sw"].State, s.said("sw"))
	require.Contains(t, s.said("sw"), "takes 700 ms to answer, which is nearly as long as is waited")
	require.Equal(t, Silent, s.vs["h0"].State, s.said("h0"))
	require.Contains(t, s.said("h0"), "sw before it takes 700 ms to answer")
}

// TestLostPackets: whoever loses some is asked more often before it is called silent, and
// the way that loses them is told of.
func TestLostPackets(t *testing.T) {
	s := yard(t, nil)
	n := 0
	s.rounds(40, func() {
		for i := range 5 { // each host misses one question of three, none of them at once
			k := estate.Key(fmt.Sprintf("h%d", i))
			if n++; n%3 == 0 {
				s.ev.Probes[ProbeID{k, 0}] = s.ev.Probes[ProbeID{k, 0}].After(Result{SentAt: s.now.Add(time.Second)})
			}
		}
	})
	require.Contains(t, s.said("sw"), "of the questions to what is behind it go unanswered, so silence is believed after")
	s.mute["h0"] = true
	s.rounds(6, nil)
	require.NotContains(t, []State{Hung, Silent}, s.vs["h0"].State, "six in a row may be bad luck there")
	s.rounds(30, nil)
	require.Equal(t, Hung, s.vs["h0"].State, s.said("h0"))
}

// TestThePortOfTheSwitch is a witness: one that is down says that nobody hangs there.
func TestThePortOfTheSwitch(t *testing.T) {
	for _, x := range []struct {
		name string
		port string // in the estate
		then reading.Neighbour
		read bool // since it fell silent
		want State
		says string
	}{
		{"down, by the estate's word", "7", reading.Neighbour{Port: "7"}, true, Silent, "port 7 of sw is down: it is its cable, its network card or its power"},
		{"down, where it was last seen", "", reading.Neighbour{Port: "9"}, true, Silent, "port 9 of sw is down"},
		{"up", "7", reading.Neighbour{Port: "7", Up: true}, true, Hung, "port 7 of sw is up"},
		{"of before", "7", reading.Neighbour{Port: "7"}, false, Hung, "sw before it answers"},
		{"another port", "7", reading.Neighbour{Port: "8"}, true, Hung, "sw before it answers"},
	} {
		t.Run(x.name, func(t *testing.T) {
			s := yard(t, func(d map[estate.Key]*estate.Device) {
				if x.port != "" {
					d["h0"].Network[0].Via.Port = x.port
				}
			}).rounds(3, nil)
			known := func(k estate.Key) bool { return s.e.Device(k) != nil }
			s.ev.TakePorts("sw", Ports{s.now, []reading.Neighbour{{Port: "9", Up: true, Name: "h0"}}}, known)
			s.mute["h0"] = true
			s.rounds(15, func() {
				if x.read {
					s.ev.TakePorts("sw", Ports{s.now.Add(time.Second), []reading.Neighbour{x.then}}, known)
				}
			})
			require.Equal(t, x.want, s.vs["h0"].State, s.said("h0"))
			require.Contains(t, s.said("h0"), x.says)
		})
	}
}

// TestWhatItsLineSaid is told of a silent device, and changes no verdict.
func TestWhatItsLineSaid(t *testing.T) {
	s := newStory(t)
	s.poll(2)
	s.ev.Say("kiosk", Saying{At: s.now.Add(-24 * time.Hour), What: "watchdog"})
	s.mute["kiosk"] = true
	s.poll(6)
	require.Equal(t, Hung, s.vs["kiosk"].State)
	require.NotContains(t, s.said("kiosk"), "its serial line")
	s.ev.Say("kiosk", Saying{At: s.now, What: "kernel panic"})
	s.ev.Say("kiosk", Saying{At: s.now.Add(-time.Minute), What: "log-in prompt"})
	s.poll(1)
	require.Equal(t, Hung, s.vs["kiosk"].State)
	require.Contains(t, s.said("kiosk"), "its serial line: kernel panic")
}

// TestAHopThatLeadsNowhere: what is beyond it at several sites falls silent at one moment while it answers
// itself. Nobody there is blamed, and it is the one thing that is wrong.
func TestAHopThatLeadsNowhere(t *testing.T) {
	begin := func() *story {
		probe := []estate.Probe{{Kind: estate.ICMP, Target: "198.18.0.9", Every: 5 * time.Second, Timeout: time.Second}}
		box := func(k, site, via estate.Key) estate.Device {
			return estate.Device{Key: k, Site: site, Role: "box", Probes: probe, Network: []estate.NetworkCable{{Via: estate.End{Device: via}}}}
		}
		s := newStory(t)
		e, problems := estate.New("t", "here", []estate.Site{{Key: "pier"}, {Key: "a"}, {Key: "b"}, {Key: "c"}}, []estate.Device{
			{Key: "here", Site: "pier", Role: "server"}, s.e.Devices[slices.IndexFunc(s.e.Devices, func(d estate.Device) bool { return d.Key == "pdu" })],
			box("cell", "pier", "here"), box("desk", "pier", "cell"), box("one", "a", "cell"), box("two", "b", "cell"), box("three", "c", "cell"), box("behind", "c", "three"),
		})
		require.Empty(t, problems)
		s.e = e
		return s.poll(3)
	}
	mute := func(s *story, ks ...estate.Key) {
		for _, k := range ks {
			s.mute[k] = true
		}
	}
	is := func(s *story, want map[estate.Key]State) {
		t.Helper()
		for k, v := range want {
			require.Equal(t, v, s.vs[k].State, "%s: %+v", k, s.vs[k])
		}
	}
	s := begin()
	mute(s, "one", "two", "three")
	s.poll(4)
	is(s, map[estate.Key]State{"cell": Strained, "one": CutOff, "two": CutOff, "three": CutOff, "behind": CutOff, "desk": Steady})
	require.Equal(t, estate.Key("cell"), s.vs["behind"].CutBy)
	require.Contains(t, s.vs["cell"].Reasons[0].Text.String(), "it answers, and leads nowhere: none of the 3 next behind it")
	s.poll(8)
	mute(s, "desk")
	s.poll(10)
	is(s, map[estate.Key]State{"desk": Silent, "one": CutOff})
	delete(s.mute, "two")
	s.poll(4)
	is(s, map[estate.Key]State{"cell": Steady, "two": Steady, "one": Silent})

	// The first of them is asked in vain before it is known how the others are.
	for others, want := range map[bool]State{true: Silent, false: CutOff} {
		s = begin()
		ask := func(k estate.Key, ok bool) {
			s.now = s.now.Add(time.Second)
			s.ev.Probe(ProbeID{k, 0}, Result{SentAt: s.now, RTT: time.Millisecond, OK: ok})
			s.ev.Probe(ProbeID{"cell", 0}, Result{SentAt: s.now.Add(100 * time.Millisecond), RTT: time.Millisecond, OK: true})
			s.vs = Judge(s.e, s.ev, s.vs, s.now.Add(500*time.Millisecond))
		}
		for range 4 {
			ask("one", false)
		}
		is(s, map[estate.Key]State{"one": Steady, "cell": Steady})
		for range 4 {
			ask("two", others)
			ask("three", others)
		}
		is(s, map[estate.Key]State{"one": want})
	}

	s = begin()
	mute(s, "one")
	s.poll(12)
	mute(s, "two", "three")
	s.poll(4)
	is(s, map[estate.Key]State{"one": Silent, "cell": Steady})
}
