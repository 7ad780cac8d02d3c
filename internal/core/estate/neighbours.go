package estate

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// CompareNeighbours compares who is on the ports of a switch (port → the names
// that the neighbours give) with the network cables of the estate. It says what
// does not match. Who does not say its name is no mismatch: many devices do not.
func CompareNeighbours(e *Estate, sw Key, seen map[string][]string) []string {
	where := map[Key]string{}
	for port, names := range seen {
		for _, name := range names {
			where[Key(name)] = port
		}
	}
	var out []string
	cabled := map[Key]bool{}
	for i := range e.Devices {
		d := &e.Devices[i]
		for _, c := range d.Network {
			if d.Key == sw {
				cabled[c.Via.Device] = true
				continue
			}
			if c.Via.Device != sw {
				continue
			}
			cabled[d.Key] = true
			port, heard := where[d.Key]
			if heard && c.Via.Port != "" && c.Via.Port != port {
				out = append(out, fmt.Sprintf("%s is on port %s, and the estate has it on port %s", d.Key, port, c.Via.Port))
			}
			if others := seen[c.Via.Port]; c.Via.Port != "" && !heard && len(others) > 0 {
				out = append(out, fmt.Sprintf("%s is on port %s, where the estate has %s", strings.Join(others, ", "), c.Via.Port, d.Key))
			}
		}
	}
	for _, k := range slices.Sorted(maps.Keys(where)) {
		if d := e.Device(k); d != nil && !cabled[k] && k != sw {
			out = append(out, fmt.Sprintf("%s is on port %s, and the estate has no cable from it to %s", k, where[k], sw))
		}
	}
	return out
}
