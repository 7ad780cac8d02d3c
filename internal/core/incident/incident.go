// Package incident keeps the book of what is wrong: one incident for one cause,
// with the devices that it explains and what was tried. Incidents open and end by
// themselves; people say that they have seen them, note things, and shelve them.
// There is no clock in here, and nothing is stored.
package incident

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

// Late is the kind of an incident that opened because a device did not return
// from an operation within what is usual for it. The other kinds are the states
// of verdicts.
const Late = "late"

// Missed is the kind of an incident that opened because something was to be done to a
// device at a time at which nobody could. It ends when somebody has seen it.
const Missed = "missed"

// Owed is the kind of an incident that opened because power which we switched off is not
// back when it was to be, whatever stands in the way.
const Owed = "owed"

// Kinds lists those that an incident can be of.
var Kinds = []string{
	string(verdict.Hung), string(verdict.Silent), string(verdict.Dark), string(verdict.Strained), string(verdict.CutOff), Late, Missed, Owed,
}

// An Incident is one trouble with one cause.
type Incident struct {
	ID     string     `json:"id"`
	Device estate.Key `json:"device"` // the cause
	Site   estate.Key `json:"site"`
	Kind   string     `json:"kind"` // the newest: hung, silent, dark, strained, …, or late
	Text   string     `json:"text"` // why we say so, when it was last told

	Opened time.Time `json:"opened"`
	Ended  time.Time `json:"ended"`           // zero: it has not
	Ending string    `json:"ending"`          // how
	Again  int       `json:"again,omitempty"` // how often it came back soon after it had ended

	Explains []estate.Key `json:"explains"` // all that it has cut off at any time
	Tried    []string     `json:"tried"`    // the operations on the device meanwhile

	Seen    *Remark   `json:"seen,omitempty"` // who has said that they have seen it
	Shelved *Shelf    `json:"shelved,omitempty"`
	Notes   []Remark  `json:"notes"`
	Changed time.Time `json:"changed"`
}

// Version is that of the document in which an incident is kept. Documents of every
// version that was ever written can be read; the first ones carry none.
const Version = 1

// MarshalJSON writes an incident with the version of its form.
func (i *Incident) MarshalJSON() ([]byte, error) {
	type plain Incident
	return json.Marshal(struct {
		V int `json:"v"`
		*plain
	}{Version, (*plain)(i)})
}

// A Remark is what somebody said of an incident.
type Remark struct {
	By   string    `json:"by"`
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// A Shelf is for how long nobody wants to hear of an incident.
type Shelf struct {
	Remark
	Until time.Time `json:"until"`
}

// Open says whether it has not ended.
func (i *Incident) Open() bool { return i.Ended.IsZero() }

// ShelvedAt says whether nobody wants to hear of it at that time.
func (i *Incident) ShelvedAt(now time.Time) bool {
	return i.Shelved != nil && now.Before(i.Shelved.Until)
}

// Lasted is how long it has been open.
func (i *Incident) Lasted(now time.Time) time.Duration {
	if i.Open() {
		return now.Sub(i.Opened)
	}
	return i.Ended.Sub(i.Opened)
}

// Clone copies an incident.
func (i *Incident) Clone() *Incident {
	c := *i
	c.Explains, c.Tried, c.Notes = slices.Clone(i.Explains), slices.Clone(i.Tried), slices.Clone(i.Notes)
	return &c
}

// A Cause is something that is wrong now.
type Cause struct {
	Device   estate.Key
	Kind     string
	Text     string
	Explains []estate.Key
}

// World is what the book is brought up to date with.
type World struct {
	Estate   *estate.Estate
	Verdicts map[estate.Key]verdict.Verdict
	Late     map[estate.Key]string // devices that have not returned in time, in words
	Missed   map[estate.Key]string // what has just been missed, in words
	Owed     map[estate.Key]string // devices to which power is owed for too long, in words
	Now      time.Time
}

// SoonAgain is how long after its end an incident is taken up again, instead of
// another one being opened: what comes and goes is one trouble.
const SoonAgain = 5 * time.Minute

// Book is what is open, and what has ended lately. Its zero value is empty.
type Book struct {
	open  map[estate.Key]*Incident
	ended map[estate.Key]*Incident // within SoonAgain
}

// Take puts an incident into the book that is on record already.
func (b *Book) Take(i *Incident) {
	b.init()
	if i.Open() {
		b.open[i.Device] = i
	} else {
		b.ended[i.Device] = i
	}
}

func (b *Book) init() {
	if b.open == nil {
		b.open, b.ended = map[estate.Key]*Incident{}, map[estate.Key]*Incident{}
	}
}

// Open lists what has not ended, the oldest first.
func (b *Book) Open() []*Incident {
	out := make([]*Incident, 0, len(b.open))
	for _, i := range b.open {
		out = append(out, i)
	}
	slices.SortFunc(out, func(x, y *Incident) int {
		return cmp.Or(x.Opened.Compare(y.Opened), cmp.Compare(x.Device, y.Device))
	})
	return out
}

// Of returns what is open of a device, or nil.
func (b *Book) Of(k estate.Key) *Incident { return b.open[k] }

// Find returns what is open, or has ended lately, by its id.
func (b *Book) Find(id string) *Incident {
	for _, m := range []map[estate.Key]*Incident{b.open, b.ended} {
		for _, i := range m {
			if i.ID == id {
				return i
			}
		}
	}
	return nil
}

// Tried notes an operation on a device with an open incident, and returns that
// when it is news.
func (b *Book) Tried(k estate.Key, op string, now time.Time) *Incident {
	i := b.open[k]
	if i == nil || slices.Contains(i.Tried, op) {
		return nil
	}
	i.Tried, i.Changed = append(i.Tried, op), now
	return i
}

// A Change is what has become of an incident, for the journal; Text is empty
// when that is not worth an entry.
type Change struct {
	*Incident
	Text string
}

// Look brings the book up to date, and returns what has changed. newID makes up
// the id of an incident.
func (b *Book) Look(w World, newID func() string) []Change {
	b.init()
	var out []Change
	wrong := map[estate.Key]bool{}
	troubles := verdict.Troubles(w.Estate, w.Verdicts)
	for _, c := range causes(w, troubles) {
		wrong[c.Device] = true
		if ch, changed := b.worse(w, c, newID); changed {
			out = append(out, ch)
		}
	}
	for _, t := range troubles { // what it cuts off while it wakes is its doing, too
		if i := b.open[t.Device]; i != nil && !wrong[t.Device] && i.explain(t.Explains) {
			i.Changed = w.Now
			out = append(out, Change{i, ""})
		}
	}
	for _, i := range b.Open() {
		if ending := i.over(w); !wrong[i.Device] && ending != "" {
			i.Ended, i.Ending, i.Changed = w.Now, ending, w.Now
			delete(b.open, i.Device)
			b.ended[i.Device] = i
			out = append(out, Change{i, fmt.Sprintf("Ended after %s: %s", verdict.Age(i.Lasted(w.Now)), ending)})
		}
	}
	for k, i := range b.ended {
		if w.Now.Sub(i.Ended) > SoonAgain {
			delete(b.ended, k)
		}
	}
	return out
}

// causes lists what is wrong now, by cause.
func causes(w World, troubles []verdict.Trouble) []Cause {
	var out []Cause
	for _, t := range troubles {
		v := w.Verdicts[t.Device]
		if v.State == verdict.Waking || v.State == verdict.Parked {
			continue // that is somebody's doing, and so is what it cuts off
		}
		out = append(out, Cause{t.Device, string(v.State), why(v), t.Explains})
	}
	for _, k := range slices.Sorted(maps.Keys(w.Late)) {
		if w.Verdicts[k].State == verdict.Waking { // otherwise the verdict says more
			c := Cause{Device: k, Kind: Late, Text: w.Late[k]}
			if n := slices.IndexFunc(troubles, func(t verdict.Trouble) bool { return t.Device == k }); n >= 0 {
				c.Explains = troubles[n].Explains
			}
			out = append(out, c)
		}
	}
	for _, said := range []struct {
		kind string
		of   map[estate.Key]string
	}{{Owed, w.Owed}, {Missed, w.Missed}} {
		for _, k := range slices.Sorted(maps.Keys(said.of)) {
			if !slices.ContainsFunc(out, func(c Cause) bool { return c.Device == k }) { // otherwise that says more
				out = append(out, Cause{Device: k, Kind: said.kind, Text: said.of[k]})
			}
		}
	}
	return out
}

// why is the evidence for a verdict, the most telling first.
func why(v verdict.Verdict) string {
	text := ""
	for _, r := range v.Reasons {
		if r.Stance != verdict.For {
			continue
		}
		if text != "" {
			return text + "; " + r.Text.String()
		}
		text = r.Text.String()
	}
	return text
}

// worse opens an incident, takes one up again, or adds to it what is new.
func (b *Book) worse(w World, c Cause, newID func() string) (Change, bool) {
	i, text := b.open[c.Device], ""
	if i == nil {
		d := w.Estate.Device(c.Device)
		if d == nil {
			return Change{}, false
		}
		if i = b.ended[c.Device]; i != nil {
			i.Ended, i.Ending, i.Again = time.Time{}, "", i.Again+1
			delete(b.ended, c.Device)
			text = "Back again: "
		} else {
			i = &Incident{ID: newID(), Device: c.Device, Site: d.Site, Opened: w.Now}
			text = "Opened: "
		}
		b.open[c.Device] = i
		text += says(c)
	}
	news := i.explain(c.Explains) || text != "" || i.Kind != c.Kind
	if text == "" && i.Kind != c.Kind {
		text = "Now " + says(c)
	}
	if news {
		i.Kind, i.Text, i.Changed = c.Kind, c.Text, w.Now
	}
	return Change{i, text}, news
}

// explain adds what an incident has cut off, and says whether any of it is new.
func (i *Incident) explain(cut []estate.Key) (news bool) {
	for _, k := range cut {
		if !slices.Contains(i.Explains, k) {
			i.Explains, news = append(i.Explains, k), true
		}
	}
	slices.Sort(i.Explains)
	return news
}

// says what is wrong, in a few words.
func says(c Cause) string {
	switch {
	case c.Kind == Late, c.Kind == Missed, c.Kind == Owed:
		return c.Text
	case len(c.Explains) > 0:
		return fmt.Sprintf("%s is %s, and %d behind it are cut off", c.Device, c.Kind, len(c.Explains))
	}
	return fmt.Sprintf("%s is %s: %s", c.Device, c.Kind, c.Text)
}

// over says how an incident has ended whose cause is not wrong; empty while that
// cannot be told, as of a device that is only just waking, or that nobody reaches.
func (i *Incident) over(w World) string {
	if w.Estate.Device(i.Device) == nil {
		return "it is not in the estate any more"
	}
	if i.Kind == Missed {
		if i.Seen != nil {
			return i.Seen.By + " has seen it"
		}
		return ""
	}
	switch v := w.Verdicts[i.Device]; v.State {
	case verdict.Steady:
		return "it is steady again"
	case verdict.Strained:
		return "it is strained, and no worse"
	case verdict.Parked:
		return "it is parked"
	}
	return ""
}
