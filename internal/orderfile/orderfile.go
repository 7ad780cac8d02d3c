// Package orderfile reads standing orders: routines as YAML, several of them in a file if they are
// parted by lines of "---", with complaints by line.
//
//	orderfile.go  a file, a routine and what begins it
//	steps.go      its steps
package orderfile

import (
	_ "embed"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/core/clock"
	"plumbbob/internal/core/condition"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/routine"
	"plumbbob/internal/yamltext"
)

// Schema is the JSON Schema of a routine.
//
//go:embed routine.schema.json
var Schema []byte

// Version is that of the form.
const Version = 1

// Bounds on what is read.
const (
	MaxSize     = 1 << 20
	mostOrders  = 200
	mostWhen    = 20
	mostSteps   = 200
	deepest     = 8
	longestLine = 300
	longestWait = 7 * 24 * time.Hour
	longestFor  = 24 * time.Hour
	// Punctual is how late a routine may begin unless it says so itself.
	Punctual = 5 * time.Minute
)

// Around is what routines may speak of.
type Around struct {
	// Zone is that of the clocks of a site, or of the standpoint for an empty one; nil: there is
	// no such site.
	Zone func(site estate.Key) *time.Location
	// Kinds are those of incidents.
	Kinds []string
}

// AroundOf is what routines may speak of in an estate.
func AroundOf(e *estate.Estate) Around {
	return Around{Kinds: incident.Kinds, Zone: func(site estate.Key) *time.Location {
		if site == "" {
			return e.Zone(e.Standpoint)
		}
		if s := e.Site(site); s != nil {
			return s.Zone
		}
		return nil
	}}
}

// An Order is one routine as it was written.
type Order struct {
	Routine *routine.Routine
	Text    string
	About   []estate.Key // the devices that it names outright
}

type file struct {
	Format int               `yaml:"plumb-routine"`
	Name   string            `yaml:"name"`
	Title  string            `yaml:"title"`
	Site   string            `yaml:"site"`
	Off    bool              `yaml:"off"`
	When   []trigger         `yaml:"when"`
	With   map[string]string `yaml:"with"`
	Steps  []step            `yaml:"steps"`
	After  []step            `yaml:"after"`
	Call   []string          `yaml:"call"`
}

type trigger struct {
	At       string   `yaml:"at"`
	Late     string   `yaml:"late"`
	While    string   `yaml:"while"`
	For      string   `yaml:"for"`
	Incident []string `yaml:"incident"`
	Sites    []string `yaml:"sites"`
	Devices  []string `yaml:"devices"`
	Webhook  string   `yaml:"webhook"`
}

var form = yamltext.Form{MaxSize: MaxSize, Key: "plumb-routine", Version: Version, Help: "plumb routine schema"}

var parted = regexp.MustCompile(`(?m)^---(?:[ \t].*)?\r?\n`)

// Parse reads a file; name stands in its complaints. Its errors are *yamltext.Faults.
func Parse(name string, text []byte, around Around) ([]Order, error) {
	return parse(name, text, func(text string, first int) (Order, string, error) {
		o, err := one(name, text, first, around)
		if err != nil {
			return o, "", err
		}
		return o, o.Routine.Name, nil
	})
}

// parse takes a file apart, and reads each of what is in it, of which no two may have the same name.
func parse[T any](name string, text []byte, one func(text string, first int) (T, string, error)) ([]T, error) {
	if len(text) > MaxSize {
		return nil, &yamltext.Faults{List: []string{fmt.Sprintf("%s: is larger than %d KiB", name, MaxSize>>10)}}
	}
	var out []T
	var faults []string
	names := map[string]bool{}
	for _, part := range parts(string(text)) {
		o, called, err := one(part.text, part.first)
		if err != nil {
			faults = append(faults, strings.Split(err.Error(), "\n")...)
			continue
		}
		if names[called] {
			faults = append(faults, fmt.Sprintf("%s:%d: there are two of the name %s: call one of them otherwise", name, part.first+1, called))
		}
		names[called] = true
		out = append(out, o)
	}
	switch {
	case len(faults) > 0:
		return nil, &yamltext.Faults{List: faults}
	case len(out) > mostOrders:
		return nil, &yamltext.Faults{List: []string{fmt.Sprintf("%s: has %d orders, and %d are the most", name, len(out), mostOrders)}}
	}
	return out, nil
}

type part struct {
	text  string
	first int // lines before it
}

// parts takes a file apart; what has nothing in it but comments is left out, unless that is all.
func parts(text string) (out []part) {
	at := 0
	take := func(end int) {
		p := part{text[at:end], strings.Count(text[:at], "\n")}
		if hasText(p.text) {
			out = append(out, p)
		}
	}
	for _, cut := range parted.FindAllStringIndex(text, -1) {
		take(cut[0])
		at = cut[1]
	}
	take(len(text))
	if len(out) == 0 {
		out = []part{{"", 0}}
	}
	return out
}

func hasText(s string) bool {
	for l := range strings.Lines(s) {
		if l = strings.TrimSpace(l); l != "" && l[0] != '#' {
			return true
		}
	}
	return false
}

// parser reads one routine.
type parser struct {
	*yamltext.Text
	around    Around
	f         file
	r         routine.Routine
	zone      *time.Location
	about     map[estate.Key]bool
	stepsRead int
}

func one(name, text string, first int, around Around) (o Order, err error) {
	p := &parser{around: around, about: map[estate.Key]bool{}}
	if p.Text, err = yamltext.Read(name, []byte(text), first, form, &p.f); err != nil {
		return o, err
	}
	p.Begins(p.f.Format)
	p.read()
	if err := p.Err(); err != nil {
		return o, err
	}
	return Order{Routine: &p.r, Text: kept(text), About: p.names()}, nil
}

// kept is a text as it is kept.
func kept(text string) string { return strings.TrimRight(text, "\n") + "\n" }

// names are the devices that were named outright.
func (p *parser) names() []estate.Key { return slices.Sorted(maps.Keys(p.about)) }

// begin reads what every order begins with.
func (p *parser) begin(name, title, site string) {
	if !estate.ValidKey(name) {
		p.Fault([]string{"name"}, "it needs a name of lower-case letters, digits and hyphens: %q is none", name)
	}
	p.line([]string{"title"}, title)
	p.zone = p.around.Zone(estate.Key(site))
	if p.zone == nil {
		p.Fault([]string{"site"}, "there is no site %q in the estate", site)
		p.zone = time.UTC
	}
}

func (p *parser) read() {
	f := &p.f
	p.begin(f.Name, f.Title, f.Site)
	p.r = routine.Routine{Name: f.Name, Title: f.Title, Site: estate.Key(f.Site), Off: f.Off, With: f.With, Call: f.Call}
	p.people([]string{"call"}, f.Call)
	for name, v := range f.With {
		if !estate.ValidKey(name) {
			p.Fault([]string{"with", name}, "%q cannot be the name of an argument: use lower-case letters, digits and hyphens", name)
		}
		p.line([]string{"with", name}, v)
	}
	if len(f.When) > mostWhen {
		p.Fault([]string{"when"}, "%d things that begin it are too many: %d are the most", len(f.When), mostWhen)
	}
	whiles := 0
	for i, t := range f.When {
		at := []string{"when", strconv.Itoa(i)}
		p.r.When = append(p.r.When, p.trigger(at, t))
		if t.While != "" {
			whiles++
		}
	}
	if len(f.Steps) == 0 {
		p.Fault([]string{"steps"}, "it does nothing: give it steps")
	}
	p.r.Steps = p.steps([]string{"steps"}, "", f.Steps, 0)
	p.r.After = p.steps([]string{"after"}, "after ", f.After, 0)
	switch {
	case whiles > 1:
		p.Fault([]string{"when"}, "it goes by one while at most: join conditions with && and ||, or make two routines of it")
	case len(f.After) > 0 && whiles == 0:
		p.Fault([]string{"after"}, "after is what is done when something is over: it wants a while under when")
	}
}

// line checks a text that is to stand in one line.
func (p *parser) line(path []string, text string) {
	if plain.Line(text) != text || len(text) > longestLine {
		p.Fault(path, "%s: write it in one line of up to %d bytes", path[len(path)-1], longestLine)
	}
}

func (p *parser) trigger(at []string, t trigger) (out routine.Trigger) {
	given := 0
	for _, is := range []bool{t.At != "", t.While != "", len(t.Incident) > 0, t.Webhook != ""} {
		if is {
			given++
		}
	}
	if given != 1 {
		p.Fault(at, "one of at, while, incident and webhook begins it")
		return out
	}
	if t.Late != "" && t.At == "" || t.For != "" && t.While == "" || len(t.Sites)+len(t.Devices) > 0 && len(t.Incident) == 0 {
		p.Fault(at, "late goes with at, for with while, and sites and devices with incident")
	}
	switch {
	case t.At != "":
		c, err := clock.At(t.At, p.zone)
		if err != nil {
			p.Fault(append(at, "at"), "%s", err)
		}
		out.At, out.Late = c, Punctual
		if t.Late != "" {
			out.Late = p.duration(append(at, "late"), t.Late, time.Minute, longestWait)
		}
	case t.While != "":
		out.While = t.While
		p.condition(append(at, "while"), t.While)
		if t.For != "" {
			out.For = p.duration(append(at, "for"), t.For, time.Second, longestFor)
		}
	case t.Webhook != "":
		if !estate.ValidKey(t.Webhook) {
			p.Fault(append(at, "webhook"), "%q is no name of a secret: plumb secret set NAME --token makes one", t.Webhook)
		}
		out.Secret = t.Webhook
	default:
		for _, k := range t.Incident {
			if !slices.Contains(p.around.Kinds, k) {
				p.Fault(append(at, "incident"), "%q is no kind of incident: %s are", k, strings.Join(p.around.Kinds, ", "))
			}
		}
		out.Kinds, out.Sites, out.Of = t.Incident, t.Sites, t.Devices
		for _, k := range t.Devices {
			p.about[estate.Key(k)] = true
		}
	}
	return out
}

func (p *parser) duration(path []string, text string, least, most time.Duration) time.Duration {
	d, err := time.ParseDuration(text)
	if err != nil || d < least || d > most {
		p.Fault(path, "%s: %q is no time from %s to %s, such as 90s or 5m", path[len(path)-1], text, plain.Span(least), plain.Span(most))
	}
	return d
}

// language is the one that texts are checked in. It takes a while to make, and is the same for all:
// clocks count only where a condition is asked.
var language = sync.OnceValue(func() *condition.Language { return condition.New(nil, time.UTC) })

// condition checks an expression.
func (p *parser) condition(path []string, text string) {
	c, err := language().Compile(text)
	if err != nil {
		p.Fault(path, "%s: %s", path[len(path)-1], err)
		return
	}
	for _, k := range c.About() {
		p.about[k] = true
	}
}
