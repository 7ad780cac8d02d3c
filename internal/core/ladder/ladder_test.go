package ladder

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/core/verdict"
)

var now = time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)

func router() *Ladder {
	return &Ladder{
		Name: "routers", Lasting: 5 * time.Minute, Limits: Usual, Call: []string{"duty"},
		Rungs: []Rung{{Kind: operation.Reset, Tries: 1, Settle: 3 * time.Minute}, {Kind: operation.Cycle, Means: operation.ByOutlet, Tries: 2, Settle: 5 * time.Minute}},
	}
}

// hung is a device that has hung for ten minutes, and that nothing speaks against helping.
func hung() *Situation {
	return &Situation{
		Now: now, Climb: "c1", Device: &estate.Device{Key: "router", Site: "pier", Role: "router", Tags: []string{"net"}}, Feeds: []estate.Key{"pdu", "ups"},
		Verdict: verdict.Verdict{State: verdict.Hung, Since: now.Add(-10 * time.Minute)}, Started: now.Add(-time.Hour), Proved: true,
		Preview: &operation.Preview{Means: operation.ByOutlet},
	}
}

func act(ago time.Duration, device, site, climb string, over bool, feeds ...estate.Key) Act {
	return Act{Ladder: "routers", Device: estate.Key(device), Site: estate.Key(site), At: now.Add(-ago), Climb: climb, Over: over, Feeds: feeds}
}

func TestGate(t *testing.T) {
	for name, c := range map[string]struct {
		change func(s *Situation)
		answer Answer
		why    string
	}{
		"it hangs":            {func(*Situation) {}, Go, "router has hung for 10 min"},
		"it is back":          {func(s *Situation) { s.Verdict.State = verdict.Steady }, Over, "is steady again"},
		"it answers":          {func(s *Situation) { s.Verdict.State = verdict.Strained }, Over, "strained"},
		"only silent":         {func(s *Situation) { s.Verdict.State = verdict.Silent }, Wait, "only what is proved to hang"},
		"cut off":             {func(s *Situation) { s.Verdict.State = verdict.CutOff }, Wait, "only what is proved to hang"},
		"dark":                {func(s *Situation) { s.Verdict.State = verdict.Dark }, Wait, "only what is proved to hang"},
		"of another cause":    {func(s *Situation) { s.Verdict.By = "ups" }, Wait, "its cause is ups"},
		"not for so long":     {func(s *Situation) { s.Verdict.Since = now.Add(-time.Minute) }, Wait, "not hung for 5m yet"},
		"gone":                {func(s *Situation) { s.Device = nil }, Never, "not in the estate"},
		"somebody is there":   {func(s *Situation) { s.Person = "k.oster" }, Over, "k.oster sees to it"},
		"in use":              {func(s *Situation) { s.InUse = "ann" }, Wait, "in use: ann"},
		"worked on":           {func(s *Situation) { s.Window = "new roof" }, Wait, "worked on: new roof"},
		"busy":                {func(s *Situation) { s.Busy = "op1" }, Wait, "op1"},
		"on battery":          {func(s *Situation) { s.Battery = "ups" }, Wait, "ups, which feeds it, is on battery"},
		"the utility is back": {func(s *Situation) { s.Returned = now.Add(-time.Minute) }, Wait, "only just come back"},
		"we have begun":       {func(s *Situation) { s.Started = now.Add(-time.Minute) }, Wait, "only just begun"},
		"unless":              {func(s *Situation) { s.Unless = []string{"x"} }, Wait, "x"},
		"if":                  {func(s *Situation) { s.If = "not so" }, Wait, "not so"},
		"it cannot be done":   {func(s *Situation) { s.Refused = "guarded" }, Skip, "guarded"},
		"cables not proved":   {func(s *Situation) { s.Proved = false }, Skip, "has not been proved"},
		"cables of no matter": {func(s *Situation) { s.Proved, s.Preview.Means = false, operation.ByChassis }, Go, ""},
		"three a day": {func(s *Situation) {
			s.Acts = []Act{act(time.Hour, "router", "pier", "a", true), act(2*time.Hour, "router", "pier", "b", true), act(23*time.Hour, "router", "pier", "c", true)}
		}, Never, "used up: ladders have acted 3 times at this device within a day"},
		"the day before": {func(s *Situation) {
			s.Acts = []Act{act(25*time.Hour, "router", "pier", "a", true), act(26*time.Hour, "router", "pier", "b", true), act(27*time.Hour, "router", "pier", "c", true)}
		}, Go, ""},
		"five a site": {func(s *Situation) {
			for _, k := range []string{"a", "b", "c", "d", "e"} {
				s.Acts = append(s.Acts, act(time.Hour, k, "pier", k, true))
			}
		}, Never, "5 times at its site"},
		"ten in all": {func(s *Situation) {
			for _, k := range []string{"a", "b", "c", "d", "e", "f", "g", "h", "i", "j"} {
				s.Acts = append(s.Acts, act(time.Hour, k, k, k, true))
			}
		}, Never, "10 times in the estate"},
		"two at once": {func(s *Situation) {
			s.Acts = []Act{act(time.Minute, "a", "x", "a", false), act(time.Minute, "b", "y", "b", false)}
		}, Wait, "2 other climbs"},
		"one on a feed":    {func(s *Situation) { s.Acts = []Act{act(time.Minute, "a", "x", "a", false, "ups")} }, Wait, "on what ups feeds"},
		"another feed":     {func(s *Situation) { s.Acts = []Act{act(time.Minute, "a", "x", "a", false, "other")} }, Go, ""},
		"its own climb":    {func(s *Situation) { s.Acts = []Act{act(time.Minute, "router", "pier", "c1", false, "ups")} }, Go, ""},
		"it has just been": {func(s *Situation) { s.Acts = []Act{act(time.Minute, "router", "pier", "a", true)} }, Wait, "acted on it 1 min ago"},
	} {
		t.Run(name, func(t *testing.T) {
			s := hung()
			c.change(s)
			d := router().Gate(1, s)
			require.Equal(t, c.answer, d.Answer, d.Why)
			require.Contains(t, d.Why, c.why)
		})
	}
}

func TestMatch(t *testing.T) {
	d := hung().Device
	require.True(t, Match{}.Fits(d))
	require.True(t, Match{Sites: []string{"pier"}, Roles: []string{"router"}, Tags: []string{"x", "net"}, Devices: []string{"router"}}.Fits(d))
	for _, m := range []Match{{Sites: []string{"x"}}, {Roles: []string{"x"}}, {Tags: []string{"x"}}, {Devices: []string{"x"}}} {
		require.False(t, m.Fits(d))
	}
}

func TestClimb(t *testing.T) {
	l := router()
	l.Rungs = append(l.Rungs, Rung{Routine: "gentle", Tries: 1, Settle: time.Minute})
	gentle := &routine.Routine{Name: "gentle", With: map[string]string{"device": ""}, Steps: []routine.Step{{Kind: routine.Picture, Device: "${device}", Path: "1"}}}
	find := func(string) *routine.Routine { return gentle }
	ops, err := l.Climb("router", find)
	require.NoError(t, err)
	var words []string
	for _, op := range ops {
		if op.Do != routine.Ask && op.Words != "" {
			words = append(words, op.Path+": "+op.Words)
		}
	}
	require.Equal(t, []string{
		"rung 1: Reset router", "rung 1: Wait until router has recovered, for up to 3m",
		"rung 2 try 1: Cycle router by outlet", "rung 2 try 1: Wait until router has recovered, for up to 5m",
		"rung 2 try 2: Cycle router by outlet", "rung 2 try 2: Wait until router has recovered, for up to 5m",
		"rung 3, gentle 1: Take a picture of the screen of router", "rung 3: Wait until router has recovered, for up to 1m",
		"call: Tell duty: router is hung, and the ladder routers could not help it: it waits for somebody", ": nothing has helped",
	}, words)
	_, err = l.Climb("router", func(string) *routine.Routine { return nil })
	require.ErrorContains(t, err, `there is no routine "gentle"`)
}

func TestPast(t *testing.T) {
	d := hung().Device
	at := func(m int) time.Time { return now.Add(time.Duration(m) * time.Minute) }
	episode := func(id string, from, until int) Episode {
		return Episode{Incident: id, Device: d, From: at(from), Until: at(until)}
	}
	seen := episode("seen", 60, 90)
	seen.Person, seen.By = at(62), "ann"
	all := []Episode{episode("long", 300, 400), seen, episode("short", 0, 4), episode("b", 500, 600), episode("c", 700, 800), episode("d", 900, 1000), {Incident: "open", Device: d, From: at(9998)}}
	var got []string
	for _, w := range router().Past(all, at(10_000)) {
		got = append(got, w.Incident+": "+map[bool]string{true: "acts, ", false: ""}[w.Acts]+map[bool]string{true: "alone, ", false: ""}[w.Alone]+w.Why)
	}
	require.Equal(t, []string{
		"short: alone, it did not hang for so long", "seen: ann saw to it before", "long: acts, alone, router has hung for 5 min", "b: acts, alone, router has hung for 5 min", "c: acts, alone, router has hung for 5 min",
		"d: alone, used up: ladders have acted 3 times at this device within a day", "open: its time has not come yet",
	}, got)
}
