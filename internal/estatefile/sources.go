package estatefile

import (
	"fmt"
	"net"
	"slices"
	"strings"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/profile"
)

// sources reads what a device gives power to others through, and what wakes it.
func (p *parser) sources(path []string, d device, out *estate.Device) {
	out.Outlets = p.outlets(append(path, "outlets"), d.Outlets)
	for _, s := range []struct {
		key  string
		kind estate.SourceKind
		list sources
	}{{"dc", estate.DC, d.DC}, {"poe", estate.PoE, d.PoE}, {"usb", estate.USB, d.USB}, {"slots", estate.Slot, d.Slots}} {
		if !p.count(append(path, s.key), s.key, int(s.list.Count)) {
			continue
		}
		for n := 1; n <= int(s.list.Count); n++ {
			out.Outlets = append(out.Outlets, estate.Outlet{Kind: s.kind, Number: n, Name: s.list.Names[n], Unswitched: s.kind == estate.USB})
		}
	}
	for _, b := range d.Outlets.Banks {
		out.Banks = append(out.Banks, estate.Bank{Name: b.Name, Outlets: b.Outlets, RatingA: b.Rating, Phase: b.Phase, Whole: b.Whole})
	}
	if d.Inlet != nil {
		out.Inlet = estate.Inlet{RatingA: d.Inlet.Rating, Volts: d.Inlet.Volts}
	}
	if d.UPS != nil {
		out.Supply = &estate.Supply{RatingW: d.UPS.Rating, LowMinutes: d.UPS.Low, Shutdown: d.UPS.Shutdown}
	}
	if d.Wake != nil {
		out.Wake = p.wake(append(path, "wake"), *d.Wake)
	}
	out.Video = p.ends(append(path, "video"), d.Video)
	out.Serial = p.ends(append(path, "serial"), d.Serial)
	out.Panel = p.ends(append(path, "panel"), d.Panel)
}

func (p *parser) ends(path []string, list []string) []estate.End {
	var out []estate.End
	for i, s := range list {
		out = append(out, p.end(append(path, fmt.Sprint(i)), s))
	}
	return out
}

func (p *parser) count(path []string, what string, n int) bool {
	if n < 0 || n > maxOutlets {
		p.fault(append(path, "count"), "%s count: %d is not between 0 and %d", what, n, maxOutlets)
		return false
	}
	return true
}

func (p *parser) outlets(path []string, o outlets) []estate.Outlet {
	if !p.count(path, "outlets", int(o.Count)) {
		return nil
	}
	for _, n := range o.Unswitched {
		if n < 1 || n > int(o.Count) {
			p.fault(append(path, "unswitched"), "outlets unswitched: there is no outlet %d among %d", n, o.Count)
		}
	}
	out := make([]estate.Outlet, o.Count)
	for i := range out {
		out[i] = estate.Outlet{Number: i + 1, Name: o.Names[i+1], Unswitched: slices.Contains(o.Unswitched, i+1)}
	}
	return out
}

func (p *parser) wake(path []string, w wake) *estate.Wake {
	if mac, err := net.ParseMAC(w.MAC); err != nil || len(mac) != 6 {
		p.fault(append(path, "mac"), "wake mac: %q is not a hardware address such as 02:00:5e:00:53:07", w.MAC)
	}
	if w.Broadcast == "" {
		w.Broadcast = "255.255.255.255:9"
	}
	p.hostPort(append(path, "broadcast"), w.Broadcast)
	return &estate.Wake{MAC: w.MAC, Broadcast: w.Broadcast, Secret: w.Secret}
}

// profile settles which profile an endpoint follows, and that it is one for
// the protocol of the endpoint.
func (p *parser) profile(path []string, name string, out estate.Endpoint, e endpoint) {
	pr, err := profile.Find(e.Profile)
	switch {
	case err != nil:
		p.fault(append(path, "profile"), "%s profile: %q is not known: there is %s", name, e.Profile, strings.Join(profile.Names(), ", "))
	case pr.Protocol != string(out.Protocol):
		p.fault(append(path, "profile"), "%s profile: %s is for protocol %s, and this endpoint speaks %s", name, e.Profile, pr.Protocol, e.Protocol)
	}
}
