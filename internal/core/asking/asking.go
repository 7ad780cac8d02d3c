// Package asking says who is to be asked at once because of what somebody else has
// answered, or has not. It knows no clock and asks nobody.
package asking

import (
	"slices"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/loss"
)

// Sides are asked as a whole: the production side of a device (an EndpointID without a
// name), or one of its endpoints.

// Asker follows the silences of an estate. It is not for use by more than one goroutine.
type Asker struct {
	e *estate.Estate
	// Sides that went unanswered before what they are reached through was asked: once that
	// has answered, one more question to them tells whether it is them.
	waiting map[estate.Key][]estate.EndpointID
	sides   map[estate.EndpointID]side
	ways    map[estate.Key]loss.Meter // what is lost next to a hop
}

// side is how questions to a side have fared.
type side struct {
	missed int // in a row, up to now
	loss   loss.Meter
}

// New returns an asker for an estate.
func New(e *estate.Estate) *Asker {
	return &Asker{e: e, waiting: map[estate.Key][]estate.EndpointID{}, sides: map[estate.EndpointID]side{}, ways: map[estate.Key]loss.Meter{}}
}

// Missed takes in that a side has not answered, so many times in a row. It returns the
// devices that would explain that: what it is reached through, and what it hangs on. They
// are asked at the first miss, so that their answer is newer than the silence when that
// is certain, and again then.
func (a *Asker) Missed(side estate.EndpointID, inARow int) []estate.Key {
	d := a.e.Device(side.Device)
	if d == nil {
		return nil
	}
	x := a.sides[side]
	x.missed = inARow
	a.sides[side] = x
	if inARow != 1 && inARow != loss.Least {
		return nil
	}
	var ask []estate.Key
	for _, c := range a.e.PathOf(side.Device, side.Name) {
		via := c.Via.Device
		if via == a.e.Standpoint { // its other neighbours tell whether it is our own port
			for _, k := range a.first() {
				if k != side.Device && !slices.Contains(ask, k) {
					ask = append(ask, k)
					a.wait(k, side, inARow)
				}
			}
			continue
		}
		if slices.Contains(ask, via) {
			continue
		}
		ask = append(ask, via)
		a.wait(via, side, inARow)
	}
	for _, end := range a.e.FeedsOf(side.Device) {
		if !slices.Contains(ask, end.Device) {
			ask = append(ask, end.Device)
		}
	}
	return ask
}

// wait has a side asked once more when another device has answered.
func (a *Asker) wait(on estate.Key, side estate.EndpointID, inARow int) {
	if inARow == loss.Least && !slices.Contains(a.waiting[on], side) {
		a.waiting[on] = append(a.waiting[on], side)
	}
}

// neighbours is how many of those that we are connected to are asked.
const neighbours = 3

func (a *Asker) first() (out []estate.Key) {
	for _, d := range a.e.Neighbours() {
		if len(out) < neighbours {
			out = append(out, d.Key)
		}
	}
	return out
}

// Answered takes in that a side has answered; back says that its silence was certain
// before. It returns the sides that may answer now, or whose silence this proves: all
// that is reached through it alone, when it is back, and whatever waits for its answer.
func (a *Asker) Answered(side estate.EndpointID, back bool) []estate.EndpointID {
	a.fared(side)
	ask := a.waiting[side.Device]
	delete(a.waiting, side.Device)
	if d := a.e.Device(side.Device); back && d != nil && (side.Name == "" || len(d.Probes) == 0) {
		ask = append(slices.Clip(ask), a.e.OnlyBehind(side.Device)...)
	}
	if back { // so what it is reached through is, too
		for _, c := range a.e.PathOf(side.Device, side.Name) {
			ask = append(slices.Clip(ask), estate.EndpointID{Device: c.Via.Device})
		}
	}
	return ask
}

// fared adds up what is lost next to each hop.
func (a *Asker) fared(of estate.EndpointID) {
	was := a.sides[of]
	missed := was.missed
	if missed >= a.Need(of) {
		missed = 0 // that was no bad luck
	}
	now := side{loss: was.loss.Answered(missed)}
	a.sides[of] = now
	if path := a.e.PathOf(of.Device, of.Name); len(path) > 0 {
		hop := path[0].Via.Device
		w := a.ways[hop]
		a.ways[hop] = loss.Meter{Lost: max(0, w.Lost+now.loss.Lost-was.loss.Lost), Won: max(0, w.Won+now.loss.Won-was.loss.Won)}
	}
}

// Need is how many questions in a row a side has to leave unanswered until its silence is
// certain, by what is lost on its way.
func (a *Asker) Need(of estate.EndpointID) int {
	need := a.sides[of].loss.Need()
	path := a.e.PathOf(of.Device, of.Name)
	for range len(a.e.Devices) {
		if len(path) == 0 {
			break
		}
		hop := path[0].Via.Device
		need = max(need, a.ways[hop].Need())
		path = a.e.PathOf(hop, "")
	}
	return need
}

// Look lists whom to ask, all at once, for what one look can tell of a device: itself, what
// its sides are reached through, what gives it power, the boards that see its panel.
func Look(e *estate.Estate, k estate.Key) []estate.Key {
	d := e.Device(k)
	if d == nil {
		return nil
	}
	ask := []estate.Key{k}
	add := func(x estate.Key) {
		if x != e.Standpoint && e.Device(x) != nil && !slices.Contains(ask, x) {
			ask = append(ask, x)
		}
	}
	for _, c := range d.Network {
		add(c.Via.Device)
	}
	for _, ep := range d.Endpoints {
		for _, c := range e.PathOf(k, ep.Name) {
			add(c.Via.Device)
		}
	}
	for _, c := range d.Power {
		add(c.From.Device)
	}
	for _, lead := range d.Panel {
		add(lead.Device)
	}
	for _, line := range d.Serial {
		add(line.Device)
	}
	return ask
}
