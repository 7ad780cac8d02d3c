package garage

import (
	"plumbbob/internal/attach"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/gear"
)

// A Line is a way to the line of characters of a device.
type Line struct {
	Endpoint string
	Line     *attach.Line
}

// Lines are the ways to the line of a device, in the order of the estate. One that cannot be
// used is left out while there is another.
func (g *Garage) Lines(k estate.Key) (all []Line, err error) {
	g.mu.Lock()
	d := g.estate.Device(k)
	g.mu.Unlock()
	if d == nil {
		return nil, notSent(gear.Unreachable, "%s is not in the estate any more", k)
	}
	err = notSent(gear.Unsupported, "no serial line, and no command line, of %s is in the estate: state an endpoint with protocol telnet, ssh, ipmi, tty or modem", k)
	for _, ep := range d.Endpoints {
		if !ep.Talks() {
			continue
		}
		driver, openErr := g.Open(estate.EndpointID{Device: k, Name: ep.Name})
		if openErr != nil {
			err = openErr
			continue
		}
		if holder, ok := gear.As[interface{ Line() *attach.Line }](driver); ok {
			all = append(all, Line{ep.Name, holder.Line()})
		}
	}
	if len(all) > 0 {
		return all, nil
	}
	return nil, err
}
