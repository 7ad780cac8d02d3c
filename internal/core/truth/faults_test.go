package truth

import (
	"strings"
	"time"

	"plumbbob/internal/core/estate"
)

// A fault is something that goes wrong, for a time.
type fault struct {
	name  string
	lossy bool   // it is about packets that get lost: what it costs is told apart
	lies  bool   // gear tells what is not so
	many  bool   // several things are wrong at once, so delays and incidents are not its own
	ways  string // under which the time until a hang is told is counted
	do    func(w *world) (undo func())
}

// pick chooses a box of a role that fits.
func (w *world) pick(fits func(b *box) bool) *box {
	var all []*box
	for _, k := range w.order {
		if b := w.boxes[k]; fits(b) {
			all = append(all, b)
		}
	}
	if len(all) == 0 {
		return nil
	}
	return all[w.rng.IntN(len(all))]
}

func role(r string) func(*box) bool { return func(b *box) bool { return b.d.Role == r } }

func host(b *box) bool { return b.d.Role == "server" && b.d.Key != "here" }

// on sets something of one box, and back.
func on(fits func(*box) bool, set func(w *world, b *box, is bool)) func(*world) func() {
	return func(w *world) func() {
		b := w.pick(fits)
		if b == nil {
			return func() {}
		}
		set(w, b, true)
		return func() { set(w, b, false) }
	}
}

// hang has a box hang, until somebody restarts it.
func hang(w *world, b *box, is bool) {
	if b.hung = is; !is {
		w.restart(b)
	}
}

// blip has a box be away for some seconds.
func blip(w *world, b *box, is bool) {
	if is {
		b.up = w.now.Add(time.Duration(5+w.rng.IntN(30)) * time.Second)
	}
}

// restart brings a box back as it does after being off.
func (w *world) restart(b *box) { b.up = w.now.Add(b.boot) }

// faults are all that goes wrong.
func faults() []fault { return append(single(), several()...) }

func single() []fault {
	return []fault{
		{name: "a host hangs", ways: noLoss, do: on(host, hang)},
		{name: "a host is pressed off", do: on(host, func(w *world, b *box, is bool) {
			if b.off = is; !is {
				w.restart(b)
			}
		})},
		{name: "a host sleeps", do: on(host, func(w *world, b *box, is bool) {
			if b.asleep = is; !is {
				b.up = w.now.Add(4 * time.Second)
			}
		})},
		{name: "the cable of a host is cut", do: on(host, func(_ *world, b *box, is bool) { b.uncabled = is })},
		{name: "a host breaks", do: on(host, func(w *world, b *box, is bool) {
			if b.broken = is; !is {
				w.restart(b)
			}
		})},
		{name: "a port refuses", do: on(host, func(_ *world, b *box, is bool) { b.refuses = is })},
		{name: "a switch hangs", do: on(role("switch"), hang)},
		{name: "a switch restarts", do: on(role("switch"), blip)},
		{name: "the cable of a switch is cut", do: on(role("switch"), func(_ *world, b *box, is bool) { b.uncabled = is })},
		{name: "a router hangs", do: on(role("router"), hang)},
		{name: "a router restarts", do: on(role("router"), blip)},
		{name: "a PDU dies", do: on(role("pdu"), func(_ *world, b *box, is bool) { b.broken = is })},
		{name: "the card of a PDU dies", do: on(role("pdu"), func(_ *world, b *box, is bool) { b.cardDead = is })},
		{name: "the card of a UPS dies", do: on(role("ups"), func(_ *world, b *box, is bool) { b.cardDead = is })},
		{name: "the output of a UPS goes", do: on(role("ups"), func(_ *world, b *box, is bool) { b.output = !is })},
		{name: "somebody switches an outlet off", do: func(w *world) func() {
			b := w.pick(func(b *box) bool { return host(b) && len(b.d.Power) == 1 })
			if b == nil {
				return func() {}
			}
			from := b.d.Power[0].From
			w.boxes[from.Device].relay[from.Port] = true
			return func() { w.boxes[from.Device].relay[from.Port] = false }
		}},
		{name: "the utility goes", do: func(w *world) func() {
			site := w.boxes[w.hosts[w.rng.IntN(len(w.hosts))]].d.Site
			w.mains[site] = false
			return func() { w.mains[site] = true }
		}},
		{name: "our own port is down", do: func(w *world) func() { w.port = false; return func() { w.port = true } }},
		{name: "one wrong cable, and a switch dies", do: func(w *world) func() {
			sw := w.pick(func(b *box) bool { return b.d.Role == "switch" && w.count(b.d.Key) > 2 })
			if sw == nil {
				return func() {}
			}
			moved := w.pick(func(b *box) bool { return host(b) && b.behind == sw.d.Key && b.spare == "" })
			if moved == nil {
				return func() {}
			}
			moved.behind = w.boxes[sw.d.Key].behind
			sw.hung = true
			return func() { moved.behind, sw.hung = sw.d.Key, false; w.restart(sw) }
		}},
		{name: "5 % of the packets are lost", lossy: true, do: lossy(0.05)},
		{name: "10 % of the packets are lost", lossy: true, do: lossy(0.1)},
		{name: "20 % of the packets are lost", lossy: true, do: lossy(0.2)},
		{name: "packets are lost in bursts, a tenth of the time", lossy: true, do: on(role("router"), func(_ *world, b *box, is bool) {
			if b.bursts = 0; is {
				b.bursts = 0.1
			}
		})},
	}
}

// several are those that are made of others.
func several() []fault {
	return []fault{
		hangBehind("5 % lost", 0.05, 0), hangBehind("10 % lost", 0.1, 0), hangBehind("20 % lost", 0.2, 0), hangBehind("bursts", 0, 0.1),
		{name: "a host is switched off by somebody who works on it", do: func(w *world) func() {
			b := w.pick(func(b *box) bool { return host(b) && len(b.d.Power) == 1 })
			if b == nil {
				return func() {}
			}
			from := b.d.Power[0].From
			w.boxes[from.Device].relay[from.Port], w.meant[b.d.Key] = true, true
			return func() { w.boxes[from.Device].relay[from.Port] = false }
		}},
		{name: "a host hangs, and the service starts anew", do: func(w *world) func() {
			undo := named("a host hangs").do(w)
			w.anew = true
			return undo
		}},
		{name: "a host is pressed off, and its meter stands still", lies: true, do: offWith(func(w *world, b *box, is bool) {
			for _, c := range b.d.Power {
				w.boxes[c.From.Device].stuck = is
			}
		})},
		{name: "a host is pressed off, and its controller says that it is on", lies: true, do: offWith(func(_ *world, b *box, is bool) { b.claims = is })},
		{name: "three hosts hang, and a switch restarts", many: true, do: func(w *world) func() {
			var undo []func()
			for range 3 {
				undo = append(undo, named("a host hangs").do(w))
			}
			undo = append(undo, named("a switch restarts").do(w))
			return func() {
				for _, f := range undo {
					f()
				}
			}
		}},
	}
}

// named is one of the single faults.
func named(name string) fault {
	for _, f := range single() {
		if f.name == name {
			return f
		}
	}
	panic(name)
}

// lossy loses packets at a router, each way.
func lossy(share float64) func(w *world) func() {
	return on(role("router"), func(_ *world, b *box, is bool) {
		if b.loss = 0; is {
			b.loss = share
		}
	})
}

func (w *world) count(behind estate.Key) (n int) {
	for _, b := range w.boxes {
		if b.behind == behind && host(b) {
			n++
		}
	}
	return n
}

// offWith presses off a host whose power is measured, while something tells otherwise.
func offWith(lie func(w *world, b *box, is bool)) func(w *world) func() {
	measured := func(b *box) bool { return host(b) && len(b.d.Power) > 0 }
	return on(measured, func(w *world, b *box, is bool) {
		if lie(w, b, is); !is {
			w.restart(b)
		}
		b.off = is
	})
}

const noLoss = "nothing lost"

// hangBehind has a host hang on a way that loses packets, or a tenth of the time nearly all.
func hangBehind(name string, share, bursts float64) fault {
	return fault{name: "a host hangs, " + name, lossy: true, ways: name, do: func(w *world) func() {
		b := w.pick(host)
		router := w.boxes[b.d.Site+"-wan0"]
		router.loss, router.bursts = share, bursts
		hang(w, b, true)
		return func() {
			router.loss, router.bursts = 0, 0
			hang(w, b, false)
		}
	}}
}

// crowd is a large estate in which much goes wrong at once.
func crowd() fault {
	return fault{name: "twenty things at once in an estate of 5,000", many: true, do: func(w *world) func() {
		var undo []func()
		all := single()
		for len(undo) < 20 {
			if f := all[w.rng.IntN(len(all))]; !f.lossy && !strings.Contains(f.name, "our own port") {
				undo = append(undo, f.do(w))
			}
		}
		return func() {
			for _, f := range undo {
				f()
			}
		}
	}}
}

// crowded is how many sites make 5,000 devices.
const crowded = 260
