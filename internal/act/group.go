package act

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/store"
)

// RequestGroup starts a group, or has it wait for its time. Besides those of
// PreviewGroup its errors are *ChangedError and *RefusedError.
func (a *Actor) RequestGroup(ctx context.Context, in GroupIntent, digest string, c operation.Consent, by operation.Asker) (*group.Group, error) {
	p, err := a.PreviewGroup(ctx, in, by)
	if err != nil {
		return nil, err
	}
	c.Role = by.Role
	if stand := p.unlifted(c); len(stand) > 0 {
		return nil, &RefusedError{Interlocks: stand}
	}
	if p.Digest != digest {
		return nil, &ChangedError{}
	}
	if err := a.Lease.Holds(); err != nil {
		return nil, err
	}
	g := p.Group
	g.ID, g.By, g.Consent, g.Asked = newID(), by, c, time.Now().UTC()
	for i := range g.Members {
		g.Members[i].Operation = newID()
	}
	text := g.Title
	if !g.At.IsZero() {
		g.State = group.Scheduled
		text += " at " + g.At.In(a.Keeper.Estate().Zone(g.Members[0].Device)).Format("2 Jan 15:04")
	}
	if err := a.Store.CreateGroup(ctx, g, a.groupEntry(g, g.Asked, text, "asked")); err != nil {
		return nil, err
	}
	a.Written()
	shown := g.Clone()
	a.startGroup(g)
	return shown, nil
}

func (a *Actor) groupEntry(g *group.Group, at time.Time, text, result string) store.Entry {
	site := estate.Key("")
	if s := sites(a.Keeper.Estate(), g); len(s) == 1 {
		site = s[0]
	}
	return store.Entry{At: at, Site: site, Who: g.By.Name, Kind: store.EntryGroup, Why: g.Consent.Why, Text: text, Result: result, OperationID: g.ID}
}

// groupRun is one group while it is carried out. Its goroutine owns the machine.
type groupRun struct {
	a      *Actor
	g      *group.Group
	events chan group.Event
	done   chan struct{}
	seen   atomic.Pointer[group.Group]
}

func (a *Actor) startGroup(g *group.Group) {
	r := &groupRun{a: a, g: g, events: make(chan group.Event), done: make(chan struct{})}
	r.seen.Store(g.Clone())
	a.mu.Lock()
	a.groups[g.ID] = r
	ctx := a.ctx
	a.mu.Unlock()
	a.work.Go(func() {
		defer func() {
			a.mu.Lock()
			delete(a.groups, g.ID)
			a.mu.Unlock()
			close(r.done)
		}()
		r.run(ctx)
	})
}

// lookAgain is how often the operations of a group are looked at.
const lookAgain = 250 * time.Millisecond

func (r *groupRun) run(ctx context.Context) {
	tick := time.NewTicker(lookAgain)
	defer tick.Stop()
	var wake time.Time
	queue := []group.Event{group.Started{At: time.Now().UTC()}}
	for {
		if r.a.Lease.Other() {
			return // it is that one's to go on with
		}
		for len(queue) > 0 {
			in := queue[0]
			more, at, finished := r.carryOut(ctx, r.g.Step(in))
			if finished || ctx.Err() != nil {
				return
			}
			queue = append(queue[1:], more...)
			if !at.IsZero() {
				wake = at
			}
		}
		select {
		case <-ctx.Done():
			return
		case in := <-r.events:
			queue = append(queue, in)
		case now := <-tick.C:
			queue = append(queue, r.look(ctx, now.UTC())...)
			if !wake.IsZero() && !now.Before(wake) {
				wake = time.Time{}
				queue = append(queue, group.Expired{At: now.UTC()})
			}
		}
	}
}

// carryOut does what the machine says, in order; what came of it are events.
func (r *groupRun) carryOut(ctx context.Context, cmds []group.Command) (more []group.Event, wake time.Time, finished bool) {
	for _, c := range cmds {
		switch c := c.(type) {
		case group.Save:
			if slices.Contains(cmds, group.Command(group.Finish{})) {
				continue // its end is recorded as one
			}
			if !r.record(ctx, func() error { return r.a.Store.SaveGroup(ctx, r.g) }) {
				return more, wake, false
			}
			r.show()
		case group.Begin:
			if !r.a.awaitLease(ctx) {
				return more, wake, false
			}
			more = append(more, r.begin(ctx, c.Device))
		case group.Stop:
			if m := r.member(c.Device); m != nil {
				if _, err := r.a.Cancel(ctx, m.Operation, r.g.CancelBy); err != nil && !errors.Is(err, ErrEnded) {
					r.a.Log.Warn("an operation of a group could not be cancelled", "operation", m.Operation, "because", err)
				}
			}
		case group.Wake:
			wake = c.At
		case group.Finish:
			text := fmt.Sprintf("%s: %s", r.g.Title, groupWords(r.g))
			entry := r.a.groupEntry(r.g, r.g.Ended, text, string(r.g.State))
			r.record(ctx, func() error {
				if err := r.a.Store.EndGroup(ctx, r.g, entry); !errors.Is(err, store.ErrConflict) {
					return err
				}
				return nil
			})
			r.show()
			r.a.Written()
			return more, wake, true
		}
	}
	return more, wake, false
}

// record tries until it is on record, or ctx ends.
func (r *groupRun) record(ctx context.Context, f func() error) bool {
	for err := f(); err != nil; err = f() {
		r.a.Log.Error("a group cannot be recorded, so it waits", "group", r.g.ID, "because", err)
		if !pause(ctx, recordAgain) {
			return false
		}
	}
	return true
}

func (r *groupRun) show() {
	r.seen.Store(r.g.Clone())
	r.a.GroupChanged(r.seen.Load())
}

func (r *groupRun) member(k estate.Key) *group.Member {
	i := slices.IndexFunc(r.g.Members, func(m group.Member) bool { return m.Device == k })
	if i < 0 {
		return nil
	}
	return &r.g.Members[i]
}

// awaitLease waits until something may be begun; false says that it may not any more.
func (a *Actor) awaitLease(ctx context.Context) bool {
	for a.Lease.Holds() != nil {
		if a.Lease.Other() {
			return false
		}
		if !pause(ctx, recordAgain) {
			return false
		}
	}
	return true
}

// begin asks for the operation of a member. One that is on record already was
// asked for before we died.
func (r *groupRun) begin(ctx context.Context, k estate.Key) group.Event {
	m := r.member(k)
	out := group.Begun{At: time.Now().UTC(), Device: k}
	found, err := r.found(ctx, m.Operation)
	if found || err != nil { // or we are stopping, and it is looked for at the next start
		return out
	}
	if err := r.ask(ctx, k, m.Operation); err != nil {
		var refused *RefusedError
		out.Refused, out.Why = errors.As(err, &refused), err.Error()
	}
	return out
}

// ask asks for the operation of a device, with what the person behind the group
// may do now: hours may have passed, and the account may have gone.
func (r *groupRun) ask(ctx context.Context, k estate.Key, id string) error {
	by, in := r.g.By, r.g.Intent
	if r.a.Role != nil {
		role, err := r.a.Role(ctx, by.Name)
		if err != nil && !errors.Is(err, store.ErrAway) {
			return err
		}
		if err == nil {
			by.Role = role
		}
		if !by.Role.AtLeast(operation.Operator) {
			return fmt.Errorf("%s may not act any more", by.Name)
		}
	}
	in.Device = k
	p, err := r.a.Preview(ctx, in, by)
	if err != nil {
		return err
	}
	_, err = r.a.request(ctx, Request{Intent: in, Digest: p.Digest, Consent: r.g.Consent, By: by}, id)
	return err
}

// found says whether an operation is on record, and waits for the database to say
// so: what may have been asked for is not asked for again on a guess.
func (r *groupRun) found(ctx context.Context, id string) (bool, error) {
	for {
		_, err := r.a.Find(ctx, id)
		switch {
		case err == nil:
			return true, nil
		case errors.Is(err, store.ErrNotFound):
			return false, nil
		}
		r.a.Log.Warn("a group waits for the database", "group", r.g.ID, "because", err)
		if !pause(ctx, recordAgain) {
			return false, context.Cause(ctx)
		}
	}
}

// look sees how the operations are that are under way.
func (r *groupRun) look(ctx context.Context, now time.Time) (out []group.Event) {
	for i := range r.g.Members {
		m := &r.g.Members[i]
		if m.Over || m.State == group.Pending || m.State == group.Beginning {
			continue
		}
		o, err := r.a.Find(ctx, m.Operation)
		if err != nil {
			continue // the database is away, perhaps: it is looked for again
		}
		out = append(out, group.Progress{At: now, Device: m.Device, Powered: o.Powered(), State: o.State, Outcome: o.Outcome(r.a.Keeper.Estate().Zone(m.Device))})
	}
	return out
}

// groupWords says how a group ended.
func groupWords(g *group.Group) string {
	count := map[group.MemberState]int{}
	var troubles []string
	for _, m := range g.Members {
		count[m.State]++
		if m.State == group.Broken || m.State == group.Refused {
			troubles = append(troubles, fmt.Sprintf("%s %s: %s", m.Device, m.State, m.Note))
		}
	}
	words := fmt.Sprintf("%d of %d done", count[group.Up], len(g.Members))
	if n := count[group.Skipped]; n > 0 {
		words += fmt.Sprintf(", %d not begun", n)
	}
	if len(troubles) > 0 {
		words += ". " + strings.Join(troubles, "; ")
	}
	return words
}

// CancelGroup asks a group to begin nothing more, and to stop what is under way.
func (a *Actor) CancelGroup(ctx context.Context, id, by string) (*group.Group, error) {
	a.mu.Lock()
	r := a.groups[id]
	a.mu.Unlock()
	if r == nil {
		if _, err := a.Store.Group(ctx, id); err != nil {
			return nil, err
		}
		return nil, ErrEnded
	}
	select {
	case r.events <- group.CancelAsked{At: time.Now().UTC(), By: by}:
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	case <-r.done:
		return nil, ErrEnded
	}
	return r.seen.Load(), nil
}

// FindGroup returns a group, running or ended.
func (a *Actor) FindGroup(ctx context.Context, id string) (*group.Group, error) {
	a.mu.Lock()
	r := a.groups[id]
	a.mu.Unlock()
	if r != nil {
		return r.seen.Load(), nil
	}
	return a.Store.Group(ctx, id)
}

// Groups lists groups, the newest first, running ones as they are now.
func (a *Actor) Groups(ctx context.Context, unended bool, limit int) ([]*group.Group, error) {
	gs, err := a.Store.Groups(ctx, unended, limit)
	a.mu.Lock()
	defer a.mu.Unlock()
	for i, g := range gs {
		if r := a.groups[g.ID]; r != nil {
			gs[i] = r.seen.Load()
		}
	}
	return gs, err
}

// resumeGroups takes up the groups that have not ended. complete is false when
// there may be more.
func (a *Actor) resumeGroups(ctx context.Context) (complete bool, err error) {
	gs, err := a.Store.Groups(ctx, true, 1000)
	if errors.Is(err, store.ErrAway) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	for _, g := range gs {
		a.mu.Lock()
		runs := a.groups[g.ID] != nil
		a.mu.Unlock()
		if runs {
			continue
		}
		a.Log.Warn("a group is taken up again", "group", g.ID, "what", g.Title)
		a.startGroup(g)
	}
	return true, nil
}
