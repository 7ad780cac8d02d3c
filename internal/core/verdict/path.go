package verdict

import (
	"time"

	"plumbbob/internal/core/estate"
)

// A path is what is known about the way to a device (not about the device).
type path struct {
	state pathState
	cut   estate.Key // where it is broken
	proof estate.Key // the nearest hop that proves it sound
	at    time.Time  // when that hop last answered
}

type pathState uint8

const (
	pathUnproven pathState = iota // nothing newer than the silence says either way
	pathSound
	pathBroken
)

// path looks at every strand. One strand that is sound is enough; it is broken
// only when all are. Proof must be newer than the silence: that a hop answered
// before the device fell silent says nothing about what happened then. And it
// must hold for every question that went unanswered: a hop that has only just
// come back explains them.
func (m *Moment) path(cables []estate.NetworkCable, of silence) path {
	var broken path
	unproven := len(cables) == 0
	for _, c := range cables {
		p := m.strand(c.Via.Device, of)
		switch p.state {
		case pathSound:
			return p
		case pathUnproven:
			unproven = true
		case pathBroken:
			if broken.cut == "" {
				broken = p
			}
		}
	}
	if unproven {
		return path{}
	}
	return broken
}

// strand judges the path up to and through one hop.
func (m *Moment) strand(via estate.Key, of silence) path {
	if via == m.e.Standpoint {
		return path{state: pathSound, proof: via, at: m.now}
	}
	v := m.e.Device(via)
	h := m.hears(v)
	switch {
	case h.silent && m.passing(v) == "":
		return m.breaks(v, h.silence)
	case h.answers && h.lastAnswer.After(of.since) && h.upSince.Before(of.proven):
		return path{state: pathSound, proof: via, at: h.lastAnswer}
	case h.asked && !h.silent:
		return path{} // its next answer, or its silence, will tell
	}
	// Nothing is asked of it, or it only passes traffic on.
	return recall(&m.through, hopOf{via, of}, func() path { return m.path(v.Network, of) })
}

// breaks says where the path through a silent hop is broken: the hop itself is
// behind something broken, or it is where the line breaks.
func (m *Moment) breaks(v *estate.Device, of silence) path {
	return recall(&m.broken, v.Key, func() path {
		if up := m.path(v.Network, of); up.state == pathBroken {
			return up
		}
		return path{state: pathBroken, cut: v.Key}
	})
}

// passing names something that proves that a device which does not answer
// still passes traffic on: it can be reached through that device alone, and it
// was there while the device was asked in vain. Empty when there is no such proof.
func (m *Moment) passing(v *estate.Device) estate.Key {
	return recall(&m.passes, v.Key, func() estate.Key {
		h := m.hears(v)
		for _, side := range m.e.OnlyBehind(v.Key) {
			if last, up := m.answered(side); last.After(h.since) && up.Before(h.proven) {
				return side.Device
			}
		}
		return ""
	})
}

// answered says when a side of a device last answered, and since when it has done
// so; both are zero when it does not.
func (m *Moment) answered(side estate.EndpointID) (last, up time.Time) {
	if side.Name != "" {
		if p := m.ev.Endpoints[side]; p.Answers() {
			return p.LastAnswer, p.UpSince
		}
		return last, up
	}
	for i := range m.e.Device(side.Device).Probes {
		if p := m.ev.Probes[ProbeID{side.Device, i}]; p.Answers() && p.LastAnswer.After(last) {
			last, up = p.LastAnswer, p.UpSince
		}
	}
	return last, up
}
