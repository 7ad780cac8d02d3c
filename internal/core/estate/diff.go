package estate

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"time"
)

// ChangeKind says what happened to a thing between two estates.
type ChangeKind string

// The kinds of change.
const (
	Added   ChangeKind = "added"
	Removed ChangeKind = "removed"
	Renamed ChangeKind = "renamed"
	Changed ChangeKind = "changed"
)

// A Change is one difference between two estates.
type Change struct {
	Kind  ChangeKind
	Thing string // "device skarvoe-router", "site skarvoe", "standpoint"
	Field string // of Changed: which property
	From  string
	To    string
}

func (c Change) String() string {
	switch c.Kind {
	case Changed:
		return fmt.Sprintf("%s: %s %s → %s", c.Thing, c.Field, orNothing(c.From), orNothing(c.To))
	case Renamed:
		return fmt.Sprintf("%s renamed from %s", c.Thing, c.From)
	}
	return c.Thing + " " + string(c.Kind)
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}

// Diff lists what changes when the estate old is replaced by now.
func Diff(old, now *Estate) []Change {
	var out []Change
	if old.Standpoint != now.Standpoint {
		out = append(out, Change{Changed, "estate", "standpoint", string(old.Standpoint), string(now.Standpoint)})
	}
	if old.Name != now.Name {
		out = append(out, Change{Changed, "estate", "name", old.Name, now.Name})
	}
	kept := map[Key]bool{}
	for i := range now.Sites {
		s := &now.Sites[i]
		kept[s.Key] = true
		out = append(out, compare("site "+string(s.Key), old.Site(s.Key), s)...)
	}
	for _, s := range old.Sites {
		if !kept[s.Key] {
			out = append(out, Change{Kind: Removed, Thing: "site " + string(s.Key)})
		}
	}
	clear(kept)
	for i := range now.Devices {
		d := &now.Devices[i]
		was, thing := old.Device(d.Key), "device "+string(d.Key)
		if was == nil && d.Was != "" && old.Device(d.Was) != nil {
			was = old.Device(d.Was)
			kept[d.Was] = true
			out = append(out, Change{Kind: Renamed, Thing: thing, From: string(d.Was)})
		}
		kept[d.Key] = true
		out = append(out, compare(thing, was, d)...)
	}
	for i := range old.Devices {
		if k := old.Devices[i].Key; !kept[k] {
			out = append(out, Change{Kind: Removed, Thing: "device " + string(k)})
		}
	}
	return out
}

// compare lists the fields in which two things of one type differ.
func compare[T any](thing string, old, now *T) []Change {
	if old == nil {
		return []Change{{Kind: Added, Thing: thing}}
	}
	var out []Change
	a, b := reflect.ValueOf(*old), reflect.ValueOf(*now)
	for i := range a.NumField() {
		if !a.Type().Field(i).IsExported() {
			continue
		}
		field := a.Type().Field(i).Name
		from, to := words(a.Field(i).Interface()), words(b.Field(i).Interface())
		if from == to || slices.Contains([]string{"Key", "Was"}, field) {
			continue
		}
		out = append(out, Change{Changed, thing, strings.ToLower(field), from, to})
	}
	return out
}

// words says what is expected beside an answer, after a blank.
func (x Expect) words() (s string) {
	for _, w := range []struct {
		is   bool
		text string
	}{
		{x.Status != 0, fmt.Sprintf("status %d", x.Status)}, {x.Text != "", fmt.Sprintf("with %q", x.Text)}, {x.Name != "", "name " + x.Name},
		{x.Answer != "", "answer " + x.Answer}, {x.Certificate, "with a good certificate"}, {x.Days > 0, fmt.Sprintf("for %d days", x.Days)},
	} {
		if w.is {
			s += " " + w.text
		}
	}
	return s
}

// words writes the value of a field as people would.
func words(v any) string {
	switch v := v.(type) {
	case *time.Location:
		return v.String()
	case []PowerCable:
		return join(v, func(c PowerCable) string { return strings.TrimSpace(c.From.String() + " " + c.Feed) })
	case []NetworkCable:
		return join(v, func(c NetworkCable) string { return c.Via.String() })
	case []Probe:
		return join(v, func(p Probe) string {
			must := ""
			if p.Must {
				must = " must"
			}
			return fmt.Sprintf("%s %s every %s%s%s", p.Kind, p.Target, p.Every, must, p.Expect.words())
		})
	case []Endpoint:
		return join(v, func(e Endpoint) string {
			text := fmt.Sprintf("%s (%s %s, every %s", e.Name, e.Protocol, strings.Join(e.Addresses, ", "), e.Every)
			for _, more := range []struct {
				is   bool
				text string
			}{
				{e.Secret != "", "secret " + e.Secret}, {len(e.Network) > 0, "via " + words(e.Network)},
				{e.Profile != "", "profile " + e.Profile}, {e.Sensors != 0, fmt.Sprint("sensors every ", e.Sensors)}, {e.Timeout != 0, fmt.Sprint("timeout ", e.Timeout)},
				{len(e.Suites) > 0, fmt.Sprint("cipher suites ", e.Suites)}, {e.Legacy, "legacy"}, {e.Shared, "shared port"},
				{e.Pin != "", "pin " + e.Pin}, {len(e.Commands) > 0, fmt.Sprint("commands ", e.Commands)}, {e.Listen, "listen"}, {len(e.Recognise) > 0, fmt.Sprint("recognise ", e.Recognise)}, {e.Prompt != "", "prompt " + e.Prompt},
				{e.Path != "" && e.Path != "/", "path " + e.Path}, {e.Watch, "watch"}, {e.Shows != "", "shows " + e.Shows}, {e.PortKeys != "", "port-keys " + e.PortKeys},
			} {
				if more.is {
					text += ", " + more.text
				}
			}
			return text + ")"
		})
	case Use:
		if v == (Use{}) {
			return ""
		}
		text := ""
		if v.Probe != nil {
			text = words([]Probe{*v.Probe})
		}
		return strings.TrimSpace(fmt.Sprintf("%s above %g W calendar %s", text, v.Watts, v.Calendar))
	case []Outlet:
		return join(v, func(o Outlet) string {
			s := fmt.Sprint(o.Number)
			if o.Name != "" {
				s += " " + o.Name
			}
			if o.Unswitched {
				s += " unswitched"
			}
			return s
		})
	case []string:
		return strings.Join(v, ", ")
	}
	return fmt.Sprint(v)
}

func join[T any](vs []T, f func(T) string) string {
	parts := make([]string, len(vs))
	for i, v := range vs {
		parts[i] = f(v)
	}
	return strings.Join(parts, ", ")
}
