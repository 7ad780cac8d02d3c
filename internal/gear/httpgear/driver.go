// Package httpgear drives gear with a plain HTTP interface of its own, as a
// profile says: which pages to fetch, where on them the values are, and which
// requests change something.
//
//	driver.go   one device, and which parts of it there are
//	camera.go   pictures, without a profile
//	keyboard.go the keyboard that a KVM pretends to be
//	display.go  the display that a KVM pretends to be
//	channel.go  a KVM that shows one of several ports
//	panel.go    buttons and lights on the fronts of other devices
//	fetch.go    fetching, logging in, and pinning the certificate
//	find.go     values on a page: JSON pointers (RFC 6901) and regular expressions
package httpgear

import (
	"context"
	"fmt"
	"math"
	"strconv"
	"time"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

// Options say where the gear is and how it is spoken to.
type Options struct {
	Name      string   // the device, for messages
	Addresses []string // host:port, in order of preference
	Profile   *profile.Profile
	Secret    secret.Value
	Pin       string // SHA-256 of its certificate; empty: http without TLS
	Timeout   time.Duration
}

// Driver is one device. It may be shared between goroutines.
type Driver struct {
	o     Options
	web   *web
	parts []any
}

// Open prepares a driver; nothing is sent before the first question.
func Open(o Options) (*Driver, error) {
	w, err := newWeb(o)
	if err != nil {
		return nil, err
	}
	d := &Driver{o: o, web: w}
	p := o.Profile
	if p.Outlets != nil {
		part := &outlets{d}
		if p.CyclesItself() {
			d.parts = append(d.parts, &cycler{part})
		} else {
			d.parts = append(d.parts, part)
		}
	}
	if p.Panel != nil {
		d.parts = append(d.parts, &panel{d})
	}
	if len(p.Sensors) > 0 {
		d.parts = append(d.parts, &sensors{d})
	}
	d.parts = append(d.parts, &plate{d})
	if p.Channel != nil {
		d.parts = append(d.parts, &channel{d})
	}
	if p.Keyboard != nil {
		d.parts = append(d.parts, &keyboard{d})
	}
	if p.Display != nil {
		d.parts = append(d.parts, &display{d})
	}
	if p.Restart != nil {
		d.parts = append(d.parts, &restarter{d})
	}
	return d, nil
}

// Parts is what the gear can do: see gear.As.
func (d *Driver) Parts() []any { return d.parts }

// Close drops idle connections.
func (d *Driver) Close() error {
	d.web.client.CloseIdleConnections()
	return nil
}

func (d *Driver) unsupported(what string) error {
	return &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: fmt.Sprintf("%s: profile %s cannot %s", d.o.Name, d.o.Profile.Name, what)}
}

// outlets is the part that switches them.
type outlets struct{ *Driver }

// cycler is outlets of gear that carries out a whole cycle by itself.
type cycler struct{ *outlets }

var (
	_ gear.Outlets        = (*outlets)(nil)
	_ gear.OutletSettings = (*outlets)(nil)
	_ gear.OutletCycler   = (*cycler)(nil)
)

// ReadOutlets reads all outlets.
func (d *outlets) ReadOutlets(ctx context.Context) (reading.Outlets, error) {
	page := d.web.visit(ctx)
	p := d.o.Profile
	numbers, places, err := page.rows(p.Outlets)
	if err != nil {
		return reading.Outlets{}, err
	}
	find := page.lookup(p, places)
	out := reading.Outlets{Meters: find.Meters(p)}
	if len(out.Meters) > 0 && out.Meters[0].Kind == "inlet" {
		out.TotalW = out.Meters[0].W
	}
	for _, n := range numbers {
		if r, ok := find.Outlet(p.Outlets, n); ok {
			out.Outlets = append(out.Outlets, r)
		}
	}
	if page.err != nil {
		return reading.Outlets{}, page.err
	}
	if len(out.Outlets) == 0 {
		return out, &gear.Error{Kind: gear.Malformed, Outcome: sending.Refused, Text: fmt.Sprintf("%s lists no outlets: does profile %s fit it?", d.o.Name, p.Name)}
	}
	return out, nil
}

// SwitchOutlet orders one outlet on or off.
func (d *outlets) SwitchOutlet(ctx context.Context, n int, on bool) error {
	c := d.o.Profile.Outlets.Command
	if c == nil {
		return d.unsupported("switch outlets")
	}
	order := c.Off
	if on {
		order = c.On
	}
	return d.web.send(ctx, order.Request, blanks{"n": strconv.Itoa(n)})
}

// CycleOutlet has the gear carry out a whole cycle.
func (d *cycler) CycleOutlet(ctx context.Context, n int, hold time.Duration) error {
	return d.web.send(ctx, d.o.Profile.Outlets.Command.Cycle.Request, blanks{"n": strconv.Itoa(n), "seconds": strconv.Itoa(int(math.Ceil(hold.Seconds())))})
}

// NameOutlet gives an outlet a name on the gear itself.
func (d *outlets) NameOutlet(ctx context.Context, n int, name string) error {
	return d.put(ctx, d.o.Profile.Outlets.Name, n, name, "name outlets", func(r reading.Outlet) bool { return r.Name == name })
}

// SetAfterLoss says what an outlet does when power comes back to the gear.
func (d *outlets) SetAfterLoss(ctx context.Context, n int, what reading.AfterLoss) error {
	v := d.o.Profile.Outlets.AfterLoss
	value := ""
	if v != nil {
		value, _ = v.Raw(string(what))
	}
	if value == "" {
		return d.unsupported(fmt.Sprintf("have an outlet be %q after a power loss", what))
	}
	return d.put(ctx, v, n, value, "say what an outlet does after a power loss", func(r reading.Outlet) bool { return r.AfterLoss == what })
}

// SetDelays says how long an outlet waits before it moves.
func (d *outlets) SetDelays(ctx context.Context, n int, on, off *time.Duration) error {
	p := d.o.Profile.Outlets
	if on != nil {
		if err := d.put(ctx, p.OnDelay, n, strconv.Itoa(int(on.Seconds())), "delay switching on", func(r reading.Outlet) bool { return r.OnDelay != nil && *r.OnDelay == *on }); err != nil {
			return err
		}
	}
	if off != nil {
		return d.put(ctx, p.OffDelay, n, strconv.Itoa(int(off.Seconds())), "delay switching off", func(r reading.Outlet) bool { return r.OffDelay != nil && *r.OffDelay == *off })
	}
	return nil
}

// put writes one value of an outlet, and reads it back.
func (d *outlets) put(ctx context.Context, v *profile.Value, n int, value, what string, kept func(reading.Outlet) bool) error {
	if !v.Writable() {
		return d.unsupported(what)
	}
	if err := d.web.send(ctx, v.Set, blanks{"n": strconv.Itoa(n), "value": value}); err != nil {
		return err
	}
	got, err := d.ReadOutlets(ctx)
	if err != nil {
		return err
	}
	for _, r := range got.Outlets {
		if r.Number == n && kept(r) {
			return nil
		}
	}
	return &gear.Error{Kind: gear.Malformed, Outcome: sending.Unclear, Text: fmt.Sprintf("%s accepted that for outlet %d, and then did not keep it", d.o.Name, n)}
}

// sensors is the part that measures the surroundings.
type sensors struct{ *Driver }

var _ gear.Sensors = (*sensors)(nil)

// ReadSensors reads them all.
func (d *sensors) ReadSensors(ctx context.Context) ([]reading.Sensor, error) {
	page := d.web.visit(ctx)
	out := page.lookup(d.o.Profile, nil).Sensors(d.o.Profile)
	return out, page.err
}

// plate is the part that knows what the gear is.
type plate struct{ *Driver }

var (
	_ gear.Inventory = (*plate)(nil)
	_ gear.Answerer  = (*plate)(nil)
)

// Answer fetches one page.
func (d *plate) Answer(ctx context.Context) error {
	for _, path := range d.o.Profile.Pages {
		_, err := d.web.get(ctx, path)
		return err
	}
	return nil
}

// ReadSheet reads the type plate.
func (d *plate) ReadSheet(ctx context.Context) (reading.Sheet, error) {
	page := d.web.visit(ctx)
	s := page.lookup(d.o.Profile, nil).Sheet(d.o.Profile)
	s.Protocol, s.Address = "HTTP", d.o.Addresses[d.web.at()]
	return s, page.err
}

// restarter is the part that starts the gear's own computer anew.
type restarter struct{ *Driver }

var _ gear.Restarter = (*restarter)(nil)

// Restart starts it anew.
func (d *restarter) Restart(ctx context.Context, _ bool) error {
	return d.web.send(ctx, d.o.Profile.Restart.Request, nil)
}
