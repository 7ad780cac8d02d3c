package ladder

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/verdict"
)

// An Uplink is what a ladder goes by that helps the way out of a place, seen from within: whoever
// stands there sees everything beyond fall silent at once, whatever the reason.
type Uplink struct {
	// Witnesses are beyond it, at different places: as long as one of them answers it works.
	Witnesses []estate.Key
	// Line is the condition that the uplink says itself that its line is up; empty: it says nothing.
	Line string
	// Pauses are before its second try, its third, and so on; the last before all further ones.
	Pauses []time.Duration
}

// LeastWitnesses is how many it takes: two that fall silent at once may have that in common.
const LeastWitnesses = 3

// UsualPauses are those unless a ladder says otherwise.
var UsualPauses = []time.Duration{5 * time.Minute, 15 * time.Minute, time.Hour}

// Recovered is the condition that the uplink works: a witness answers.
func (u *Uplink) Recovered() string {
	var each []string
	for _, w := range u.Witnesses {
		each = append(each, "answers("+strconv.Quote(string(w))+")")
	}
	return strings.Join(each, " || ")
}

// Weak says why the silence of its witnesses would prove nothing about an uplink; empty: it would.
func (u *Uplink) Weak(e *estate.Estate, uplink estate.Key) string {
	if len(u.Witnesses) < LeastWitnesses {
		return fmt.Sprintf("it takes %d witnesses at different places", LeastWitnesses)
	}
	at := map[estate.Key]estate.Key{}
	for _, k := range u.Witnesses {
		d := e.Device(k)
		switch {
		case d == nil:
			return fmt.Sprintf("the witness %s is not in the estate", k)
		case len(d.Probes) == 0:
			return fmt.Sprintf("the witness %s has no probes: nobody asks it anything", k)
		case !slices.Contains(e.OnlyBehind(uplink), estate.EndpointID{Device: k}):
			return fmt.Sprintf("the witness %s is not reached through %s alone", k, uplink)
		case at[d.Site] != "":
			return fmt.Sprintf("the witnesses %s and %s are at one place, %s: they may fall silent together", at[d.Site], k, d.Site)
		}
		at[d.Site] = k
	}
	return ""
}

// A Witness is one, as it was heard last.
type Witness struct {
	Device  estate.Key
	Answers bool
	Silent  bool
	Since   time.Time // of its silence
}

// Line is what an uplink says of its own line.
type Line string

// What it may say.
const (
	LineUntold Line = ""
	LineUp     Line = "up"
	LineDown   Line = "down"
	LineStale  Line = "stale" // what it says was read before the way was lost
)

// A Way is how the way out of a place stands.
type Way string

// The cases.
const (
	Through Way = "through" // a witness answers
	Unclear Way = "unclear" // it cannot be told
	Mute    Way = "mute"    // the uplink is silent itself
	Stuck   Way = "stuck"   // it answers, and does not say that its line is down; no witness answers
	Broken  Way = "broken"  // it says itself that its line is down
)

// Way tells the cases apart, and says since when no witness has answered.
func (s *Situation) Way() (way Way, since time.Time, why string) {
	var names []string
	for _, w := range s.Witnesses {
		switch {
		case w.Answers:
			return Through, time.Time{}, fmt.Sprintf("%s, beyond it, answers", w.Device)
		case !w.Silent:
			return Unclear, time.Time{}, fmt.Sprintf("it is not known whether %s answers", w.Device)
		case w.Since.After(since):
			since = w.Since
		}
		names = append(names, string(w.Device))
	}
	k, beyond := s.Device.Key, "none of "+strings.Join(names, ", ")+" answers"
	switch s.Verdict.State {
	case verdict.Hung, verdict.Silent:
		if s.Verdict.By != "" {
			return Unclear, since, fmt.Sprintf("%s; the cause is %s", beyond, s.Verdict.By)
		}
		return Mute, since, fmt.Sprintf("%s is %s, and %s", k, s.Verdict.State, beyond)
	case verdict.Steady, verdict.Strained:
	default:
		return Unclear, since, fmt.Sprintf("%s; %s is %s", beyond, k, s.Verdict.State.Words())
	}
	switch s.Line {
	case LineDown:
		return Broken, since, fmt.Sprintf("%s says itself that its line is down: starting it anew would not help", k)
	case LineStale:
		return Unclear, since, fmt.Sprintf("%s; what %s says of its line has not been read since", beyond, k)
	case LineUp:
		return Stuck, since, fmt.Sprintf("%s says that its line is up, and %s", k, beyond)
	}
	return Stuck, since, fmt.Sprintf("%s answers and says nothing of its line, and %s", k, beyond)
}

// way says what the gate of an uplink goes by instead of a verdict; done: nothing more is to be asked.
func (l *Ladder) way(s *Situation) (d Decision, done bool) {
	way, _, why := s.Way()
	switch {
	case way == Through:
		return Decision{Answer: Over, Why: why}, true
	case way == Unclear || way == Broken:
		return Decision{Answer: Wait, Why: why}, true
	case s.Person != "":
		return Decision{Answer: Over, Why: s.Person + " sees to it"}, true
	}
	return Decision{Answer: Go, Why: why}, false
}

// pause is what its next try has to wait for: each time longer.
func (l *Ladder) pause(s *Situation) string {
	var last time.Time
	tries := 0
	for _, a := range s.Acts {
		if a.Climb == s.Climb {
			tries++
			if a.At.After(last) {
				last = a.At
			}
		}
	}
	if tries == 0 || len(l.Uplink.Pauses) == 0 {
		return ""
	}
	pause := l.Uplink.Pauses[min(tries, len(l.Uplink.Pauses))-1]
	if s.Now.Sub(last) >= pause {
		return ""
	}
	return fmt.Sprintf("the next try comes %s after the last", plain.Span(pause))
}
