package routine

import (
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"plumbbob/internal/core/plain"
	"strconv"
	"strings"
	"time"
)

// NameOf is the id of something that is begun once for these parts: the same after a crash.
func NameOf(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return strings.ToLower(base32.StdEncoding.EncodeToString(sum[:])[:10])
}

// instruct carries out the instruction that a thread is at. moved says whether it is at another
// now, or gone.
func (r *Run) instruct(t *Thread, now time.Time) (cmd Command, moved bool) {
	op := &r.Ops[t.At]
	switch op.Do {
	case doEnd, doLane:
		t.At = -1
	case doGiveUp:
		r.fail(op.Words)
		return nil, false
	case doJump:
		t.At, t.Since = op.Next, now
	case doBranch:
		return nil, r.branch(t, op, now)
	case doLoop:
		return nil, r.loop(t, op, now)
	case doFork:
		if t.Counts[waiting] > 0 {
			return nil, false
		}
		t.count(waiting, 1)
		parent := t.ID
		for _, at := range op.Lanes {
			r.spawn(parent, at, now) // t may be somewhere else after that
		}
		return nil, false
	case Do(Pause):
		return nil, r.waited(t, op, now)
	case Do(Until):
		return nil, r.until(t, op, now)
	default:
		t.Doing, t.Since = NameOf(r.ID, strconv.Itoa(t.ID), strconv.Itoa(r.Took)), now
		r.Took++
		return Begin{ID: t.Doing, Op: *op}, false
	}
	return nil, true
}

func (t *Thread) count(what, n int) {
	if t.Counts == nil {
		t.Counts = map[int]int{}
	}
	t.Counts[what] = n
}

// holds asks a condition.
func (r *Run) holds(op *Op) (bool, error) {
	if r.eval == nil {
		return false, errors.New("nobody can say")
	}
	return r.eval(op.Expr, op.With)
}

func (r *Run) branch(t *Thread, op *Op, now time.Time) bool {
	yes, err := r.holds(op)
	if err != nil {
		return r.wentOn(t, now, false, "it cannot be told: "+err.Error())
	}
	if !yes {
		r.note(Line{At: now, Path: op.Path, Words: op.Words, OK: true, Note: "no"})
		t.At, t.Since = op.Else, now
		return true
	}
	return r.wentOn(t, now, true, "yes")
}

// wentOn is went; false says that it ends the run.
func (r *Run) wentOn(t *Thread, now time.Time, ok bool, note string) bool {
	r.went(t, now, ok, note, "")
	return r.Note == ""
}

// loop begins the next turn of a loop, or ends it.
func (r *Run) loop(t *Thread, op *Op, now time.Time) bool {
	n := t.Counts[t.At]
	over := n >= op.N
	if op.Expr != "" && n > 0 {
		yes, err := r.holds(op)
		switch {
		case yes:
			over = true
		case over:
			delete(t.Counts, t.At)
			note := fmt.Sprintf("not so after %d times", n)
			if err != nil {
				note += ": " + err.Error()
			}
			return r.wentOn(t, now, false, note)
		}
	}
	if !over {
		t.count(t.At, n+1)
		t.At, t.Since = op.Next, now
		return true
	}
	delete(t.Counts, t.At)
	r.note(Line{At: now, Path: op.Path, Words: op.Words, OK: true, Note: fmt.Sprintf("over after %d", n)})
	t.At, t.Since = op.Else, now
	return true
}

func (r *Run) waited(t *Thread, op *Op, now time.Time) bool {
	t.Since = earlier(t.Since, now)
	if now.Sub(t.Since) < op.Time {
		t.Why = "until " + t.Since.Add(op.Time).UTC().Format(time.RFC3339)
		return false
	}
	return r.wentOn(t, now, true, "")
}

func (r *Run) until(t *Thread, op *Op, now time.Time) bool {
	t.Since = earlier(t.Since, now)
	yes, err := r.holds(op)
	switch {
	case yes:
		return r.wentOn(t, now, true, fmt.Sprintf("after %s", now.Sub(t.Since).Round(time.Second)))
	case now.Sub(t.Since) >= op.Time:
		note := "not within " + plain.Span(op.Time)
		if err != nil {
			note += ": " + err.Error()
		}
		return r.wentOn(t, now, false, note)
	}
	t.Why = ""
	if err != nil {
		t.Why = err.Error()
	}
	return false
}
