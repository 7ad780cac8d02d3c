package lab

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/wire/ipmi"
)

// on runs f on a box, and complains when there is none.
func (w *World) on(k estate.Key, f func(*box)) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	b := w.boxes[k]
	if b == nil {
		return fmt.Errorf("the lab has no device %q: it has %v", k, slices.Sorted(maps.Keys(w.boxes)))
	}
	f(b)
	return nil
}

func (w *World) onOutlet(end estate.End, f func(*outlet)) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	o := w.outlets[end]
	if o == nil {
		return fmt.Errorf("the lab has no outlet %q: name it PDU/NUMBER", end)
	}
	f(o)
	return nil
}

// Hang leaves a device powered but silent, until its power is cut.
func (w *World) Hang(k estate.Key) error {
	return w.on(k, func(b *box) { b.hung = !b.powered.IsZero() })
}

// Refuse has the services of a device turn away who connects.
func (w *World) Refuse(k estate.Key) error { return w.on(k, func(b *box) { b.refuses = true }) }

// Err has the web server of a device answer with an error.
func (w *World) Err(k estate.Key) error { return w.on(k, func(b *box) { b.errors = true }) }

// Unplug takes the network cable of a device out.
func (w *World) Unplug(k estate.Key) error { return w.on(k, func(b *box) { b.unplugged = true }) }

// Move connects a device elsewhere than the estate says.
func (w *World) Move(k, hop estate.Key) error {
	if w.boxes[hop] == nil || hop == k {
		return fmt.Errorf("%s cannot hang on %q: name another device of the lab", k, hop)
	}
	return w.on(k, func(b *box) { b.moved = hop })
}

// Cross changes the leads to the fronts and the serial ports of two devices over.
func (w *World) Cross(one, other estate.Key) error {
	if w.boxes[other] == nil || one == other {
		return fmt.Errorf("the leads of %s cannot be changed over with those of %q: name another device of the lab", one, other)
	}
	return w.on(one, func(b *box) {
		b.crossed, w.boxes[other].crossed = other, one
		w.crossings++
	})
}

// Restart has a device start anew by itself.
func (w *World) Restart(k estate.Key) error {
	return w.on(k, func(b *box) {
		if !b.start().IsZero() {
			b.restart(time.Now())
		}
	})
}

// Silence makes the management card of a device stop answering.
func (w *World) Silence(k estate.Key) error { return w.on(k, func(b *box) { b.silent = true }) }

// Speak takes Silence back, and nothing else.
func (w *World) Speak(k estate.Key) error { return w.on(k, func(b *box) { b.silent = false }) }

// Skew has the clock of a card's SNMP engine jump ahead.
func (w *World) Skew(k estate.Key, d time.Duration) error {
	return w.on(k, func(b *box) { b.skew = d })
}

// Lose drops a share (0 to 1) of the packets to a device and to all behind it.
func (w *World) Lose(k estate.Key, share float64) error {
	if share < 0 || share > 1 {
		return fmt.Errorf("%g is not a share between 0 and 1", share)
	}
	return w.on(k, func(b *box) { b.loss = share })
}

// Delay holds up the packets to a device and to all behind it.
func (w *World) Delay(k estate.Key, d time.Duration) error {
	return w.on(k, func(b *box) { b.delay = d })
}

// Weld makes the contact of an outlet stay closed, whatever its card is told.
func (w *World) Weld(end estate.End) error {
	if b := w.boxes[end.Device]; b != nil && b.ups != nil && end.Kind() == estate.Output {
		return w.on(end.Device, func(b *box) { b.ups.welded = true })
	}
	return w.onOutlet(end, func(o *outlet) { o.move(func() { o.welded = true }) })
}

// Swap exchanges the cables of two outlets against what the estate says.
func (w *World) Swap(a, b estate.End) error {
	for _, end := range []estate.End{a, b} {
		if err := w.onOutlet(end, func(*outlet) {}); err != nil {
			return err
		}
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.plug[a], w.plug[b] = w.socket(b), w.socket(a)
	w.settle(time.Now())
	return nil
}

// Countdown has a UPS shut its output down after a time, as somebody at its front,
// or another program, would.
func (w *World) Countdown(k estate.Key, d time.Duration) error {
	if b := w.boxes[k]; b == nil || b.ups == nil {
		return fmt.Errorf("%s is no UPS", k)
	}
	return w.on(k, func(b *box) { b.ups.shutdownIn = d.Seconds() })
}

// Flip moves an outlet's contact as somebody at the rack would, past us.
func (w *World) Flip(end estate.End, on bool) error {
	return w.onOutlet(end, func(*outlet) { w.command(end, on) })
}

// Occupy has somebody work with a device, or with busy false leave it.
func (w *World) Occupy(k estate.Key, busy bool) error {
	return w.on(k, func(b *box) { b.used = busy })
}

// onFront runs f on a device with leads to its front.
func (w *World) onFront(k estate.Key, f func(*front)) error {
	if b := w.boxes[k]; b == nil || b.front == nil {
		return fmt.Errorf("no leads go to the front of %s", k)
	}
	return w.on(k, func(b *box) { f(b.front) })
}

// onChassis runs f on a device that has a controller.
func (w *World) onChassis(k estate.Key, f func(*chassis) error) error {
	var c *chassis
	if err := w.on(k, func(b *box) { c = b.chassis }); err != nil {
		return err
	}
	if c == nil {
		return fmt.Errorf("%s has no management controller", k)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	return f(c)
}

// Press switches a host off or on as somebody at its power button would.
func (w *World) Press(k estate.Key, on bool) error {
	if b := w.boxes[k]; b != nil && b.front != nil {
		return w.onFront(k, func(f *front) { f.off = !on })
	}
	return w.onChassis(k, func(c *chassis) error { c.set(on, time.Now()); return nil })
}

// Sleep has a host fall asleep by itself.
func (w *World) Sleep(k estate.Key) error {
	if b := w.boxes[k]; b != nil && b.chassis == nil {
		return w.on(k, func(b *box) { b.asleep = !b.powered.IsZero() })
	}
	return w.onChassis(k, func(c *chassis) error { c.asleep = c.on; return nil })
}

// Say has a box write something to its serial line.
func (w *World) Say(k estate.Key, text string) error {
	return w.onSerial(k, func(b *box) { b.says += text })
}

// Baud has a box talk at another speed on its serial line.
func (w *World) Baud(k estate.Key, speed int) error {
	return w.onSerial(k, func(b *box) {
		b.port.mu.Lock()
		defer b.port.mu.Unlock()
		b.port.box.Speed = speed
	})
}

func (w *World) onSerial(k estate.Key, f func(*box)) error {
	wired := true
	err := w.on(k, func(b *box) {
		if wired = b.port != nil; wired {
			f(b)
		}
	})
	if err == nil && !wired {
		err = fmt.Errorf("nothing is wired to a serial port of %s", k)
	}
	return err
}

// Crash stops the kernel of a box, which it tells on its serial line.
func (w *World) Crash(k estate.Key) error {
	return w.on(k, func(b *box) { b.crashed, b.hung = !b.powered.IsZero(), !b.powered.IsZero() })
}

// Deafen has a host not take its keyboard until that is plugged in anew.
func (w *World) Deafen(k estate.Key) error { return w.on(k, func(b *box) { b.deaf = true }) }

// Stick has a host take no notice of a request to shut down.
func (w *World) Stick(k estate.Key) error {
	if b := w.boxes[k]; b != nil && b.front != nil {
		return w.onFront(k, func(f *front) { f.stuck = true })
	}
	return w.onChassis(k, func(c *chassis) error { c.stuck = true; return nil })
}

// Heat makes it warmer around a device, by so many °C.
func (w *World) Heat(k estate.Key, by float64) error {
	if b := w.boxes[k]; b != nil && b.around != nil {
		return w.on(k, func(b *box) { b.around.celsius += by })
	}
	if b := w.boxes[k]; b != nil && b.d.Role == "kvm" {
		return w.on(k, func(b *box) { b.hotter = by })
	}
	return w.onChassis(k, func(c *chassis) error { c.hotter = by; return nil })
}

// Lid opens the lid of a box.
func (w *World) Lid(k estate.Key) error {
	return w.onChassis(k, func(c *chassis) error { c.open = true; return nil })
}

// Blackout takes the utility from a site, or with gone false gives it back.
func (w *World) Blackout(site estate.Key, gone bool) error {
	if w.e.Site(site) == nil {
		return fmt.Errorf("the lab has no site %q", site)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.outage[site] = gone
	w.settle(time.Now())
	return nil
}

// Age leaves a share (0 to 1) of what the battery of a UPS held when it was new.
func (w *World) Age(k estate.Key, share float64) error {
	if b := w.boxes[k]; b == nil || b.ups == nil {
		return fmt.Errorf("%s is no UPS", k)
	}
	if share <= 0 || share > 1 {
		return fmt.Errorf("%g is not a share between 0 and 1", share)
	}
	return w.on(k, func(b *box) { b.ups.health = share })
}

// Drain leaves a charge, in %, in the battery of a UPS.
func (w *World) Drain(k estate.Key, charge float64) error {
	if b := w.boxes[k]; b == nil || b.ups == nil {
		return fmt.Errorf("%s is no UPS", k)
	}
	return w.on(k, func(b *box) { b.ups.charge = min(100, max(0, charge)) })
}

// Door opens a door that a sensor unit watches.
func (w *World) Door(k estate.Key) error {
	if b := w.boxes[k]; b == nil || b.around == nil {
		return fmt.Errorf("%s watches no door", k)
	}
	return w.on(k, func(b *box) { b.around.doorOpen = true })
}

// FailFan and FailSupply break one of several, counted from 1.
func (w *World) FailFan(k estate.Key, n int) error {
	return w.onChassis(k, func(c *chassis) error { return fail(c.fans, "fan", k, n) })
}

// FailSupply breaks a power supply.
func (w *World) FailSupply(k estate.Key, n int) error {
	return w.onChassis(k, func(c *chassis) error {
		if err := fail(c.supply, "power supply", k, n); err != nil {
			return err
		}
		w.settle(time.Now())
		return nil
	})
}

func fail(works []bool, what string, k estate.Key, n int) error {
	if n < 1 || n > len(works) {
		return fmt.Errorf("%s has no %s %d: it has %d", k, what, n, len(works))
	}
	works[n-1] = false
	return nil
}

// Upset changes what is wrong with a controller itself.
func (w *World) Upset(k estate.Key, f func(*bmc.Faults)) error {
	var ctl *bmc.Controller
	if err := w.onChassis(k, func(c *chassis) error { ctl = c.ctl; return nil }); err != nil {
		return err
	}
	ctl.Set(f)
	return nil
}

// Arm starts the watchdog of a host, which restarts it when it runs out.
func (w *World) Arm(k estate.Key, d time.Duration) error {
	var ctl *bmc.Controller
	if err := w.onChassis(k, func(c *chassis) error { ctl = c.ctl; return nil }); err != nil {
		return err
	}
	ctl.ArmWatchdog(ipmi.WatchdogReset, d, time.Now())
	return nil
}

// Controller returns the controller of a device, for tests.
func (w *World) Controller(k estate.Key) *bmc.Controller {
	if b := w.boxes[k]; b != nil && b.chassis != nil {
		return b.chassis.ctl
	}
	return nil
}

// heal repairs a box, and leaves it on.
func (c *chassis) heal(now time.Time) {
	c.open, c.stuck, c.hotter = false, false, 0
	for i := range c.fans {
		c.fans[i] = true
	}
	for i := range c.supply {
		c.supply[i] = true
	}
	if c.asleep || !c.on && !c.box.powered.IsZero() {
		c.set(true, now)
	}
}

// Heal takes back every fault of a device, or of all when k is empty: hangs,
// silence, loss, delay, refusals, welded contacts and cables that are elsewhere.
func (w *World) Heal(k estate.Key) error {
	if k != "" {
		if err := w.on(k, func(*box) {}); err != nil {
			return err
		}
	}
	w.heal(k)
	for key, b := range w.boxes {
		if (k == "" || key == k) && b.chassis != nil {
			// Without the world's lock: the controller may be asking the world something.
			b.chassis.ctl.Set(func(f *bmc.Faults) { *f = bmc.Faults{} })
		}
	}
	return nil
}

func (w *World) heal(k estate.Key) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for key, b := range w.boxes {
		if k == "" || key == k {
			b.hung, b.crashed, b.silent, b.loss, b.delay, b.asleep, b.skew, b.deaf, b.keysOut, b.hotter = false, false, false, 0, 0, false, 0, false, false, 0
			b.refuses, b.errors, b.unplugged, b.moved, b.line = false, false, false, "", lineUp
			if other := w.boxes[b.crossed]; other != nil {
				b.crossed, other.crossed = "", ""
				w.crossings++
			}
			if b.around != nil {
				*b.around = around{celsius: 21.4, humidity: 43}
			}
			if b.ups != nil {
				b.ups.health, b.ups.bypass, b.ups.welded = 1, false, false
			}
			if b.chassis != nil {
				b.chassis.heal(time.Now())
			}
			b.used = false
			if b.front != nil {
				*b.front = front{soft: b.front.soft + 1}
			}
		}
	}
	if k == "" {
		clear(w.outage)
	}
	for end, o := range w.outlets {
		if k == "" || end.Device == k {
			o.move(func() { o.welded = false }) // one that was ordered off opens now
			delete(w.plug, end)
		}
	}
	w.settle(time.Now())
}

// BoxState is how a device really is, for tests and for people at the lab.
type BoxState struct {
	Device  estate.Key `json:"device"`
	Powered bool       `json:"powered"`
	Up      bool       `json:"up"` // it has started and does not hang
	Hung    bool       `json:"hung"`
	W       float64    `json:"w"`
}

// State returns how every device really is.
func (w *World) State() []BoxState {
	w.mu.Lock()
	defer w.mu.Unlock()
	now := time.Now()
	var out []BoxState
	for i := range w.e.Devices {
		b := w.boxes[w.e.Devices[i].Key]
		out = append(out, BoxState{b.d.Key, !b.powered.IsZero(), w.up(b, now), b.hung, w.draw(b, now)})
	}
	return out
}

// Opens says how often an outlet's contact has really opened.
func (w *World) Opens(end estate.End) int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.outlets[end].opens
}

// Chassis says whether a host is on, and how often it was switched off and reset.
func (w *World) Chassis(k estate.Key) (on bool, offs, resets int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	c := w.boxes[k].chassis
	return c.on, c.offs, c.resets
}

// Contact says whether an outlet's contact is really closed, and how often an
// order has reached it.
func (w *World) Contact(end estate.End) (closed bool, orders int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	o := w.outlets[end]
	return o.closed(), o.order
}
