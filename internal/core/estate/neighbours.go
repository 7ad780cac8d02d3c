package estate

import (
	"fmt"
	"maps"
	"slices"
)

// CompareNeighbours compares who is on the ports of a switch (port → the name
// that the neighbour gives) with the network cables of the estate. It says what
// does not match. Who does not say its name is no mismatch: many devices do not.
func CompareNeighbours(e *Estate, sw Key, seen map[string]string) []string {
	where := map[Key]string{}
	for port, name := range seen {
		where[Key(name)] = port
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
			if other := seen[c.Via.Port]; c.Via.Port != "" && !heard && other != "" {
				out = append(out, fmt.Sprintf("%s is on port %s, where the estate has %s", other, c.Via.Port, d.Key))
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
