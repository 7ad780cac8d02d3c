package estate

import (
	"fmt"
	"slices"
	"strings"
)

// A Problem is one thing that cannot be so, and where it stands in the
// estate: "devices", "skarvoe-router", "power", "0".
type Problem struct {
	Path []string
	Text string
}

func (p Problem) Error() string { return strings.Join(p.Path, ".") + ": " + p.Text }

type checker struct {
	*Estate
	problems []Problem
}

func (c *checker) add(path []string, format string, args ...any) {
	c.problems = append(c.problems, Problem{path, fmt.Sprintf(format, args...)})
}

// check looks at single devices first; the graphs are only walked when every
// cable leads somewhere.
func (e *Estate) check() []Problem {
	c := &checker{Estate: e}
	if e.Standpoint == "" && len(e.Devices) > 0 {
		c.add([]string{"standpoint"}, "is missing: name the device on which the service runs")
	} else if e.Standpoint != "" && e.device[e.Standpoint] == nil {
		c.add([]string{"standpoint"}, "there is no device %q: add it under devices, or correct the name", e.Standpoint)
	}
	for i := range e.Devices {
		c.one(&e.Devices[i])
	}
	c.renamed()
	if len(c.problems) == 0 {
		c.cycles()
	}
	return c.problems
}

// renamed: two cannot have been the same, and what is still there was not renamed.
func (c *checker) renamed() {
	was := map[Key]Key{}
	for i := range c.Devices {
		d := &c.Devices[i]
		switch {
		case d.Was == "":
			continue
		case c.device[d.Was] != nil:
			c.add(at(d, "was"), "there is still a device %s: it cannot be the old name of %s", d.Was, d.Key)
		case was[d.Was] != "":
			c.add(at(d, "was"), "%s cannot be the old name of both %s and %s", d.Was, was[d.Was], d.Key)
		}
		was[d.Was] = d.Key
	}
}

func at(d *Device, rest ...string) []string {
	return append([]string{"devices", string(d.Key)}, rest...)
}

func (c *checker) one(d *Device) {
	if d.Key == Utility {
		c.add(at(d), "%q means the mains: give the device another key", d.Key)
	}
	if c.site[d.Site] == nil {
		c.add(at(d, "site"), "there is no site %q: add it under sites, or correct the name", d.Site)
	}
	for i, p := range d.Power {
		c.power(d, i, p)
	}
	for i, n := range d.Network {
		c.network(d, at(d, "network", fmt.Sprint(i)), n)
	}
	if len(d.Probes) > 0 && len(d.Network) == 0 && d.Key != c.Standpoint {
		c.add(at(d, "probes"), "are asked over the network, but no network cable says what %s is reached through: add network: [DEVICE]", d.Key)
	}
	for _, ep := range d.Endpoints {
		for i, n := range ep.Network {
			c.network(d, at(d, "endpoints", ep.Name, "network", fmt.Sprint(i)), n)
		}
		if len(ep.Network) == 0 && len(d.Network) == 0 && d.Key != c.Standpoint {
			c.add(at(d, "endpoints", ep.Name), "no network cable says what it is reached through: add network: [DEVICE]")
		}
	}
	for i, k := range d.Needs {
		if c.device[k] == nil || k == d.Key {
			c.add(at(d, "needs", fmt.Sprint(i)), "there is no other device %q: add it under devices, or correct the name", k)
		}
	}
	c.banks(d)
	for kind, list := range map[string][]End{"video": d.Video, "serial": d.Serial, "panel": d.Panel} {
		for i, end := range list {
			if c.device[end.Device] == nil || end.Device == d.Key {
				c.add(at(d, kind, fmt.Sprint(i)), "there is no other device %q: add it under devices, or correct the name", end.Device)
			}
		}
	}
	if d.NeedsFeeds > max(1, len(d.Power)) {
		c.add(at(d, "needs-feeds"), "is %d, but there are only %d power cables", d.NeedsFeeds, len(d.Power))
	}
}

func (c *checker) power(d *Device, i int, p PowerCable) {
	path := at(d, "power", fmt.Sprint(i))
	switch src := c.device[p.From.Device]; {
	case p.From == End{Device: Utility}:
		return
	case p.From.Device == Utility:
		c.add(path, "the utility has no ports: write just utility")
	case p.From.Device == d.Key:
		c.add(path, "%s cannot feed itself", d.Key)
	case src == nil:
		c.add(path, "there is no device %q to be fed from: add it under devices, or correct the name", p.From.Device)
	case p.From.Kind() == Whole && src.Supply != nil:
		return // a UPS feeds what hangs on it as a whole
	case p.From.Kind() == Whole:
		c.add(path, "say which outlet of %s: %s/NUMBER", p.From.Device, p.From.Device)
	default:
		if _, ok := src.SourceAt(p.From.Port); !ok {
			c.add(path, "%s has no %s: it has %s", p.From.Device, p.From.Words(), ports(src))
			return
		}
		// The first user is fine; each later one is told about it.
		first := slices.IndexFunc(d.Power, func(o PowerCable) bool { return o.From == p.From })
		if users := c.fed[p.From]; users[0] != d.Key || first < i {
			c.add(path, "%s already feeds %s: one outlet has one plug, so correct one of the two", p.From.Place(), users[0])
		}
	}
}

// banks: each outlet is behind one breaker at the most.
func (c *checker) banks(d *Device) {
	behind := map[int]string{}
	for i, b := range d.Banks {
		path := at(d, "outlets", "banks", fmt.Sprint(i))
		for _, n := range b.Outlets {
			if _, ok := d.SourceAt(portOf(Socket, n)); !ok {
				c.add(path, "bank %s: there is no outlet %d: there are %s", b.Name, n, ports(d))
			} else if behind[n] != "" {
				c.add(path, "bank %s: outlet %d is in bank %s already", b.Name, n, behind[n])
			}
			behind[n] = b.Name
		}
	}
}

// ports counts what power can be taken from: "8 outlets, 4 PoE ports".
func ports(d *Device) string {
	var words []string
	for _, k := range SourceKinds {
		n := 0
		for _, o := range d.Outlets {
			if o.Kind == k {
				n++
			}
		}
		if n > 0 {
			words = append(words, fmt.Sprintf("%d %ss", n, k.Words()))
		}
	}
	if len(words) == 0 {
		return "none of any kind"
	}
	return strings.Join(words, ", ")
}

func (c *checker) network(d *Device, path []string, n NetworkCable) {
	switch {
	case n.Via.Device == d.Key:
		c.add(path, "%s cannot be reached through itself", d.Key)
	case c.device[n.Via.Device] == nil:
		c.add(path, "there is no device %q to be reached through: add it under devices, or correct the name", n.Via.Device)
	case d.Key == c.Standpoint:
		c.add(path, "%s is the standpoint, where reach lines begin: it is reached through nothing", d.Key)
	}
}

// cycles looks for loops, in each graph on its own. That the gear which
// switches a device is reached through that very device is no contradiction:
// it happens, and the preview of an operation reports it.
func (c *checker) cycles() {
	c.loop("power", "is fed from itself", func(d *Device) (up []Key) {
		for _, p := range d.Power {
			up = append(up, p.From.Device)
		}
		return up
	})
	c.loop("network", "is reached through itself", func(d *Device) (up []Key) {
		for _, n := range d.Network {
			up = append(up, n.Via.Device)
		}
		return up
	})
	c.loop("needs", "needs itself", func(d *Device) []Key { return d.Needs })
}

func (c *checker) loop(kind, text string, up func(*Device) []Key) {
	const (
		open = iota + 1
		done
	)
	state := make(map[Key]int, len(c.Devices))
	var walk func(k Key, path []Key) []Key // the way on which a loop closed, or nil
	walk = func(k Key, path []Key) []Key {
		d := c.device[k]
		if d == nil || state[k] == done {
			return nil
		}
		path = append(path, k)
		if state[k] == open {
			return path
		}
		state[k] = open
		for _, u := range up(d) {
			if found := walk(u, path); found != nil {
				return found
			}
		}
		state[k] = done
		return nil
	}
	for i := range c.Devices {
		if found := walk(c.Devices[i].Key, nil); found != nil {
			closes := found[len(found)-1]
			c.add(at(c.device[closes], kind), "%s %s: %s. Take one of these %s out", closes, text, arrows(found), map[bool]string{true: "needs", false: "cables"}[kind == "needs"])
			return
		}
	}
}

// arrows shows a loop from where it closes: "a → b → a".
func arrows(path []Key) string {
	first := slices.Index(path, path[len(path)-1])
	words := make([]string, 0, len(path))
	for _, k := range path[first:] {
		words = append(words, string(k))
	}
	return strings.Join(words, " → ")
}
