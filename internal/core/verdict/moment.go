package verdict

import (
	"time"

	"plumbbob/internal/core/estate"
)

// A Moment is an estate and its evidence at one time, with what has been worked
// out of them so far: whatever is asked of it, and in whichever order, nothing
// is worked out twice. The evidence must not change meanwhile. It is not for
// use by more than one goroutine.
type Moment struct {
	e    *estate.Estate
	ev   *Evidence
	now  time.Time
	prev map[estate.Key]Verdict

	frames *frames // what each reader has looked at; nil: nobody wants to know
	at     *frame  // of the one that is at work

	vs        []voice // of the device that is listened to
	heard     memo[hearing]
	fed       memo[power] // by feeds alone
	powers    memo[power]
	flipping  memo[int]     // on the way to a device
	ways      memo[wayLoss] // through a device
	passes    map[estate.Key]sided
	port      *ownPort
	broken    map[estate.Key]part[path] // through a silent hop
	through   map[hopOf]part[path]      // through one of which nothing is known
	utilities map[estate.Key]part[mains]
}

// hopOf is a hop as it is looked at for one silence.
type hopOf struct {
	via estate.Key
	of  silence
}

// At returns the moment. The verdicts of before are used by Judge alone; they
// may be nil for all else.
func At(e *estate.Estate, ev *Evidence, prev map[estate.Key]Verdict, now time.Time) *Moment {
	return &Moment{e: e, ev: ev, now: now, prev: prev}
}

// settling is how long after falling silent a device may wait for proof of its
// path: what has not come by then comes with no single answer.
const settling = time.Minute

// remember makes room for what is worked out of all devices.
func (m *Moment) remember(n int) {
	m.heard.all, m.fed.all, m.powers.all = make([]slot[hearing], n), make([]slot[power], n), make([]slot[power], n)
	m.flipping.all, m.ways.all = make([]slot[int], n), make([]slot[wayLoss], n)
}

// A memo keeps what was worked out of devices: of all of them, by their places, when all
// will be asked for, or of some.
type memo[V any] struct {
	all  []slot[V]
	some map[estate.Key]*V
}

type slot[V any] struct {
	known bool
	v     V
}

// of is where what was worked out of a device stands, and whether it has been. Who is told
// that it has not works it out now, as the device.
func (o *memo[V]) of(d *estate.Device) (v *V, known bool) {
	if o.all != nil {
		s := &o.all[d.Index()]
		known, s.known = s.known, true
		return &s.v, known
	}
	if v, known = o.some[d.Key]; !known {
		if v = new(V); o.some == nil {
			o.some = map[estate.Key]*V{}
		}
		o.some[d.Key] = v
	}
	return v, known
}

// Heard says of one device what Moment.Heard does.
func Heard(e *estate.Estate, ev *Evidence, k estate.Key, now time.Time) (answers, silent bool, last, since time.Time) {
	return At(e, ev, nil, now).Heard(k)
}

// Draw says of one device what Moment.Draw does.
func Draw(e *estate.Estate, ev *Evidence, k estate.Key, now time.Time) (w float64, known bool) {
	return At(e, ev, nil, now).Draw(k)
}

// Powerless says of one device what Moment.Powerless does.
func Powerless(e *estate.Estate, ev *Evidence, k estate.Key, now time.Time) bool {
	return At(e, ev, nil, now).Powerless(k)
}

// InUse says of one device what Moment.InUse does.
func InUse(e *estate.Estate, ev *Evidence, k estate.Key, now time.Time) string {
	return At(e, ev, nil, now).InUse(k)
}
