package power

import (
	"fmt"
	"slices"

	"plumbbob/internal/core/estate"
)

// A Weakness is a standing fault in how things are fed.
type Weakness struct {
	Device estate.Key
	Name   string // stable, for programs
	Text   string
	Remedy string
}

// Weaknesses finds what is fed so that it fails just when it is needed, and
// what a UPS carries that it need not.
func (w World) Weaknesses(site estate.Key) []Weakness {
	var out []Weakness
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		if d.Site != site {
			continue
		}
		out = append(out, w.rescuers(d)...)
		out = append(out, w.oneFeed(d)...)
		if d.Supply != nil {
			out = append(out, w.needless(d)...)
		}
	}
	return out
}

// rescuers: a way in to a device that is dark when the device is.
func (w World) rescuers(d *estate.Device) []Weakness {
	dark := w.darkWith(d.Key)
	var out []Weakness
	for _, x := range []struct {
		what string
		ends []estate.End
	}{{"screen", d.Video}, {"console", d.Serial}, {"buttons", d.Panel}} {
		for _, end := range x.ends {
			if dark[end.Device] {
				out = append(out, Weakness{d.Key, "fed-by-rescued",
					fmt.Sprintf("%s, which is the way to the %s of %s, hangs on the power of %s itself", end.Device, x.what, d.Key, d.Key),
					fmt.Sprintf("feed %s from an outlet of its own", end.Device)})
			}
		}
	}
	return out
}

// darkWith is what goes dark when a device does.
func (w World) darkWith(k estate.Key) map[estate.Key]bool {
	cut := map[estate.End]bool{}
	mark(cut, w.Estate.Device(k).Gives())
	dark := map[estate.Key]bool{}
	for _, l := range w.Estate.LosesPower(cut) {
		if l.Dark {
			dark[l.Device] = true
		}
	}
	return dark
}

// oneFeed: two feeds that come from the same source protect from little.
func (w World) oneFeed(d *estate.Device) []Weakness {
	if len(d.Power) < 2 {
		return nil
	}
	first := d.Power[0].From
	same := !slices.ContainsFunc(d.Power[1:], func(c estate.PowerCable) bool { return c.From.Device != first.Device })
	if !same || first.Device == estate.Utility {
		return nil
	}
	return []Weakness{{d.Key, "one-source", fmt.Sprintf("all feeds of %s come from %s", d.Key, first.Device), "move one of them to another PDU"}}
}

// needless: what may be shed on battery, and hangs on it.
func (w World) needless(ups *estate.Device) []Weakness {
	var out []Weakness
	for _, h := range w.shed(ups.Key) {
		text := fmt.Sprintf("%s is not essential, and hangs on %s", h.Device, ups.Key)
		if h.W != nil {
			text = fmt.Sprintf("%s is not essential, and takes %.0f W from %s", h.Device, *h.W, ups.Key)
		}
		out = append(out, Weakness{h.Device, "needless-on-battery", text, "feed it past the UPS, or shed it when the utility fails"})
	}
	return out
}
