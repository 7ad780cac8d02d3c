// Package group carries out several operations that were asked for together: in
// the order in which they depend on each other, staggered, each waiting until
// the ones before it are really up.
//
//	group.go      what a group is, and the step machine that carries it out
//	order.go      who has to come before whom, and who is meant
//	timetable.go  when each would begin, and what is drawn meanwhile
//
// No I/O and no clock, as in package operation, whose machines do the switching:
// this one only says when each begins. One operation at a later time is a group
// of one.
package group

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

// State is where a group stands.
type State string

// The states of a group. All but Scheduled and Running are final.
const (
	Scheduled State = "scheduled" // its time has not come
	Running   State = "running"
	Done      State = "done"
	Failed    State = "failed"
	Cancelled State = "cancelled"
	Missed    State = "missed" // nobody could begin it at its time, and it is not done at another
)

// MissedAfter is how late one may begin whose time was stated, unless it says so itself.
const MissedAfter = 5 * time.Minute

// MemberState is where one of its operations stands.
type MemberState string

// The states of a member.
const (
	Pending       MemberState = "pending"
	Beginning     MemberState = "beginning" // it may have been asked for
	MemberRunning MemberState = "running"
	Settling      MemberState = "settling" // it has power, and is given its time
	MemberDone    MemberState = "done"     // others may follow
	MemberFailed  MemberState = "failed"
	Refused       MemberState = "interlocked" // an interlock stood in the way when its turn came
	Skipped       MemberState = "skipped"
)

// Ready says when a member counts as up, so that those after it may begin.
type Ready string

// The conditions. What has no probes cannot answer, and is up when it has power.
const (
	Answers Ready = "answers" // its operation has ended: it answers
	Powered Ready = "power"   // its power has been read back
	AfterA  Ready = "time"    // that, and a stated time
)

// A Member is one operation of a group.
type Member struct {
	Device    estate.Key    `json:"device"`
	After     []estate.Key  `json:"after"`     // members that come first
	Expect    time.Duration `json:"expect"`    // how long it usually takes
	W         float64       `json:"w"`         // what it draws once it runs
	Surge     float64       `json:"surge"`     // what it takes for a moment, in W
	Operation string        `json:"operation"` // its id, which it has from the beginning
	State     MemberState   `json:"state"`
	Began     time.Time     `json:"began"`
	PowerAt   time.Time     `json:"powerAt"`
	Ended     time.Time     `json:"ended"`
	Over      bool          `json:"over"` // its operation has ended
	Note      string        `json:"note,omitempty"`
}

func (m *Member) final() bool {
	return m.State == MemberDone || m.State == MemberFailed || m.State == Refused || m.State == Skipped
}

// Order is how a group is carried out.
type Order struct {
	AtOnce int           `json:"atOnce"` // how many may be under way
	Gap    time.Duration `json:"gap"`    // from the beginning of one to that of the next
	GoOn   bool          `json:"goOn"`   // with those that do not depend on one that failed
	Until  Ready         `json:"until"`
	Wait   time.Duration `json:"wait"` // of AfterA
}

// DefaultGap keeps two inrushes apart, and MaxAtOnce bounds what is watched.
const (
	DefaultGap    = 3 * time.Second
	DefaultAtOnce = 4
	MaxAtOnce     = 32
)

// A Group is several operations, and all that is needed to take them up again.
type Group struct {
	ID       string            `json:"id"`
	Title    string            `json:"title"`
	Intent   operation.Intent  `json:"intent"` // without a device
	By       operation.Asker   `json:"by"`
	Consent  operation.Consent `json:"consent"`
	Asked    time.Time         `json:"asked"`
	At       time.Time         `json:"at"`             // when it begins; zero for at once
	Late     time.Duration     `json:"late,omitempty"` // how late it may begin
	Order    Order             `json:"order"`
	Members  []Member          `json:"members"`
	State    State             `json:"state"`
	LastSent time.Time         `json:"lastSent"` // when the newest member began
	Ended    time.Time         `json:"ended"`
	CancelBy string            `json:"cancelBy,omitempty"`
	Broken   time.Duration     `json:"broken,omitempty"` // for how long nobody could go on with it, when that was too long
}

// Version is that of the document in which a group is kept. Documents of every
// version that was ever written can be read; the first ones carry none.
const Version = 1

// MarshalJSON writes a group with the version of its form.
func (g *Group) MarshalJSON() ([]byte, error) {
	type plain Group
	return json.Marshal(struct {
		V int `json:"v"`
		*plain
	}{Version, (*plain)(g)})
}

// An Event is something that happened to a group.
type Event interface{ at() time.Time }

type (
	// Started: it begins, or is taken up again, after nobody could for a time.
	Started struct {
		At   time.Time
		Down time.Duration
	}
	// Begun: an operation was asked for, or could not be.
	Begun struct {
		At      time.Time
		Device  estate.Key
		Refused bool
		Why     string // why not; empty when it is under way
	}
	// Progress: how the operation of a member is.
	Progress struct {
		At      time.Time
		Device  estate.Key
		Powered bool
		State   operation.State
		Outcome string
	}
	// Expired: some time that was waited for may have come.
	Expired struct{ At time.Time }
	// CancelAsked: a person wants it to stop.
	CancelAsked struct {
		At     time.Time
		By     string
		Gently bool // what has begun goes on to its end
	}
)

func (e Started) at() time.Time     { return e.At }
func (e Begun) at() time.Time       { return e.At }
func (e Progress) at() time.Time    { return e.At }
func (e Expired) at() time.Time     { return e.At }
func (e CancelAsked) at() time.Time { return e.At }

// A Command is something that the runtime must do now, in order; the list is
// stopped at a Save that fails.
type Command interface{ command() }

type (
	// Save records the group durably before anything that follows.
	Save struct{}
	// Begin asks for the operation of a member, unless it has been asked for.
	Begin struct{ Device estate.Key }
	// Stop cancels the operation of a member.
	Stop struct{ Device estate.Key }
	// Wake asks for Expired at a time.
	Wake struct{ At time.Time }
	// Finish says that the group has ended.
	Finish struct{}
)

func (Save) command()   {}
func (Begin) command()  {}
func (Stop) command()   {}
func (Wake) command()   {}
func (Finish) command() {}

// Final says whether a group has ended.
func (g *Group) Final() bool { return g.State != Scheduled && g.State != Running }

// Step applies one event and returns what the runtime must now do, in order.
func (g *Group) Step(in Event) []Command {
	if g.Final() {
		return nil
	}
	at := in.at()
	changed := false
	var out []Command
	switch in := in.(type) {
	case Started:
		if g.State == Running && in.Down > g.late() && g.pending() {
			g.Broken, changed = in.Down, true
		}
		for i := range g.Members { // asked for when we died, perhaps: ask again, under the same id
			if m := &g.Members[i]; m.State == Beginning {
				out = append(out, Begin{m.Device})
			}
		}
	case Begun:
		changed = g.begun(in)
	case Progress:
		changed = g.progress(in)
	case CancelAsked:
		changed = true
		out = append(out, g.cancel(in)...)
	}
	if g.State == Scheduled {
		if at.Before(g.At) {
			return g.saved(changed, append(out, Wake{g.At}))
		}
		if at.After(g.At.Add(g.late())) {
			g.miss(at)
			return []Command{Save{}, Finish{}}
		}
		g.State, changed = Running, true
	}
	settled := g.settle(at)
	begins := g.next(at)
	changed = changed || settled || len(begins) > 0
	if g.over() {
		g.end(at)
		return []Command{Save{}, Finish{}}
	}
	return g.saved(changed, append(append(out, begins...), g.wake(at)...))
}

// saved puts the record ahead of what follows from it.
func (g *Group) saved(changed bool, out []Command) []Command {
	if changed {
		return append([]Command{Save{}}, out...)
	}
	return out
}

func (g *Group) member(k estate.Key) *Member {
	i := slices.IndexFunc(g.Members, func(m Member) bool { return m.Device == k })
	if i < 0 {
		return nil
	}
	return &g.Members[i]
}

func (g *Group) begun(in Begun) bool {
	m := g.member(in.Device)
	if m == nil || m.State != Beginning {
		return false
	}
	switch {
	case in.Why == "":
		m.State = MemberRunning
	case in.Refused:
		m.State, m.Note, m.Ended, m.Over = Refused, in.Why, in.At, true
	default:
		m.State, m.Note, m.Ended, m.Over = MemberFailed, in.Why, in.At, true
	}
	return true
}

func (g *Group) progress(in Progress) bool {
	m := g.member(in.Device)
	if m == nil || m.Over || m.State != MemberRunning && m.State != Settling && m.State != MemberDone {
		return false
	}
	was := *m
	if in.Powered && m.PowerAt.IsZero() {
		m.PowerAt = in.At
	}
	ended := in.State != operation.Running
	m.Over = ended
	switch {
	case ended && in.State == operation.Done:
		if m.PowerAt.IsZero() {
			m.PowerAt = in.At
		}
		m.Note = in.Outcome
		if m.State == MemberRunning {
			m.State = Settling
		}
	case ended: // failed, or cancelled by somebody
		m.State, m.Note, m.Ended = MemberFailed, in.Outcome, in.At
	case m.State == MemberRunning && !m.PowerAt.IsZero():
		m.State = Settling
	}
	return m.State != was.State || m.Over != was.Over || m.PowerAt != was.PowerAt
}

// settle decides which members count as up, and which can never begin.
func (g *Group) settle(at time.Time) (changed bool) {
	for i := range g.Members {
		m := &g.Members[i]
		if m.State != Settling {
			continue
		}
		up := m.Over
		switch g.Order.Until {
		case Powered:
			up = true
		case AfterA:
			up = !at.Before(m.PowerAt.Add(g.Order.Wait))
		}
		if up {
			m.State, m.Ended, changed = MemberDone, at, true
		}
	}
	stop := g.CancelBy != "" || g.Broken > 0 || !g.Order.GoOn && g.failed()
	for again := true; again; {
		again = false
		for i := range g.Members {
			m := &g.Members[i]
			if m.State == Pending && (stop || g.barred(m)) {
				m.State, m.Ended, m.Over, again, changed = Skipped, at, true, true, true
				switch m.Note = "not done, because one before it failed"; {
				case g.CancelBy != "":
					m.Note = "cancelled by " + g.CancelBy
				case g.Broken > 0:
					m.Note = fmt.Sprintf("not done, because nothing here could act for %s", g.Broken.Round(time.Second))
				}
			}
		}
	}
	return changed
}

// late is how much later than meant something may begin.
func (g *Group) late() time.Duration { return cmp.Or(g.Late, MissedAfter) }

func (g *Group) pending() bool {
	return slices.ContainsFunc(g.Members, func(m Member) bool { return m.State == Pending })
}

func (g *Group) failed() bool {
	return slices.ContainsFunc(g.Members, func(m Member) bool { return m.State == MemberFailed || m.State == Refused })
}

// barred: something that it depends on has failed.
func (g *Group) barred(m *Member) bool {
	return slices.ContainsFunc(m.After, func(k estate.Key) bool {
		s := g.member(k).State
		return s == MemberFailed || s == Refused || s == Skipped
	})
}

// next begins the members whose turn has come.
func (g *Group) next(at time.Time) (out []Command) {
	for i := range g.Members {
		m := &g.Members[i]
		if m.State != Pending || g.underWay() >= g.Order.AtOnce || at.Before(g.LastSent.Add(g.Order.Gap)) {
			continue
		}
		if slices.ContainsFunc(m.After, func(k estate.Key) bool { return g.member(k).State != MemberDone }) {
			continue
		}
		m.State, m.Began, g.LastSent = Beginning, at, at
		out = append(out, Begin{m.Device})
	}
	return out
}

// underWay counts the members that are neither up nor still to come.
func (g *Group) underWay() (n int) {
	for i := range g.Members {
		if s := g.Members[i].State; s == Beginning || s == MemberRunning || s == Settling {
			n++
		}
	}
	return n
}

// wake is when something has to be looked at again by the clock alone.
func (g *Group) wake(at time.Time) []Command {
	var next time.Time
	earlier := func(t time.Time) {
		if t.After(at) && (next.IsZero() || t.Before(next)) {
			next = t
		}
	}
	for i := range g.Members {
		switch m := &g.Members[i]; {
		case m.State == Pending:
			earlier(g.LastSent.Add(g.Order.Gap))
		case m.State == Settling && g.Order.Until == AfterA:
			earlier(m.PowerAt.Add(g.Order.Wait))
		}
	}
	if next.IsZero() {
		return nil
	}
	return []Command{Wake{next}}
}

func (g *Group) over() bool {
	return !slices.ContainsFunc(g.Members, func(m Member) bool { return !m.final() || !m.Over })
}

// end settles how it all ended.
func (g *Group) end(at time.Time) {
	g.State, g.Ended = Done, at
	switch {
	case g.CancelBy != "":
		g.State = Cancelled
	case g.failed():
		g.State = Failed
	case g.Broken > 0:
		g.State = Missed
	}
}

// miss lets go of one whose time is over: what was meant for the night is not done in
// office hours.
func (g *Group) miss(at time.Time) {
	g.State, g.Ended = Missed, at
	for i := range g.Members {
		g.Members[i].State, g.Members[i].Ended, g.Members[i].Over = Skipped, at, true
		g.Members[i].Note = "not done, because its time was missed"
	}
}

// cancel begins nothing more. What is under way stops at its own safe point.
func (g *Group) cancel(in CancelAsked) (out []Command) {
	if g.CancelBy == "" {
		g.CancelBy = in.By
	}
	if g.State == Scheduled {
		g.State = Running
	}
	for i := range g.Members {
		switch m := &g.Members[i]; {
		case m.State == Pending:
			m.State, m.Ended, m.Over, m.Note = Skipped, in.At, true, "cancelled by "+in.By
		case !in.Gently && !m.Over && (m.State == MemberRunning || m.State == Settling):
			out = append(out, Stop{m.Device})
		}
	}
	return out
}

// Clone copies a group, so that a reader is not disturbed by the machine.
func (g *Group) Clone() *Group {
	c := *g
	c.Members = slices.Clone(g.Members)
	return &c
}
