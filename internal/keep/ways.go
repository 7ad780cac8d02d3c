package keep

import (
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/loss"
	"plumbbob/internal/core/verdict"
)

// The series of how questions fare on the way to a device: the share that goes unanswered
// in %, the round trip and its jitter in ms.
const (
	WayLossSeries   = "way:loss"
	WayRTTSeries    = "way:rtt"
	WayJitterSeries = "way:jitter"
)

// How far a figure has to move to be stored before it is stated again.
const (
	lossMoves = 1  // %
	tripMoves = 10 // ms
)

// fared takes in how one question to a device ended, was being the pulse before it. It is
// kept of what others are reached through, and of what loses packets itself.
func (k *Keeper) fared(d *estate.Device, was verdict.Pulse, r verdict.Result) {
	if !r.OK && !r.Wrong || k.evidence.Operating[d.Key] != "" || r.SentAt.Before(was.Asked) {
		return
	}
	missed := was.Misses
	if was.Silent() {
		missed = 0 // that was no bad luck
	}
	t := k.trips[d.Key]
	if t == nil {
		t = &loss.Trip{}
		k.trips[d.Key] = t
	}
	t.Answered(r.SentAt.Add(r.RTT), r.RTT, missed)
	if at := r.SentAt; at.Sub(t.Began) >= loss.Span {
		if len(k.estate.NextTo(d.Key)) > 0 || t.Lost > 0 {
			k.way(d, t, at)
		}
		t.Next(at)
	}
}

func (k *Keeper) way(d *estate.Device, t *loss.Trip, at time.Time) {
	lost, rtt, jitter := t.Figures()
	k.spool.add(seriesKey{d.Key, WayLossSeries}, d.Site, "%", sample{at, lost}, lossMoves)
	k.spool.add(seriesKey{d.Key, WayRTTSeries}, d.Site, "ms", sample{at, rtt}, tripMoves)
	k.spool.add(seriesKey{d.Key, WayJitterSeries}, d.Site, "ms", sample{at, jitter}, tripMoves)
}
