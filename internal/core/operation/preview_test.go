package operation

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/verdict"
)

// cupboard is a PDU whose card is reached through cell, which hangs on its
// outlet 7; host has a second feed on the other PDU, and lamp hangs on nothing.
func cupboard(t *testing.T) *estate.Estate {
	t.Helper()
	box := func(k estate.Key, via estate.Key, feeds ...estate.End) estate.Device {
		d := estate.Device{Key: k, Site: "pier", Role: "box", Network: []estate.NetworkCable{{Via: estate.End{Device: via}}}}
		for _, f := range feeds {
			d.Power = append(d.Power, estate.PowerCable{From: f})
		}
		return d
	}
	pdu := func(k estate.Key, via estate.Key) estate.Device {
		d := estate.Device{Key: k, Site: "pier", Role: "pdu", Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}}}
		d.Endpoints = []estate.Endpoint{{Name: "card", Protocol: estate.SNMP, Profile: "p", Every: 5 * time.Second, Timeout: time.Second, Network: []estate.NetworkCable{{Via: estate.End{Device: via}}}}}
		for n := 1; n <= 8; n++ {
			d.Outlets = append(d.Outlets, estate.Outlet{Number: n, Unswitched: n == 8})
		}
		return d
	}
	guarded := box("recorder", "switch", estate.OutletEnd("pdu", 5))
	guarded.Guarded = true
	ops := estate.Device{Key: "ops", Site: "pier", Role: "server", Power: []estate.PowerCable{{From: estate.OutletEnd("other", 6)}}}
	e, problems := estate.New("t", "ops", []estate.Site{{Key: "pier", Zone: time.UTC}}, []estate.Device{
		ops, box("router", "ops", estate.OutletEnd("pdu", 3)), box("switch", "router", estate.OutletEnd("pdu", 4)), guarded,
		box("cell", "ops", estate.OutletEnd("pdu", 7)), box("gate", "switch", estate.OutletEnd("pdu", 8)), box("lamp", "switch"),
		box("host", "switch", estate.OutletEnd("pdu", 6), estate.OutletEnd("other", 1)),
		pdu("pdu", "cell"), pdu("other", "switch"),
	})
	require.Empty(t, problems)
	return e
}

// asSeen is a world in which everything is on, fresh, and answers.
func asSeen(e *estate.Estate) World {
	ev := verdict.NewEvidence()
	now := t0
	for _, k := range []estate.Key{"pdu", "other"} {
		ev.Endpoint(estate.EndpointID{Device: k, Name: "card"}, verdict.Result{SentAt: now, OK: true})
		for n := 1; n <= 8; n++ {
			ev.Outlet(estate.OutletEnd(k, n), verdict.Outlet{At: now, On: true, Metered: true, W: 11.2, Switched: n != 8})
		}
	}
	return World{
		Estate: e, Evidence: ev, Now: now.Add(time.Second), Verdicts: map[estate.Key]verdict.Verdict{}, Busy: map[estate.End]string{},
		Gear: func(estate.Key) GearTraits { return GearTraits{CyclesItself: true, Settle: time.Second} },
	}
}

func TestPreview(t *testing.T) {
	silent := verdict.Result{SentAt: t0.Add(time.Second)}
	for _, c := range []struct {
		name  string
		in    Intent
		world func(*World)
		lines []string
		locks []string // name, and what lifts it
		gear  bool
	}{
		{"a router, and what is behind it", Intent{Kind: Cycle, Device: "router"}, nil, []string{
			"Loses power: router, for about 10 s", "Gets cut off meanwhile: switch, recorder, gate, lamp, host",
			"Our way to pdu goes through cell and is not touched",
		}, nil, false},
		{"what is cut off already is not cut off anew", Intent{Kind: Cycle, Device: "router"}, func(w *World) {
			for _, k := range []estate.Key{"switch", "recorder", "gate", "lamp", "host"} {
				w.Verdicts[k] = verdict.Verdict{State: verdict.CutOff}
			}
		}, []string{
			"Loses power: router, for about 10 s", "Cannot be reached now, and stays so meanwhile: switch, recorder, gate, lamp, host",
			"Our way to pdu goes through cell and is not touched",
		}, nil, false},
		{"the only feed that is left of two", Intent{Kind: Off, Device: "host", Outlets: []estate.End{estate.OutletEnd("pdu", 6)}}, func(w *World) { w.off(estate.OutletEnd("other", 1)) },
			[]string{"Loses power: host, until it is switched on again", "Our way to pdu goes through cell and is not touched"}, nil, false},
		{"one of two feeds", Intent{Kind: Off, Device: "host", Outlets: []estate.End{estate.OutletEnd("pdu", 6)}}, nil,
			[]string{"Keeps running on 1 of 2 feeds: host", "Our way to pdu goes through cell and is not touched", "other carries 101 W afterwards instead of 89.6 W"}, nil, false},
		{"our own path, by a cycle: left to the gear", Intent{Kind: Cycle, Device: "cell", Hold: 5 * time.Second}, nil,
			[]string{"Loses power: cell, for about 5 s", "Cuts our own way to pdu, which leads through cell. pdu will switch it back on by itself after 5 s"}, nil, true},
		{"our own path, by gear that cannot cycle", Intent{Kind: Cycle, Device: "cell"}, func(w *World) {
			w.Gear = func(estate.Key) GearTraits { return GearTraits{} }
		}, []string{"Loses power: cell, for about 10 s", "Cuts our own way to pdu, which leads through cell: nothing here could switch it on again"}, []string{"own-path reason"}, false},
		{"our own path, off", Intent{Kind: Off, Device: "cell"}, nil,
			[]string{"Loses power: cell, until it is switched on again", "Cuts our own way to pdu, which leads through cell: nothing here could switch it on again"}, []string{"own-path reason"}, false},
		{"our own power", Intent{Kind: Off, Device: "ops"}, nil, nil, []string{"standpoint never", "own-path reason"}, false},
		{"a guarded device", Intent{Kind: Off, Device: "recorder"}, nil, nil, []string{"guarded name"}, false},
		{"a guarded device is not guarded against power", Intent{Kind: On, Device: "recorder"}, nil, []string{"Outlet 5 of pdu is on already", "Power returns to recorder"}, nil, false},
		{"an unswitched outlet", Intent{Kind: Off, Device: "gate"}, nil, nil, []string{"unswitched never"}, false},
		{"an outlet that the gear says is unswitched", Intent{Kind: Off, Device: "router"}, func(w *World) {
			o := w.Evidence.Outlets[estate.OutletEnd("pdu", 3)]
			o.Switched = false
			w.Evidence.Outlets[estate.OutletEnd("pdu", 3)] = o
		}, nil, []string{"unswitched never"}, false},
		{"an outlet that is being worked on", Intent{Kind: On, Device: "router"}, func(w *World) { w.Busy[estate.OutletEnd("pdu", 3)] = "abc" }, nil, []string{"busy never"}, false},
		{"a card that does not answer", Intent{Kind: On, Device: "router"}, func(w *World) {
			for range 3 {
				w.Evidence.Endpoint(estate.EndpointID{Device: "pdu", Name: "card"}, silent)
			}
		}, nil, []string{"out-of-reach never"}, false},
		{"a card that refuses us", Intent{Kind: On, Device: "router"}, func(w *World) {
			w.Evidence.Endpoint(estate.EndpointID{Device: "pdu", Name: "card"}, verdict.Result{SentAt: t0.Add(time.Second), Refused: true, Why: "no"})
		}, nil, []string{"refuses-us never"}, false},
		{"what is off is only switched on", Intent{Kind: Cycle, Device: "router"}, func(w *World) {
			w.Evidence.Outlet(estate.OutletEnd("pdu", 3), verdict.Outlet{At: w.Now, Switched: true, Metered: true})
		}, []string{
			"Outlet 3 of pdu is off already: it is only switched on", "Power returns to router",
			"Gets cut off meanwhile: switch, recorder, gate, lamp, host", "Our way to pdu goes through cell and is not touched",
		}, nil, false},
		{"stale evidence is said to be", Intent{Kind: On, Device: "router"}, func(w *World) { w.Now = w.Now.Add(time.Hour) },
			[]string{"The state of outlet 3 of pdu is stale: it was last read at 14:07:00", "What router takes when it gets power is not known: it has not been measured running yet. inrush: in the estate says it", "Power returns to router"}, nil, false},
		{"how long it usually takes", Intent{Kind: On, Device: "router"}, func(w *World) { w.Usual = Usual{38 * time.Second, 47 * time.Second, 4} },
			[]string{"Outlet 3 of pdu is on already", "Power returns to router", "router usually answers again after 38–47 s"}, nil, false},
	} {
		t.Run(c.name, func(t *testing.T) {
			w := asSeen(cupboard(t))
			if c.world != nil {
				c.world(&w)
			}
			p, err := Look(c.in, w)
			require.NoError(t, err)
			if c.lines != nil {
				var said []string
				for _, l := range p.Lines {
					said = append(said, l.Text)
				}
				require.Equal(t, c.lines, said)
			}
			var locks []string
			for _, l := range p.Interlocks {
				locks = append(locks, l.Name+" "+string(l.LiftBy))
				require.NotEmpty(t, l.Reason)
			}
			require.Equal(t, c.locks, locks)
			require.Equal(t, c.gear, p.ByGear)
		})
	}
}

func TestPreviewRefusesNonsense(t *testing.T) {
	for _, c := range []struct {
		in   Intent
		want string
	}{
		{Intent{Kind: Cycle, Device: "nobody"}, `there is no device "nobody": plumb board lists them`},
		{Intent{Kind: "explode", Device: "router"}, `"explode" is none of on, restart, sleep, shutdown, nmi, press, reset, cycle and off`},
		{Intent{Kind: Cycle, Device: "router", Hold: time.Hour}, "a cycle stays off for 2s to 10m0s, not for 1h0m0s"},
		{Intent{Kind: Cycle, Device: "lamp"}, "lamp hangs on no outlet that the estate knows, so it cannot be switched: add its power cable, or name the outlet with --outlet"},
		{Intent{Kind: Off, Device: "router", Outlets: []estate.End{{Device: "nobody", Port: "1"}}}, `there is no device "nobody": an outlet is named PDU/NUMBER`},
		{Intent{Kind: Off, Device: "router", Outlets: []estate.End{{Device: "pdu", Port: "99"}}}, `pdu has no outlet "99": it has 8`},
		{Intent{Kind: Off, Device: "router", Outlets: []estate.End{{Device: "pdu", Port: "4"}}}, "outlet 4 of pdu does not feed router: it hangs on pdu/3"},
		{Intent{Kind: Off, Device: "host", Outlets: []estate.End{{Device: "pdu", Port: "6"}, {Device: "pdu", Port: "6"}}}, "outlet pdu/6 is named twice"},
	} {
		_, err := Look(c.in, asSeen(cupboard(t)))
		var usage *UsageError
		require.ErrorAs(t, err, &usage)
		require.EqualError(t, err, c.want)
	}
}

// TestTheDigestCoversConsent: it changes with what a person agrees to, and not
// with watts.
func TestTheDigestCoversConsent(t *testing.T) {
	in := Intent{Kind: Cycle, Device: "router"}
	digest := func(change func(*World)) string {
		w := asSeen(cupboard(t))
		change(&w)
		p, err := Look(in, w)
		require.NoError(t, err)
		return p.Digest
	}
	same := digest(func(*World) {})
	outlet := estate.OutletEnd("pdu", 3)
	with := func(f func(*verdict.Outlet)) func(*World) {
		return func(w *World) {
			o := w.Evidence.Outlets[outlet]
			f(&o)
			w.Evidence.Outlets[outlet] = o
		}
	}
	require.Equal(t, same, digest(with(func(o *verdict.Outlet) { o.W = 15 })))
	require.NotEqual(t, same, digest(with(func(o *verdict.Outlet) { o.On = false })))
	require.NotEqual(t, same, digest(func(w *World) { w.Busy[outlet] = "abc" }))
	require.NotEqual(t, same, digest(func(w *World) { w.Now = w.Now.Add(time.Hour) }))
}

func TestConsent(t *testing.T) {
	p := &Preview{Interlocks: []Interlock{
		{Name: "own-path", LiftBy: LiftByReason}, {Name: "guarded", LiftBy: LiftByName, Devices: []estate.Key{"a", "b"}}, {Name: "busy", LiftBy: LiftNever},
	}}
	stand := func(c Consent) (names []string) {
		for _, l := range p.Unlifted(c) {
			names = append(names, l.Name)
		}
		return names
	}
	require.Equal(t, []string{"own-path", "guarded", "busy"}, stand(Consent{}))
	require.Equal(t, []string{"own-path", "guarded", "busy"}, stand(Consent{Override: []string{"own-path", "busy"}, Names: []estate.Key{"a"}}), "no reason, and a name too few")
	require.Equal(t, []string{"busy"}, stand(Consent{Override: []string{"own-path", "busy"}, Why: "storm", Names: []estate.Key{"b", "a"}}), "never means never")
}

// TestWholeBank: an outlet that is switched with its bank takes all of it down.
func TestWholeBank(t *testing.T) {
	w := asSeen(cupboard(t))
	w.Estate.Device("pdu").Banks = []estate.Bank{{Name: "left", Outlets: []int{3, 4}, Whole: true}, {Name: "right", Outlets: []int{5, 6}}}
	p, err := Look(Intent{Kind: Cycle, Device: "router"}, w)
	require.NoError(t, err)
	var dark []estate.Key
	for _, l := range p.Loses {
		dark = append(dark, l.Device)
	}
	require.Equal(t, []estate.Key{"router", "switch"}, dark)
	require.Contains(t, fmt.Sprint(p.Lines), "Its bank can only be switched as a whole: pdu/4 go along")
	p, err = Look(Intent{Kind: Cycle, Device: "recorder"}, w)
	require.NoError(t, err)
	require.Len(t, p.Loses, 1, "a bank with a breaker of its own is no reason")
}

// TestWake: a magic packet is sent at once and again after a crash; nothing is
// read back, and the answer of the device is what counts.
func TestWake(t *testing.T) {
	w := asSeen(cupboard(t))
	d := w.Estate.Device("lamp")
	d.Wake = &estate.Wake{MAC: "02:00:5e:00:53:01"}
	d.Probes = []estate.Probe{{Kind: estate.ICMP}}
	p, err := Look(Intent{Kind: On, Device: "lamp"}, w)
	require.NoError(t, err)
	require.Equal(t, ByWake, p.Means)
	require.Empty(t, p.Interlocks)
	require.Equal(t, "Wake lamp", p.Title())
	_, err = Look(Intent{Kind: Off, Device: "lamp", Means: ByWake}, w)
	require.ErrorContains(t, err, "the means wake can do on, not off")
	_, err = Look(Intent{Kind: On, Device: "router", Means: ByWake}, w)
	require.ErrorContains(t, err, "how router is woken is not known")

	o := &Operation{Order: Order{Kind: On, Means: ByWake, Device: "lamp", By: "admin", Outlets: []estate.End{estate.WakeEnd("lamp")}}, Plan: Plan{AnswerWithin: time.Minute}}
	o.Lay(true)
	sends := func(cmds []Command) (n int) {
		for _, c := range cmds {
			if _, ok := c.(Send); ok {
				n++
			}
		}
		return n
	}
	require.Equal(t, 1, sends(o.Step(Started{t0})))
	require.Equal(t, 1, sends(o.Step(Started{t0.Add(time.Second)})), "a crash in between: it is sent again")
	o.Step(Answered{At: t0.Add(2 * time.Second), Outcome: sending.Accepted})
	require.Contains(t, o.Doing(), "waiting for its first answer")
	o.Step(Heard{At: t0.Add(20 * time.Second), Device: "lamp"})
	require.Equal(t, Done, o.State)
	require.Contains(t, o.Outcome(time.UTC), "Woke lamp")
}

// TestWhichCommandLine: the first on which somebody reads. A serial line is there
// without the device, so that it says nothing about one that hangs.
func TestWhichCommandLine(t *testing.T) {
	w := asSeen(cupboard(t))
	d := w.Estate.Device("router")
	reset := map[string]string{"reset": "reload now"}
	d.Endpoints = []estate.Endpoint{{Name: "cli", Protocol: estate.SSH, Commands: reset}, {Name: "line", Protocol: estate.Telnet, Commands: reset}}
	look := func(in Intent) (*Preview, string) {
		in.Kind, in.Device = Reset, "router"
		p, err := Look(in, w)
		require.NoError(t, err)
		return p, fmt.Sprint(p.Lines)
	}
	p, said := look(Intent{})
	require.Equal(t, "cli", p.Outlets[0].End.Endpoint().Name)
	require.Equal(t, "the command line of router", p.Outlets[0].End.Place())
	require.Contains(t, said, `By its own command line, which is the gentlest: it is told "reload now"`)
	w.Verdicts["router"] = verdict.Verdict{State: verdict.Hung}
	p, _ = look(Intent{})
	require.Equal(t, []Way{{ByCommand, false, "it is hung, and its own cli can answer no better"}}, p.Ways, "although nobody has asked that since")
	delete(w.Verdicts, "router")

	for i := range 3 {
		w.Evidence.Endpoint(estate.EndpointID{Device: "router", Name: "cli"}, verdict.Result{SentAt: t0.Add(time.Duration(i) * time.Second)})
	}
	p, said = look(Intent{})
	require.Equal(t, "line", p.Outlets[0].End.Endpoint().Name)
	require.Contains(t, said, `By its own command line, which`)
	d.Serial = []estate.End{{Device: "other", Port: "4"}}
	_, said = look(Intent{})
	require.Contains(t, said, `By its own command line, over its serial line at other, which is the gentlest`)

	w.Verdicts["router"] = verdict.Verdict{State: verdict.Hung}
	p, _ = look(Intent{})
	require.Equal(t, []Way{{ByCommand, false, "cli of router does not answer"}}, p.Ways)
	d.Endpoints = d.Endpoints[1:]
	p, _ = look(Intent{})
	require.Equal(t, []Way{{ByCommand, false, "it is hung, and hardly reads what is typed on its serial line"}}, p.Ways)
	p, said = look(Intent{Means: ByCommand})
	require.Contains(t, said, "Whether it heeds that is not known: it is hung")
	require.Equal(t, ByCommand, p.Means, "whoever knows better may try")
}

// TestWhoSitsAtALineIsNamed: of what is acted on, and of what goes dark with it.
func TestWhoSitsAtALineIsNamed(t *testing.T) {
	w := asSeen(cupboard(t))
	w.Asker = Asker{Name: "kari", Role: Keeper}
	w.AtLine = func(k estate.Key, but string) []string {
		require.Equal(t, "kari", but)
		if k == "router" {
			return []string{"oduya is on its serial line, and types"}
		}
		return nil
	}
	p, err := Look(Intent{Kind: Cycle, Device: "router"}, w)
	require.NoError(t, err)
	require.Equal(t, []Using{{"router", "oduya is on its serial line, and types"}}, p.AtLine)
	var said string
	for _, l := range p.Lines {
		said += l.Text + "\n"
	}
	require.Contains(t, said, "router: oduya is on its serial line, and types")
	require.Empty(t, p.InUse, "which is no interlock")
}
