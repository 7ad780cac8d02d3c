package lab

import (
	"context"
	"math"
	"net"
	"slices"
	"strconv"
	"time"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/estate"
)

// supply is the inside of a UPS: a battery that empties under load and fills
// again, an output, and what it has been told. It moves in tick.
type supply struct {
	d        *estate.Device
	ratingW  float64
	capacity float64 // Wh, when the battery is new
	health   float64 // share of the capacity that an aged battery has left
	charge   float64 // %
	output   bool
	celsius  float64
	since    time.Time // on battery, or zero
	bads     int
	ticked   time.Time
	load     float64 // W, at the last tick
	auto     bool    // comes on again when the utility returns
	bypass   bool    // by command of somebody at its front
	welded   bool    // it takes commands to go off, and stays on

	shutdownIn, startupIn, rebootFor float64 // s; negative: none
	rebooting                        bool

	test       int // the well-known test that ran last
	testLock   int
	testResult int
	testBegan  time.Time
	testEnds   time.Time
	name       string
	attached   string
	audible    int
}

const (
	upsOwnW         = 28     // what it takes for itself
	upsVA           = 1 / .9 // VA for each W of its rating
	fullChargeHours = 3.0
	chargeW         = 160.0
	batteryVolts    = 54.6
	lowMinutes      = 5
	restartCharge   = 5 // %, before its output comes on again
	testSeconds     = 20
	labPeukert      = 1.18 // how much faster than in proportion it empties
	drainAtW        = 250  // the load at which it empties in proportion
	upsTick         = 200 * time.Millisecond
)

// Results of a test, as RFC 1628 counts them.
const (
	testPassed = iota + 1
	testWarning
	testError
	testAborted
	testRunning
	testNone
)

func newSupply(d *estate.Device) *supply {
	rating := d.Supply.RatingW
	if rating == 0 {
		rating = 1000
	}
	return &supply{
		d: d, ratingW: rating, capacity: rating * 0.19, health: 1, charge: 100, output: true, celsius: 24, auto: true,
		shutdownIn: -1, startupIn: -1, rebootFor: -1, test: 1, testResult: testNone, name: string(d.Key), audible: 2,
	}
}

// utility says whether its input is there.
func (u *supply) utility(w *World) bool {
	return slices.ContainsFunc(u.d.Power, func(c estate.PowerCable) bool { return w.carries(c, u.d.Site) })
}

// testing says whether a test has it live on its battery.
func (u *supply) testing(now time.Time) bool { return now.Before(u.testEnds) }

// minutes is how long its battery lasts under a load, as its own card reckons:
// in proportion, which flatters it under a high load.
func (u *supply) minutes(load float64) float64 {
	if load < 1 {
		load = 1
	}
	return u.charge / 100 * u.capacity * u.health / load * 60
}

// input is what it takes from the utility, in W.
func (u *supply) input(w *World, now time.Time) float64 {
	if !u.utility(w) || u.testing(now) {
		return 0
	}
	watts := upsOwnW + u.load/0.94
	if u.charge < 100 {
		watts += chargeW
	}
	return watts
}

// tick moves a UPS on. It is called with the lock held, and says whether its
// output has changed.
func (u *supply) tick(w *World, now time.Time) (changed bool) {
	dt := now.Sub(u.ticked).Seconds() * w.speed
	if u.ticked.IsZero() {
		dt = 0
	}
	u.ticked = now
	was := u.output
	u.load = 0
	if u.output {
		u.load = w.taken(estate.End{Device: u.d.Key}, now)
	}
	on := u.utility(w)
	switch {
	case on && !u.testing(now):
		u.since = time.Time{}
		u.charge = min(100, u.charge+dt/3600/fullChargeHours*100)
	default:
		if u.since.IsZero() {
			u.since = now
			if !on {
				u.bads++
			}
		}
		u.charge = max(0, u.charge-drainW(u.load)*dt/3600/(u.capacity*u.health)*100)
	}
	u.celsius += (24 + 9*min(1, u.load/u.ratingW) + map[bool]float64{true: 4}[!on] - u.celsius) * min(1, dt/900)
	u.countdowns(dt, on)
	u.output = u.output || u.welded
	if u.charge <= 0 {
		u.output = false
	}
	u.endTest(now)
	return was != u.output
}

// drainW is what a load takes out of a battery, in W: more than in proportion
// when it is high.
func drainW(load float64) float64 {
	return math.Pow(max(load, 1)/drainAtW, labPeukert)*drainAtW + 2
}

// Drained is how much charge, in %, a UPS loses under a load, when its battery
// has seen better days.
func Drained(d *estate.Device, load float64, took time.Duration) float64 {
	const seen = 0.7
	return drainW(load) * took.Hours() / (newSupply(d).capacity * seen) * 100
}

// countdowns run what it has been told, and bring its output back.
func (u *supply) countdowns(dt float64, utility bool) {
	run := func(t *float64) (over bool) {
		if *t < 0 {
			return false
		}
		*t -= dt
		if *t > 0 {
			return false
		}
		*t = -1
		return true
	}
	if run(&u.shutdownIn) {
		u.output = false
		u.auto = u.auto && !utility // told to, it stays off until it is told otherwise
	}
	if u.rebootFor >= 0 && !u.rebooting {
		u.rebooting, u.output = true, false
	}
	if u.rebooting && run(&u.rebootFor) {
		u.rebooting, u.output = false, true
	}
	if run(&u.startupIn) {
		u.output, u.auto = true, true
	}
	if !u.output && !u.rebooting && utility && u.auto && u.charge >= restartCharge && u.shutdownIn < 0 && u.startupIn < 0 {
		u.output = true
	}
}

func (u *supply) endTest(now time.Time) {
	if u.testResult != testRunning || u.testing(now) {
		return
	}
	u.testResult = testPassed
	if u.health < 0.5 {
		u.testResult = testError
	}
}

// alarms are the well-known ones that are present (RFC 1628, section 4).
func (u *supply) alarms(w *World, now time.Time) map[int]bool {
	battery := !u.utility(w) || u.testing(now)
	return map[int]bool{
		1: u.health < 0.5 && u.testResult == testError, 2: battery, 3: battery && u.minutes(u.load) < lowMinutes, 4: u.charge <= 0,
		6: !u.utility(w), 8: u.load > u.ratingW, 9: u.bypass, 14: !u.output, 21: !u.output && !u.utility(w), 22: u.shutdownIn >= 0, 24: u.testing(now),
	}
}

// upsTrap is sent for what changes a UPS at once (upsTrapOnBattery, upsTraps).
const upsTrap = upsMIB + ".2.0.1"

// liveSupplies moves all UPSes on, and has them tell what happens to them.
func (l *Lab) liveSupplies(ctx context.Context) error {
	tick := time.NewTicker(upsTick)
	defer tick.Stop()
	told := map[estate.Key]bool{}
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case now := <-tick.C:
			for _, k := range l.moveSupplies(now, told) {
				l.sendSupplyTrap(k)
			}
		}
	}
}

// moveSupplies returns those of which the input has come or gone.
func (l *Lab) moveSupplies(now time.Time, told map[estate.Key]bool) []estate.Key {
	l.mu.Lock()
	defer l.mu.Unlock()
	var news []estate.Key
	for k, b := range l.boxes {
		if b.ups == nil {
			continue
		}
		if b.ups.tick(l.World, now) {
			l.settle(now)
		}
		if on := !b.ups.since.IsZero(); on != told[k] {
			told[k] = on
			news = append(news, k)
		}
	}
	return news
}

func (l *Lab) sendSupplyTrap(k estate.Key) {
	d := l.e.Device(k)
	for _, ep := range d.Endpoints {
		if ok, _ := l.answers(k, ep.Name); !ok {
			continue
		}
		host, _, _ := net.SplitHostPort(ep.Addresses[0])
		g := &gosnmp.GoSNMP{Target: "127.0.0.1", Port: l.o.TrapPort, Community: "tern-traps", Version: gosnmp.Version2c, Timeout: time.Second, Transport: "udp", LocalAddr: host + ":0"}
		if err := g.Connect(); err != nil {
			continue
		}
		_, err := g.SendTrap(gosnmp.SnmpTrap{Variables: []gosnmp.SnmpPDU{{Name: "1.3.6.1.6.3.1.1.4.1.0", Type: gosnmp.ObjectIdentifier, Value: upsTrap}}})
		if err != nil {
			l.o.Log.Debug("a trap of a UPS could not be sent", "device", k, "because", err)
		}
		_ = g.Conn.Close()
	}
}

// upsMIB is RFC 1628; upsObjects are under its .1.
const upsMIB = "1.3.6.1.2.1.33"

// upsTree lists the objects of a UPS.
func upsTree(w *World, d *estate.Device, started time.Time) []object {
	u := w.boxes[d.Key].ups
	tree := systemTree(d, started, "Lab UPS, a stand-in", "1.3.6.1.4.1.32473.77.3")
	add := func(oid string, read func(now time.Time) gosnmp.SnmpPDU) *object {
		tree = append(tree, object{oid: parseOID(upsMIB + ".1." + oid), read: read})
		return &tree[len(tree)-1]
	}
	num := func(oid string, f func(now time.Time) float64) *object {
		return add(oid, func(now time.Time) gosnmp.SnmpPDU { return integer(int(math.Round(f(now)))) })
	}
	fixed := func(oid string, n int) { add(oid, always(integer(n))) }
	input := func(v float64) func(time.Time) float64 {
		return func(time.Time) float64 {
			if u.utility(w) {
				return v
			}
			return 0
		}
	}
	output := func(v float64) func(time.Time) float64 {
		return func(time.Time) float64 {
			if u.output {
				return v
			}
			return 0
		}
	}
	add("1.1.0", always(words("Lab Works")))
	add("1.2.0", always(words("LU-"+strconv.Itoa(int(u.ratingW)))))
	add("1.3.0", always(words("3.2.1")))
	add("1.4.0", always(words("card 1.9")))
	writableText(add("1.5.0", func(time.Time) gosnmp.SnmpPDU { return words(u.name) }), &u.name)
	writableText(add("1.6.0", func(time.Time) gosnmp.SnmpPDU { return words(u.attached) }), &u.attached)
	num("2.1.0", func(now time.Time) float64 {
		switch battery := !u.since.IsZero(); {
		case u.charge <= 0:
			return 4
		case battery && u.minutes(u.load) < lowMinutes:
			return 3
		}
		return 2
	})
	num("2.2.0", func(now time.Time) float64 {
		if u.since.IsZero() {
			return 0
		}
		return max(1, now.Sub(u.since).Seconds()*w.speed)
	})
	num("2.3.0", func(time.Time) float64 { return math.Floor(u.minutes(u.load)) })
	num("2.4.0", func(time.Time) float64 { return u.charge })
	num("2.5.0", func(time.Time) float64 { return 10 * (batteryVolts - 6.5*(1-u.charge/100)) })
	num("2.6.0", func(time.Time) float64 {
		if u.since.IsZero() {
			return 0
		}
		return 10 * u.load / batteryVolts
	})
	num("2.7.0", func(time.Time) float64 { return u.celsius })
	num("3.1.0", func(time.Time) float64 { return float64(u.bads) })
	fixed("3.2.0", 1)
	fixed("3.3.1.1.1", 1)
	num("3.3.1.2.1", input(500))
	num("3.3.1.3.1", func(now time.Time) float64 { return input(231 + 1.4*wave(d.Key, now, 90))(now) })
	num("3.3.1.4.1", func(now time.Time) float64 { return 10 * u.input(w, now) / 231 })
	num("3.3.1.5.1", func(now time.Time) float64 { return u.input(w, now) })
	num("4.1.0", func(time.Time) float64 {
		switch {
		case !u.output:
			return 2
		case !u.since.IsZero():
			return 5
		case u.bypass:
			return 4
		}
		return 3
	})
	num("4.2.0", output(500))
	fixed("4.3.0", 1)
	fixed("4.4.1.1.1", 1)
	num("4.4.1.2.1", output(230))
	num("4.4.1.3.1", func(time.Time) float64 { return 10 * u.load / 230 })
	num("4.4.1.4.1", func(time.Time) float64 { return u.load })
	num("4.4.1.5.1", func(time.Time) float64 { return 100 * u.load / u.ratingW })
	num("5.1.0", input(500))
	fixed("5.2.0", 1)
	fixed("5.3.1.1.1", 1)
	num("5.3.1.2.1", input(231))
	num("6.1.0", func(now time.Time) float64 {
		n := 0
		for _, on := range u.alarms(w, now) {
			if on {
				n++
			}
		}
		return float64(n)
	})
	for id := range u.alarms(w, time.Now()) {
		row := func(column int, p gosnmp.SnmpPDU) {
			o := add("6.2.1."+strconv.Itoa(column)+"."+strconv.Itoa(id), always(p))
			o.there = func() bool { return u.alarms(w, time.Now())[id] }
		}
		row(1, integer(id))
		row(2, identifier(upsMIB+".1.6.3."+strconv.Itoa(id)))
		row(3, gosnmp.SnmpPDU{Type: gosnmp.TimeTicks, Value: uint32(0)})
	}
	u.control(w, add, num)
	u.config(fixed, num)
	slices.SortFunc(tree, func(a, b object) int { return slices.Compare(a.oid, b.oid) })
	return tree
}

func writableText(o *object, s *string) {
	o.check = isName
	o.write = func(v gosnmp.SnmpPDU) { *s = string(v.Value.([]byte)) }
}

// control adds tests and commands.
func (u *supply) control(w *World, add func(string, func(time.Time) gosnmp.SnmpPDU) *object, num func(string, func(time.Time) float64) *object) {
	id := add("7.1.0", func(time.Time) gosnmp.SnmpPDU { return identifier(upsMIB + ".1.7.7." + strconv.Itoa(u.test)) })
	id.check = func(v gosnmp.SnmpPDU) gosnmp.SNMPError {
		s, ok := v.Value.(string)
		if !ok || v.Type != gosnmp.ObjectIdentifier {
			return gosnmp.WrongType
		}
		if oid := parseOID(s); len(oid) == 0 || oid[len(oid)-1] < 2 || oid[len(oid)-1] > 5 {
			return gosnmp.WrongValue
		}
		return gosnmp.NoError
	}
	id.write = func(v gosnmp.SnmpPDU) {
		oid := parseOID(v.Value.(string))
		u.begin(w, int(oid[len(oid)-1]), time.Now())
	}
	lock := num("7.2.0", func(time.Time) float64 { return float64(u.testLock) })
	lock.check = func(v gosnmp.SnmpPDU) gosnmp.SNMPError { // TestAndIncr, RFC 2579
		if n, ok := v.Value.(int); !ok || n != u.testLock {
			return gosnmp.InconsistentValue
		}
		return gosnmp.NoError
	}
	lock.write = func(gosnmp.SnmpPDU) { u.testLock++ }
	num("7.3.0", func(time.Time) float64 { return float64(u.testResult) })
	add("7.4.0", func(time.Time) gosnmp.SnmpPDU {
		return words(map[int]string{testPassed: "battery holds", testError: "battery gave way", testRunning: "discharging"}[u.testResult])
	})
	num("7.5.0", func(time.Time) float64 { return 0 })
	num("7.6.0", func(now time.Time) float64 {
		if u.testBegan.IsZero() {
			return 0
		}
		return 100 * min(testSeconds, now.Sub(u.testBegan).Seconds()*w.speed)
	})
	setting := func(oid string, read func(time.Time) float64, lo, hi int, write func(n int)) {
		o := num(oid, read)
		o.check = func(v gosnmp.SnmpPDU) gosnmp.SNMPError { return within(v, lo, hi) }
		o.write = func(v gosnmp.SnmpPDU) { write(v.Value.(int)) }
	}
	left := func(t *float64) func(time.Time) float64 {
		return func(time.Time) float64 { return math.Ceil(*t) }
	}
	setting("8.1.0", func(time.Time) float64 { return 1 }, 1, 2, func(int) {})
	setting("8.2.0", left(&u.shutdownIn), -1, 1<<30, func(n int) { u.shutdownIn = float64(n) })
	setting("8.3.0", left(&u.startupIn), -1, 1<<30, func(n int) { u.startupIn = float64(n) })
	setting("8.4.0", left(&u.rebootFor), -1, 300, func(n int) { u.rebootFor, u.rebooting = float64(n), false })
	setting("8.5.0", func(time.Time) float64 { return float64(yes(u.auto)) }, 1, 2, func(n int) { u.auto = n == 1 })
}

func (u *supply) begin(w *World, test int, now time.Time) {
	const abort = 2
	if test == abort {
		if u.testing(now) {
			u.testEnds, u.testResult = now, testAborted
		}
		return
	}
	u.test, u.testBegan, u.testResult = test, now, testRunning
	u.testEnds = now.Add(w.scaled(testSeconds * time.Second))
}

// config adds how it is set up.
func (u *supply) config(fixed func(string, int), num func(string, func(time.Time) float64) *object) {
	fixed("9.1.0", 230)
	fixed("9.2.0", 500)
	fixed("9.3.0", 230)
	fixed("9.4.0", 500)
	fixed("9.5.0", int(u.ratingW*upsVA))
	fixed("9.6.0", int(u.ratingW))
	fixed("9.7.0", lowMinutes)
	audible := num("9.8.0", func(time.Time) float64 { return float64(u.audible) })
	audible.check = func(v gosnmp.SnmpPDU) gosnmp.SNMPError { return within(v, 1, 3) }
	audible.write = func(v gosnmp.SnmpPDU) { u.audible = v.Value.(int) }
	fixed("9.9.0", 196)
	fixed("9.10.0", 264)
}
