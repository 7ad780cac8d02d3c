package tell

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/calendar"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/telling"
	"plumbbob/internal/health"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"plumbbob/internal/tellfile"
	"plumbbob/internal/wire/sms"
)

// About is what is known of an incident beside itself.
type About struct {
	Role string
	Tags []string
	Site string // as it is called
	Zone *time.Location
	Line string // what its device hangs from, in one line
	Link string // leads to it

	Broken []string // hardware of its device that is out of bounds
}

// Parts are what the outbox works with.
type Parts struct {
	Store  *store.Store
	Bus    *bus.Bus
	Health *health.Book
	Log    *slog.Logger
	Secret func(name string) (secret.Value, error)
	About  func(i *incident.Incident) About
	Open   func() []*incident.Incident
	Find   func(ctx context.Context, id string) (*incident.Incident, error)
	// Patient is what a maker or a dealer is written of a device; false: it is not in the estate.
	Patient func(k estate.Key) (telling.Patient, bool)
	Acts    func() bool // this service, of several, is the one that tells

	// Text sends a text message by the modem at a port, and TakeTexts takes those that have come.
	Text      func(ctx context.Context, port, number, text string) (says string, err error)
	TakeTexts func(ctx context.Context, port string, take func(sms.Message) error) error
	// Ack says that somebody sees to an incident.
	Ack func(ctx context.Context, incident, who, how string) error
}

// Outbox notes what people are to be told, and sends it: what was noted is sent, whatever becomes
// of this process. It may be shared between goroutines.
type Outbox struct {
	Parts

	mu       sync.Mutex
	plan     *telling.Plan
	version  store.TellingVersion
	stamp    string // of what the plan was read from
	channels map[string]Settings
	windows  []operation.Window
	silent   map[string]string // people of whom nothing was told lately, and why
	beaten   time.Time         // when the last heartbeat went out; owned by beats

	wake chan struct{}
}

// NewOutbox returns an outbox that knows nobody yet.
func NewOutbox(p Parts) *Outbox {
	return &Outbox{Parts: p, plan: &telling.Plan{}, channels: map[string]Settings{}, silent: map[string]string{}, wake: make(chan struct{}, 1)}
}

const (
	tellEvery  = time.Second
	readEvery  = 5 * time.Second
	claimMost  = 200
	lostAfter  = 2 * time.Minute // what was being sent for so long is sent again
	atOnce     = 8
	giveUpIn   = 24 * time.Hour
	firstRetry = 20 * time.Second
	mostRetry  = 15 * time.Minute
	mostItems  = 50 // in one message
)

// Run tells until ctx ends, and returns the cause.
func (o *Outbox) Run(ctx context.Context) error {
	var beating sync.WaitGroup
	defer beating.Wait()
	beating.Go(func() { o.beats(ctx) })
	beating.Go(func() { o.listens(ctx) })
	tick := time.NewTicker(tellEvery)
	defer tick.Stop()
	var read time.Time
	var noted error // what stood in the way of noting, last; it lasts until it is tried again
	for {
		acts := o.Acts()
		if now := time.Now(); now.Sub(read) >= readEvery {
			read, noted = now, o.Refresh(ctx)
			if acts {
				noted = errors.Join(noted, o.due(ctx, now.UTC()), o.reports(ctx, now))
			}
		}
		var sent error
		if acts {
			sent = o.send(ctx, time.Now().UTC())
		}
		o.trouble(ctx, errors.Join(noted, sent))
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		case <-o.wake:
		}
	}
}

func (o *Outbox) trouble(ctx context.Context, err error) {
	switch {
	case err == nil:
		o.Health.Well("outbox")
	case ctx.Err() == nil && !errors.Is(err, store.ErrAway):
		o.Health.Ails("outbox", "what people are to be told waits: "+err.Error())
	}
}

// Refresh reads who is told of what, by what, and what is being worked on.
func (o *Outbox) Refresh(ctx context.Context) error {
	rows, err := o.Store.Channels(ctx)
	if err != nil {
		return err
	}
	channels := map[string]Settings{}
	for _, r := range rows {
		var s Settings
		if err := json.Unmarshal([]byte(r.Doc), &s); err != nil {
			o.Health.Ails("channel "+r.Name, fmt.Sprintf("the channel %s cannot be read: set it again with plumb channel set: %s", r.Name, err))
			continue
		}
		o.Health.Well("channel " + r.Name)
		channels[r.Name] = s
	}
	windows, err := o.Store.Windows(ctx, time.Now())
	if err != nil {
		return err
	}
	version, err := o.Store.Telling(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	texts, err := o.Store.Calendars(ctx)
	if err != nil {
		return err
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.channels, o.windows, o.version = channels, windows, version
	if now := stampOf(version, texts); now != o.stamp {
		o.stamp = now
		o.read(version, texts)
	}
	return nil
}

// stampOf changes with whatever a plan is read from.
func stampOf(v store.TellingVersion, calendars []store.CalendarText) string {
	out := fmt.Sprint(v.ID)
	for _, c := range calendars {
		out += fmt.Sprint(" ", c.Name, c.SetAt.UnixMilli())
	}
	return out
}

// read reads a version; one that cannot be read leaves the one before. mu is held.
func (o *Outbox) read(version store.TellingVersion, texts []store.CalendarText) {
	plan, err := &telling.Plan{}, error(nil)
	if version.Text != "" {
		plan, err = tellfile.Parse("telling", []byte(version.Text), among(texts))
	}
	if err != nil { // as when a calendar was taken away
		o.Health.Grave("telling", "who is told of what cannot be read any more, and the version before counts: "+err.Error())
		return
	}
	o.Health.Well("telling")
	o.plan = plan
}

// among finds a calendar by its name.
func among(texts []store.CalendarText) func(string) *calendar.Calendar {
	return func(name string) *calendar.Calendar {
		for _, t := range texts {
			if t.Name == name {
				c, err := calendar.Parse(t.Text, time.UTC)
				if err != nil {
					return nil
				}
				return c
			}
		}
		return nil
	}
}

// Parse reads a version as it would be set.
func (o *Outbox) Parse(ctx context.Context, name string, text []byte) (*telling.Plan, error) {
	texts, err := o.Store.Calendars(ctx)
	if err != nil {
		return nil, err
	}
	return tellfile.Parse(name, text, among(texts))
}

// Plan is who is told of what, and what the text of it is.
func (o *Outbox) Plan() (*telling.Plan, store.TellingVersion) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.plan, o.version
}

// Lacks lists what would keep people from being told by a plan: channels that are not there,
// addresses that do not fit, nobody who is told of anything.
func (o *Outbox) Lacks(p *telling.Plan) (out []string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, who := range slices.Sorted(maps.Keys(p.People)) {
		for _, w := range p.People[who].Ways {
			s, is := o.channels[w.Channel]
			if !is {
				out = append(out, fmt.Sprintf("%s is told by %s, and there is no such channel: plumb channel set %s", who, w.Channel, w.Channel))
				continue
			}
			if err := s.CheckTo(w.To); err != nil {
				out = append(out, fmt.Sprintf("%s is told by %s: %s", who, w.Channel, err))
			}
		}
	}
	for _, who := range p.Dealers(time.Now()) {
		if !slices.ContainsFunc(p.People[who].Ways, func(w telling.Way) bool { s, is := o.channels[w.Channel]; return !is || s.Kind == Mail }) {
			out = append(out, who+" is sent service calls, and cannot be told by mail, which is the only way for files")
		}
	}
	if len(p.Rules) == 0 {
		out = append(out, "nobody is told of anything: there are no rules")
	}
	return out
}

// Has says whether there is a channel of a name that can be read.
func (o *Outbox) Has(channel string) bool {
	o.mu.Lock()
	defer o.mu.Unlock()
	_, is := o.channels[channel]
	return is
}

// Uses is a channel that uses a secret; empty: none does.
func (o *Outbox) Uses(secret string) string {
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(o.channels)) {
		if s := o.channels[name]; s.Secret == secret || s.Answers == secret {
			return name
		}
	}
	return ""
}

// Subject is an incident as rules see it.
func (o *Outbox) Subject(i *incident.Incident, now time.Time) telling.Subject {
	a := o.About(i)
	s := telling.Subject{Incident: i, Role: a.Role, Tags: a.Tags, Broken: a.Broken}
	if i.ShelvedAt(now) {
		s.HeldUntil, s.HeldWhy = i.Shelved.Until, "it was shelved by "+i.Shelved.By
	}
	d := &estate.Device{Key: i.Device, Site: i.Site, Tags: a.Tags}
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, w := range o.windows {
		if w.Covers(d) && !now.Before(w.From) && now.Before(w.Until) && w.Until.After(s.HeldUntil) {
			s.HeldUntil, s.HeldWhy = w.Until, fmt.Sprintf("%s worked on it: %s", w.By, w.Why)
		}
	}
	return s
}

// Next is a store.Teller.
func (o *Outbox) Next(i *incident.Incident, have []telling.Note) telling.Change {
	now := time.Now().UTC()
	plan, _ := o.Plan()
	change := plan.Next(o.Subject(i, now), have, now)
	if len(change.Add) > 0 {
		o.poke()
	}
	return change
}

func (o *Outbox) poke() {
	select {
	case o.wake <- struct{}{}:
	default:
	}
}

// due notes what has become due by time alone.
func (o *Outbox) due(ctx context.Context, now time.Time) error {
	plan, _ := o.Plan()
	if len(plan.Rules) == 0 {
		return nil
	}
	for _, i := range o.Open() {
		rows, err := o.Store.Notes(ctx, store.NoteFilter{Incident: i.ID})
		if err != nil {
			return err
		}
		slices.Reverse(rows) // the oldest first
		if c := plan.Next(o.Subject(i, now), store.Told(rows), now); len(c.Add) == 0 && len(c.Drop) == 0 {
			continue
		}
		if err := o.Store.Retell(ctx, i, o.Next); err != nil {
			return err
		}
	}
	return nil
}
