package lab

import "time"

// start is when the system of a box began to start; zero while it is off.
func (b *box) start() time.Time {
	switch c := b.chassis; {
	case b.powered.IsZero(), b.dark(), c != nil && !c.on:
		return time.Time{}
	case c != nil: // standby power is not the host's
		return c.since
	}
	return b.powered
}

// restart starts the system of a box anew, without its power going.
func (b *box) restart(now time.Time) {
	if b.chassis != nil {
		b.chassis.start(now)
		return
	}
	b.powered, b.hung, b.crashed, b.asleep = now, false, false, false
	b.restartLine()
}

// waits is for how long one start of a box has waited for somebody at its keyboard.
type waits struct {
	start time.Time     // of the box
	since time.Time     // zero while it does not wait
	over  time.Duration // before that
}

// hold has the start of a box wait, or go on.
func (b *box) hold(held bool, now time.Time) {
	w := &b.waits
	if !w.start.Equal(b.start()) {
		*w = waits{start: b.start()}
	}
	switch {
	case held && w.since.IsZero():
		w.since = now
	case !held && !w.since.IsZero():
		w.over, w.since = w.over+now.Sub(w.since), time.Time{}
	}
}

// part is how much of the start of a box is over; 1 and more is all of it.
func (w *World) part(b *box, now time.Time) float64 {
	since := now.Sub(b.start())
	if b.waits.start.Equal(b.start()) {
		since -= b.waits.over
		if !b.waits.since.IsZero() {
			since -= now.Sub(b.waits.since)
		}
	}
	if b.nature.boot <= 0 {
		return 1
	}
	return float64(since) / float64(w.scaled(b.nature.boot))
}
