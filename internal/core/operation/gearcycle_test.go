package operation

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
)

// byGear begins a cycle that the gear carries out by itself, because our way
// to it goes with what is cut.
func byGear(t *testing.T) *script {
	o := newOp(Cycle)
	o.ByGear = true
	o.Lay(true)
	return (&script{T: t, o: o}).feed(Started{t0}).measured(0.5, true, 4.8).answered(1, sending.Accepted)
}

func TestGearCycle(t *testing.T) {
	for _, c := range []struct {
		name string
		got  *script
		op   State
		step StepKind
		st   StepState
		note string
	}{
		{"it is sent once, and then watched", byGear(t), Running, GearCycle, Checking, ""},
		{"off is seen, and noted", byGear(t).measured(2, false, 0), Running, GearCycle, Checking, ""},
		{"on again ends it, when current flows", byGear(t).measured(2, false, 0).measured(13, true, 4.7), Running, Answer, Waiting, ""},
		{"without current it is watched a little longer", byGear(t).measured(2, false, 0).measured(13, true, 0), Running, GearCycle, Checking, ""},
		{"what cannot be seen is waited for", byGear(t).expired(), Running, GearCycle, Retrying, "the gear cannot be read since the command was sent; still waiting for it"},
		{"for as long as it takes", byGear(t).expired().expired().expired(), Running, GearCycle, Retrying, "the gear cannot be read since the command was sent; still waiting for it"},
		{"and then believed", byGear(t).expired().measured(90, true, 4.7), Running, Answer, Waiting, ""},
		{"gear that forgets to switch on is helped", byGear(t).measured(2, false, 0).measured(30, false, 0), Running, SwitchOn, Sending, "the gear did not switch it on again by itself"},
		{"a refusal cuts nothing", (&script{T: t, o: gearOp()}).feed(Started{t0}).measured(0.5, true, 4.8).answered(1, sending.Refused), Failed, "", "", ""},
		{"what is off is only switched on", (&script{T: t, o: gearOp()}).feed(Started{t0}).measured(0.5, false, 0), Running, SwitchOn, Sending, ""},
		{"gear that cannot be read gets no command", (&script{T: t, o: gearOp()}).feed(Started{t0}).expired(), Failed, "", "", ""},
		{"a restart does not send it again", byGear(t).feed(Started{sec(5)}), Running, GearCycle, Checking, ""},
		{"cancelling is too late for it", byGear(t).feed(CancelAsked{sec(2), "admin"}), Running, GearCycle, Checking, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Equal(t, c.op, c.got.o.State, c.got.o.Outcome(time.UTC))
			if c.op != Running {
				return
			}
			s := c.got.o.Current()
			require.Equal(t, []any{c.step, c.st, c.note}, []any{s.Kind, s.State, s.Note})
		})
	}
}

func gearOp() *Operation {
	o := newOp(Cycle)
	o.ByGear = true
	o.Lay(true)
	return o
}

func TestGearCycleOutOfSight(t *testing.T) {
	s := byGear(t).feed(Unheard{sec(3), "skarvoe-router"}).feed(Heard{sec(40), "skarvoe-router"}).measured(41, true, 4.7).feed(Heard{sec(43), "skarvoe-router"})
	require.Equal(t, Done, s.o.State)
	require.Equal(t, "Cycled outlet 3 of skarvoe-pdu: by the gear itself, out of our sight; skarvoe-router fell silent at 14:07:03, 4.7 W again when read at 14:07:41, first answer after 30 s", s.o.Outcome(time.UTC))
}

// TestTwoFeeds: both are opened before the wait and closed after it, and a
// second one that refuses brings the first back.
func TestTwoFeeds(t *testing.T) {
	both := func(at float64, a, b bool) Measured {
		w := map[bool]float64{true: 5.6}
		return Measured{At: sec(at), Outlets: map[estate.End]Reading{
			outlet: {At: sec(at), On: a, Metered: true, W: w[a]}, second: {At: sec(at), On: b, Metered: true, W: w[b]},
		}}
	}
	s := &script{T: t, o: newOp(Cycle, outlet, second)}
	s.feed(Started{t0}).feed(both(0.5, true, true)).answered(1, sending.Accepted).feed(both(2, false, true)).feed(both(3, false, true)).answered(3.5, sending.Accepted).feed(both(4, false, false))
	require.Equal(t, Wait, s.o.Current().Kind)
	require.True(t, s.o.Owes(outlet) && s.o.Owes(second))
	s.expired().feed(both(15, false, false)).answered(15.2, sending.Accepted).feed(both(16, true, false)).feed(both(17, true, false)).answered(17.2, sending.Accepted).feed(both(18, true, true))
	require.Equal(t, Answer, s.o.Current().Kind)
	require.False(t, s.o.Owes(outlet) || s.o.Owes(second))
	before, after := s.o.Draws()
	require.InDelta(t, 11.2, *before, 0.01)
	require.InDelta(t, 11.2, *after, 0.01)

	s = &script{T: t, o: newOp(Cycle, outlet, second)}
	s.feed(Started{t0}).feed(both(0.5, true, true)).answered(1, sending.Accepted).feed(both(2, false, true)).feed(both(3, false, true)).answered(3.5, sending.Refused)
	require.Equal(t, []any{SwitchOn, Looking, outlet}, []any{s.o.Current().Kind, s.o.Current().State, s.o.Current().Outlet})
	s.feed(both(4, false, true)).answered(4.5, sending.Accepted).feed(both(5, true, true))
	require.Equal(t, Failed, s.o.State)
	require.False(t, s.o.Owes(outlet))
}

func TestDoing(t *testing.T) {
	for want, s := range map[string]*script{
		"cycle by  is running: switching outlet 3 of skarvoe-pdu off":                            began(t, Cycle),
		"cycle by  is running: waiting before power returns":                                     opened(t),
		"cycle by  is running: switching outlet 3 of skarvoe-pdu on":                             opened(t).expired(),
		"cycle by  is running: waiting for its first answer":                                     closed(t),
		"off by  is running: seeing who falls silent":                                            began(t, Off).answered(1, sending.Accepted).measured(2, false, 0),
		"cycle by  is running: skarvoe-pdu is cycling outlet 3 of skarvoe-pdu by itself":         byGear(t),
		"cycle by  is running: trying again to switch outlet 3 of skarvoe-pdu on: says the gear": opened(t).expired().expired().answered(16, sending.Refused),
	} {
		require.Equal(t, want, s.o.Doing())
	}
}
