package telling

import (
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/incident"
)

// What a note is about.
type What string

// The notes of an incident to one person: that it has opened, that it is more or something else
// by now, and that it is over. A report, and what an order tells, are about no incident.
const (
	Opened What = "opened"
	More   What = "more"
	Over   What = "over"
	Daily  What = "report"
	Order  What = "order"
	// Service writes to the maker or the dealer, once for an incident.
	Service What = "service"
)

// A State is what has become of a note.
type State string

// The states.
const (
	Queued  State = "queued"
	Sending State = "sending" // it may have gone out
	Sent    State = "sent"
	Failed  State = "failed"  // by every way, and for so long that it is not tried any more
	Dropped State = "dropped" // before it was sent: it was not worth it any more
)

// A Note is one thing that one person is told of one incident.
type Note struct {
	ID       string // names what it says, to whom, and the how manieth time: the same after a crash
	Incident string
	Person   string
	What     What
	Rule     string
	Step     int // of the rule, from 1
	State    State
	Due      time.Time
	Held     string // why it was not due at once; empty: it was

	At time.Time // when it was sent
	// What it told: the kind of the incident, and how many devices it explained. Of one that is to
	// be sent, what the one before has told.
	Kind string
	Size int
}

// told says whether somebody may have read it.
func (n Note) told() bool { return n.State == Sending || n.State == Sent }

// How long it is waited for what belongs together, how long somebody is not told again that an
// incident grows, and how long it has to be over before that is said: what comes back within that
// is the same incident.
const (
	Gather  = 20 * time.Second
	Between = 10 * time.Minute
	Settles = incident.SoonAgain
)

// A Turn is when somebody is to be told, and by which rule.
type Turn struct {
	Rule   string
	Step   int
	Person string
	At     time.Time // by the rule
	Due    time.Time // what is quiet, or held, left out
	Held   string    // why that is later
	What   What      // Opened, or Service
}

// Turns lists who is told that an incident is open, if nobody sees to it, the earliest first: each
// person once.
func (p *Plan) Turns(s Subject) (out []Turn) {
	for _, r := range p.Rules {
		if !r.Match.fits(s) {
			continue
		}
		for n, step := range r.Steps {
			at := s.Opened.Add(step.After)
			if step.Service && len(s.Broken) == 0 || s.Seen != nil && !at.Before(s.Seen.At) {
				continue
			}
			for _, who := range p.persons(step.Who, at) {
				due, held := p.due(who, s, later(at, s.Opened.Add(Gather)))
				out = append(out, Turn{r.Name, n + 1, who, at, due, held, step.what()})
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Turn) int { return a.At.Compare(b.At) })
	seen := map[once]bool{}
	return slices.DeleteFunc(out, func(t Turn) bool {
		was := seen[t.once()]
		seen[t.once()] = true
		return was
	})
}

// once is what somebody is noted for once while an incident is open: being told, or a service call.
type once struct {
	who     string
	service bool
}

func (t Turn) once() once { return once{t.Person, t.What == Service} }
func (n Note) once() once { return once{n.Person, n.What == Service} }

// Ahead lists the turns of which nothing has been noted.
func (p *Plan) Ahead(s Subject, have []Note) []Turn {
	noted := map[once]bool{}
	for _, n := range have {
		noted[n.once()] = noted[n.once()] || n.State != Dropped
	}
	return slices.DeleteFunc(p.Turns(s), func(t Turn) bool { return noted[t.once()] })
}

// due is when somebody may hear of it, from a time on.
func (p *Plan) due(who string, s Subject, at time.Time) (due time.Time, held string) {
	if s.HeldUntil.After(at) {
		at, held = s.HeldUntil, s.HeldWhy
	}
	if until := p.People[who].quietUntil(at, SeverityOf(s.Kind)); until.After(at) {
		at, held = until, "quiet hours"
	}
	return at, held
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// A Change is what becomes of the notes of an incident.
type Change struct {
	Add  []Note
	Drop []string // by id: they are not sent
}

// Next says what is to be told of an incident by now beside what was noted before. It says the same
// again for the same notes, so that it may be asked as often as one likes.
func (p *Plan) Next(s Subject, have []Note, now time.Time) Change {
	b := &notes{plan: p, subject: s, have: slices.Clone(have), now: now}
	if s.Open() {
		b.opened()
		b.grown()
	} else {
		b.over()
	}
	return b.Change
}

// notes works out what becomes of those of one incident.
type notes struct {
	plan    *Plan
	subject Subject
	have    []Note
	now     time.Time
	Change
}

func (b *notes) add(n Note) {
	count := 0
	for _, x := range b.have {
		if x.Person == n.Person && x.What == n.What {
			count++
		}
	}
	n.ID = fmt.Sprintf("%s.%s.%s.%d", b.subject.ID, n.Person, n.What, count+1)
	n.Incident, n.State = b.subject.ID, Queued
	b.Add = append(b.Add, n)
}

// drop drops those that wait and fit.
func (b *notes) drop(fits func(Note) bool) {
	for i := range b.have {
		if n := &b.have[i]; n.State == Queued && fits(*n) {
			n.State = Dropped
			b.Drop = append(b.Drop, n.ID)
		}
	}
}

// last is the newest note to somebody that was not dropped, and one that may have been read; a service
// call is none.
func (b *notes) last(who string) (any, told *Note) {
	for i := range b.have {
		n := &b.have[i]
		if n.Person != who || n.State == Dropped || n.What == Service {
			continue
		}
		any = n
		if n.told() {
			told = n
		}
	}
	return any, told
}

// opened notes whose turn it is, and takes back that it is over.
func (b *notes) opened() {
	b.drop(func(n Note) bool { return n.What == Over })
	for _, t := range b.plan.Turns(b.subject) {
		if t.At.After(b.now) {
			continue
		}
		if t.What == Service {
			b.service(t)
			continue
		}
		if any, _ := b.last(t.Person); any == nil || any.What == Over && any.told() {
			b.add(Note{Person: t.Person, What: Opened, Rule: t.Rule, Step: t.Step, Due: later(t.Due, b.now), Held: t.Held})
		}
	}
}

// service notes that somebody is sent a service call, unless they were.
func (b *notes) service(t Turn) {
	if !slices.ContainsFunc(b.have, func(n Note) bool { return n.once() == t.once() && n.State != Dropped }) {
		b.add(Note{Person: t.Person, What: Service, Rule: t.Rule, Step: t.Step, Due: later(t.Due, b.now), Held: t.Held})
	}
}

// grown notes that it is more than somebody was told.
func (b *notes) grown() {
	for _, who := range b.people() {
		any, told := b.last(who)
		if told == nil || told.What == Over || any.State == Queued {
			continue
		}
		if told.Kind == b.subject.Kind && told.Size >= len(b.subject.Explains) {
			continue
		}
		due, held := b.plan.due(who, b.subject, later(b.now, told.At.Add(Between)))
		b.add(Note{Person: who, What: More, Rule: told.Rule, Step: told.Step, Due: due, Held: held, Kind: told.Kind, Size: told.Size})
	}
}

// over notes that it is, to those who were told, and drops what nobody needs to know any more.
func (b *notes) over() {
	b.drop(func(n Note) bool { return n.What == More || n.What == Service || n.What == Opened && n.Held == "" })
	for _, who := range b.people() {
		any, told := b.last(who)
		if told == nil || told.What == Over || any.What == Over {
			continue
		}
		due, held := b.plan.due(who, b.subject, later(b.now, b.subject.Ended.Add(Settles)))
		b.add(Note{Person: who, What: Over, Rule: told.Rule, Step: told.Step, Due: due, Held: held})
	}
}

// people are those of whom there is a note, in order.
func (b *notes) people() (out []string) {
	for _, n := range b.have {
		out = append(out, n.Person)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Gone says why a note that is due is not sent any more; empty: it is. Between its being noted and
// its being due an incident may have ended, or come back.
func (n Note) Gone(i *incident.Incident) string {
	switch {
	case n.What == Over && i.Open():
		return "it came back"
	case n.What == More && !i.Open():
		return "it is over"
	case n.What == Service && !i.Open(), n.What == Opened && !i.Open() && n.Held == "":
		return "it was over before anybody was told"
	}
	return ""
}

// Wait is until when a note that is due is held all the same, because of what has changed since it
// was noted; zero: it is not.
func (p *Plan) Wait(n Note, s Subject, now time.Time) (until time.Time, why string) {
	if until, why = p.due(n.Person, s, now); until.After(now) {
		return until, why
	}
	return time.Time{}, ""
}
