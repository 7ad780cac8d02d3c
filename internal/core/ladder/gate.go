package ladder

import (
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/verdict"
)

// An Act is something that a ladder did to a device.
type Act struct {
	Ladder string
	Device estate.Key
	Site   estate.Key
	At     time.Time
	Feeds  []estate.Key // what feeds the device
	Over   bool         // its climb has ended
	Climb  string       // the id of that
}

// A Situation is all that it depends on whether a rung may be climbed now.
type Situation struct {
	Now     time.Time
	Climb   string // the id of this climb
	Device  *estate.Device
	Verdict verdict.Verdict
	Feeds   []estate.Key // what feeds the device

	Acts     []Act              // of all ladders, within a week
	Preview  *operation.Preview // of the rung; nil: it is no operation
	Refused  string             // why that operation cannot be done at all; empty
	Proved   bool               // where its cables are, since the estate last changed
	InUse    string             // who works with it; empty
	Window   string             // in which it is worked on
	Busy     string             // the operation on it
	Battery  estate.Key         // a UPS that feeds it and is on battery
	Returned time.Time          // when the utility of its site came back; zero: long since
	Started  time.Time          // when this service began to act
	Person   string             // who has operated it since the climb began
	Unless   []string           // what else speaks against it, in words
	If       string             // why the condition beside the verdict does not hold; empty: it does

	Witnesses []Witness // of an uplink
	Line      Line      // what an uplink says of its own
}

// Since is when that began which a ladder is for.
func (l *Ladder) Since(s *Situation) time.Time {
	if l.Uplink != nil {
		_, since, _ := s.Way()
		return since
	}
	return s.Verdict.Since
}

// Answer is what a gate says.
type Answer string

// The answers.
const (
	Go    Answer = "go"
	Wait  Answer = "wait"  // not now
	Skip  Answer = "skip"  // not this rung: the next one, or the end
	Over  Answer = "over"  // it is not needed any more
	Never Answer = "never" // nothing more of this ladder: a person has to see to it
)

// A Decision is an answer, and why.
type Decision struct {
	Answer Answer
	Why    string
	Rest   bool // of a Never: all of the ladder is at its end, and not only at this device
}

// Gate says whether a rung may be climbed now. What would be a harm is looked at first, then what has
// been used up, then what only has to be waited for.
func (l *Ladder) Gate(rung int, s *Situation) Decision {
	say := func(a Answer, format string, args ...any) Decision {
		return Decision{Answer: a, Why: fmt.Sprintf(format, args...)}
	}
	if s.Device == nil {
		return say(Never, "it is not in the estate any more")
	}
	first := l.hangs
	if l.Uplink != nil {
		first = l.way
	}
	d, done := first(s)
	if done {
		return d
	}
	if why, rest := l.used(s); why != "" {
		return Decision{Answer: Never, Why: why, Rest: rest}
	}
	if why := l.holds(s); why != "" {
		return say(Wait, "%s", why)
	}
	r := l.Rungs[rung]
	switch {
	case s.Refused != "":
		return say(Skip, "%s", s.Refused)
	case r.Cuts(s.Preview) && !s.Proved:
		return say(Skip, "it would cut power at %s, and where that cable leads has not been proved since the estate was changed: plumb wiring check %s does", ends(s.Preview), s.Device.Site)
	}
	return d
}

// hangs says what the gate goes by first: that the device is proved to hang. done: nothing more is to be asked.
func (l *Ladder) hangs(s *Situation) (d Decision, done bool) {
	say := func(a Answer, format string, args ...any) (Decision, bool) {
		return Decision{Answer: a, Why: fmt.Sprintf(format, args...)}, a != Go
	}
	switch {
	case s.Verdict.State == verdict.Steady || s.Verdict.State == verdict.Strained:
		return say(Over, "%s is %s again", s.Device.Key, s.Verdict.State)
	case s.Verdict.State != verdict.Hung:
		// A cut way, a dark feed, silence that nobody can explain: what hung is not known to hang any more.
		return say(Wait, "it is %s, and only what is proved to hang is acted upon", s.Verdict.State)
	case s.Verdict.By != "":
		return say(Wait, "its cause is %s", s.Verdict.By)
	case s.Person != "":
		return say(Over, "%s sees to it", s.Person)
	}
	return say(Go, "%s has hung for %s", s.Device.Key, verdict.Age(s.Now.Sub(s.Verdict.Since)))
}

func ends(p *operation.Preview) string {
	var out []string
	for _, o := range p.Outlets {
		out = append(out, o.End.String())
	}
	return strings.Join(out, ", ")
}

const (
	day  = 24 * time.Hour
	week = 7 * day
)

// used says which limit is used up, and whether it is one of more than this device.
func (l *Ladder) used(s *Situation) (why string, rest bool) {
	var device, weekly, site, all int
	for _, a := range s.Acts {
		age := s.Now.Sub(a.At)
		if age > week {
			continue
		}
		if a.Device == s.Device.Key {
			weekly++
		}
		if age > day {
			continue
		}
		all++
		if a.Device == s.Device.Key {
			device++
		}
		if a.Site == s.Device.Site {
			site++
		}
	}
	x := l.Limits
	for _, c := range []struct {
		n, most int
		what    string
		rest    bool
	}{
		{device, x.DeviceDay, "at this device within a day", false}, {weekly, x.DeviceWeek, "at this device within a week", false},
		{site, x.SiteDay, "at its site within a day", true}, {all, x.EstateDay, "in the estate within a day", true},
	} {
		if c.n >= c.most {
			return fmt.Sprintf("used up: ladders have acted %d times %s", c.n, c.what), c.rest
		}
	}
	return "", false
}

// holds says what has to be waited for.
func (l *Ladder) holds(s *Situation) string {
	x := l.Limits
	if why := l.elsewhere(s); why != "" {
		return why
	}
	for _, a := range s.Acts {
		if a.Device == s.Device.Key && s.Now.Sub(a.At) < x.CoolDown && a.Climb != s.Climb {
			return fmt.Sprintf("a ladder acted on it %s ago", verdict.Age(s.Now.Sub(a.At)))
		}
	}
	switch {
	case s.Now.Sub(l.Since(s)) < l.Lasting:
		return "it has not " + map[bool]string{true: "led nowhere", false: "hung"}[l.Uplink != nil] + " for " + plain.Span(l.Lasting) + " yet"
	case s.Battery != "":
		return fmt.Sprintf("%s, which feeds it, is on battery", s.Battery)
	case s.Now.Sub(s.Returned) < x.AfterReturn:
		return "the utility has only just come back"
	case s.Now.Sub(s.Started) < x.AfterReturn:
		return "the service has only just begun to act"
	case s.Busy != "":
		return fmt.Sprintf("operation %s runs on it", s.Busy)
	case s.InUse != "":
		return "it is in use: " + s.InUse
	case s.Window != "":
		return "it is worked on: " + s.Window
	case s.If != "":
		return s.If
	case len(s.Unless) > 0:
		return s.Unless[0]
	case l.Uplink != nil:
		return l.pause(s)
	}
	return ""
}

// elsewhere says what other climbs stand in the way: those that are under way at the same time.
func (l *Ladder) elsewhere(s *Situation) string {
	climbs, feeds := map[string]bool{}, map[estate.Key]map[string]bool{}
	for _, a := range s.Acts {
		if a.Over || a.Climb == s.Climb {
			continue
		}
		climbs[a.Climb] = true
		for _, f := range a.Feeds {
			if feeds[f] == nil {
				feeds[f] = map[string]bool{}
			}
			feeds[f][a.Climb] = true
		}
	}
	if len(climbs) >= l.Limits.AtOnce {
		return fmt.Sprintf("%d other climbs are under way", len(climbs))
	}
	for _, f := range s.Feeds {
		if len(feeds[f]) >= l.Limits.Feed {
			return fmt.Sprintf("another climb is under way on what %s feeds", f)
		}
	}
	return ""
}
