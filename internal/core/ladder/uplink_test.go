package ladder

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

func uplink() *Ladder {
	l := router()
	l.Uplink = &Uplink{Witnesses: []estate.Key{"office", "pier", "boat"}, Pauses: UsualPauses}
	l.Limits.CoolDown = time.Minute
	return l
}

// alone is a place of which nothing beyond has answered for some minutes, with an uplink that does.
func alone() *Situation {
	s := hung()
	s.Device.Key, s.Verdict = "cell", verdict.Verdict{State: verdict.Steady}
	for i, k := range []estate.Key{"office", "pier", "boat"} {
		s.Witnesses = append(s.Witnesses, Witness{Device: k, Silent: true, Since: now.Add(time.Duration(i-10) * time.Minute)})
	}
	return s
}

// TestUplink: the cases are told apart by what was measured, and only where starting the uplink anew
// can help is that done.
func TestUplink(t *testing.T) {
	tried := func(ago ...time.Duration) func(*Situation) {
		return func(s *Situation) {
			for _, d := range ago {
				s.Acts = append(s.Acts, act(d, "cell", "pier", "c1", false))
			}
		}
	}
	for name, c := range map[string]struct {
		change func(s *Situation)
		answer Answer
		why    string
	}{
		"it says nothing of its line":                 {func(*Situation) {}, Go, "cell answers and says nothing of its line, and none of office, pier, boat answers"},
		"it says that its line is up":                 {func(s *Situation) { s.Line = LineUp }, Go, "cell says that its line is up, and none"},
		"it says that its line is down":               {func(s *Situation) { s.Line = LineDown }, Wait, "cell says itself that its line is down"},
		"what it said is old":                         {func(s *Situation) { s.Line = LineStale }, Wait, "has not been read since"},
		"it hangs":                                    {func(s *Situation) { s.Verdict.State = verdict.Hung }, Go, "cell is hung, and none"},
		"it is silent, and its power is not measured": {func(s *Situation) { s.Verdict.State, s.Line = verdict.Silent, LineStale }, Go, "cell is silent, and none"},
		"it has no power":                             {func(s *Situation) { s.Verdict.State = verdict.Dark }, Wait, "cell is dark"},
		"it starts":                                   {func(s *Situation) { s.Verdict.State = verdict.Waking }, Wait, "cell is waking"},
		"it is behind a break":                        {func(s *Situation) { s.Verdict.State = verdict.CutOff }, Wait, "cell is cut off"},
		"something else takes it along":               {func(s *Situation) { s.Verdict.State, s.Verdict.By = verdict.Silent, "pdu" }, Wait, "the cause is pdu"},
		"one witness answers":                         {func(s *Situation) { s.Witnesses[1] = Witness{Device: "pier", Answers: true} }, Over, "pier, beyond it, answers"},
		"it hangs, and one answers":                   {func(s *Situation) { s.Verdict.State, s.Witnesses[2].Answers = verdict.Hung, true }, Over, "boat, beyond it, answers"},
		"of one nothing is known":                     {func(s *Situation) { s.Witnesses[1].Silent = false }, Wait, "it is not known whether pier answers"},
		"not for so long":                             {func(s *Situation) { s.Witnesses[1].Since = now.Add(-4 * time.Minute) }, Wait, "it has not led nowhere for 5m yet"},
		"somebody is there":                           {func(s *Situation) { s.Person = "k.oster" }, Over, "k.oster sees to it"},
		"its second try comes later":                  {tried(4 * time.Minute), Wait, "the next try comes 5m after the last"},
		"and then":                                    {tried(6 * time.Minute), Go, ""},
		"its third later still":                       {tried(25*time.Minute, 14*time.Minute), Wait, "15m after the last"},
		"its fourth not on the same day":              {tried(9*time.Hour, 8*time.Hour, 7*time.Hour), Never, "used up"},
	} {
		t.Run(name, func(t *testing.T) {
			s := alone()
			c.change(s)
			d := uplink().Gate(1, s)
			require.Equal(t, c.answer, d.Answer, d.Why)
			require.Contains(t, d.Why, c.why)
		})
	}
	ops, err := uplink().Climb("cell", nil)
	require.NoError(t, err)
	proofs := 0
	for _, op := range ops {
		if op.Expr != "" {
			proofs++
			require.Equal(t, `answers("office") || answers("pier") || answers("boat")`, op.Expr)
		}
	}
	require.Equal(t, 3, proofs, "each try is proved by a witness")
}

// TestWeakWitnesses: silence that proves nothing has nothing done.
func TestWeakWitnesses(t *testing.T) {
	box := func(k, site, via estate.Key) estate.Device {
		return estate.Device{Key: k, Site: site, Probes: []estate.Probe{{Kind: estate.TCP, Target: "192.0.2.1:1"}}, Network: []estate.NetworkCable{{Via: estate.End{Device: via}}}}
	}
	dumb := box("dumb", "far", "cell")
	dumb.Probes = nil
	e, problems := estate.New("t", "post", []estate.Site{{Key: "pier"}, {Key: "office"}, {Key: "boat"}, {Key: "far"}}, []estate.Device{
		{Key: "post", Site: "pier"}, box("cell", "pier", "post"), box("a", "office", "cell"), box("b", "boat", "cell"), box("c", "far", "a"), box("d", "far", "cell"), box("e", "pier", "post"), dumb,
	})
	require.Empty(t, problems)
	for why, witnesses := range map[string][]estate.Key{
		"": {"a", "b", "c"}, "it takes 3": {"a", "b"}, "the witness x is not in": {"a", "b", "x"}, "the witness dumb has no probes": {"a", "b", "dumb"},
		"the witness e is not reached through cell alone": {"a", "b", "e"}, "the witnesses c and d are at one place, far": {"a", "c", "d"},
	} {
		got := (&Uplink{Witnesses: witnesses}).Weak(e, "cell")
		require.Equal(t, why == "", got == "")
		require.Contains(t, got, why)
	}
}
