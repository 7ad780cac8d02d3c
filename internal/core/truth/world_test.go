// Package truth holds the judge, the schedule and the incident book to a truth that is
// known: random estates, random faults, simulated time. There is nothing in it but tests.
//
//	world_test.go  what there is, and how it really is
//	run_test.go    who is asked when, and what comes back
//	faults_test.go what goes wrong
//	truth_test.go  what is counted, and the bars
package truth

import (
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
)

// How a box really is. What is behind a break is well, and cannot be reached.
type box struct {
	d     *estate.Device
	watts float64 // it draws while it runs
	rest  float64 // it draws while it is off or asleep, with power
	boot  time.Duration

	hung, off, asleep, broken bool // broken: it has power, and is dead inside
	cardDead                  bool
	uncabled                  bool // its last cable of the network is out
	refuses                   bool
	powered                   bool
	up                        time.Time // since when it may answer, once it has power and is on
	relay                     map[string]bool
	output                    bool // of a UPS
	loss                      float64
	bursts                    float64    // share of the time in which nearly all is lost
	behind                    estate.Key // really connected here, whatever the estate says
	spare                     estate.Key // and here, once that has failed for so long
	failover                  time.Duration
	failed                    time.Time
	stuck                     bool // its readings stand still, with fresh times
	claims                    bool // its controller says that it is on, whatever it is
}

// world is an estate and how it really is.
type world struct {
	t     require.TestingT
	rng   *rand.Rand
	e     *estate.Estate
	boxes map[estate.Key]*box
	order []estate.Key
	now   time.Time
	mains map[estate.Key]bool // by site
	port  bool                // our own network port
	meant map[estate.Key]bool // somebody has switched it off through us
	anew  bool                // the service is to start anew
	hosts []estate.Key
}

var begin = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)

// newWorld makes an estate of one to three sites with 6 to 20 hosts each.
func newWorld(t require.TestingT, rng *rand.Rand) *world { return sized(t, rng, 1+rng.IntN(3)) }

// sized makes one of so many sites.
func sized(t require.TestingT, rng *rand.Rand, siteCount int) *world {
	w := &world{t: t, rng: rng, boxes: map[estate.Key]*box{}, mains: map[estate.Key]bool{}, meant: map[estate.Key]bool{}, port: true, now: begin}
	devices := []estate.Device{{Key: "here", Site: "s0", Role: "server"}}
	var sites []estate.Site
	add := func(d estate.Device) { devices = append(devices, d) }
	via := func(k estate.Key) []estate.NetworkCable { return []estate.NetworkCable{{Via: estate.End{Device: k}}} }
	ping := func() []estate.Probe {
		return []estate.Probe{{Kind: estate.ICMP, Target: "192.0.2.1", Every: time.Duration(5+5*rng.IntN(3)) * time.Second, Timeout: 2 * time.Second}}
	}
	card := func(k estate.Key) []estate.Endpoint {
		return []estate.Endpoint{{Name: "card", Protocol: "snmp", Profile: "p", Every: 10 * time.Second, Timeout: 2 * time.Second, Network: via(k)}}
	}
	for s := range siteCount {
		site := estate.Key(fmt.Sprintf("s%d", s))
		name := func(what string, n int) estate.Key { return estate.Key(fmt.Sprintf("%s-%s%d", site, what, n)) }
		sites = append(sites, estate.Site{Key: site, Zone: time.UTC})
		add(estate.Device{Key: name("wan", 0), Site: site, Role: "router", Network: via("here"), Probes: ping(), Power: []estate.PowerCable{{From: estate.End{Device: name("ups", 0)}}}})
		add(estate.Device{Key: name("mgmt", 0), Site: site, Role: "switch", Network: via(name("wan", 0)), Probes: ping(), Power: []estate.PowerCable{{From: estate.OutletEnd(name("pdu", 0), 23)}}})
		add(estate.Device{Key: name("ups", 0), Site: site, Role: "ups", Supply: &estate.Supply{}, Endpoints: card(name("mgmt", 0)), Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}}})
		pdus := 1 + rng.IntN(2)
		for p := range pdus {
			d := estate.Device{Key: name("pdu", p), Site: site, Role: "pdu", Endpoints: card(name("mgmt", 0)), Power: []estate.PowerCable{{From: estate.End{Device: name("ups", 0)}}}}
			for n := range 24 {
				d.Outlets = append(d.Outlets, estate.Outlet{Number: n + 1})
			}
			add(d)
		}
		switches := 1 + rng.IntN(3)
		for n := range switches {
			add(estate.Device{Key: name("edge", n), Site: site, Role: "switch", Network: via(name("wan", 0)), Probes: ping(), Power: []estate.PowerCable{{From: estate.OutletEnd(name("pdu", 0), 20+n)}}})
		}
		for n := range 6 + rng.IntN(13) {
			d := estate.Device{Key: name("host", n), Site: site, Role: "server", Network: via(name("edge", n%switches)), Probes: ping(), Boot: 2 * time.Minute}
			switch kind := rng.IntN(10); {
			case kind < 6:
				d.Power = []estate.PowerCable{{From: estate.OutletEnd(name("pdu", n%pdus), 1+n)}}
			case kind < 8 && pdus > 1:
				d.Power = []estate.PowerCable{{From: estate.OutletEnd(name("pdu", 0), 1+n)}, {From: estate.OutletEnd(name("pdu", 1), 1+n)}}
			}
			if rng.IntN(3) == 0 {
				d.Endpoints = append(d.Endpoints, estate.Endpoint{Name: "board", Protocol: estate.IPMI, Addresses: []string{"192.0.2.1:623"}, Secret: "x", Every: 10 * time.Second, Timeout: 2 * time.Second, Network: via(name("mgmt", 0))})
			}
			if rng.IntN(4) == 0 {
				d.SleepW = 6
			}
			if switches > 1 && rng.IntN(4) == 0 {
				d.Network = append(d.Network, via(name("edge", (n+1)%switches))...)
			}
			add(d)
			w.hosts = append(w.hosts, d.Key)
		}
	}
	var problems []estate.Problem
	w.e, problems = estate.New("truth", "here", sites, devices)
	require.Empty(t, problems)
	for _, site := range sites {
		w.mains[site.Key] = true
	}
	for i := range w.e.Devices {
		d := &w.e.Devices[i]
		b := &box{d: d, watts: 30 + 300*rng.Float64(), boot: time.Duration(20+rng.IntN(60)) * time.Second, output: true, relay: map[string]bool{}, powered: true, up: begin.Add(-time.Hour)}
		if b.rest = 2 + 2*rng.Float64(); len(d.Endpoints) > 0 {
			b.rest = 4 + rng.Float64()
		}
		if len(d.Network) > 0 {
			b.behind = d.Network[0].Via.Device
		}
		if len(d.Network) > 1 {
			b.spare, b.failover = d.Network[1].Via.Device, time.Duration(1+rng.IntN(40))*time.Second
		}
		w.boxes[d.Key] = b
		w.order = append(w.order, d.Key)
	}
	return w
}

// settle works out who has power, after something has changed.
func (w *world) settle() {
	for range 4 { // as deep as power goes here
		for _, k := range w.order {
			b := w.boxes[k]
			has := len(b.d.Power) == 0
			for _, c := range b.d.Power {
				has = has || w.carries(b.d, c)
			}
			if has && !b.powered {
				b.up, b.hung, b.asleep = w.now.Add(b.boot), false, false
			}
			b.powered = has
		}
	}
}

func (w *world) carries(d *estate.Device, c estate.PowerCable) bool {
	if c.From.Device == estate.Utility {
		return w.mains[d.Site] || d.Supply != nil // its battery outlasts what happens here
	}
	from := w.boxes[c.From.Device]
	if c.From.Kind() == estate.Whole {
		return from.powered && from.output
	}
	return from.powered && !from.broken && !from.relay[c.From.Port]
}

// works says whether a box does what it is for.
func (w *world) works(b *box) bool {
	return b.powered && !b.broken && !b.off && !b.asleep && !b.hung && !w.now.Before(b.up)
}

// reaches says whether packets get to what is behind a hop, and how likely one is lost
// there and back.
func (w *world) reaches(k estate.Key) (ok bool, survives float64) {
	survives = 1
	for k != "here" {
		b := w.boxes[k]
		if !w.works(b) || b.uncabled {
			return false, 0
		}
		survives *= (1 - b.lostNow(w.now)) * (1 - b.lostNow(w.now))
		k = b.behind
	}
	return w.port, survives
}

// way is the hop that a box is reached through now: one that has two goes over to the other
// when the first has failed for long enough.
func (w *world) way(b *box) estate.Key {
	if b.spare == "" {
		return b.behind
	}
	if ok, _ := w.reaches(b.behind); ok {
		b.failed = time.Time{}
		return b.behind
	}
	if b.failed.IsZero() {
		b.failed = w.now
	}
	if ok, _ := w.reaches(b.spare); ok && w.now.Sub(b.failed) >= b.failover {
		b.behind, b.spare, b.failed = b.spare, b.behind, time.Time{}
	}
	return b.behind
}

// A burst lasts for some seconds, and loses this much each way.
const (
	burst     = 3 * time.Second
	burstLoss = 0.7
)

// lostNow is how likely a packet is lost at a box at a time.
func (b *box) lostNow(now time.Time) float64 {
	if b.bursts > 0 {
		n := rand.New(rand.NewPCG(uint64(now.UnixNano()/int64(burst)), uint64(len(b.d.Key))))
		if n.Float64() < b.bursts {
			return burstLoss
		}
	}
	return b.loss
}

// sure is how a box really is, in one word, and whether that can be known.
type sure string

const (
	well     sure = "well"
	cutOff   sure = "behind a break"
	hangs    sure = "hung"
	isOff    sure = "off"
	sleeping sure = "asleep"
	noPower  sure = "no power"
	dead     sure = "broken"
	noCable  sure = "own last cable"
	noCard   sure = "card dead"
	starting sure = "starting"
	refusing sure = "refuses"
)

func (w *world) truth(b *box) sure {
	switch {
	case b.d.Key == w.e.Standpoint:
		return well
	case !b.powered:
		return noPower
	case b.broken:
		return dead
	case b.off:
		return isOff
	case b.asleep:
		return sleeping
	case b.hung:
		return hangs
	case w.now.Before(b.up):
		return starting
	case b.uncabled:
		return noCable
	case b.cardDead:
		return noCard
	}
	behind := w.way(b)
	if len(b.d.Endpoints) > 0 && len(b.d.Probes) == 0 {
		behind = b.d.Endpoints[0].Network[0].Via.Device
	}
	if ok, _ := w.reaches(behind); !ok {
		return cutOff
	}
	if b.refuses {
		return refusing
	}
	return well
}
