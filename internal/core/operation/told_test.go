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
	panel = estate.PanelEnd("skarvoe-router")
	line  = estate.EndpointID{Device: "skarvoe-router", Name: "cli"}.CommandEnd()
	card  = estate.EndpointID{Device: "skarvoe-router", Name: "card"}.OwnEnd()
)

// by is an operation of a kind on one end.
func by(t *testing.T, kind Kind, means Means, end estate.End, change func(*Operation)) *script {
	o := newOp(kind, end)
	o.Means, o.Within, o.Button, o.Command, o.Answered = means, time.Minute, sending.PowerButton, "reload now", true
	if kind == Press {
		o.Hold = sending.ShortPress
	}
	if change != nil {
		change(o)
	}
	o.Lay(true)
	s := &script{T: t, o: o}
	return s.feed(Started{t0})
}

// seen is what was read of the end that the operation is on.
func (s *script) seen(at float64, on bool) *script {
	end := s.o.Outlets[0]
	return s.feed(Measured{At: sec(at), Outlets: map[estate.End]Reading{end: {At: sec(at), On: on}}})
}

func (s *script) silent(at float64) *script {
	return s.feed(Unheard{At: sec(at), Device: "skarvoe-router"})
}
func (s *script) heard(at float64) *script {
	return s.feed(Heard{At: sec(at), Device: "skarvoe-router"})
}

func (s *script) ends(state State, says string) {
	s.Helper()
	require.Equal(s, state, s.o.State, "%+v", s.o.Steps)
	require.Contains(s, s.o.Outcome(time.UTC), says)
}

func sends(cmds []Command) (n int) {
	for _, c := range cmds {
		if _, ok := c.(Send); ok {
			n++
		}
	}
	return n
}

func TestByCommandLine(t *testing.T) {
	s := by(t, Reset, ByCommand, line, nil)
	require.Equal(t, 1, sends(s.cmd), "there is nothing to look at before")
	s.answered(1, sending.Accepted).silent(3).heard(40)
	s.ends(Done, "Reset skarvoe-router: at 14:07:00, first answer after 40 s")

	s = by(t, Reset, ByCommand, line, nil)
	s.answered(1, sending.Refused).ends(Failed, "Did not reset skarvoe-router: says the gear")

	s = by(t, Shutdown, ByCommand, line, func(o *Operation) { o.Hard = []estate.End{outlet} })
	s.answered(1, sending.Accepted).silent(20).expired()
	s.ends(Done, "Shut skarvoe-router down: off at 14:07:20, after 20 s")
	require.Equal(t, Skipped, s.o.Steps[1].State, "what would be cut by force is left alone")

	s = by(t, Shutdown, ByCommand, line, func(o *Operation) { o.Force, o.Hard = true, []estate.End{outlet} })
	s.answered(1, sending.Accepted).expired() // not heeded
	s.measured(62, true, 11).answered(63, sending.Accepted).measured(65, false, 0).expired()
	s.ends(Done, "did not shut down within 60 s, so it is switched off, 11.0 W → 0.0 W")

	s = by(t, Sleep, ByCommand, line, nil)
	s.answered(1, sending.Accepted).silent(9).ends(Done, "Put skarvoe-router to sleep: silent at 14:07:09, after 9 s")
	require.True(t, s.o.LeavesOff())
	s = by(t, Sleep, ByCommand, line, nil)
	s.answered(1, sending.Accepted).expired().ends(Failed, "skarvoe-router was told to sleep, and still answers")
}

func TestByPanel(t *testing.T) {
	s := by(t, Cycle, ByPanel, panel, nil)
	s.seen(1, true).answered(2, sending.Accepted).seen(9, false).expired()
	s.seen(20, false).answered(21, sending.Accepted).seen(24, true).heard(60)
	s.ends(Done, "Cycled skarvoe-router: off at 14:07:09, on at 14:07:24, first answer after 40 s")

	s = by(t, On, ByPanel, panel, nil)
	require.Zero(t, sends(s.seen(1, true).cmd), "its light is on: a press would switch it off")
	s.ends(Done, "Left skarvoe-router as it was: on at 14:07:01 (was on already)")

	// The lights cannot be read any more: nothing is pressed unseen.
	s = by(t, On, ByPanel, panel, nil)
	s.seen(1, false).answered(2, sending.Accepted)
	presses := 1
	for range 8 {
		presses += sends(s.expired().cmd)
	}
	require.Equal(t, 1, presses, "and nothing is pressed again until they can")

	// After a crash it may still be coming on: what is read too early does not count.
	s = by(t, On, ByPanel, panel, nil)
	s.seen(1, false)
	s.feed(Started{sec(1.5)})
	require.Zero(t, sends(s.seen(1.8, false).cmd))
	s.seen(4, true).ends(Running, "Switching skarvoe-router on")

	s = by(t, Press, ByPanel, panel, nil)
	s.seen(1, true).answered(2, sending.Accepted).seen(7, true).ends(Running, "")
	s.expired().ends(Done, "Pressed the power button of skarvoe-router for 0.4 s: at 14:07:01, and its light stayed on")
	require.False(t, s.o.LeavesOff())
	s = by(t, Press, ByPanel, panel, nil)
	s.seen(1, true).answered(2, sending.Accepted).seen(7, true).seen(40, false).ends(Done, "and its light went off")
	require.True(t, s.o.LeavesOff(), "it has heeded, and that was meant")
	s = by(t, Press, ByPanel, panel, nil)
	s.seen(1, false).answered(2, sending.Accepted).seen(7, true).ends(Done, "and its light went on")
	require.False(t, s.o.LeavesOff())
	long := func(o *Operation) { o.Hold = sending.LongPress }
	s = by(t, Press, ByPanel, panel, long)
	s.seen(1, true).answered(2, sending.Accepted).seen(9, false)
	s.ends(Done, "for 6 s: at 14:07:01, and its light went off")
	require.True(t, s.o.LeavesOff())
	s = by(t, Press, ByPanel, panel, long)
	s.seen(1, true).answered(2, sending.Accepted).seen(9, true).expired()
	s.ends(Failed, "its light is still on after 6 s")
	s = by(t, Press, ByPanel, panel, nil)
	s.expired().ends(Failed, "its lights could not be read, so nothing was pressed")
}

func TestRestartOfACard(t *testing.T) {
	s := by(t, Restart, ByEndpoint, card, nil)
	s.seen(1, true).answered(2, sending.Accepted).seen(4, false).seen(30, true)
	s.ends(Done, "Restarted the card of skarvoe-router: away at 14:07:04, back after 26 s")
	s = by(t, Restart, ByEndpoint, card, nil)
	s.seen(1, true).answered(2, sending.Accepted).seen(4, false).expired()
	s.ends(Failed, "has not come back within 4 min")
	s = by(t, Restart, ByEndpoint, card, nil)
	s.seen(1, true).answered(2, sending.Accepted).seen(4, true).expired()
	s.ends(Done, "it was never seen away, so whether it has started anew is not known")
	s = by(t, Restart, ByEndpoint, card, nil)
	s.expired().ends(Failed, "it does not answer, so nothing could be sent")
	s = by(t, Restart, ByEndpoint, card, nil)
	s.seen(1, true).answered(2, sending.Accepted).feed(Unheard{At: sec(5), Device: "skarvoe-kiosk"}).seen(6, false).seen(30, true)
	s.ends(Failed, "skarvoe-kiosk fell silent when the card of skarvoe-router was switched: more than the card has started anew")
}

// TestAWeldedRelayIsNotOff: what is reported off and goes on drawing is cut, and
// found out, and not taken for off already.
func TestAWeldedRelayIsNotOff(t *testing.T) {
	s := &script{T: t, o: newOp(Off)}
	s.feed(Started{t0}).measured(0.5, false, 11.2)
	require.Equal(t, 1, sends(s.cmd))
	s.answered(1, sending.Accepted).measured(3, false, 11.2).expired()
	require.Equal(t, StepFail, s.o.Steps[0].State)
	require.Equal(t, "still drawing 11.2 W: the outlet did not open", s.o.Steps[0].Note)
}

// TestNothingIsPressedOrToldTwice: whatever happens in whatever order, crashes
// among it, what cannot be repeated is sent once.
func TestNothingIsPressedOrToldTwice(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		x := rapid.SampledFrom([]struct {
			kind  Kind
			means Means
			end   estate.End
		}{
			{Press, ByPanel, panel}, {Reset, ByPanel, panel}, {Reset, ByCommand, line}, {Shutdown, ByCommand, line}, {Shutdown, ByPanel, panel},
			{Sleep, ByCommand, line}, {Restart, ByEndpoint, card},
		}).Draw(rt, "what")
		s := by(t, x.kind, x.means, x.end, nil)
		sent, at := sends(s.cmd), 0.0
		for range 60 {
			if s.o.State != Running {
				break
			}
			at += rapid.Float64Range(0, 8).Draw(rt, "later")
			s.cmd = nil
			switch rapid.IntRange(0, 6).Draw(rt, "event") {
			case 0:
				s.feed(Started{sec(at)})
			case 1:
				s.seen(at, rapid.Bool().Draw(rt, "on"))
			case 2:
				s.answered(at, rapid.SampledFrom([]sending.Outcome{sending.Unclear, sending.Refused, sending.Accepted, sending.NotSent}).Draw(rt, "outcome"))
			case 3:
				s.silent(at)
			case 4:
				s.heard(at)
			case 5:
				s.feed(CancelAsked{sec(at), "ann"})
			default:
				if c := s.o.Current(); c != nil && !c.Deadline.IsZero() {
					s.feed(Expired{At: sec(at), Deadline: c.Deadline})
				}
			}
			sent += sends(s.cmd)
		}
		require.LessOrEqual(rt, sent, 1, "%s by %s", x.kind, x.means)
	})
}
