package snmpgear

import (
	"context"
	"fmt"
	"math"
	"strconv"
	"time"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
)

const (
	fixedEvery = 5 * time.Minute // names and the like change by hand
	maxOutlets = 256             // more than any strip: an agent that goes on and on is stopped here
)

// outlets is the part of a card that switches them.
type outlets struct {
	*Driver

	numbers []int   // once they have been listed
	fixed   answers // what hardly changes
	fixedAt time.Time
}

// cycler is outlets of gear that carries out a whole cycle by itself.
type cycler struct{ *outlets }

var (
	_ gear.Outlets        = (*outlets)(nil)
	_ gear.OutletSettings = (*outlets)(nil)
	_ gear.Outlets        = (*cycler)(nil)
	_ gear.OutletCycler   = (*cycler)(nil)
)

// values are the columns of the outlet table, those that hardly change apart.
func values(p *profile.Outlets, fixed bool) []*profile.Value {
	var out []*profile.Value
	for _, v := range []*profile.Value{p.Name, p.Switched, p.On, p.Current, p.Power, p.Energy, p.AfterLoss, p.OnDelay, p.OffDelay} {
		if v != nil && v.Fixed == fixed {
			out = append(out, v)
		}
	}
	return out
}

// meterValues are the scalars that are read with the outlets.
func meterValues(p *profile.Profile) []*profile.Value {
	vs := []*profile.Value{p.Totals.Power, p.Totals.Current, p.Totals.Voltage, p.Totals.Energy}
	for _, m := range p.Meters {
		vs = append(vs, m.Current, m.Voltage, m.Power, m.Energy, m.Breaker, m.Rating)
	}
	return vs
}

// ReadOutlets reads all outlets.
func (d *outlets) ReadOutlets(ctx context.Context) (reading.Outlets, error) {
	var out reading.Outlets
	err := d.read.use(ctx, func() error {
		if err := d.learn(); err != nil {
			return err
		}
		p := d.o.Profile.Outlets
		got, err := d.read.get(append(oids(meterValues(d.o.Profile)...), d.rows(values(p, false))...))
		if err != nil {
			return err
		}
		find := lookup(p.Entry, got, d.fixed)
		out = reading.Outlets{Meters: find.Meters(d.o.Profile)}
		if len(out.Meters) > 0 && out.Meters[0].Kind == "inlet" {
			out.TotalW = out.Meters[0].W
		}
		for _, n := range d.numbers {
			if r, ok := find.Outlet(p, n); ok {
				out.Outlets = append(out.Outlets, r)
			}
		}
		return nil
	})
	return out, err
}

// rows names the instances of some columns, for all outlets.
func (d *outlets) rows(vs []*profile.Value) []string {
	var out []string
	for _, n := range d.numbers {
		for _, v := range vs {
			out = append(out, d.o.Profile.Outlets.OID(v, n))
		}
	}
	return out
}

// learn lists the outlets, and reads what hardly changes.
func (d *outlets) learn() error {
	p := d.o.Profile.Outlets
	if len(d.numbers) > 0 && time.Since(d.fixedAt) < fixedEvery {
		return nil
	}
	numbers, err := d.read.indexes(fmt.Sprintf("%s.%d", p.Entry, p.On.Column), maxOutlets)
	if err != nil {
		return err
	}
	if len(numbers) == 0 {
		return &gear.Error{Kind: gear.Malformed, Outcome: refused, Text: fmt.Sprintf("%s lists no outlets: does profile %s fit it?", d.o.Name, d.o.Profile.Name)}
	}
	d.numbers = numbers
	fixed, err := d.read.get(d.rows(values(p, true)))
	if err != nil {
		return err
	}
	d.fixed, d.fixedAt = fixed, time.Now()
	return nil
}

// SwitchOutlet orders one outlet on or off.
func (d *outlets) SwitchOutlet(ctx context.Context, n int, on bool) error {
	c := d.o.Profile.Outlets.Command
	if c == nil {
		return d.unsupported("switch outlets")
	}
	value := c.Off.Value
	if on {
		value = c.On.Value
	}
	return d.write.use(ctx, func() error {
		return d.write.set(setRetries, integer(instance(d.o.Profile.Outlets.Entry, c.Column, n), value))
	})
}

// CycleOutlet has the gear carry out a whole cycle. That is never said twice:
// a repetition of a packet that did arrive would begin another one.
func (d *cycler) CycleOutlet(ctx context.Context, n int, hold time.Duration) error {
	p := d.o.Profile.Outlets
	return d.write.use(ctx, func() error {
		if p.CycleSeconds != nil {
			seconds := int(math.Ceil(hold.Seconds()))
			if err := d.write.set(setRetries, integer(p.OID(p.CycleSeconds, n), seconds)); err != nil {
				// Whatever became of that, nothing has been cycled.
				return &gear.Error{Kind: gear.KindOf(err), Outcome: notSent, Text: err.Error(), Err: err}
			}
		}
		return d.write.set(0, integer(instance(p.Entry, p.Command.Column, n), p.Command.Cycle.Value))
	})
}

// NameOutlet gives an outlet a name on the gear itself.
func (d *outlets) NameOutlet(ctx context.Context, n int, name string) error {
	v := d.o.Profile.Outlets.Name
	if !v.Writable() {
		return d.unsupported("name outlets")
	}
	return d.put(ctx, "the name of outlet "+strconv.Itoa(n), octets(d.o.Profile.Outlets.OID(v, n), name), name)
}

// SetAfterLoss says what an outlet does when power comes back to the gear.
func (d *outlets) SetAfterLoss(ctx context.Context, n int, what reading.AfterLoss) error {
	v := d.o.Profile.Outlets.AfterLoss
	if !v.Writable() {
		return d.unsupported("say what an outlet does after a power loss")
	}
	value, ok := v.Raw(string(what))
	number, err := strconv.Atoi(value)
	if !ok || err != nil {
		return d.unsupported(fmt.Sprintf("have an outlet be %q after a power loss", what))
	}
	return d.put(ctx, "what outlet "+strconv.Itoa(n)+" does after a power loss", integer(d.o.Profile.Outlets.OID(v, n), number), value)
}

// SetDelays says how long an outlet waits before it moves.
func (d *outlets) SetDelays(ctx context.Context, n int, on, off *time.Duration) error {
	p := d.o.Profile.Outlets
	for _, x := range []struct {
		what string
		v    *profile.Value
		d    *time.Duration
	}{{"on", p.OnDelay, on}, {"off", p.OffDelay, off}} {
		if x.d == nil {
			continue
		}
		if !x.v.Writable() {
			return d.unsupported("delay switching " + x.what)
		}
		s := int(math.Round(x.d.Seconds()))
		if err := d.put(ctx, fmt.Sprintf("the %s delay of outlet %d", x.what, n), integer(p.OID(x.v, n), s), strconv.Itoa(s)); err != nil {
			return err
		}
	}
	return nil
}

// put writes one object, and reads it back: a card that accepts and forgets
// must not pass for one that has obeyed.
func (d *outlets) put(ctx context.Context, what string, v gosnmp.SnmpPDU, want string) error {
	err := d.write.use(ctx, func() error {
		if err := d.write.set(setRetries, v); err != nil {
			return err
		}
		got, err := d.write.get([]string{v.Name})
		if err != nil {
			return err
		}
		if is, _ := raw(got[v.Name]); is != want {
			return unkept(d.o.Name, what)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return d.read.use(ctx, func() error { d.fixedAt = time.Time{}; return nil }) // it is read anew at the next poll
}
