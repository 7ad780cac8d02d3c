// Package tellfile reads who is told of what: people, teams, rotas and rules, as YAML, with
// complaints by line.
package tellfile

import (
	"cmp"
	_ "embed"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"plumbbob/internal/calendar"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/yamltext"
)

// Schema is the JSON Schema of the form.
//
//go:embed telling.schema.json
var Schema []byte

// Version is that of the form.
const Version = 1

// Bounds on what is read.
const (
	MaxSize     = 1 << 20
	mostPeople  = 2000
	mostSteps   = 20
	longestLine = 200
	longestNote = 2000
	longestWait = 14 * 24 * time.Hour
)

type file struct {
	Format int                 `yaml:"plumb-telling"`
	Zone   string              `yaml:"zone"`
	People map[string]person   `yaml:"people"`
	Teams  map[string][]string `yaml:"teams"`
	Rotas  map[string]rota     `yaml:"rotas"`
	Rules  []rule              `yaml:"rules"`

	Heartbeat *heartbeat `yaml:"heartbeat"`
	Report    *report    `yaml:"report"`
}

type heartbeat struct {
	Every string `yaml:"every"`
	By    []way  `yaml:"by"`
}

type report struct {
	At   string   `yaml:"at"`
	Days []string `yaml:"days"`
	Who  []string `yaml:"who"`
}

type person struct {
	Title string  `yaml:"title"`
	Ways  []way   `yaml:"ways"`
	Quiet []quiet `yaml:"quiet"`
	Zone  string  `yaml:"zone"`
}

type way struct {
	Channel string `yaml:"channel"`
	To      string `yaml:"to"`
}

type quiet struct {
	From  string   `yaml:"from"`
	Until string   `yaml:"until"`
	Days  []string `yaml:"days"`
	But   string   `yaml:"but"`
}

type rota struct {
	Zone     string    `yaml:"zone"`
	Shifts   []shift   `yaml:"shifts"`
	Instead  []instead `yaml:"instead"`
	Calendar string    `yaml:"calendar"`
}

type shift struct {
	From  string `yaml:"from"`
	Until string `yaml:"until"`
	Who   string `yaml:"who"`
}

type instead shift

type rule struct {
	Name  string `yaml:"name"`
	Match match  `yaml:"match"`
	Tell  []step `yaml:"tell"`
}

type match struct {
	Sites    []string `yaml:"sites"`
	Devices  []string `yaml:"devices"`
	Roles    []string `yaml:"roles"`
	Tags     []string `yaml:"tags"`
	Kinds    []string `yaml:"kinds"`
	Severity string   `yaml:"severity"`
}

type step struct {
	After string   `yaml:"after"`
	Who   []string `yaml:"who"`
	As    string   `yaml:"as"`
	Note  string   `yaml:"note"`
}

// serviceCall is what a step says that has the maker or the dealer written to.
const serviceCall = "service call"

var form = yamltext.Form{MaxSize: MaxSize, Key: "plumb-telling", Version: Version, Help: "plumb telling schema"}

// parser reads one text.
type parser struct {
	*yamltext.Text
	f    file
	plan telling.Plan
	zone *time.Location
	// calendars finds those that are set by name; nil where one is not.
	calendars func(name string) *calendar.Calendar
}

// Parse reads a text; name stands in its complaints. calendars finds a calendar by its name, nil
// where there is none. Its errors are *yamltext.Faults.
func Parse(name string, text []byte, calendars func(name string) *calendar.Calendar) (*telling.Plan, error) {
	p := &parser{calendars: calendars}
	var err error
	if p.Text, err = yamltext.Read(name, text, 0, form, &p.f); err != nil {
		return nil, err
	}
	p.Begins(p.f.Format)
	p.read()
	if err := p.Err(); err != nil {
		return nil, err
	}
	return &p.plan, nil
}

func (p *parser) read() {
	p.zone = time.UTC
	p.zone = p.zoneOf([]string{"zone"}, p.f.Zone)
	p.plan = telling.Plan{Zone: p.zone, People: map[string]telling.Person{}, Teams: map[string][]string{}, Rotas: map[string]telling.Rota{}}
	if n := len(p.f.People) + len(p.f.Teams) + len(p.f.Rotas) + len(p.f.Rules); n > mostPeople {
		p.Fault([]string{"people"}, "%d people, teams, rotas and rules are too many: %d are the most", n, mostPeople)
		return
	}
	for _, who := range slices.Sorted(maps.Keys(p.f.People)) {
		p.person(who, p.f.People[who])
	}
	for _, name := range slices.Sorted(maps.Keys(p.f.Teams)) {
		p.named([]string{"teams", name}, name)
		for i, who := range p.f.Teams[name] {
			if _, is := p.f.People[who]; !is {
				p.Fault([]string{"teams", name, strconv.Itoa(i)}, "team %s: %q is not among the people", name, who)
			}
		}
		if len(p.f.Teams[name]) == 0 {
			p.Fault([]string{"teams", name}, "team %s: nobody is in it", name)
		}
		p.plan.Teams[name] = p.f.Teams[name]
	}
	for _, name := range slices.Sorted(maps.Keys(p.f.Rotas)) {
		p.rota(name, p.f.Rotas[name])
	}
	p.rules()
	p.again()
}

// named checks a name, which has to be one of one thing.
func (p *parser) named(path []string, name string) {
	if !estate.ValidKey(name) {
		p.Fault(path, "%q cannot be a name: use lower-case letters, digits and hyphens", name)
	}
	n := 0
	if _, is := p.f.People[name]; is {
		n++
	}
	if _, is := p.f.Teams[name]; is {
		n++
	}
	if _, is := p.f.Rotas[name]; is {
		n++
	}
	if n > 1 {
		p.Fault(path, "%s is the name of more than one of a person, a team and a rota: call one of them otherwise", name)
	}
}

func (p *parser) person(who string, x person) {
	at := []string{"people", who}
	p.named(at, who)
	out := telling.Person{Title: cmp.Or(x.Title, who), Zone: p.zoneOf(append(at, "zone"), x.Zone)}
	if plain.Line(x.Title) != x.Title || len(x.Title) > longestLine {
		p.Fault(append(at, "title"), "%s title: write it in one line of up to %d bytes", who, longestLine)
	}
	out.Ways = p.ways(append(at, "ways"), who, x.Ways)
	if len(x.Ways) == 0 {
		p.Fault(at, "%s: there is no way to tell them: add ways: [{channel: NAME, to: ADDRESS}]", who)
	}
	for i, q := range x.Quiet {
		here := append(at, "quiet", strconv.Itoa(i))
		out.Quiet = append(out.Quiet, telling.Quiet{From: p.clock(here, q.From), Until: p.clock(here, q.Until), Days: p.days(here, q.Days), But: p.severity(here, q.But)})
	}
	p.plan.People[who] = out
}

func (p *parser) ways(at []string, who string, list []way) (out []telling.Way) {
	for i, w := range list {
		here := append(at, strconv.Itoa(i))
		if !estate.ValidKey(w.Channel) {
			p.Fault(here, "%s: %q is no name of a channel: plumb channel list shows those that there are", who, w.Channel)
		}
		if plain.Line(w.To) != w.To || len(w.To) > longestLine {
			p.Fault(here, "%s: write to in one line of up to %d bytes", who, longestLine)
		}
		out = append(out, telling.Way(w))
	}
	return out
}

// again are what goes out by the clock.
func (p *parser) again() {
	if h := p.f.Heartbeat; h != nil {
		at := []string{"heartbeat"}
		d, err := time.ParseDuration(h.Every)
		if err != nil || d < leastBeat || d > mostBeat {
			p.Fault(at, "heartbeat every: %q is no time from %s to %s", h.Every, leastBeat, mostBeat)
		}
		if len(h.By) == 0 {
			p.Fault(at, "heartbeat: say by which channels: by: [{channel: NAME, to: ADDRESS}]")
		}
		p.plan.Heartbeat = &telling.Heartbeat{Every: d, By: p.ways(append(at, "by"), "heartbeat", h.By)}
	}
	if r := p.f.Report; r != nil {
		at := []string{"report"}
		if len(r.Who) == 0 {
			p.Fault(at, "report: say who gets it")
		}
		for _, who := range r.Who {
			if _, is := p.f.Rotas[who]; !is {
				p.somebody(at, who)
			}
		}
		p.plan.Report = &telling.Report{At: p.clock(at, r.At), Days: p.days(at, r.Days), Who: r.Who}
	}
}

// How often a heartbeat may go out.
const (
	leastBeat = 10 * time.Second
	mostBeat  = 24 * time.Hour
)

func (p *parser) rota(name string, x rota) {
	at := []string{"rotas", name}
	p.named(at, name)
	out := telling.Rota{Zone: p.zoneOf(append(at, "zone"), x.Zone)}
	for i, s := range x.Shifts {
		here := append(at, "shifts", strconv.Itoa(i))
		p.somebody(here, s.Who)
		out.Shifts = append(out.Shifts, telling.Shift{From: p.weekTime(here, s.From), Until: p.weekTime(here, s.Until), Who: s.Who})
	}
	for i, s := range x.Instead {
		here := append(at, "instead", strconv.Itoa(i))
		p.somebody(here, s.Who)
		from, until := p.moment(here, s.From, out.Zone), p.moment(here, s.Until, out.Zone)
		if !until.After(from) {
			p.Fault(here, "rota %s: it ends before it begins", name)
		}
		out.Instead = append(out.Instead, telling.Instead{From: from, Until: until, Who: s.Who})
	}
	if x.Calendar != "" {
		if c := p.calendars(x.Calendar); c != nil {
			out.Calendar = c
		} else {
			p.Fault(append(at, "calendar"), "rota %s calendar: there is no calendar %q: plumb calendar set adds one", name, x.Calendar)
		}
	}
	if len(x.Shifts) == 0 && x.Calendar == "" {
		p.Fault(at, "rota %s: nobody is on duty: add shifts, or a calendar", name)
	}
	p.plan.Rotas[name] = out
}

// somebody checks that a name is of a person or a team.
func (p *parser) somebody(path []string, who string) {
	_, person := p.f.People[who]
	_, team := p.f.Teams[who]
	if !person && !team {
		p.Fault(path, "%q is neither a person nor a team", who)
	}
}

func (p *parser) rules() {
	names := map[string]bool{}
	for i, x := range p.f.Rules {
		at := []string{"rules", strconv.Itoa(i)}
		switch {
		case !estate.ValidKey(x.Name):
			p.Fault(at, "a rule needs a name of lower-case letters, digits and hyphens: %q is none", x.Name)
		case names[x.Name]:
			p.Fault(at, "there are two rules %s: call one of them otherwise", x.Name)
		case len(x.Tell) == 0 || len(x.Tell) > mostSteps:
			p.Fault(at, "rule %s: say with tell who is told, in 1 to %d steps", x.Name, mostSteps)
		}
		names[x.Name] = true
		m := x.Match
		out := telling.Rule{Name: x.Name, Match: telling.Match{
			Sites: m.Sites, Devices: m.Devices, Roles: m.Roles, Tags: m.Tags, Kinds: m.Kinds, Least: p.severity(append(at, "match", "severity"), m.Severity),
		}}
		for n, s := range x.Tell {
			out.Steps = append(out.Steps, p.step(append(at, "tell", strconv.Itoa(n)), x.Name, s))
		}
		p.plan.Rules = append(p.plan.Rules, out)
	}
}

func (p *parser) step(at []string, rule string, s step) (out telling.Step) {
	if s.After != "" {
		d, err := time.ParseDuration(s.After)
		if err != nil || d < 0 || d > longestWait {
			p.Fault(at, "rule %s after: %q is no time such as 15m, of up to 14 days", rule, s.After)
		}
		out.After = d
	}
	if len(s.Who) == 0 {
		p.Fault(at, "rule %s: say who is told", rule)
	}
	for _, who := range s.Who {
		if _, is := p.f.Rotas[who]; !is {
			p.somebody(at, who)
		}
	}
	switch {
	case s.As != "" && s.As != serviceCall:
		p.Fault(at, "rule %s as: %q is unknown: leave it out, or write %s", rule, s.As, serviceCall)
	case s.As == "" && s.Note != "":
		p.Fault(at, "rule %s: note belongs to a step that is told as: %s", rule, serviceCall)
	case plain.Line(s.Note) != s.Note || len(s.Note) > longestNote:
		p.Fault(at, "rule %s note: write it in one line of up to %d bytes", rule, longestNote)
	}
	out.Who, out.Service, out.Note = s.Who, s.As == serviceCall, s.Note
	return out
}

func (p *parser) severity(path []string, s string) telling.Severity {
	if s != "" && !slices.Contains(telling.Severities, telling.Severity(s)) {
		p.Fault(path, "%q is no severity: warning and critical are", s)
	}
	return telling.Severity(s)
}

func (p *parser) zoneOf(path []string, name string) *time.Location {
	if name == "" {
		return p.zone
	}
	zone, err := time.LoadLocation(name)
	if err != nil || name == "Local" {
		p.Fault(path, "zone: %q is not a time zone such as Atlantic/Faroe", name)
		return p.zone
	}
	return zone
}

func (p *parser) clock(path []string, s string) telling.Clock {
	t, err := time.Parse("15:04", s)
	if err != nil {
		p.Fault(path, "%q is no time of day such as \"22:30\"", s)
	}
	return telling.Clock(t.Hour()*60 + t.Minute())
}

var weekdays = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

func (p *parser) days(path []string, names []string) (out []time.Weekday) {
	for _, n := range names {
		i := slices.Index(weekdays, strings.ToLower(n))
		if i < 0 {
			p.Fault(path, "%q is no day: write mon, tue, wed, thu, fri, sat or sun", n)
		}
		out = append(out, time.Weekday(max(i, 0)))
	}
	return out
}

func (p *parser) weekTime(path []string, s string) (out telling.WeekTime) {
	day, clock, is := strings.Cut(s, " ")
	if !is {
		p.Fault(path, "%q is no time of a week such as mon 08:00", s)
		return out
	}
	return telling.WeekTime{Day: append(p.days(path, []string{day}), time.Sunday)[0], At: p.clock(path, clock)}
}

func (p *parser) moment(path []string, s string, zone *time.Location) time.Time {
	t, err := time.ParseInLocation("2006-01-02 15:04", s, zone)
	if err != nil {
		p.Fault(path, "%q is no time such as 2026-12-24 08:00", s)
	}
	return t
}
