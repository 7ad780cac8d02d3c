package act

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/durable"
	"plumbbob/internal/store"
)

// RequestGroup starts a group, or has it wait for its time. Besides those of
// PreviewGroup its errors are *ChangedError and *RefusedError.
//
// id is that of the group, where whoever asks may ask again; or empty. One that is
// there already is returned as it is, unless something else is asked for now.
func (a *Actor) RequestGroup(ctx context.Context, in GroupIntent, digest string, c operation.Consent, by operation.Asker, id string) (*group.Group, error) {
	if id != "" {
		g, err := a.FindGroup(ctx, id)
		if err == nil && (g.Intent.Kind != in.Intent.Kind || g.Title != title(in, len(g.Members))) {
			return nil, usedKey(g.Title)
		}
		if !errors.Is(err, store.ErrNotFound) {
			return g, err
		}
	}
	p, err := a.PreviewGroup(ctx, in, by)
	if err != nil {
		return nil, err
	}
	c.Role = by.Role
	if stand := p.unlifted(c); len(stand) > 0 {
		return nil, &RefusedError{Interlocks: stand}
	}
	if p.Digest != digest {
		return nil, &ChangedError{What: p.since(a.shownGroups.find(digest))}
	}
	if err := a.mayBegin(); err != nil {
		return nil, err
	}
	g := p.Group
	g.ID, g.By, g.Consent, g.Asked = cmp.Or(id, durable.NewID()), by, c, time.Now().UTC()
	for i := range g.Members {
		g.Members[i].Operation = durable.NewID()
	}
	text := g.Title
	if !g.At.IsZero() {
		g.State, g.Late = group.Scheduled, a.MissedAfter
		text += " at " + g.At.In(a.Keeper.Estate().Zone(g.Members[0].Device)).Format("2 Jan 15:04")
	}
	if !a.groups.Reserve(g.ID) { // the same was asked for twice at once
		return nil, store.ErrConflict
	}
	if err := a.Store.CreateGroup(ctx, g, a.groupEntry(g, g.Asked, text, "asked")); err != nil {
		a.groups.Drop(g.ID)
		return nil, err
	}
	a.written()
	shown := g.Clone()
	a.startGroup(g, 0)
	return shown, nil
}

func (a *Actor) groupEntry(g *group.Group, at time.Time, text, result string) store.Entry {
	site := estate.Key("")
	if s := sites(a.Keeper.Estate(), g); len(s) == 1 {
		site = s[0]
	}
	return store.Entry{At: at, Site: site, Who: g.By.By(), Kind: store.EntryGroup, Why: g.Consent.Why, Text: text, Result: result, OperationID: g.ID}
}

// groupRun is one group while it is carried out.
type groupRun struct {
	*durable.Runner[group.Group, group.Event, group.Command]
	a *Actor
	g *group.Group
}

func (a *Actor) startGroup(g *group.Group, down time.Duration) {
	r := &groupRun{a: a, g: g}
	r.Runner = durable.New(r)
	a.groups.Start(a.ctx, &a.work, g.ID, r.Runner, group.Started{At: time.Now().UTC(), Down: down})
}

func (r *groupRun) Step(in group.Event) []group.Command { return r.g.Step(in) }
func (r *groupRun) Copied() *group.Group                { return r.g.Clone() }
func (r *groupRun) Woken(now, _ time.Time) group.Event  { return group.Expired{At: now} }

// CarryOut does what the machine says, in order; what came of it are events.
func (r *groupRun) CarryOut(ctx context.Context, cmds []group.Command) (more []group.Event, wake time.Time, over bool) {
	if r.a.Lease.Other() {
		return nil, wake, true // it is that one's to go on with
	}
	for _, c := range cmds {
		switch c := c.(type) {
		case group.Save:
			if slices.Contains(cmds, group.Command(group.Finish{})) {
				continue // its end is recorded as one
			}
			if err := durable.Insist(ctx, r.a.Health, "record of group "+r.g.ID, func() error { return r.a.Store.SaveGroup(ctx, r.g) }); err != nil {
				return more, wake, false
			}
			r.tellAll()
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
			text := fmt.Sprintf("%s: %s", r.g.Title, groupWords(r.g, r.a.Keeper.Estate().Zone(r.g.Members[0].Device)))
			entry := r.a.groupEntry(r.g, r.g.Ended, text, string(r.g.State))
			_ = durable.Insist(ctx, r.a.Health, "record of group "+r.g.ID, func() error { return r.a.Store.EndGroup(ctx, r.g, entry) }) // or at the next start
			r.tellAll()
			r.a.written()
			return more, wake, true
		}
	}
	return more, wake, false
}

func (r *groupRun) tellAll() {
	r.Show()
	r.a.Bus.Groups.Publish(r.View())
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
	for a.mayBegin() != nil {
		if a.Lease.Other() {
			return false
		}
		if !durable.Pause(ctx, durable.RecordAgain) {
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
	if late := out.At.Sub(m.Began); late > cmp.Or(r.g.Late, group.MissedAfter) { // we were down, or had no lease
		out.Why = fmt.Sprintf("not begun, because its turn came %s ago", verdict.Age(late))
		return out
	}
	if err := r.askOnceReached(ctx, m); err != nil {
		var refused *RefusedError
		out.Refused, out.Why = errors.As(err, &refused), err.Error()
	}
	return out
}

// reachWithin is how long gear that the group itself has brought up may take until it
// can be used: it answers on its own time.
const reachWithin = 90 * time.Second

// askOnceReached asks for the operation of a member, and has patience with gear that the
// group has only just brought up.
func (r *groupRun) askOnceReached(ctx context.Context, m *group.Member) error {
	for began := time.Now(); ; {
		err := r.ask(ctx, m.Device, m.Operation)
		var refused *RefusedError
		if !errors.As(err, &refused) || len(m.After) == 0 || r.g.Intent.Kind != operation.On || time.Since(began) > reachWithin ||
			!slices.ContainsFunc(refused.Interlocks, func(l operation.Interlock) bool { return l.Name == operation.LockOutOfReach }) {
			return err
		}
		for _, k := range m.After {
			r.a.Watcher.Again(ctx, k)
		}
		if !durable.Pause(ctx, durable.RecordAgain) {
			return err
		}
	}
}

// asNow is who asked, with what they may do now: hours may have passed, and the
// account may have gone. Who is no person has no account.
func (a *Actor) asNow(ctx context.Context, by operation.Asker) (operation.Asker, error) {
	if a.Role != nil && by.Person() {
		role, err := a.Role(ctx, by.Name)
		if err != nil && !errors.Is(err, store.ErrAway) {
			return by, err
		}
		if err == nil {
			by.Role = role
		}
	}
	if !by.Role.AtLeast(operation.Operator) {
		return by, fmt.Errorf("%s may not act any more", by.Name)
	}
	return by, nil
}

// ask asks for the operation of a device.
func (r *groupRun) ask(ctx context.Context, k estate.Key, id string) error {
	by, err := r.a.asNow(ctx, r.g.By)
	if err != nil {
		return err
	}
	in := r.g.Intent
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
		if !durable.Pause(ctx, durable.RecordAgain) {
			return false, context.Cause(ctx)
		}
	}
}

// Look sees how the operations are that are under way.
func (r *groupRun) Look(ctx context.Context, now time.Time) (out []group.Event) {
	if r.a.Lease.Other() {
		return []group.Event{group.Expired{At: now}} // so that it is seen
	}
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
func groupWords(g *group.Group, zone *time.Location) string {
	count := map[group.MemberState]int{}
	var troubles []string
	for _, m := range g.Members {
		count[m.State]++
		if m.State == group.MemberFailed || m.State == group.Refused {
			troubles = append(troubles, fmt.Sprintf("%s %s: %s", m.Device, m.State, m.Note))
		}
	}
	if g.State == group.Missed {
		return fmt.Sprintf("missed: it was to begin at %s, and nothing here could before %s", g.At.In(zone).Format("2 Jan 15:04 MST"), g.Ended.In(zone).Format("2 Jan 15:04 MST"))
	}
	words := fmt.Sprintf("%d of %d done", count[group.MemberDone], len(g.Members))
	if n := count[group.Skipped]; n > 0 {
		words += fmt.Sprintf(", %d not begun", n)
	}
	if len(troubles) > 0 {
		words += ". " + strings.Join(troubles, "; ")
	}
	return words
}

// CancelGroup asks a group to stop at the next safe point.
func (a *Actor) CancelGroup(ctx context.Context, id, by string) (*group.Group, error) {
	return a.groups.Cancel(ctx, id, group.CancelAsked{At: time.Now().UTC(), By: by}, a.Store.Group)
}

// NoMoreOf has a group begin nothing more; what has begun goes on to its end. A shutdown that was asked for is
// heeded whether somebody waits for that or not.
func (a *Actor) NoMoreOf(ctx context.Context, id, by string) (*group.Group, error) {
	return a.groups.Cancel(ctx, id, group.CancelAsked{At: time.Now().UTC(), By: by, Gently: true}, a.Store.Group)
}

// FindGroup returns a group, running or ended.
func (a *Actor) FindGroup(ctx context.Context, id string) (*group.Group, error) {
	return a.groups.Find(ctx, id, a.Store.Group)
}

// Groups lists groups, the newest first, running ones as they are now.
func (a *Actor) Groups(ctx context.Context, f store.GroupFilter) ([]*group.Group, error) {
	gs, err := a.Store.Groups(ctx, f)
	a.groups.Fresh(gs, func(g *group.Group) string { return g.ID })
	return gs, err
}

// resumeGroups takes up the groups that have not ended. complete is false when
// there may be more.
// vacant is for how long nobody acted, before this service began to.
func (a *Actor) vacant() time.Duration {
	switch {
	case a.Lease != nil:
		return a.Lease.Vacant()
	case a.LastAlive.IsZero():
		return 0
	}
	return time.Since(a.LastAlive)
}

func (a *Actor) resumeGroups(ctx context.Context) (complete bool, err error) {
	gs, err := a.Store.Groups(ctx, store.GroupFilter{Unended: true, Limit: 1000})
	if errors.Is(err, store.ErrAway) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	for _, g := range gs {
		if !a.groups.Reserve(g.ID) {
			continue
		}
		a.Log.Warn("a group is taken up again", "group", g.ID, "what", g.Title)
		a.startGroup(g, a.vacant())
	}
	return true, nil
}
