package group

import (
	"fmt"
	"slices"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

// A Selection says who is meant. Several parts are those that are in all of them;
// devices that are named are meant as they are.
type Selection struct {
	Devices []estate.Key
	Site    estate.Key
	PDU     estate.Key // what hangs on it
	UPS     estate.Key // what is fed through it, however far below it
	Tag     string

	Inessential bool // of those only what may be shed
	Unguarded   bool // and what is guarded is left as it is
	LeaveParked bool // and what somebody else has switched off stays off
}

// Words says in words who is meant.
func (s Selection) Words() string {
	switch {
	case len(s.Devices) == 1:
		return string(s.Devices[0])
	case len(s.Devices) > 0:
		return fmt.Sprintf("%d devices", len(s.Devices))
	}
	text := "everything"
	if s.Inessential {
		text += " that is not essential"
	}
	if s.Tag != "" {
		text += " tagged " + s.Tag
	}
	if s.PDU != "" {
		text += " on " + string(s.PDU)
	}
	if s.UPS != "" {
		text += " behind " + string(s.UPS)
	}
	if s.Site != "" {
		text += " at " + string(s.Site)
	}
	return text
}

// Pick finds who is meant, in the order of the estate. Its error is an
// *operation.UsageError.
func (s Selection) Pick(e *estate.Estate) ([]estate.Key, error) {
	refuse := func(format string, args ...any) ([]estate.Key, error) {
		return nil, &operation.UsageError{Text: fmt.Sprintf(format, args...)}
	}
	if len(s.Devices) > 0 && (s.Site != "" || s.PDU != "" || s.UPS != "" || s.Tag != "") {
		return refuse("name devices, or say which by site, PDU, UPS or tag: not both")
	}
	for i, k := range s.Devices {
		if e.Device(k) == nil {
			return refuse("there is no device %q: plumb board lists them", k)
		}
		if slices.Contains(s.Devices[:i], k) {
			return refuse("%s is named twice", k)
		}
	}
	if len(s.Devices) > 0 {
		return s.Devices, nil
	}
	switch {
	case s.Site != "" && e.Site(s.Site) == nil:
		return refuse("there is no site %q", s.Site)
	case s.PDU != "" && (e.Device(s.PDU) == nil || len(e.Device(s.PDU).Outlets) == 0):
		return refuse("%q is nothing that power can be taken from", s.PDU)
	case s.UPS != "" && (e.Device(s.UPS) == nil || e.Device(s.UPS).Supply == nil):
		return refuse("%q is no UPS", s.UPS)
	case s.Site == "" && s.PDU == "" && s.UPS == "" && s.Tag == "":
		return refuse("nobody is meant: name devices, or a site, a PDU, a UPS or a tag")
	}
	var out []estate.Key
	for i := range e.Devices {
		d := &e.Devices[i]
		hangs := func(c estate.PowerCable) bool { return c.From.Device == s.PDU }
		switch {
		case s.Inessential && d.Essential, s.Unguarded && d.Guarded:
		case s.Site != "" && d.Site != s.Site, s.Tag != "" && !slices.Contains(d.Tags, s.Tag):
		case s.PDU != "" && !slices.ContainsFunc(d.Power, hangs):
		case s.UPS != "" && !slices.Contains(e.SuppliesOf(d.Key), s.UPS):
		default:
			out = append(out, d.Key)
		}
	}
	if len(out) == 0 {
		return refuse("there is nothing: %s", s.Words())
	}
	return out, nil
}

// Arrange puts members into the order in which they depend on each other: what
// gets power after what it is fed and reached through, and what it needs; what
// loses it before them.
func Arrange(e *estate.Estate, ks []estate.Key, kind operation.Kind) []Member {
	before := map[estate.Key][]estate.Key{}
	for _, k := range ks {
		above := map[estate.Key]bool{}
		ancestors(e, k, above)
		for _, other := range ks {
			if other == k || !above[other] {
				continue
			}
			if goesDown(kind) {
				before[other] = append(before[other], k)
			} else {
				before[k] = append(before[k], other)
			}
		}
	}
	var out []Member
	placed := map[estate.Key]bool{}
	for len(out) < len(ks) {
		k := pick(ks, before, placed)
		m := Member{Device: k, State: Pending}
		for _, b := range before[k] {
			if placed[b] { // of a ring, one link is not heeded
				m.After = append(m.After, b)
			}
		}
		placed[k] = true
		out = append(out, m)
	}
	return out
}

// goesDown says whether a kind of operation takes things down, so that what
// depends on others has to go first.
func goesDown(kind operation.Kind) bool {
	return kind == operation.Off || kind == operation.Shutdown || kind == operation.Sleep
}

// pick is the first that nothing unplaced has to come before, or, where there is
// a ring, the first at all.
func pick(ks []estate.Key, before map[estate.Key][]estate.Key, placed map[estate.Key]bool) estate.Key {
	first := estate.Key("")
	for _, k := range ks {
		if placed[k] {
			continue
		}
		if first == "" {
			first = k
		}
		if !slices.ContainsFunc(before[k], func(b estate.Key) bool { return !placed[b] }) {
			return k
		}
	}
	return first
}

// ancestors gathers what a device is fed and reached through, and what it needs.
func ancestors(e *estate.Estate, k estate.Key, into map[estate.Key]bool) {
	d := e.Device(k)
	if d == nil {
		return
	}
	visit := func(up estate.Key) {
		if !into[up] && up != estate.Utility {
			into[up] = true
			ancestors(e, up, into)
		}
	}
	for _, c := range d.Power {
		visit(c.From.Device)
	}
	for _, c := range d.Network {
		visit(c.Via.Device)
	}
	for _, n := range d.Needs {
		visit(n)
	}
}
