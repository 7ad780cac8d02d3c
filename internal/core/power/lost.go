package power

import (
	"maps"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

// A Shift is an element that has to carry more once another is lost.
type Shift struct {
	Element
	BeforeW, AfterW float64
	Over            bool // more than it may
}

// Failover is what happens when an element is lost.
type Failover struct {
	Lost   estate.Key
	Dark   []estate.Key // devices that lose their last feed
	Alone  []estate.Key // devices that keep running, on fewer feeds
	Shifts []Shift      // what the others have to carry then
	// Unknown are devices whose draw is not measured, so that what moves with
	// them is missing from the shifts.
	Unknown []estate.Key
}

// Holds says whether nothing goes dark and nothing is overloaded.
func (f Failover) Holds() bool {
	for _, s := range f.Shifts {
		if s.Over {
			return false
		}
	}
	return len(f.Dark) == 0
}

// IfLost works out what happens when all that a device gives is gone.
func (w World) IfLost(k estate.Key) Failover {
	cut := map[estate.End]bool{}
	if d := w.Estate.Device(k); d != nil {
		mark(cut, d.Gives())
	}
	f := w.ifCut(cut, map[estate.Key]bool{k: true})
	f.Lost = k
	return f
}

// IfCut works out what happens when some outlets are switched off.
func (w World) IfCut(outlets []estate.End) Failover {
	cut := map[estate.End]bool{}
	mark(cut, outlets)
	return w.ifCut(cut, map[estate.Key]bool{})
}

// ifCut: what is carried by cables that are cut, for devices with other feeds,
// moves to those, and from there up their power lines.
func (w World) ifCut(wanted map[estate.End]bool, dark map[estate.Key]bool) Failover {
	cut := w.Without()
	before := map[estate.Key]estate.Loss{}
	for _, l := range w.Estate.LosesPower(cut) {
		before[l.Device] = l
	}
	maps.Copy(cut, wanted)
	var f Failover
	var alone []estate.Loss
	for _, l := range w.Estate.LosesPower(cut) {
		was, lacked := before[l.Device]
		switch {
		case lacked && was.Dark:
			dark[l.Device] = true
		case l.Dark:
			dark[l.Device] = true
			f.Dark = append(f.Dark, l.Device)
		case !lacked || l.Left < was.Left:
			alone = append(alone, l)
		}
	}
	more := map[estate.End]float64{}
	for _, l := range alone {
		f.Alone = append(f.Alone, l.Device)
		w.move(l.Device, cut, dark, more, &f)
	}
	f.Shifts = w.shifts(more, dark)
	return f
}

// Without are the ends that carry nothing now: outlets that are seen open, and
// all of what has no power itself.
func (w World) Without() map[estate.End]bool {
	none := map[estate.End]bool{}
	for end := range w.Evidence.Outlets {
		if o, fresh := w.outlet(end); fresh && !o.On && !(o.Metered && o.W > verdict.DefaultIdleW) {
			none[end] = true
		}
	}
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		if gives(d) && (verdict.Powerless(w.Estate, w.Evidence, d.Key, w.Now) || verdict.OutputOff(w.Evidence, d, w.Now)) {
			mark(none, d.Gives())
		}
	}
	return none
}

func mark(in map[estate.End]bool, ends []estate.End) {
	for _, end := range ends {
		in[end] = true
	}
}

// move shares out what a device took through lost cables among those it keeps.
func (w World) move(k estate.Key, cut map[estate.End]bool, dark map[estate.Key]bool, more map[estate.End]float64, f *Failover) {
	d := w.Estate.Device(k)
	var kept []estate.PowerCable
	moved := 0.0
	for _, c := range d.Power {
		if !cut[c.From] && !dark[c.From.Device] {
			kept = append(kept, c)
			continue
		}
		watts, known := w.Carried(d, c)
		if !known {
			f.Unknown = append(f.Unknown, k)
		}
		moved += watts
	}
	for _, c := range kept {
		w.raise(c, moved/float64(len(kept)), more)
	}
}

// raise adds to a cable and to all above it.
func (w World) raise(c estate.PowerCable, watts float64, more map[estate.End]float64) {
	more[c.From] += watts
	d := w.Estate.Device(c.From.Device)
	if d == nil {
		return
	}
	if c.From.Kind() != estate.Whole {
		more[estate.End{Device: c.From.Device}] += watts // the whole of it, beside the outlet
	}
	for _, up := range d.Power {
		w.raise(up, watts/float64(len(d.Power)), more)
	}
}

func (w World) shifts(more map[estate.End]float64, dark map[estate.Key]bool) []Shift {
	var out []Shift
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		extra, ok := more[estate.End{Device: d.Key}]
		if !ok || dark[d.Key] || len(d.Outlets) == 0 && d.Supply == nil {
			continue
		}
		for _, x := range w.Of(d) {
			if x.Kind == Bank {
				extra = bankExtra(d, x.Name, more)
			}
			if x.W == nil || x.Kind == Phase || extra == 0 {
				continue
			}
			s := Shift{Element: x, BeforeW: *x.W, AfterW: *x.W + extra}
			s.Over = x.RatingW > 0 && s.AfterW > x.RatingW
			out = append(out, s)
		}
	}
	return out
}

func bankExtra(d *estate.Device, name string, more map[estate.End]float64) (extra float64) {
	for _, b := range d.Banks {
		if b.Name != name {
			continue
		}
		for _, n := range b.Outlets {
			extra += more[estate.OutletEnd(d.Key, n)]
		}
	}
	return extra
}
