package verdict

import (
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// Ports are those of a switch, as it last told of them.
type Ports struct {
	At   time.Time
	List []reading.Neighbour
}

// TakePorts takes in what a switch says of its ports. A port that is down tells of no
// neighbour any more, so who was on it is remembered; known says whether there is a
// device of that name.
func (ev *Evidence) TakePorts(k estate.Key, p Ports, known func(estate.Key) bool) {
	ev.news(true)
	ev.Ports[k] = p
	ev.touch(k)
	for _, n := range p.List {
		if on := estate.Key(n.Name); n.Name != "" && known(on) {
			ev.Plugged[on] = estate.End{Device: k, Port: n.Port}
			ev.touch(on)
		}
	}
}

// plug is the port of a switch on which a device hangs: as the estate says, as the switch
// has told of it, or as somebody has called the port. at is when the switch was asked.
func (m *Moment) plug(d *estate.Device) (port reading.Neighbour, of estate.Key, at time.Time, known bool) {
	for _, c := range d.Network {
		if via := m.e.Device(c.Via.Device); via != nil {
			m.look(factsOf, via)
		}
		all, seen := m.ev.Ports[c.Via.Device]
		if !seen || len(d.Network) > 1 {
			return port, of, at, false
		}
		last := m.ev.Plugged[d.Key]
		for _, n := range all.List {
			if c.Via.Port != "" && n.Port == c.Via.Port || n.Alias == string(d.Key) || last.Device == c.Via.Device && n.Port == last.Port {
				return n, c.Via.Device, all.At, true
			}
		}
	}
	return port, of, at, false
}

// portDown: the switch says that nothing is on its port any more. Who hangs keeps its link.
func (m *Moment) portDown(d *estate.Device, h *hearing) (Reason, bool) {
	n, of, at, known := m.plug(d)
	if !known || n.Up || !at.After(h.since) {
		return Reason{}, false
	}
	return Reason{Stance: For, At: at, Text: Say("port %s of %s is down: it is its cable, its network card or its power", n.Port, of)}, true
}

// portUp says that its link is there, which leaves the device, or the way further in.
func (m *Moment) portUp(d *estate.Device, h *hearing) []Reason {
	n, of, at, known := m.plug(d)
	if !known || !n.Up || !at.After(h.since) {
		return nil
	}
	return []Reason{{Stance: Note, At: at, Text: Say("port %s of %s is up", n.Port, of)}}
}

// portUnread: on which port a device hangs is known, and how that is will be known in a
// moment: its switch answers, and has not been asked since.
func (m *Moment) portUnread(d *estate.Device, h *hearing) bool {
	_, of, at, known := m.plug(d)
	if !known || at.After(h.since) || m.past(h.since.Add(settling+1)) {
		return false
	}
	for _, ep := range m.e.Device(of).Endpoints {
		if m.endpoint(m.e.Device(of), ep.Name).Answers() {
			return true
		}
	}
	return false
}
