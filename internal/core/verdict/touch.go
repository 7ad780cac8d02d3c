package verdict

import (
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
)

// touched is of what something new has come in since that was last taken.
type touched struct {
	devices map[estate.Key]struct{}
	ends    map[estate.End]struct{}
}

func (ev *Evidence) news(is bool) { ev.News = ev.News || is }

func (ev *Evidence) touch(k estate.Key) {
	if ev.touched.devices == nil {
		ev.touched.devices = map[estate.Key]struct{}{}
	}
	ev.touched.devices[k] = struct{}{}
}

func (ev *Evidence) touchEnd(end estate.End) {
	if ev.touched.ends == nil {
		ev.touched.ends = map[estate.End]struct{}{}
	}
	ev.touched.ends[end] = struct{}{}
}

// Operate says what an operation is doing to a device, in words; empty when it has ended.
func (ev *Evidence) Operate(k estate.Key, doing string) {
	if doing == "" {
		delete(ev.Operating, k)
	} else {
		ev.Operating[k] = doing
	}
	ev.news(true)
	ev.touch(k)
}

// Park says that a device is meant to be off.
func (ev *Evidence) Park(k estate.Key, p Parking) {
	ev.Parked[k] = p
	ev.news(true)
	ev.touch(k)
}

// Unpark says that it is not, any more.
func (ev *Evidence) Unpark(k estate.Key) {
	delete(ev.Parked, k)
	ev.news(true)
	ev.touch(k)
}

// Ail takes in what of a device is out of bounds.
func (ev *Evidence) Ail(k estate.Key, a Ailments) {
	ev.Ailing[k] = a
	ev.touch(k)
}

// TakeUsual takes in what devices usually draw at this hour. It is kept as it is, and must
// not change.
func (ev *Evidence) TakeUsual(all map[estate.Key]reading.Usual) {
	for k := range ev.Usual {
		ev.touch(k)
	}
	for k := range all {
		ev.touch(k)
	}
	ev.Usual = all
}

// A Restart is when a device started by itself, and what says so.
type Restart struct {
	At  time.Time
	How string // "its uptime says"
}

// Restart takes in when a device last started by itself.
func (ev *Evidence) Restart(k estate.Key, r Restart) {
	ev.Restarted[k] = r
	ev.touch(k)
}

// A Saying is something known that a serial line has said: what it is called, and not how
// it read, which is not for everybody.
type Saying struct {
	At   time.Time
	What string // "kernel panic"

	Screen bool // its screen has shown it
}

// Say takes in what was recognised on the serial line of a device.
func (ev *Evidence) Say(k estate.Key, s Saying) {
	if s.At.Before(ev.Said[k].At) {
		return
	}
	ev.Said[k] = s
	ev.touch(k)
}
