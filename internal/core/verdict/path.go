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
func (j *judge) path(cables []estate.NetworkCable, of silence) path {
	var broken path
	unproven := len(cables) == 0
	for _, c := range cables {
		p := j.strand(c.Via.Device, of)
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
func (j *judge) strand(via estate.Key, of silence) path {
	if via == j.e.Standpoint {
		return path{state: pathSound, proof: via, at: j.now}
	}
	v := j.e.Device(via)
	h := j.hears(v)
	switch {
	case h.silent && j.passing(v, h) == "":
		// The hop itself is behind something broken, or it is where the line breaks.
		if up := j.path(v.Network, h.silence); up.state == pathBroken {
			return up
		}
		return path{state: pathBroken, cut: via}
	case h.answers && h.lastAnswer.After(of.since) && h.upSince.Before(of.proven):
		return path{state: pathSound, proof: via, at: h.lastAnswer}
	case h.asked && !h.silent:
		return path{} // its next answer, or its silence, will tell
	}
	return j.path(v.Network, of) // nothing is asked of it, or it only passes traffic on
}

// passing names something that proves that a device which does not answer
// still passes traffic on: it can be reached through that device alone, and it
// was there while the device was asked in vain. Empty when there is no such proof.
func (j *judge) passing(v *estate.Device, h hearing) estate.Key {
	for _, side := range j.e.OnlyBehind(v.Key) {
		if last, up := j.answered(side); last.After(h.since) && up.Before(h.proven) {
			return side.Device
		}
	}
	return ""
}

// answered says when a side of a device last answered, and since when it has done
// so; both are zero when it does not.
func (j *judge) answered(side estate.EndpointID) (last, up time.Time) {
	if side.Name != "" {
		if p := j.ev.Endpoints[side]; p.Answers() {
			return p.LastAnswer, p.UpSince
		}
		return last, up
	}
	for i := range j.e.Device(side.Device).Probes {
		if p := j.ev.Probes[ProbeID{side.Device, i}]; p.Answers() && p.LastAnswer.After(last) {
			last, up = p.LastAnswer, p.UpSince
		}
	}
	return last, up
}
