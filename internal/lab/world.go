package lab

import (
	"fmt"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"net/http"
	"net/netip"
	"sync"
	"time"

	"plumbbob/internal/core/estate"
)

// World is the physics. Every stand-in asks it; nothing else keeps state. A
// device is derived from two facts, when power last reached it and whether it
// hangs, so nothing has to tick.
type World struct {
	syslogPort uint16

	crossings int // counts changes of leads, so that who is connected by one notices
	e         *estate.Estate
	speed     float64
	echo      map[netip.Addr]estate.Key // fixed before anything runs

	mu      sync.Mutex
	rng     *rand.Rand
	outside *view // that of the estate itself
	asking  *view // whose question is being answered
	met     int   // how often orders of two services met at one outlet
	boxes   map[estate.Key]*box
	outlets map[estate.End]*outlet
	plug    map[estate.End]estate.End // where a cable really is, where that is not where the estate says
	outage  map[estate.Key]bool       // sites at which the utility is gone
}

// box is the state of a device.
type box struct {
	d       *estate.Device
	nature  nature
	powered time.Time // when power came; zero when there is none
	hung    bool
	line    line // the way out of its site, where it is that
	crashed bool // its kernel has stopped, which its line tells
	deaf    bool // it does not take its keyboard until that is plugged in anew
	silent  bool // its card does not answer
	loss    float64
	delay   time.Duration
	chassis *chassis      // nil for boxes without a controller
	ups     *supply       // nil for boxes that are no UPS
	around  *around       // nil for boxes that do not measure their surroundings
	skew    time.Duration // the clock of its SNMP engine is ahead
	asleep  bool          // of a box without a controller: its own power management did it
	front   *front        // nil for boxes without leads to a panel board
	used    bool          // somebody is working with it
	waits   waits         // its start, for somebody at its keyboard
	port    *serialPort   // what is wired to its serial port; nil: nothing
	says    string        // and is heard on that next

	refuses   bool       // its services turn away who connects
	errors    bool       // its web server answers, and only with an error
	unplugged bool       // its network cable is out
	keysOut   bool       // of a KVM: its keyboard is
	edid      string     // of a KVM: the display that it pretends to be; empty: the first that it could
	hotter    float64    // of a KVM: °C above what is usual
	seen      int        // of a KVM: the port that somebody has chosen; 0: the first
	crossed   estate.Key // whose leads are where its own should be; empty: its own
	moved     estate.Key // it hangs on this hop, whatever the estate says; empty: where it should

	service http.Handler // that runs on it; nil: a page of its own

	restarted time.Time // when its card was last started anew
	log       []logged  // of its card
}

// logged is one entry of a card's own log.
type logged struct {
	at   time.Time
	text string
}

func (b *box) note(now time.Time, format string, args ...any) {
	b.log = append(b.log, logged{now, fmt.Sprintf(format, args...)})
	b.log = b.log[max(0, len(b.log)-maxCardLog):]
}

const (
	maxCardLog  = 40
	cardRestart = 4 * time.Second
)

// outlet is a relay, its meter, and what the card was told.
type outlet struct {
	number   int
	name     string
	switched bool
	ordered  bool // what the card believes
	welded   bool // once closed, the contact stays so whatever is ordered
	stuck    bool // welded, and closed since
	hold     int  // s, of the card's own cycle

	afterLoss        int // as the card has it: 1 off, 2 on, 3 as before
	onDelay, offWait int // s

	wh    float64
	read  time.Time // when wh was last brought up to date
	order int       // counts orders, so that an overtaken timer does nothing
	opens int       // counts how often the contact has really opened

	orderedBy *view // whose order was the last
	orderedAt time.Time
}

func (o *outlet) closed() bool { return o.ordered || o.stuck || !o.switched }

// move changes what holds a contact, and counts when it has opened by that. One that is
// open welds when it closes.
func (o *outlet) move(change func()) {
	was := o.closed()
	change()
	o.stuck = o.welded && (was || o.closed())
	if was && !o.closed() {
		o.opens++
	}
}

// What an outlet does when power comes back to its PDU.
const (
	lossOff = iota + 1
	lossOn
	lossAsBefore
)

func newWorld(o Options) *World {
	w := &World{
		e: o.Estate, syslogPort: o.SyslogPort, speed: o.Speed, rng: rand.New(rand.NewPCG(o.Seed, 77)), echo: map[netip.Addr]estate.Key{},
		boxes: map[estate.Key]*box{}, outlets: map[estate.End]*outlet{}, plug: map[estate.End]estate.End{}, outage: map[estate.Key]bool{},
	}
	w.outside = &view{w, o.Estate}
	up := time.Now().Add(-24 * time.Hour) // everything has been running since yesterday
	for i := range o.Estate.Devices {
		d := &o.Estate.Devices[i]
		w.boxes[d.Key] = &box{d: d, nature: natureOf(d), powered: up}
		if ep, ok := d.Controller(); ok {
			w.boxes[d.Key].chassis = newChassis(w, w.boxes[d.Key], modelOf(d, ep), o.Seed+uint64(i))
		}
		if d.Supply != nil {
			w.boxes[d.Key].ups = newSupply(d)
		}
		if len(d.Panel) > 0 && w.boxes[d.Key].chassis == nil {
			w.boxes[d.Key].front = &front{}
		}
		if d.Role == "sensor" {
			w.boxes[d.Key].around = &around{celsius: 21.4, humidity: 43}
		}
		w.boxes[d.Key].note(time.Now().Add(-20*time.Hour), "card started")
		for _, out := range d.Outlets {
			end := estate.End{Device: d.Key, Port: out.Port()}
			s := &outlet{number: out.Number, name: out.Name, switched: !out.Unswitched, ordered: true, hold: 10, read: time.Now(), afterLoss: lossAsBefore}
			s.wh = float64(w.rng.IntN(90_000))
			if fed := o.Estate.Fed(end); s.name == "" && len(fed) > 0 {
				s.name = string(fed[0])
			}
			w.outlets[end] = s
		}
	}
	return w
}

// settle brings every box up to date after a contact has moved.
func (w *World) settle(now time.Time) {
	for range w.e.Devices { // a PDU may hang on a PDU
		changed := false
		for _, b := range w.boxes {
			switch live := w.live(b.d); {
			case live && b.powered.IsZero():
				b.powered, changed = now, true
				if b.chassis != nil {
					b.chassis.returned(now)
				}
				w.powerUp(b, now)
			case !live && !b.powered.IsZero():
				b.powered, b.hung, b.crashed, b.asleep, changed = time.Time{}, false, false, false, true // a hang does not survive it
				b.restartLine()
				if b.chassis != nil {
					b.chassis.lost()
				}
			}
		}
		if !changed {
			return
		}
	}
}

// powerUp has the outlets of a PDU do what they are set to when power comes back.
func (w *World) powerUp(b *box, now time.Time) {
	if len(b.d.Outlets) > 0 {
		b.note(now, "power is back")
	}
	for _, out := range b.d.Outlets {
		end := estate.End{Device: b.d.Key, Port: out.Port()}
		o := w.outlets[end]
		on := o.afterLoss == lossOn || o.afterLoss == lossAsBefore && o.ordered
		if !o.switched || o.afterLoss == lossAsBefore && o.onDelay == 0 {
			continue
		}
		o.ordered = false
		if on {
			w.later(end, w.scaled(time.Duration(o.onDelay)*time.Second), true)
		}
	}
}

// live says whether enough feeds of a device carry power now. The electronics
// of a UPS live on its battery as well.
func (w *World) live(d *estate.Device) bool {
	if u := w.boxes[d.Key].ups; u != nil && u.charge > 0 {
		return true
	}
	if len(d.Power) == 0 {
		return true
	}
	return w.liveFeeds(d) >= max(1, d.NeedsFeeds)
}

// carries says whether a cable has voltage at its device's end.
func (w *World) carries(c estate.PowerCable, site estate.Key) bool {
	end := w.socket(c.From)
	if end.Device == estate.Utility {
		return !w.outage[site]
	}
	if u := w.boxes[end.Device].ups; u != nil && end.Kind() == estate.Whole {
		return u.output
	}
	return !w.boxes[end.Device].powered.IsZero() && w.outlets[end].closed()
}

// liveFeeds counts the feeds of a device that carry power into it.
func (w *World) liveFeeds(d *estate.Device) int {
	n := 0
	ch := w.boxes[d.Key].chassis
	for i, c := range d.Power {
		if w.carries(c, d.Site) && (ch == nil || ch.supply[i]) {
			n++
		}
	}
	return n
}

// socket is where a cable really is.
func (w *World) socket(end estate.End) estate.End {
	if real, moved := w.plug[end]; moved {
		return real
	}
	return end
}

// up says whether a device has power, has started, and does not hang.
func (w *World) up(b *box, now time.Time) bool {
	asleep := b.asleep || b.chassis != nil && b.chassis.asleep
	return !b.start().IsZero() && w.part(b, now) >= 1 && !b.hung && !asleep
}

// dark: it has power, and is switched off at its front.
func (b *box) dark() bool { return b.front != nil && b.front.off }

// fails says whether what a device serves is an error.
func (w *World) fails(k estate.Key) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.boxes[k].errors
}

// stands says whether a side of a box would answer if it were reached.
func (w *World) stands(b *box, endpoint string, now time.Time) bool {
	switch {
	case endpoint == "":
		return w.up(b, now)
	case endpoint == useSide:
		return w.up(b, now) && b.used
	case b.silent:
		return false
	case b.chassis != nil:
		return w.awake(b, now) // it lives on standby power
	}
	return w.up(b, now) && now.Sub(b.restarted) >= w.scaled(cardRestart)
}

// draw is what a device takes through one of its sockets, in W.
func (w *World) draw(b *box, now time.Time) float64 {
	if b.powered.IsZero() {
		return 0
	}
	if b.asleep || b.dark() {
		return asleepAlone / float64(max(1, w.liveFeeds(b.d)))
	}
	n := b.nature
	since, watts := now.Sub(b.powered), n.watts
	if c := b.chassis; c != nil {
		switch {
		case !c.on:
			return standbyWatts / float64(max(1, w.liveFeeds(b.d)))
		case c.asleep:
			return (standbyWatts + asleepWatts) / float64(max(1, w.liveFeeds(b.d)))
		}
		since = now.Sub(c.since)
		watts *= 0.8 + 0.7*w.busy(b, now)
	}
	switch {
	case since < w.scaled(800*time.Millisecond):
		watts *= n.surge
	case since < w.scaled(n.boot):
		watts *= 1.12
	}
	if b.used {
		watts *= usedMore
	}
	// A little life in it, the same at every reading of one moment.
	watts *= 1 + 0.012*wave(b.d.Key, now, 144) + 0.006*wave(b.d.Key+"'", now, 19.5)
	return watts / float64(max(1, w.liveFeeds(b.d)))
}

// wave is a slow sine of a device's own, with a period in seconds.
func wave(k estate.Key, now time.Time, period float64) float64 {
	h := fnv.New64a()
	fmt.Fprint(h, k)
	phase := float64(h.Sum64()%628) / 100
	return math.Sin(float64(now.UnixMilli())/1000*2*math.Pi/period + phase)
}

// load is what is drawn from an outlet, in W.
func (w *World) load(end estate.End, now time.Time) float64 {
	if !w.outlets[end].closed() || w.boxes[end.Device].powered.IsZero() {
		return 0
	}
	return w.taken(end, now)
}

// useSide is the side of a box that answers while somebody works with it, and
// usedMore what it draws then.
const (
	useSide  = "(use)"
	usedMore = 1.45
)

// asleepAlone is what a box without a controller takes while it sleeps, in W.
const asleepAlone = 2.6

// taken is what all that is plugged in somewhere draws from there, in W.
func (w *World) taken(end estate.End, now time.Time) float64 {
	total := 0.0
	for i := range w.e.Devices {
		d := &w.e.Devices[i]
		b := w.boxes[d.Key]
		for n, c := range d.Power {
			if w.socket(c.From) == end && (b.chassis == nil || b.chassis.supply[n]) && w.carries(c, d.Site) {
				total += w.takes(b, now)
			}
		}
	}
	return total
}

// takes is what a box draws through one of its feeds, with all that hangs on it.
func (w *World) takes(b *box, now time.Time) float64 {
	if b.ups != nil {
		return b.ups.input(w, now)
	}
	total := w.draw(b, now)
	for _, out := range b.d.Outlets {
		total += w.load(estate.End{Device: b.d.Key, Port: out.Port()}, now) / float64(max(1, w.liveFeeds(b.d)))
	}
	return total
}

// meter brings an outlet's energy up to date and returns its load in W.
func (w *World) meter(end estate.End, now time.Time) float64 {
	o := w.outlets[end]
	watts := w.load(end, now)
	o.wh += watts * now.Sub(o.read).Hours()
	o.read = now
	return watts
}

// relayTime is how long a contact takes to move.
const relayTime = 150 * time.Millisecond

// command is what the card does with an order: it obeys after the time of a relay.
func (w *World) command(end estate.End, on bool) {
	o := w.outlets[end]
	wait := o.offWait
	if on {
		wait = o.onDelay
	}
	w.later(end, relayTime+time.Duration(wait)*time.Second, on)
}

// cycle switches off now and on again after the outlet's hold time, by the
// PDU's own clock: nothing outside has to be there for it.
func (w *World) cycle(end estate.End) {
	n := w.later(end, relayTime, false)
	hold := time.Duration(w.outlets[end].hold) * time.Second
	w.after(end, relayTime+hold, true, n)
}

// later moves a contact after a while, unless it is told otherwise before then.
// It is called with the lock held.
func (w *World) later(end estate.End, d time.Duration, on bool) int {
	o := w.outlets[end]
	o.order++
	w.after(end, d, on, o.order)
	return o.order
}

func (w *World) after(end estate.End, d time.Duration, on bool, order int) {
	time.AfterFunc(d, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		if o := w.outlets[end]; o.order == order {
			w.meter(end, time.Now())
			o.move(func() { o.ordered = on })
			w.settle(time.Now())
		}
	})
}
