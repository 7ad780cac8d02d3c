package verdict

import (
	"slices"
	"time"

	"plumbbob/internal/core/estate"
)

// What is looked at while something is worked out is noted, so that a Standing knows what
// has to be worked out again, and when. There are as many kinds of what can be looked at
// as are known to change apart from each other.
type source uint32

const (
	stateOf source = iota // how a device answers and has power, in short: its summary
	factsOf               // all that was observed of it
	sidesOf               // what answers behind a hop that is silent, and what does not
	ownPortOf
	sources
)

func (kind source) of(d *estate.Device) source { return source(d.Index())*sources + kind }

// A frame is what one reader has looked at. Readers have numbers: devices those of their
// places; behind them, in the same order, the sides of each; and our own port the last.
type frame struct {
	looked []source
	until  time.Time // when time alone may change what was worked out; zero: never
	open   bool      // a verdict in it waits for what is heard next
	used   bool
}

func (f *frame) add(o *frame) {
	f.looked = append(f.looked, o.looked...)
	f.wake(o.until)
}

func (f *frame) wake(at time.Time) {
	if !at.IsZero() && (f.until.IsZero() || at.Before(f.until)) {
		f.until = at
	}
}

func (f *frame) tidy() {
	slices.Sort(f.looked)
	f.looked = slices.Compact(f.looked)
}

// usualLooks is for how much there is room at first.
const usualLooks = 12

// look notes that whoever is at work now has looked at something.
func (m *Moment) look(kind source, d *estate.Device) {
	if m.at != nil {
		if m.at.looked == nil {
			m.at.looked = make([]source, 0, usualLooks)
		}
		m.at.looked = append(m.at.looked, kind.of(d))
	}
}

// past says whether a time has come; when it has not, it will.
func (m *Moment) past(t time.Time) bool {
	if !m.now.Before(t) {
		return true
	}
	if m.at != nil {
		m.at.wake(t)
	}
	return false
}

// frames are those of a judging, by reader.
type frames struct {
	all  []frame
	used []int
}

// as lets a reader work until m.at is what it returns again: what is looked at meanwhile is
// noted as the reader's own, whoever asked for it.
func (m *Moment) as(reader int) (was *frame) {
	if m.frames == nil {
		return nil
	}
	was = m.at
	m.at = &m.frames.all[reader]
	if !m.at.used {
		m.at.used = true
		m.frames.used = append(m.frames.used, reader)
	}
	return was
}

// clear forgets all, and keeps the room.
func (f *frames) clear() {
	for _, reader := range f.used {
		f.all[reader] = frame{looked: f.all[reader].looked[:0]}
	}
	f.used = f.used[:0]
}

// A part is what several readers need, with what was looked at for it.
type part[V any] struct {
	v V
	frame
}

// share returns what was worked out before, or works it out now. Whoever needs it has
// looked at the same.
func share[K comparable, V any](m *Moment, memo *map[K]part[V], k K, work func() V) V {
	p, ok := (*memo)[k]
	if !ok {
		was := m.at
		if was != nil {
			m.at = &p.frame
		}
		p.v = work()
		m.at = was
		p.tidy()
		if *memo == nil {
			*memo = map[K]part[V]{}
		}
		(*memo)[k] = p
	}
	if m.at != nil {
		m.at.add(&p.frame)
	}
	return p.v
}
