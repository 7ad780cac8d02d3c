package operation

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
)

var (
	t0     = time.Date(2026, 3, 1, 14, 7, 0, 0, time.UTC)
	outlet = estate.OutletEnd("skarvoe-pdu", 3)
	second = estate.OutletEnd("ostrel-pdu-b", 3)
)

func newOp(kind Kind, outlets ...estate.End) *Operation {
	if len(outlets) == 0 {
		outlets = []estate.End{outlet}
	}
	o := &Operation{
		ID:       "1",
		Order:    Order{Kind: kind, Device: "skarvoe-router", Outlets: outlets, Hold: 10 * time.Second},
		Plan:     Plan{Settle: 2 * time.Second, IdleW: 0.5, AnswerWithin: 2 * time.Minute, GoesDark: true, Bystanders: []estate.Key{"skarvoe-kiosk"}},
		Progress: Progress{Saved: t0},
	}
	o.Lay(true)
	return o
}

// A script feeds events to a machine; after is the time since t0.
type script struct {
	*testing.T
	o   *Operation
	cmd []Command
}

func (s *script) feed(in Event) *script { s.cmd = s.o.Step(in); return s }

func sec(s float64) time.Time { return t0.Add(time.Duration(s * float64(time.Second))) }

func (s *script) measured(at float64, on bool, w float64) *script {
	return s.feed(Measured{At: sec(at), Outlets: map[estate.End]Reading{outlet: {At: sec(at), On: on, Metered: true, W: w}}})
}
func (s *script) answered(at float64, oc sending.Outcome) *script {
	return s.feed(Answered{At: sec(at), Outcome: oc, Why: "says the gear"})
}
func (s *script) expired() *script {
	d := s.o.Current().Deadline
	return s.feed(Expired{At: d, Deadline: d})
}

// began brings a cycle to the point where the off command is about to be sent.
func began(t *testing.T, kind Kind) *script {
	s := &script{T: t, o: newOp(kind)}
	return s.feed(Started{t0}).measured(0.5, true, 11.2)
}

func opened(t *testing.T) *script { // and now waiting to switch on again
	return began(t, Cycle).answered(1, sending.Accepted).measured(2, false, 0)
}

func closed(t *testing.T) *script { // and now waiting for the device to answer
	return opened(t).expired().measured(13, false, 0).answered(13.2, sending.Accepted).measured(14, true, 10.9)
}

// cancelledBetween cancels a cycle of two feeds while the first is being switched off.
func cancelledBetween(t *testing.T) *script {
	s := &script{T: t, o: newOp(Cycle, outlet, estate.OutletEnd("other-pdu", 3))}
	return s.feed(Started{t0}).measured(0.5, true, 11.2).feed(CancelAsked{sec(0.7), "admin"}).answered(1, sending.Accepted).measured(2, false, 0)
}

func TestMachine(t *testing.T) {
	send := func(do StepKind) []Command {
		return []Command{Save{}, Send{Outlet: outlet, Do: do, Hold: 10 * time.Second}}
	}
	for _, c := range []struct {
		name string
		got  *script
		want []Command // nil: not looked at
		op   State
		step StepState // of the current step, when the operation still runs
	}{
		{"it looks before it acts", (&script{T: t, o: newOp(Cycle)}).feed(Started{t0}), []Command{Wake{sec(15)}}, Running, Looking},
		{"the record comes before the command", began(t, Cycle), send(SwitchOff), Running, Sending},
		{"accepted is not done", began(t, Cycle).answered(1, sending.Accepted), []Command{Save{}, Wake{sec(9)}}, Running, Checking},
		{"a lost answer is not a failure", began(t, Cycle).answered(1, sending.Unclear), []Command{Save{}, Wake{sec(9)}}, Running, Checking},
		{"a reading from before the command proves nothing", began(t, Cycle).answered(1, sending.Accepted).measured(0.4, false, 0), nil, Running, Checking},
		{"a refusal cuts nothing", began(t, Cycle).answered(1, sending.Refused), nil, Failed, ""},
		{"what was not sent cuts nothing", began(t, Cycle).answered(1, sending.NotSent), nil, Failed, ""},
		{"open when no current flows, then it waits", opened(t), []Command{Save{}, Save{}, Wake{sec(12)}}, Running, Waiting},
		{"on again after the wait, looking first", opened(t).expired(), []Command{Save{}, Wake{sec(15)}}, Running, Looking},
		{"on is sent unseen when the gear cannot be read", opened(t).expired().expired(), send(SwitchOn), Running, Sending},
		{"on that is refused is tried again", opened(t).expired().expired().answered(16, sending.Refused), nil, Running, Retrying},
		{"an outlet with no draw yet is watched a little longer", opened(t).expired().measured(13, false, 0).answered(13.2, sending.Accepted).measured(14, true, 0), nil, Running, Checking},
		{"then it waits for the device", closed(t), nil, Running, Waiting},
		{"an answer from before power returned does not count", closed(t).feed(Heard{sec(10), "skarvoe-router"}), nil, Running, Waiting},
		{"done when the device answers", closed(t).feed(Heard{sec(55), "skarvoe-router"}), []Command{Save{}, Save{}, Finish{}}, Done, ""},
		{"a device that stays silent is a failure", closed(t).expired(), nil, Failed, ""},
		{"a welded relay is found out, and its command taken back", began(t, Cycle).answered(1, sending.Accepted).measured(2, false, 11.2).expired(), nil, Running, Looking},
		{"cancelling before the cut ends it", (&script{T: t, o: newOp(Cycle)}).feed(Started{t0}).feed(CancelAsked{sec(0.2), "admin"}), nil, Cancelled, ""},
		{"cancelling after the cut switches on at once", opened(t).feed(CancelAsked{sec(4), "admin"}), nil, Running, Looking},
		{"cancelling while the cut is on its way switches on as soon as it is seen", began(t, Cycle).feed(CancelAsked{sec(0.7), "admin"}).answered(1, sending.Accepted).measured(2, false, 0), nil, Running, Looking},
		{"cancelling while the cut is on its way cuts no second feed", cancelledBetween(t), []Command{Save{}, Wake{sec(5)}}, Running, Looking},
		{"cancelling the wait for an answer ends it", closed(t).feed(CancelAsked{sec(20), "admin"}), nil, Cancelled, ""},
		{"the wrong device falling silent ends the wait at once", opened(t).feed(Unheard{sec(3), "skarvoe-kiosk"}), nil, Running, Looking},
		{"so does the device answering without power", opened(t).feed(Heard{sec(5), "skarvoe-router"}), nil, Running, Looking},
		{"a late answer changes nothing", closed(t).feed(Heard{sec(55), "skarvoe-router"}).answered(60, sending.Refused), nil, Done, ""},
		{"a restart measures before it sends again", began(t, Cycle).feed(Started{sec(20)}), []Command{Wake{sec(35)}}, Running, Looking},
		{"a restart that finds it open goes on", began(t, Cycle).feed(Started{sec(20)}).measured(21, false, 0), nil, Running, Waiting},
		{"a restart that finds it on sends again", began(t, Cycle).feed(Started{sec(20)}).measured(21, true, 11), send(SwitchOff), Running, Sending},
		{"a restart long afterwards does not cut any more", began(t, Cycle).feed(Started{sec(600)}).measured(601, true, 11).measured(602, true, 11), nil, Failed, ""},
		{"a restart in the wait keeps to its end", opened(t).feed(Started{sec(600)}), []Command{Wake{sec(12)}}, Running, Waiting},
		{"off stays off, and sees who fell silent", began(t, Off).answered(1, sending.Accepted).measured(2, false, 0), nil, Running, Waiting},
		{"off is done after that", began(t, Off).answered(1, sending.Accepted).measured(2, false, 0).expired(), nil, Done, ""},
		{"off that fells the wrong device says so", began(t, Off).answered(1, sending.Accepted).measured(2, false, 0).feed(Unheard{sec(3), "skarvoe-kiosk"}), nil, Failed, ""},
		{"on for what is on changes nothing", (&script{T: t, o: newOp(On)}).feed(Started{t0}).measured(1, true, 11), nil, Done, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Equal(t, c.op, c.got.o.State, c.got.o.Outcome(time.UTC))
			if c.want != nil {
				require.Equal(t, c.want, c.got.cmd)
			}
			if c.op == Running {
				require.Equal(t, c.step, c.got.o.Current().State)
			}
		})
	}
}

func TestCycleOfWhatIsOffOnlySwitchesOn(t *testing.T) {
	s := &script{T: t, o: newOp(Cycle)}
	s.feed(Started{t0}).measured(0.5, false, 0).measured(1, false, 0).answered(1.2, sending.Accepted).measured(2, true, 10.9).feed(Heard{sec(40), "skarvoe-router"})
	require.Equal(t, Done, s.o.State)
	require.Equal(t, "Switched outlet 3 of skarvoe-pdu on: it was off already: was off already, 10.9 W at 14:07:02, first answer after 39 s", s.o.Outcome(time.UTC))
}

func TestOutcome(t *testing.T) {
	done := closed(t).feed(Heard{sec(55), "skarvoe-router"}).o
	done.Usual = Usual{38 * time.Second, 47 * time.Second, 5}
	welded := began(t, Cycle).answered(1, sending.Accepted).measured(2, false, 11.2).expired().measured(10, false, 11.2).answered(11, sending.Accepted).measured(12, true, 11.2).o
	wrong := opened(t).feed(Unheard{sec(3), "skarvoe-kiosk"}).measured(4, false, 0).answered(4.2, sending.Accepted).measured(5, true, 10.9).feed(Heard{sec(30), "skarvoe-router"}).o
	for _, c := range []struct {
		o    *Operation
		want string
	}{
		{done, "Cycled outlet 3 of skarvoe-pdu: 11.2 W → 0.0 W at 14:07:02, back to 10.9 W at 14:07:14, first answer after 42 s (usually 38–47 s)"},
		{welded, "Did not complete the cycle of outlet 3 of skarvoe-pdu: still drawing 11.2 W: the outlet did not open, on again with 11.2 W at 14:07:12"},
		{wrong, "Cycled outlet 3 of skarvoe-pdu, but it is the wrong one: 11.2 W → 0.0 W at 14:07:02, back to 10.9 W at 14:07:05, first answer after 26 s. But skarvoe-kiosk fell silent when outlet 3 of skarvoe-pdu was switched: the cable is not where the estate says"},
		{began(t, Cycle).answered(1, sending.Refused).o, "Did not complete the cycle of outlet 3 of skarvoe-pdu: says the gear"},
	} {
		require.Equal(t, c.want, c.o.Outcome(time.UTC))
	}
}

// gear is a PDU as bad as they come: it loses commands and answers, forgets,
// reports what is not so, and cannot be read for a while.
type gear struct {
	on      map[estate.End]bool // the relay, as the gear's own command left it
	weOff   map[estate.End]bool // our command opened it, and nobody has closed it since
	pending map[estate.End]time.Time
}

// TestNothingStaysOff drives the machine with whatever may happen in whatever
// order: an operation never ends with an outlet left off that it switched off,
// unless off was asked for.
func TestNothingStaysOff(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		kind := rapid.SampledFrom([]Kind{Cycle, On, Off}).Draw(t, "kind")
		outlets := []estate.End{outlet}
		if rapid.Bool().Draw(t, "two feeds") {
			outlets = append(outlets, second)
		}
		o := newOp(kind, outlets...)
		if kind == Cycle && rapid.Bool().Draw(t, "by the gear") {
			o.ByGear = true
			o.Lay(true)
		}
		g := gear{on: map[estate.End]bool{}, weOff: map[estate.End]bool{}, pending: map[estate.End]time.Time{}}
		for _, end := range outlets {
			g.on[end] = rapid.Bool().Draw(t, "on at first")
		}
		now := t0
		var saved *Operation // what a restart finds
		var sent []Send
		act := func(cmds []Command) {
			for _, c := range cmds {
				switch c := c.(type) {
				case Save:
					saved = o.Clone()
				case Send:
					require.NotNil(t, saved)
					require.Equal(t, Sending, saved.Current().State, "sent before it was recorded")
					sent = append(sent, c)
				}
			}
		}
		act(o.Step(Started{now}))
		saved = o.Clone()
		for range rapid.IntRange(1, 80).Draw(t, "events") {
			now = now.Add(time.Duration(rapid.IntRange(1, 20_000).Draw(t, "ms")) * time.Millisecond)
			for end, at := range g.pending { // the gear's own timer
				if now.After(at) {
					g.on[end], g.weOff[end] = true, false
					delete(g.pending, end)
				}
			}
			act(o.Step(g.event(t, o, &sent, now, outlets)))
			if rapid.IntRange(0, 9).Draw(t, "crash") == 0 && saved != nil {
				o = saved.Clone()
				for _, c := range sent { // on its way when we died
					if rapid.Bool().Draw(t, "arrived") {
						g.obey(c, now)
					}
				}
				sent = nil
				act(o.Step(Started{now}))
			}
			if o.State != Running {
				break
			}
		}
		if o.State == Running || kind == Off {
			return
		}
		for _, end := range outlets {
			require.False(t, g.weOff[end], "%s was left off: %s", end, o.Outcome(time.UTC))
		}
	})
}

func (g *gear) event(t *rapid.T, o *Operation, sent *[]Send, now time.Time, outlets []estate.End) Event {
	switch rapid.IntRange(0, 6).Draw(t, "event") {
	case 0, 1: // the truth, or a welded relay's: current without a closed contact
		m := map[estate.End]Reading{}
		for _, end := range outlets {
			w := 0.0
			if g.on[end] || rapid.IntRange(0, 5).Draw(t, "welded") == 0 {
				w = 11.2
			}
			m[end] = Reading{At: now, On: g.on[end], Metered: true, W: w}
		}
		return Measured{At: now, Outlets: m}
	case 2, 3:
		if len(*sent) == 0 {
			return Expired{now, o.deadline()}
		}
		c := (*sent)[0]
		*sent = (*sent)[1:]
		out := sending.Outcome(rapid.IntRange(0, 3).Draw(t, "outcome"))
		if out == sending.Accepted || out == sending.Unclear && rapid.Bool().Draw(t, "happened") {
			g.obey(c, now)
		}
		return Answered{At: now, Outcome: out, Why: "so it is"}
	case 4:
		return Expired{now, o.deadline()}
	case 5:
		return rapid.SampledFrom([]Event{Heard{now, "skarvoe-router"}, Unheard{now, "skarvoe-kiosk"}, Unheard{now, "skarvoe-router"}}).Draw(t, "heard")
	default:
		if rapid.IntRange(0, 3).Draw(t, "cancel") == 0 {
			return CancelAsked{now, "admin"}
		}
		return Expired{now, o.deadline()}
	}
}

func (g *gear) obey(c Send, now time.Time) {
	switch c.Do {
	case SwitchOff:
		g.weOff[c.Outlet] = g.weOff[c.Outlet] || g.on[c.Outlet]
		g.on[c.Outlet] = false
	case SwitchOn:
		g.on[c.Outlet], g.weOff[c.Outlet] = true, false
		delete(g.pending, c.Outlet)
	case GearCycle:
		g.weOff[c.Outlet] = g.weOff[c.Outlet] || g.on[c.Outlet]
		g.on[c.Outlet] = false
		g.pending[c.Outlet] = now.Add(c.Hold)
	}
}

func (o *Operation) deadline() time.Time {
	if s := o.Current(); s != nil {
		return s.Deadline
	}
	return time.Time{}
}

// TestTheClockIsSetBack while the service was down: what is off does not stay
// off for longer than it was to.
func TestTheClockIsSetBack(t *testing.T) {
	s := opened(t)
	require.Equal(t, Wait, s.o.Current().Kind)
	s.feed(Started{t0.Add(-3 * time.Hour)})
	require.Equal(t, []Command{Wake{t0.Add(-3*time.Hour + 10*time.Second)}}, s.cmd)
	s.expired()
	require.Equal(t, SwitchOn, s.o.Current().Kind)
}

// TestOverdue: power that does not come back is worth a word, whatever stands in the way.
func TestOverdue(t *testing.T) {
	end := estate.OutletEnd("pdu", 3)
	o := &Operation{Order: Order{Kind: Cycle, Device: "router", Outlets: []estate.End{end}, Hold: 8 * time.Second}, Progress: Progress{State: Running}}
	o.Lay(true)
	sent := time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)
	for i := range o.Steps {
		if s := &o.Steps[i]; s.Kind == SwitchOff {
			s.MaySent, s.Sent = true, sent
		}
	}
	require.Empty(t, o.Overdue(sent.Add(68*time.Second)))
	require.Equal(t, "power is owed to router: outlet 3 of pdu was switched off 69 s ago, for 8 s", o.Overdue(sent.Add(69*time.Second)))
	o.Kind = Off
	require.Empty(t, o.Overdue(sent.Add(time.Hour)), "it is meant to be off")
}

// TestLate: what takes longer than ever before is worth a word before it has failed.
func TestLate(t *testing.T) {
	began := t0
	waiting := func(usual Usual) *Operation {
		return &Operation{Order: Order{Device: "router"}, Plan: Plan{Usual: usual}, Progress: Progress{Steps: []Step{{Kind: SwitchOn, State: StepDone}, {Kind: Answer, State: Waiting, Began: began}}}}
	}
	known := Usual{38 * time.Second, 47 * time.Second, 4}
	o := waiting(known)
	require.Empty(t, o.Late(began.Add(70*time.Second)))
	require.Equal(t, "router has not come back after 71 s (usually 38–47 s)", o.Late(began.Add(71*time.Second)))
	require.Empty(t, waiting(Usual{5 * time.Second, 5 * time.Second, 3}).Late(began.Add(14*time.Second)), "some seconds are nothing")
	require.Empty(t, waiting(Usual{N: 1, Max: time.Second}).Late(began.Add(time.Hour)), "one time is no habit")
	o.HeardAt = began.Add(40 * time.Second)
	require.Empty(t, o.Late(began.Add(time.Hour)))
	o = waiting(Usual{})
	o.Steps[1].State, o.Steps[1].Ended = StepFail, began.Add(4*time.Minute)
	require.Equal(t, "router has not come back after 4 min", o.Late(began.Add(time.Hour)))
	require.Empty(t, (&Operation{Progress: Progress{Steps: []Step{{Kind: SwitchOff, State: StepFail, Began: began}}}}).Late(began.Add(time.Hour)))
	require.Empty(t, (&Operation{}).Late(began))
}
