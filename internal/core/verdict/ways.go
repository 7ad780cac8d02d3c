package verdict

import (
	"math"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/loss"
)

// A wayLoss is what is lost on the way through a hop: how many questions in a row have to
// go unanswered for a silence, and the share that does.
type wayLoss struct {
	need    int
	percent float64 // in whole numbers; in fives where it is more than that
}

func wayLossOf(l loss.Meter) wayLoss {
	w := wayLoss{l.Need(), math.Round(100 * l.Share())}
	if w.percent > 5 {
		w.percent = 5 * math.Round(20*l.Share())
	}
	return w
}

// need is how many questions have to go unanswered in a row on a way, by what is lost on
// it of late.
func (m *Moment) need(cables []estate.NetworkCable) int {
	least := 0
	for i, c := range cables {
		if n := m.wayLoss(c.Via.Device).need; i == 0 || n < least {
			least = n
		}
	}
	return least
}

// wayLoss is what is lost on the way through a hop: by the hop, and by all that is next to
// it; or what is lost further up, when that is worse.
func (m *Moment) wayLoss(via estate.Key) wayLoss {
	d := m.e.Device(via)
	m.look(stateOf, d)
	w, known := m.ways.of(d)
	if !known {
		was := m.as(d.Index())
		*w = wayLossOf(m.ev.Ways[via])
		if len(d.Network) > 0 {
			if up := m.wayLoss(d.Network[0].Via.Device); up.need > w.need {
				*w = up
			}
		}
		m.at = was
	}
	return *w
}

// losses adds up, hop by hop, what is lost next to each next to which something is.
func losses(e *estate.Estate, ev *Evidence) map[estate.Key]loss.Meter {
	out := make(map[estate.Key]loss.Meter)
	note := func(path []estate.NetworkCable, l loss.Meter) {
		if l.Lost == 0 || len(path) == 0 {
			return // where nothing is lost, it does not matter how much is not
		}
		if hop := path[0].Via.Device; out[hop] == (loss.Meter{}) {
			out[hop] = lossNextTo(e, ev, hop)
		}
	}
	for id, p := range ev.Probes {
		note(e.PathOf(id.Device, ""), p.Loss)
	}
	for id, p := range ev.Endpoints {
		note(e.PathOf(id.Device, id.Name), p.Loss)
	}
	return out
}

func lossNextTo(e *estate.Estate, ev *Evidence, hop estate.Key) (l loss.Meter) {
	for _, x := range e.NextTo(hop) {
		if x.Name != "" {
			l = l.Add(ev.Endpoints[x].Loss)
			continue
		}
		for n := range e.Device(x.Device).Probes {
			l = l.Add(ev.Probes[ProbeID{x.Device, n}].Loss)
		}
	}
	return l
}

// lossyPercent is how much has to be lost for that to be worth a word.
const lossyPercent = 3

// lossy says that a way loses packets, where that begins.
func (m *Moment) lossy(d *estate.Device) []Reason {
	here := m.wayLoss(d.Key)
	if here.need == loss.Least {
		return nil
	}
	for _, c := range d.Network {
		if m.wayLoss(c.Via.Device).percent >= here.percent/2 {
			return nil // it begins further up
		}
	}
	if here.percent < lossyPercent {
		return nil
	}
	return []Reason{{Text: Say("about %.0f %% of the questions to what is behind it go unanswered, so silence is believed after %d in a row", here.percent, here.need)}}
}
