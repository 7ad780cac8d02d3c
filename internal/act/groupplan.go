package act

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/group"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/store"
)

// GroupIntent is what somebody wants done to several devices, or later.
type GroupIntent struct {
	Intent operation.Intent // without a device
	Who    group.Selection
	Order  group.Order
	At     time.Time // zero: at once
}

// A LeftOut is a device that is meant, and is not touched.
type LeftOut struct {
	Device estate.Key
	Why    string
}

// GroupPreview is what a group would do, worked out before anything is touched.
type GroupPreview struct {
	Title      string
	Group      *group.Group // as it would be carried out
	Previews   []*operation.Preview
	LeftOut    []LeftOut
	Slots      []group.Slot
	Curve      []group.Point
	Interlocks []operation.Interlock
	Digest     string
}

// PreviewGroup works out what a group would do. Its error is a
// *operation.UsageError or that of the store.
func (a *Actor) PreviewGroup(ctx context.Context, in GroupIntent, by operation.Asker) (*GroupPreview, error) {
	w, err := a.world(ctx, by)
	if err != nil {
		return nil, err
	}
	if err := orderly(&in, w.Now); err != nil {
		return nil, err
	}
	ks, err := in.Who.Pick(w.Estate)
	if err != nil {
		return nil, err
	}
	usual, err := a.Store.UsualTimes(ctx)
	if err != nil && !errors.Is(err, store.ErrAway) {
		return nil, err
	}
	p := &GroupPreview{}
	byDevice := map[estate.Key]*operation.Preview{}
	for _, k := range ks {
		one := in.Intent
		one.Device = k
		w.Usual = usual[k]
		look, err := lookAt(one, w, ks)
		if why := leaves(in.Who, w, k, look, err); why != "" {
			p.LeftOut = append(p.LeftOut, LeftOut{k, why})
			continue
		}
		if err != nil {
			return nil, err
		}
		byDevice[k] = look
	}
	ks = slices.DeleteFunc(ks, func(k estate.Key) bool { return byDevice[k] == nil })
	if len(ks) == 0 {
		return nil, &operation.UsageError{Text: fmt.Sprintf("%s: there is nothing to do: %s", in.Who.Words(), leftWords(p.LeftOut))}
	}
	p.Group = &group.Group{Intent: in.Intent, At: in.At, Order: in.Order, Members: group.Arrange(w.Estate, ks, in.Intent.Kind), State: group.Running}
	for i := range p.Group.Members {
		m := &p.Group.Members[i]
		p.Previews = append(p.Previews, byDevice[m.Device])
		expect(m, w, byDevice[m.Device])
	}
	if in.Intent.Kind == operation.On {
		p.waitForGear(w, ks)
	}
	p.finish(in, w)
	a.shownGroups.remember(p.Digest, p)
	return p, nil
}

// lookAt previews one member. What was switched off by another means than the one that
// could switch it on now is not on because its outlet is: then it is what the means that
// the group will have brought up says.
func lookAt(one operation.Intent, w operation.World, all []estate.Key) (*operation.Preview, error) {
	look, err := operation.Look(one, w)
	if _, parked := w.Evidence.Parked[one.Device]; err != nil || !parked || one.Kind != operation.On || one.Means != "" || !on(look) {
		return look, err
	}
	for _, way := range look.Ways {
		one.Means = way.Means
		other, err := operation.Look(one, w)
		if err == nil && way.Means != look.Means && (way.Can || len(other.WaitsFor(w, all)) > 0) && !on(other) {
			return other, nil
		}
	}
	return look, nil
}

// waitForGear has each member come after the gear that switches it on, where the group
// brings that up; that it is out of reach until then stops nobody. Each is looked at
// anew when its turn comes.
func (p *GroupPreview) waitForGear(w operation.World, ks []estate.Key) {
	for i, look := range p.Previews {
		m := &p.Group.Members[i]
		gear := look.WaitsFor(w, ks)
		for _, k := range gear {
			if !slices.Contains(m.After, k) && !p.comesAfter(k, m.Device, map[estate.Key]bool{}) {
				m.After = append(m.After, k)
			}
		}
		if slices.ContainsFunc(gear, func(k estate.Key) bool { return slices.Contains(m.After, k) }) {
			look.Interlocks = slices.DeleteFunc(look.Interlocks, func(l operation.Interlock) bool { return l.Name == operation.LockOutOfReach })
		}
	}
}

// comesAfter says whether a member waits for another, through others too.
func (p *GroupPreview) comesAfter(k, other estate.Key, seen map[estate.Key]bool) bool {
	if k == other || seen[k] {
		return k == other
	}
	seen[k] = true
	for _, m := range p.Group.Members {
		if m.Device == k {
			return slices.ContainsFunc(m.After, func(before estate.Key) bool { return p.comesAfter(before, other, seen) })
		}
	}
	return false
}

func leftWords(list []LeftOut) string {
	words := make([]string, len(list))
	for i, l := range list {
		words[i] = fmt.Sprintf("%s %s", l.Device, l.Why)
	}
	return strings.Join(words, "; ")
}

// orderly fills in and checks how a group is to be carried out.
func orderly(in *GroupIntent, now time.Time) error {
	o := &in.Order
	switch {
	case o.AtOnce == 0:
		o.AtOnce = group.DefaultAtOnce
	case o.AtOnce < 1 || o.AtOnce > group.MaxAtOnce:
		return &operation.UsageError{Text: fmt.Sprintf("at once there can be 1 to %d, not %d", group.MaxAtOnce, o.AtOnce)}
	}
	if o.Gap < 0 || o.Gap > time.Hour || o.Wait < 0 || o.Wait > time.Hour {
		return &operation.UsageError{Text: "what is waited between two is no longer than an hour"}
	}
	if o.Until == "" {
		o.Until = group.Answers
	}
	if !slices.Contains([]group.Ready{group.Answers, group.Powered, group.AfterA}, o.Until) {
		return &operation.UsageError{Text: fmt.Sprintf("%q is no condition: it can be answers, power or time", o.Until)}
	}
	if len(in.Intent.Outlets) > 0 && len(in.Who.Devices) != 1 {
		return &operation.UsageError{Text: "outlets can be named for one device only"}
	}
	if !in.At.IsZero() && in.At.Before(now.Add(-time.Minute)) {
		return &operation.UsageError{Text: fmt.Sprintf("%s is over already", in.At.Format("2006-01-02 15:04"))}
	}
	if in.At.After(now.AddDate(0, 0, 60)) {
		return &operation.UsageError{Text: "that is more than 60 days away"}
	}
	return nil
}

// leaves says why a device that was not named itself is left as it is, or "".
func leaves(who group.Selection, w operation.World, k estate.Key, p *operation.Preview, err error) string {
	if len(who.Devices) > 0 {
		return ""
	}
	d, park := w.Estate.Device(k), w.Evidence.Parked[k].By
	switch {
	case k == w.Estate.Standpoint:
		return "is where this service runs"
	case d.Supply != nil || slices.ContainsFunc(d.Outlets, func(o estate.Outlet) bool { return o.Kind == estate.Socket }):
		return "gives power to the others"
	case err != nil:
		return "cannot be done that way"
	case who.LeaveParked && p.Kind == operation.On && park != "" && park != w.Asker.By():
		return "was switched off by " + park
	case p.Kind == operation.On && on(p):
		return "is on already"
	case p.Kind == operation.Off && p.Means != operation.ByWake && off(p):
		return "is off already"
	}
	for _, l := range p.Interlocks {
		switch l.Name {
		case operation.LockUnswitched, operation.LockStandpoint:
			return "cannot be switched"
		case operation.LockOwnPath:
			return "carries our own way to " + string(p.OurPath.Gear)
		}
	}
	return ""
}

func on(p *operation.Preview) bool {
	return !slices.ContainsFunc(p.Outlets, func(o operation.OutletNow) bool { return !o.Known || !o.Fresh || !o.Reading.On })
}

func off(p *operation.Preview) bool {
	return !slices.ContainsFunc(p.Outlets, func(o operation.OutletNow) bool { return !o.Known || !o.Fresh || o.Reading.On })
}

const (
	switchTakes   = 5 * time.Second  // to switch off and read it back
	shutdownTakes = 45 * time.Second // of an operating system, where nothing is known
)

// expect is how long an operation usually takes, and what is drawn.
func expect(m *group.Member, w operation.World, p *operation.Preview) {
	d := w.Estate.Device(m.Device)
	if s, known := power.StartOf(d, w.Draws[m.Device]); known {
		m.W, m.Surge = s.W, s.Surge
	}
	back := verdict.BootTime(d) / 2
	if p.Usual.N > 0 {
		back = (p.Usual.Min + p.Usual.Max) / 2
	}
	if len(d.Probes) == 0 {
		back = 0
	}
	switch p.Kind {
	case operation.Shutdown, operation.Sleep:
		m.Expect = shutdownTakes
	case operation.On:
		m.Expect = switchTakes + back
	case operation.Cycle:
		m.Expect = 2*switchTakes + p.Hold + back
	case operation.Reset:
		m.Expect = switchTakes + back
	default:
		m.Expect = switchTakes
	}
}

// finish works out the timetable, what it draws, and what stands in the way.
func (p *GroupPreview) finish(in GroupIntent, w operation.World) {
	p.Title = title(in, len(p.Group.Members))
	p.Group.Title = p.Title
	p.Slots = p.Group.Timetable()
	now := 0.0
	for _, site := range sites(w.Estate, p.Group) {
		if watts, known := w.Power().SiteW(site); known {
			now += watts
		}
	}
	p.Curve = p.Group.Curve(p.Slots, now)
	starts := make([]power.Start, 0, len(p.Group.Members))
	for i, m := range p.Group.Members {
		for _, l := range p.Previews[i].Interlocks {
			l.Reason = string(m.Device) + ": " + l.Reason
			p.Interlocks = append(p.Interlocks, l)
		}
		if in.Intent.Kind == operation.On && m.W > 0 {
			starts = append(starts, power.Start{Device: m.Device, W: m.W, Surge: m.Surge})
		}
	}
	for _, b := range w.Power().IfStarted(starts) {
		if b.Over {
			p.Interlocks = append(p.Interlocks, operation.Overload(b))
		}
	}
	p.Digest = p.digest()
}

func title(in GroupIntent, n int) string {
	verb := operation.Verb(in.Intent.Kind, in.Who.Words())
	if len(in.Who.Devices) == 0 {
		verb += map[bool]string{true: ", 1 device", false: fmt.Sprintf(", %d devices", n)}[n == 1]
	}
	return verb
}

func sites(e *estate.Estate, g *group.Group) (out []estate.Key) {
	for _, m := range g.Members {
		if s := e.Device(m.Device).Site; !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// digest covers what a person agrees to: what each of them does, and in what order.
func (p *GroupPreview) digest() string {
	var b strings.Builder
	fmt.Fprintln(&b, p.Group.Order, p.Group.At.UTC(), len(p.Previews))
	for i, m := range p.Group.Members {
		fmt.Fprintln(&b, m.Device, m.After, p.Previews[i].Digest)
	}
	for _, l := range p.Interlocks {
		fmt.Fprintln(&b, l.Name, l.LiftBy)
	}
	sum := sha256.Sum256([]byte(b.String()))
	return hex.EncodeToString(sum[:8])
}

// since says in what a preview differs from one that was agreed to, or from none.
func (p *GroupPreview) since(was *GroupPreview) string {
	if was == nil || was.Group.Intent.Kind != p.Group.Intent.Kind {
		return ""
	}
	var news []string
	before := map[estate.Key]*operation.Preview{}
	for _, look := range was.Previews {
		before[look.Device] = look
	}
	for _, look := range p.Previews {
		switch old := before[look.Device]; {
		case old == nil:
			news = append(news, fmt.Sprintf("%s is part of it now", look.Device))
		case old.Digest != look.Digest:
			news = append(news, fmt.Sprintf("%s: %s", look.Device, cmp.Or(look.Since(old), "it would be done otherwise now")))
		}
		delete(before, look.Device)
	}
	for _, k := range slices.Sorted(maps.Keys(before)) {
		news = append(news, fmt.Sprintf("%s is no part of it any more", k))
	}
	if len(news) == 0 {
		return "they would be done in another order now"
	}
	return strings.Join(news, "; ")
}

// unlifted returns the interlocks that still stand.
func (p *GroupPreview) unlifted(c operation.Consent) []operation.Interlock {
	return (&operation.Preview{Interlocks: p.Interlocks}).Unlifted(c)
}
