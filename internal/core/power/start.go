package power

import (
	"slices"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

// A Start is a device that gets power, and what it takes then, in W.
type Start struct {
	Device estate.Key
	W      float64 // once it runs
	Surge  float64 // for a moment when power returns
}

// DefaultSurge is how many times its usual draw a device takes for a moment
// when power returns, where the estate does not say.
const DefaultSurge = 2.2

// StartOf is what a device takes when it gets power. usual is what it drew
// while it ran, in W; ok is false when nothing is known of that.
func StartOf(d *estate.Device, usual float64) (s Start, ok bool) {
	s = Start{d.Key, usual, d.InrushW}
	if s.Surge == 0 {
		s.Surge = usual * DefaultSurge
	}
	if s.W == 0 {
		s.W = s.Surge / DefaultSurge
	}
	return s, s.W > 0
}

// What an element may carry for the moment of an inrush, in times its rating. A
// breaker of any usual curve holds twice its rating for some seconds (IEC
// 60898-1, table 7); the inverter of a UPS limits its current at once.
const (
	breakerHolds  = 2.0
	inverterHolds = 1.1
)

// A Burden is an element that has to carry more once something gets power.
type Burden struct {
	Element
	BeforeW, AfterW, SurgeW float64
	Over                    bool // more than it may once everything runs
	OverSurge               bool // more than it holds for the moment of the inrush
}

// IfStarted works out what has to be carried once some devices have got power,
// all at the same moment: on every element above them that is measured.
func (w World) IfStarted(starts []Start) []Burden {
	steady, surge := map[estate.End]float64{}, map[estate.End]float64{}
	for _, s := range starts {
		d := w.Estate.Device(s.Device)
		if d == nil {
			continue
		}
		feeds := w.liveFeeds(d)
		for _, c := range feeds {
			w.raise(c, s.W/float64(len(feeds)), steady)
			w.raise(c, s.Surge/float64(len(feeds)), surge)
		}
	}
	var out []Burden
	for i := range w.Estate.Devices {
		d := &w.Estate.Devices[i]
		whole := estate.End{Device: d.Key}
		if steady[whole] == 0 && surge[whole] == 0 || !gives(d) {
			continue
		}
		for _, x := range w.Of(d) {
			more, peak := steady[whole], surge[whole]
			if x.Kind == Bank {
				more, peak = bankExtra(d, x.Name, steady), bankExtra(d, x.Name, surge)
			}
			if x.W == nil || x.Kind == Phase || peak == 0 {
				continue
			}
			out = append(out, burden(x, more, peak))
		}
	}
	return out
}

func burden(x Element, more, peak float64) Burden {
	b := Burden{Element: x, BeforeW: *x.W, AfterW: *x.W + more, SurgeW: *x.W + peak}
	holds := breakerHolds
	if x.Kind == UPS {
		holds = inverterHolds
	}
	b.Over = x.RatingW > 0 && b.AfterW > x.RatingW
	b.OverSurge = x.RatingW > 0 && b.SurgeW > holds*x.RatingW
	return b
}

// liveFeeds are the feeds through which a device will take what it takes: those
// of which nothing says that they carry none.
func (w World) liveFeeds(d *estate.Device) []estate.PowerCable {
	live := slices.DeleteFunc(slices.Clone(d.Power), func(c estate.PowerCable) bool {
		return c.From.Device != estate.Utility && verdict.Powerless(w.Estate, w.Evidence, c.From.Device, w.Now)
	})
	if len(live) == 0 {
		return d.Power
	}
	return live
}
