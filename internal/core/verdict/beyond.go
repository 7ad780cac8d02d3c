package verdict

import (
	"time"

	"plumbbob/internal/core/estate"
)

// beyond is how those are next behind a hop that are at other sites.
type beyond struct {
	lost  int       // how many of them are silent since one moment, when all are
	since time.Time // when the first of them fell silent
	last  time.Time // and the last
	open  bool      // some fell silent just now, and none of the others has answered since
}

// listenBeyond finds out how those beyond a hop are. No power feeds them all, so when all of them fall silent
// at one moment it is the hop, or its line, although it answers.
func (m *Moment) listenBeyond(v *estate.Device) beyond {
	those := m.e.Beyond(v.Key)
	n, _, first, last := m.silences(those)
	switch {
	case n == len(those) && last.Sub(first) <= atOnce:
		return beyond{lost: n, since: first, last: last}
	case n == 0, n == len(those), m.past(last.Add(2 * atOnce)):
		return beyond{}
	}
	for _, d := range those {
		if h := m.hears(d); !h.silent && h.asked {
			if m.look(factsOf, d); h.lastAnswer.After(last) {
				return beyond{}
			}
		}
	}
	return beyond{last: last, open: true}
}

// lost says how many beyond a hop that answers fell silent at one moment, when all have, and since when.
func (m *Moment) lost(v *estate.Device) (n int, since time.Time) {
	b := m.beyond(v)
	return b.lost, b.since
}

func (m *Moment) beyond(v *estate.Device) beyond {
	if len(m.e.Beyond(v.Key)) == 0 || !m.hears(v).answers {
		return beyond{}
	}
	return m.sided(v).beyond
}

// mayLeadNowhere: what is behind a hop fell silent with some of what is beyond it, and it is not known yet
// whether all have.
func (m *Moment) mayLeadNowhere(v *estate.Device, of silence) bool {
	b := m.beyond(v)
	return b.open && apart(b.last, of.since) <= atOnce
}

// leadsNowhere: what is behind a hop fell silent with all that is beyond it. What is beside it and fell silent
// just then cannot be told from that, and is not blamed either.
func (m *Moment) leadsNowhere(v *estate.Device, of silence) bool {
	n, since := m.lost(v)
	return n > 0 && apart(since, of.since) <= atOnce
}
