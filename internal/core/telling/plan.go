// Package telling decides who is told of an incident, when and by what, and what a message
// says. There is no clock in here, and nothing is sent.
//
//	plan.go   people, teams, rotas and rules
//	due.go    what is due to whom
//	words.go  what a message says
package telling

import (
	"slices"
	"time"

	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/verdict"
)

// A Severity is how bad an incident is.
type Severity string

// The severities.
const (
	Warning  Severity = "warning"
	Critical Severity = "critical"
)

// Severities lists them, the milder one first.
var Severities = []Severity{Warning, Critical}

// Below says whether a severity is milder than another one.
func (s Severity) Below(x Severity) bool {
	return slices.Index(Severities, s) < slices.Index(Severities, x)
}

// SeverityOf is how bad incidents of a kind are.
func SeverityOf(kind string) Severity {
	switch kind {
	case string(verdict.Strained), incident.Missed:
		return Warning
	}
	return Critical
}

// A Plan says who is told of what. Its zero value tells nobody.
type Plan struct {
	Zone   *time.Location
	People map[string]Person
	Teams  map[string][]string // the names of people
	Rotas  map[string]Rota
	Rules  []Rule

	Heartbeat *Heartbeat // nil: none goes out
	Report    *Report    // nil: nobody wants one
}

// A Heartbeat goes out again and again, so that somebody elsewhere notices when it does not.
type Heartbeat struct {
	Every time.Duration
	By    []Way // all of them
}

// A Report says once a day what was, and what is.
type Report struct {
	At   Clock
	Days []time.Weekday // none: every day
	Who  []string       // people, teams, rotas
}

// ReportID names the report of a moment's day; empty while none is due. Within late of its time it
// is due, and not later: a report of the day before is none.
func (p *Plan) ReportID(now time.Time, late time.Duration) string {
	r := p.Report
	if r == nil {
		return ""
	}
	now = now.In(p.Zone)
	at := r.At.on(now)
	if now.Before(at) || now.Sub(at) > late || len(r.Days) > 0 && !slices.Contains(r.Days, now.Weekday()) {
		return ""
	}
	return "report." + now.Format("2006-01-02")
}

// Readers are those who get the report of a moment.
func (p *Plan) Readers(now time.Time) []string {
	if p.Report == nil {
		return nil
	}
	return p.persons(p.Report.Who, now)
}

// Dealers are those who are sent service calls.
func (p *Plan) Dealers(now time.Time) []string {
	var names []string
	for _, r := range p.Rules {
		for _, s := range r.Steps {
			if s.Service {
				names = append(names, s.Who...)
			}
		}
	}
	return p.persons(names, now)
}

// Those are the people behind names of people, teams and rotas at a moment, and when each may hear
// of something that can wait.
func (p *Plan) Those(names []string, now time.Time) map[string]time.Time {
	out := map[string]time.Time{}
	for _, who := range p.persons(names, now) {
		out[who] = later(now, p.People[who].quietUntil(now, Warning))
	}
	return out
}

// A Person is somebody who can be told.
type Person struct {
	Title string // how they are called
	Ways  []Way  // in order: the next one is taken when those before it have failed
	Quiet []Quiet
	Zone  *time.Location
}

// A Way is a channel, and an address there.
type Way struct{ Channel, To string }

// Quiet are hours in which somebody is told only of what is bad enough.
type Quiet struct {
	From, Until Clock
	Days        []time.Weekday // on which it begins; none: on every day
	But         Severity       // of this, and what is worse, they are told all the same; empty: of nothing
}

// A Clock is a time of day, in minutes from midnight.
type Clock int

// A Rota says who is on duty.
type Rota struct {
	Zone    *time.Location
	Shifts  []Shift
	Instead []Instead
	// Calendar says who is, by the name of what is in it; nil: there is none.
	Calendar interface {
		Busy(now time.Time) (text string, until time.Time, busy bool)
	}
}

// A Shift comes again every week.
type Shift struct {
	From, Until WeekTime // Until is the first moment that is not in it; the same as From: a whole week
	Who         string
}

// A WeekTime is a time within a week.
type WeekTime struct {
	Day time.Weekday
	At  Clock
}

// Instead is who is on duty for once.
type Instead struct {
	From, Until time.Time
	Who         string
}

// A Rule says who is told of incidents of a sort.
type Rule struct {
	Name  string
	Match Match
	Steps []Step
}

// A Match is what a rule is about: all that is stated has to fit.
type Match struct {
	Sites, Devices, Roles, Tags, Kinds []string
	Least                              Severity // and what is worse; empty: everything
}

// A Step is who is told, after a while without anybody who has seen it.
type Step struct {
	After time.Duration
	Who   []string // people, teams, rotas

	Service bool   // they are sent a service call, once, where hardware is what is wrong
	Note    string // what that begins with
}

func (s Step) what() What {
	if s.Service {
		return Service
	}
	return Opened
}

// A Subject is an incident with what of its device decides who is told.
type Subject struct {
	*incident.Incident
	Role string
	Tags []string
	// Until then nobody is to hear of it, and why: works, or it is shelved.
	HeldUntil time.Time
	HeldWhy   string
	Broken    []string // its hardware that is out of bounds
}

func (m Match) fits(s Subject) bool {
	among := func(list []string, x ...string) bool {
		return len(list) == 0 || slices.ContainsFunc(x, func(x string) bool { return slices.Contains(list, x) })
	}
	return among(m.Sites, string(s.Site)) && among(m.Devices, string(s.Device)) && among(m.Roles, s.Role) && among(m.Tags, s.Tags...) &&
		among(m.Kinds, s.Kind) && !SeverityOf(s.Kind).Below(m.Least)
}

// Remark is what a service call begins with, by the step that a note is of; empty where the rule is not
// what it was.
func (p *Plan) Remark(n Note) string {
	i := slices.IndexFunc(p.Rules, func(r Rule) bool { return r.Name == n.Rule })
	if i < 0 || n.Step < 1 || n.Step > len(p.Rules[i].Steps) {
		return ""
	}
	return p.Rules[i].Steps[n.Step-1].Note
}

// persons are those that are meant at a moment, each once, in order.
func (p *Plan) persons(names []string, at time.Time) (out []string) {
	add := func(who string) {
		if _, is := p.People[who]; is && !slices.Contains(out, who) {
			out = append(out, who)
		}
	}
	for _, n := range names {
		if rota, is := p.Rotas[n]; is {
			who, _ := rota.OnDuty(at)
			if team, is := p.Teams[who]; is {
				for _, x := range team {
					add(x)
				}
				continue
			}
			add(who)
			continue
		}
		for _, x := range p.Teams[n] {
			add(x)
		}
		add(n)
	}
	return out
}

// OnDuty is who is on duty, and until when as far as is known; empty: nobody is.
func (r Rota) OnDuty(at time.Time) (who string, until time.Time) {
	for _, x := range r.Instead {
		if !at.Before(x.From) && at.Before(x.Until) {
			return x.Who, x.Until
		}
	}
	if r.Calendar != nil {
		if who, until, busy := r.Calendar.Busy(at); busy {
			return who, until
		}
	}
	for _, s := range r.Shifts {
		if until, is := s.covers(at.In(r.Zone)); is {
			return s.Who, until
		}
	}
	return "", time.Time{}
}

const week = 7 * 24 * 60 // minutes

func (w WeekTime) minutes() int { return int(w.Day)*24*60 + int(w.At) }

// covers works with what clocks show, so that a shift ends at its hour also when they change.
func (s Shift) covers(at time.Time) (until time.Time, is bool) {
	lasts := (s.Until.minutes() - s.From.minutes() + week) % week
	if lasts == 0 {
		lasts = week
	}
	now := int(at.Weekday())*24*60 + at.Hour()*60 + at.Minute()
	since := (now - s.From.minutes() + week) % week
	if since >= lasts {
		return time.Time{}, false
	}
	return time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute()+lasts-since, 0, 0, at.Location()), true
}

// quietUntil is until when somebody is not to hear of what is that bad; zero: they may now.
func (p Person) quietUntil(at time.Time, s Severity) (until time.Time) {
	if len(p.Quiet) == 0 {
		return until
	}
	at = at.In(p.Zone)
	for _, q := range p.Quiet {
		if q.But != "" && !s.Below(q.But) {
			continue
		}
		for back := range 2 { // it may have begun yesterday
			day := time.Date(at.Year(), at.Month(), at.Day()-back, 0, 0, 0, 0, at.Location())
			if len(q.Days) > 0 && !slices.Contains(q.Days, day.Weekday()) {
				continue
			}
			from, end := q.From.on(day), q.Until.on(day)
			if !end.After(from) {
				end = q.Until.on(day.AddDate(0, 0, 1))
			}
			if !at.Before(from) && at.Before(end) && end.After(until) {
				until = end
			}
		}
	}
	return until
}

// on is that time of a day, as clocks show it.
func (c Clock) on(day time.Time) time.Time {
	return time.Date(day.Year(), day.Month(), day.Day(), 0, int(c), 0, 0, day.Location())
}
