// Package garage keeps one driver open for every endpoint of the estate, so
// that watching and acting share sessions, and reopens it when the endpoint or
// its secret has changed.
package garage

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"sync"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/linegear"
	"plumbbob/internal/gear/sshgear"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

// Garage opens drivers. It may be shared between goroutines.
type Garage struct {
	Pins  sshgear.Pins // set before anything is opened
	Local Local        // likewise

	mu      sync.Mutex
	estate  *estate.Estate
	secrets map[string]secret.Value
	open    map[estate.EndpointID]*slot
	closing sync.WaitGroup // drivers that have been dropped
}

// Local are the serial ports of the service's own machine, by name.
type Local interface {
	linegear.Dialler
	Cable(ctx context.Context, name string) (attach.Wire, error)
}

type slot struct {
	endpoint estate.Endpoint
	secret   secret.Value
	driver   gear.Driver
}

// New returns a garage without drivers.
func New() *Garage {
	return &Garage{estate: estate.Empty(), secrets: map[string]secret.Value{}, open: map[estate.EndpointID]*slot{}}
}

// SetEstate says what there is. Drivers of what has gone are closed.
func (g *Garage) SetEstate(e *estate.Estate) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.estate = e
	for id, s := range g.open {
		if d := e.Device(id.Device); d != nil {
			if ep, ok := d.Endpoint(id.Name); ok && reflect.DeepEqual(ep, s.endpoint) {
				continue
			}
		}
		g.drop(id)
	}
}

// SetSecret adds or replaces a secret.
func (g *Garage) SetSecret(name string, v secret.Value) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.secrets[name] = v
}

// RemoveSecret forgets a secret.
func (g *Garage) RemoveSecret(name string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	delete(g.secrets, name)
}

// UserOf is the user name in a secret: no secret itself.
func (g *Garage) UserOf(name string) string {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.secrets[name].User
}

// Secret returns one that is set, by its name.
func (g *Garage) Secret(name string) (secret.Value, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.secret(name)
}

// secret finds a secret, and nothing where gear takes none; g.mu is held.
func (g *Garage) secret(name string) (secret.Value, error) {
	v, ok := g.secrets[name]
	if !ok && name != "" {
		return v, notSent(gear.BadSecret, "secret %s is not set: plumb secret set %s", name, name)
	}
	return v, nil
}

// within says why a secret may not be sent to where an endpoint is.
func within(v secret.Value, ep estate.Endpoint) error {
	for _, a := range ep.Addresses {
		if ep.Secret != "" && !v.MayGoTo(string(ep.Protocol), a) {
			to := secret.Target(string(ep.Protocol), a)
			return notSent(gear.BadSecret, "secret %s may not be sent to %s: a keeper allows it with plumb secret bind %s %s", ep.Secret, to, ep.Secret, to)
		}
	}
	return nil
}

// Open returns the driver of an endpoint. It must not be closed by the caller.
func (g *Garage) Open(id estate.EndpointID) (gear.Driver, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	d := g.estate.Device(id.Device)
	if d == nil {
		return nil, notSent(gear.Unreachable, "%s is not in the estate any more", id.Device)
	}
	ep, ok := d.Endpoint(id.Name)
	if !ok {
		return nil, notSent(gear.Unreachable, "%s has no endpoint %q any more", id.Device, id.Name)
	}
	v, err := g.secret(ep.Secret)
	if err == nil {
		err = within(v, ep)
	}
	if err != nil {
		return nil, err
	}
	if s := g.open[id]; s != nil {
		if s.secret == v {
			return s.driver, nil
		}
		g.drop(id)
	}
	driver, err := open(opening{id: id, ep: ep, secret: v, pins: g.Pins, local: g.Local})
	if err != nil {
		return nil, err
	}
	g.open[id] = &slot{ep, v, driver}
	return driver, nil
}

// Outlets returns the driver that switches the outlets of a PDU.
func (g *Garage) Outlets(pdu estate.Key) (gear.Outlets, error) {
	return find[gear.Outlets](g, pdu, "outlets that can be switched", (*estate.Device).OutletEndpoint)
}

// Outlets returns the driver for the outlets of a PDU, as what it has to be.
func Outlets[T any](g *Garage, pdu estate.Key) (T, error) {
	return find[T](g, pdu, "outlets that can be set up", (*estate.Device).OutletEndpoint)
}

// Supply returns the driver of a UPS, as what it has to be.
func Supply[T any](g *Garage, k estate.Key) (T, error) {
	return find[T](g, k, "a UPS that can do that", (*estate.Device).OutletEndpoint)
}

// Card returns the driver of the card of a PDU, a UPS or a switch.
func Card[T any](g *Garage, k estate.Key) (T, error) {
	return find[T](g, k, "a card that can do that", (*estate.Device).CardEndpoint)
}

// Reopen closes the drivers that follow a profile, which has changed.
func (g *Garage) Reopen(profile string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for id, s := range g.open {
		if s.endpoint.Profile == profile {
			g.drop(id)
		}
	}
}

// Controller returns the driver of a device's controller, as what it has to be.
func Controller[T any](g *Garage, k estate.Key) (T, error) {
	return find[T](g, k, "a controller that can do that", (*estate.Device).Controller)
}

// CommandLine returns the command line at an endpoint.
func (g *Garage) CommandLine(id estate.EndpointID) (gear.CommandLine, error) {
	return find[gear.CommandLine](g, id.Device, "a command line", func(d *estate.Device) (estate.Endpoint, bool) { return d.Endpoint(id.Name) })
}

// LastLines are what was lately said on the lines of a device that are listened
// to, by the name of the endpoint.
func (g *Garage) LastLines(d *estate.Device, n int) map[string][]string {
	out := map[string][]string{}
	for _, ep := range d.Endpoints {
		if !ep.Gives(estate.GivesLine) {
			continue
		}
		if driver, err := g.Open(estate.EndpointID{Device: d.Key, Name: ep.Name}); err == nil {
			if t, ok := gear.As[gear.Transcript](driver); ok {
				out[ep.Name] = t.LastLines(n)
			}
		}
	}
	return out
}

// Panel returns the board whose leads go to the front of a device, and the
// number of the lead.
func (g *Garage) Panel(k estate.Key) (gear.Panel, int, error) {
	g.mu.Lock()
	d := g.estate.Device(k)
	g.mu.Unlock()
	if d == nil || len(d.Panel) == 0 {
		return nil, 0, notSent(gear.Unsupported, "%s has no panel leads in the estate any more", k)
	}
	var errs []error
	for _, lead := range d.Panel {
		p, err := Card[gear.Panel](g, lead.Device)
		if err == nil {
			return p, lead.Outlet(), nil
		}
		errs = append(errs, err)
	}
	return nil, 0, errs[0]
}

// Restart starts a controller or a card anew.
func (g *Garage) Restart(ctx context.Context, id estate.EndpointID, cold bool) error {
	d, err := g.Open(id)
	if err != nil {
		return err
	}
	if c, ok := gear.As[gear.Restarter](d); ok {
		return c.Restart(ctx, cold)
	}
	return notSent(gear.Unsupported, "%s cannot be started anew", id)
}

// find opens the endpoint of a device that is for something, as what it has to be.
func find[T any](g *Garage, k estate.Key, what string, which func(*estate.Device) (estate.Endpoint, bool)) (T, error) {
	var none T
	g.mu.Lock()
	d := g.estate.Device(k)
	g.mu.Unlock()
	if d == nil {
		return none, notSent(gear.Unreachable, "%s is not in the estate any more", k)
	}
	ep, ok := which(d)
	if !ok {
		return none, notSent(gear.Unsupported, "%s has no endpoint for %s", k, what)
	}
	driver, err := g.Open(estate.EndpointID{Device: k, Name: ep.Name})
	if err != nil {
		return none, err
	}
	as, ok := gear.As[T](driver)
	if !ok {
		return none, notSent(gear.Unsupported, "%s %s has not got %s", k, ep.Name, what)
	}
	return as, nil
}

// Traits says what the gear of a PDU can do, as its profile has it.
func (g *Garage) Traits(e *estate.Estate, pdu estate.Key) operation.GearTraits {
	if d := e.Device(pdu); d != nil {
		if ep, ok := d.CardEndpoint(); ok {
			if p, err := profile.Find(ep.Profile); err == nil {
				t := operation.GearTraits{CyclesItself: p.CyclesItself(), RestartsItself: p.Restart != nil, Settle: p.Settle()}
				if d.Supply != nil {
					t.OutputCycles, t.Settle = gear.CyclesAtMost, max(t.Settle, outputSettle)
				}
				return t
			}
		}
	}
	return operation.GearTraits{}
}

// outputSettle is how long a UPS may take to carry out a command to its output.
const outputSettle = 5 * time.Second

// drop closes a driver, with the lock held.
func (g *Garage) drop(id estate.EndpointID) {
	s := g.open[id]
	delete(g.open, id)
	g.closing.Go(func() { _ = s.driver.Close() }) // it may have to wait for a question that is on its way
}

// Close closes all drivers.
func (g *Garage) Close() error {
	defer g.closing.Wait()
	g.mu.Lock()
	defer g.mu.Unlock()
	errs := make([]error, 0, len(g.open))
	var mu sync.Mutex
	var closing sync.WaitGroup
	for id, s := range g.open {
		closing.Go(func() { // one that does not answer must not hold up the others
			err := s.driver.Close()
			mu.Lock()
			errs = append(errs, err)
			mu.Unlock()
		})
		delete(g.open, id)
	}
	closing.Wait()
	return errors.Join(errs...)
}

func notSent(kind gear.Kind, format string, args ...any) error {
	return &gear.Error{Kind: kind, Outcome: sending.NotSent, Text: fmt.Sprintf(format, args...)}
}
