package routine

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

// State is where a run stands.
type State string

// The states of a run. All but Running and Paused are final.
const (
	Running State = "running"
	Paused  State = "paused"
	Done    State = "done"
	Failed  State = "failed"
	Stopped State = "stopped" // somebody did that
	Missed  State = "missed"  // its time went by, and it is not done at another
	Shown   State = "shown"   // what it would have done; nothing was
)

// A Run is one time that a routine is carried out, and all that is needed to take it up again.
type Run struct {
	V       int               `json:"v"`
	ID      string            `json:"id"`
	Routine string            `json:"routine"`
	Title   string            `json:"title"`
	Why     string            `json:"why"`              // what began it, in words
	Ladder  bool              `json:"ladder,omitempty"` // it is a climb of the ladder of that name
	Device  estate.Key        `json:"device,omitempty"` // that a climb is to help
	By      operation.Asker   `json:"by"`
	With    map[string]string `json:"with,omitempty"`
	Began   time.Time         `json:"began"`
	Ended   time.Time         `json:"ended"`
	State   State             `json:"state"`
	Note    string            `json:"note,omitempty"`    // why it failed
	StopBy  string            `json:"stopBy,omitempty"`  // who stops it
	PauseBy string            `json:"pauseBy,omitempty"` // who has it wait
	PauseAt time.Time         `json:"pauseAt"`
	Ops     []Op              `json:"ops"`
	Threads []Thread          `json:"threads"`
	Born    int               `json:"born"` // threads there were
	Took    int               `json:"took"` // instructions that were carried out
	Log     []Line            `json:"log"`
	Lost    int               `json:"lost,omitempty"` // lines of the log that are no longer kept

	eval func(expr string, with map[string]string) (bool, error)
}

// A Thread is one of those that are carried out at the same time; the first has the number 1.
type Thread struct {
	ID     int         `json:"id"`
	Parent int         `json:"parent,omitempty"`
	At     int         `json:"at"`
	Doing  string      `json:"doing,omitempty"` // the id of what somebody else does for it
	Since  time.Time   `json:"since"`           // since when it is there
	Counts map[int]int `json:"counts,omitempty"`
	Why    string      `json:"why,omitempty"` // what keeps it, in words
}

// A Line is what came of one step.
type Line struct {
	At    time.Time `json:"at"`
	Path  string    `json:"path"`
	Words string    `json:"words"`
	OK    bool      `json:"ok"`
	Note  string    `json:"note,omitempty"`
	Did   string    `json:"did,omitempty"` // the id of the operation
}

// Bounds on what a run may take.
const (
	mostTaken = 100_000
	mostLines = 300
)

// An Event is something that happened to a run.
type Event interface{ at() time.Time }

// The events.
type (
	// Started: it begins, or is taken up Again.
	Started struct {
		At    time.Time
		Again bool
	}
	// Tick: some time has passed.
	Tick struct{ At time.Time }
	// Finished: what somebody else did for a thread has ended.
	Finished struct {
		At   time.Time
		ID   string
		OK   bool
		Note string
		Turn Turn // of what was Asked
	}
	// Held: what somebody else does for a thread waits for something.
	Held struct {
		At  time.Time
		ID  string
		Why string
	}
	// StopAsked: somebody wants it to stop.
	StopAsked struct {
		At time.Time
		By string
	}
	// PauseAsked: somebody wants it to wait, or, with nobody, to go on.
	PauseAsked struct {
		At time.Time
		By string
	}
)

func (e Started) at() time.Time    { return e.At }
func (e Tick) at() time.Time       { return e.At }
func (e Finished) at() time.Time   { return e.At }
func (e Held) at() time.Time       { return e.At }
func (e StopAsked) at() time.Time  { return e.At }
func (e PauseAsked) at() time.Time { return e.At }

// A Command is something that the runtime must do now, in order; it stops at a Save that fails.
type Command interface{ command() }

// The commands.
type (
	// Save: put it on record as it is.
	Save struct{}
	// Begin has somebody else do what an instruction says, under an id. Again says that it may
	// have been begun before a crash.
	Begin struct {
		ID    string
		Op    Op
		Again bool
	}
	// Halt has what is done under an id stopped, at the next safe point.
	Halt struct{ ID string }
	// Finish says that the run has ended.
	Finish struct{}
)

func (Save) command()   {}
func (Begin) command()  {}
func (Halt) command()   {}
func (Finish) command() {}

// New returns a run that has not begun.
func New(id string, r *Routine, ops []Op, with map[string]string, by operation.Asker, why string, now time.Time) *Run {
	return &Run{V: Version, ID: id, Routine: r.Name, Title: r.Title, Why: why, By: by, With: with, Began: now, State: Running, Ops: ops, Log: []Line{}}
}

// Judge says how conditions are asked. Without it none of them is known.
func (r *Run) Judge(eval func(expr string, with map[string]string) (bool, error)) { r.eval = eval }

// Clone copies a run, so that a reader is not disturbed by the machine.
func (r *Run) Clone() *Run {
	c := *r
	c.Threads, c.Log = slices.Clone(r.Threads), slices.Clone(r.Log)
	for i := range c.Threads {
		c.Threads[i].Counts = maps.Clone(c.Threads[i].Counts)
	}
	return &c
}

// Now says what the run is at, in words.
func (r *Run) Now() []string {
	out := []string{}
	for _, t := range r.Threads {
		if op := r.Ops[t.At]; op.Words != "" {
			words := "step " + op.Path + ": " + op.Words
			if t.Why != "" {
				words += " (" + t.Why + ")"
			}
			out = append(out, words)
		}
	}
	return out
}

// Over says whether the run has ended.
func (r *Run) Over() bool { return !r.Ended.IsZero() }

// Step applies one event and returns what the runtime must now do, in order.
func (r *Run) Step(in Event) (out []Command) {
	if r.Over() {
		return []Command{Finish{}}
	}
	now := in.at()
	switch in := in.(type) {
	case Started:
		if !in.Again {
			r.spawn(0, 0, now)
		}
		for i := range r.Threads {
			t := &r.Threads[i]
			t.Since = earlier(t.Since, now) // the clock may have been set back
			if in.Again && t.Doing != "" {
				out = append(out, Begin{ID: t.Doing, Op: r.Ops[t.At], Again: true})
			}
		}
	case Finished:
		r.finished(in)
	case Held:
		for i := range r.Threads {
			if r.Threads[i].Doing == in.ID {
				r.Threads[i].Why = in.Why
			}
		}
	case StopAsked:
		if r.StopBy == "" {
			r.StopBy = in.By
			out = append(out, r.halt()...)
		}
	case PauseAsked:
		r.pause(in)
	}
	changed := r.Took
	begun := r.advance(now)
	_, tick := in.(Tick)
	_, held := in.(Held)
	if (tick || held) && changed == r.Took && len(begun) == 0 && !r.Over() {
		return nil // nothing is new
	}
	out = append(append([]Command{Save{}}, begun...), out...)
	if r.Over() {
		out = append(out, Finish{})
	}
	return out
}

func earlier(a, b time.Time) time.Time {
	if b.Before(a) {
		return b
	}
	return a
}

func (r *Run) spawn(parent, at int, now time.Time) {
	r.Born++
	r.Threads = append(r.Threads, Thread{ID: r.Born, Parent: parent, At: at, Since: now})
}

func (r *Run) pause(in PauseAsked) {
	switch {
	case in.By != "" && r.State == Running:
		r.State, r.PauseBy, r.PauseAt = Paused, in.By, in.At
	case in.By == "" && r.State == Paused:
		for i := range r.Threads {
			r.Threads[i].Since = r.Threads[i].Since.Add(max(in.At.Sub(r.PauseAt), 0))
		}
		r.State, r.PauseBy = Running, ""
	}
}

// halt stops what is done for it.
func (r *Run) halt() (out []Command) {
	for _, t := range r.Threads {
		if t.Doing != "" {
			out = append(out, Halt{t.Doing})
		}
	}
	return out
}

// finished takes in what came of what somebody else did.
func (r *Run) finished(in Finished) {
	for i := range r.Threads {
		if t := &r.Threads[i]; t.Doing == in.ID {
			did := ""
			if r.Ops[t.At].Do == Do(Operate) {
				did = t.Doing
			}
			t.Doing = ""
			if op := &r.Ops[t.At]; in.Turn != Onward && op.Do == Ask {
				r.Took++
				r.note(Line{At: in.At, Path: op.Path, Words: op.Words, OK: in.Turn == Enough, Note: in.Note})
				t.At, t.Since, t.Why = op.Lanes[in.Turn-1], in.At, ""
				return
			}
			r.went(t, in.At, in.OK, in.Note, did)
			return
		}
	}
}

// went says how the step that a thread is at has ended, and where it goes on.
func (r *Run) went(t *Thread, now time.Time, ok bool, note, did string) {
	op := &r.Ops[t.At]
	r.Took++
	r.note(Line{At: now, Path: op.Path, Words: op.Words, OK: ok, Note: note, Did: did})
	next := op.Next
	if !ok {
		if next = op.Fail; next < 0 {
			r.fail(fmt.Sprintf("step %s: %s: %s", op.Path, op.Words, note))
			return
		}
	}
	t.At, t.Since, t.Why = next, now, ""
}

func (r *Run) note(l Line) {
	r.Log = append(r.Log, l)
	if n := len(r.Log) - mostLines; n > 0 {
		r.Log, r.Lost = slices.Clone(r.Log[n:]), r.Lost+n
	}
}

// fail has nothing more begun: what is under way ends first.
func (r *Run) fail(why string) {
	if r.Note == "" {
		r.Note = why
	}
}

// advance brings all threads as far as they come by themselves.
func (r *Run) advance(now time.Time) (out []Command) {
	for i := 0; i < len(r.Threads); i++ { // more may come
		for r.goesOn(i) {
			cmd, moved := r.instruct(&r.Threads[i], now)
			if cmd != nil {
				out = append(out, cmd)
			}
			if !moved {
				break
			}
			if r.Took++; r.Took > mostTaken {
				r.fail(fmt.Sprintf("it has taken %d steps, which is taken for a circle", r.Took))
			}
		}
	}
	r.Threads = slices.DeleteFunc(r.Threads, func(t Thread) bool { return t.At < 0 })
	r.joined(now)
	if more := r.pending(); more {
		return append(out, r.advance(now)...)
	}
	r.end(now)
	return out
}

// goesOn says whether a thread may begin something.
func (r *Run) goesOn(i int) bool {
	t := &r.Threads[i]
	return t.At >= 0 && t.Doing == "" && r.State == Running && r.StopBy == "" && r.Note == ""
}

// waiting marks a thread that waits for its lanes.
const waiting = -1

// joined has those go on whose lanes have all ended.
func (r *Run) joined(now time.Time) {
	for i := range r.Threads {
		t := &r.Threads[i]
		if t.Counts[waiting] == 0 || slices.ContainsFunc(r.Threads, func(x Thread) bool { return x.Parent == t.ID }) {
			continue
		}
		delete(t.Counts, waiting)
		t.At, t.Since = r.Ops[t.At].Next, now
	}
}

// pending says whether one could go on at once.
func (r *Run) pending() bool {
	for i := range r.Threads {
		t := &r.Threads[i]
		if !r.goesOn(i) || t.Counts[waiting] > 0 {
			continue
		}
		if op := r.Ops[t.At]; op.Do != Do(Until) && op.Do != Do(Pause) {
			return true
		}
	}
	return false
}

// end ends the run when nothing is left that could go on, or be waited for.
func (r *Run) end(now time.Time) {
	if slices.ContainsFunc(r.Threads, func(t Thread) bool { return t.Doing != "" }) {
		return
	}
	switch {
	case r.StopBy != "":
		r.State = Stopped
	case r.Note != "":
		r.State = Failed
	case len(r.Threads) == 0:
		r.State = Done
	default:
		return
	}
	r.Ended, r.Threads = now, nil
}
