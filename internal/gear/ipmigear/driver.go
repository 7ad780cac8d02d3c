// Package ipmigear drives the management controllers of servers over IPMI.
//
//	driver.go     one controller, its session, and errors sorted by what helps
//	chassis.go    power: read and commanded
//	sensors.go    readings, in our words
//	events.go     the event log
//	sheet.go      the type plate
//	settings.go   the controller's own settings
//	line.go      the serial port of the host
//	weakness.go   what is weak about them
package ipmigear

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
	"plumbbob/internal/wire/names"
)

// Options say where a controller is and how it is spoken to.
type Options struct {
	Name      string   // the device, for messages
	Addresses []string // host:port, in order of preference
	Secret    secret.Value
	Suites    []int // cipher suites allowed beside 17 and 3
	Legacy    bool  // IPMI 1.5 allowed
	Shared    bool  // the port is shared with the host
}

// Driver is one controller. It may be shared between goroutines.
type Driver struct {
	o Options

	mu      sync.Mutex
	client  *ipmi.Client
	address string // that client speaks to
	repo    *ipmi.Repository
	limits  map[*ipmi.SensorRecord]ipmi.RawThresholds // as they hold now
	log     *ipmi.EventLog
	line    *attach.Line // of the host
	reading sync.Mutex   // one sweep of the sensors at a time
}

var (
	_ gear.Driver     = (*Driver)(nil)
	_ gear.Chassis    = (*Driver)(nil)
	_ gear.Sensors    = (*Driver)(nil)
	_ gear.EventLog   = (*Driver)(nil)
	_ gear.Inventory  = (*Driver)(nil)
	_ gear.Inspected  = (*Driver)(nil)
	_ gear.Configured = (*Driver)(nil)
	_ gear.Restarter  = (*Driver)(nil)
)

// Open prepares a driver. It sends nothing yet.
func Open(o Options) (*Driver, error) {
	d := &Driver{o: o, limits: map[*ipmi.SensorRecord]ipmi.RawThresholds{}}
	d.line = attach.New(attach.Options{Addresses: o.Addresses, Timeout: lineWithin, Dial: d.serial})
	return d, d.dial(0)
}

// dial prepares a client of one of the addresses, with the lock held or before
// anybody else knows the driver.
func (d *Driver) dial(n int) error {
	address := d.o.Addresses[n%len(d.o.Addresses)]
	c, err := ipmi.Dial(d.options(address))
	if err != nil {
		return &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: fmt.Sprintf("%s: %v", d.o.Name, err), Err: err}
	}
	d.client, d.address = c, address
	return nil
}

// options are those of a client of an address.
func (d *Driver) options(address string) ipmi.Options {
	suites := make([]rmcp.Suite, len(d.o.Suites))
	for i, s := range d.o.Suites {
		suites[i] = rmcp.Suite(s)
	}
	return ipmi.Options{
		Address: address, User: d.o.Secret.User, Password: ipmi.Secret(d.o.Secret.Password), ControllerKey: ipmi.Secret(d.o.Secret.ControllerKey),
		Suites: suites, Legacy: d.o.Legacy,
	}
}

// Close closes the session, and a line.
func (d *Driver) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	_ = d.line.Close()
	return d.client.Close()
}

// use runs do with the client, and sorts what went wrong. When the controller
// does not answer at this address, the next use tries the next one.
func (d *Driver) use(what string, do func(*ipmi.Client) error) error {
	d.mu.Lock()
	c := d.client
	d.mu.Unlock()
	err := do(c)
	if err == nil {
		return nil
	}
	sorted := d.sort(what, err)
	if sorted.Kind == gear.Unreachable && d.present() {
		sorted.Text += ", though it answers presence pings: the way to it is sound, so its reply was lost, or the controller itself hangs"
	}
	if sorted.Kind == gear.Unreachable && len(d.o.Addresses) > 1 && !errors.Is(err, context.Canceled) {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.client == c {
			for n, a := range d.o.Addresses {
				if a == d.address {
					_ = d.dial(n + 1)
					break
				}
			}
			go func() { _ = c.Close() }() // it waits for others' requests
		}
	}
	return sorted
}

// presentWithin is how long a controller that gave no answer is pinged, at the least:
// one that is slow is given the time of some round trips.
const presentWithin = 400 * time.Millisecond

// RoundTrip is how long an answer usually takes; 0 before there was one.
func (d *Driver) RoundTrip() time.Duration {
	d.mu.Lock()
	c := d.client
	d.mu.Unlock()
	return c.RoundTrip()
}

// present says whether a controller that answers no requests is there at all.
func (d *Driver) present() bool {
	ctx, cancel := context.WithTimeout(context.Background(), max(presentWithin, 3*d.RoundTrip()))
	defer cancel()
	d.mu.Lock()
	address := d.address
	d.mu.Unlock()
	address, err := names.Default.HostPort(ctx, address)
	if err == nil {
		_, err = ipmi.Ping(ctx, address)
	}
	return err == nil
}

// sort turns what the protocol says into what people can do about it.
func (d *Driver) sort(what string, err error) *gear.Error {
	var mine *gear.Error
	if errors.As(err, &mine) {
		return mine
	}
	e := &gear.Error{Kind: gear.Malformed, Outcome: sending.Unclear, Err: err}
	say := func(kind gear.Kind, o sending.Outcome, format string, args ...any) *gear.Error {
		e.Kind, e.Outcome = kind, o
		e.Text = fmt.Sprintf("%s: %s: %s", d.o.Name, what, fmt.Sprintf(format, args...))
		return e
	}
	if failed, ok := errors.AsType[*ipmi.OpenError](err); ok {
		return d.sortOpen(failed, say)
	}
	if silent, ok := errors.AsType[*ipmi.SilentError](err); ok {
		text, outcome := "its controller does not answer", sending.NotSent
		if shut, ok := errors.AsType[*ipmi.RefusalError](silent.Err); ok {
			text = d.shut(shut)
		}
		if silent.Sent {
			outcome = sending.Unclear
		}
		return say(gear.Unreachable, outcome, "%s", text)
	}
	if p, ok := errors.AsType[*ipmi.PrivilegeError](err); ok {
		return say(gear.NotPermitted, sending.NotSent, "user %q on its controller may do only what a %s may: give it the privilege %q", d.o.Secret.User, p.Has, p.Needs)
	}
	if c, ok := errors.AsType[*ipmi.CompletionError](err); ok {
		return d.sortCode(c, say)
	}
	if n, ok := errors.AsType[*ipmi.NotTakenError](err); ok {
		return say(gear.Malformed, sending.Accepted, "its controller accepted it, but %s reads back as %s, not as %s", n.What, n.Got, n.Want)
	}
	if r, ok := errors.AsType[*ipmi.ReplyError](err); ok {
		return say(gear.Malformed, sending.Unclear, "what it answers makes no sense: %v", r)
	}
	if errors.Is(err, ipmi.ErrLogMoved) {
		return say(gear.Busy, sending.NotSent, "the event log has changed since it was read: read it again")
	}
	return say(gear.Malformed, sending.Unclear, "%v", err)
}

// shut: the host is there, and the port of its controller is not.
func (d *Driver) shut(*ipmi.RefusalError) string {
	return fmt.Sprintf("nothing listens at %s: the host answers, and no controller", d.address)
}

type sayer = func(gear.Kind, sending.Outcome, string, ...any) *gear.Error

func (d *Driver) sortOpen(failed *ipmi.OpenError, say sayer) *gear.Error {
	const none = sending.NotSent
	switch {
	case errors.Is(failed, ipmi.ErrPassword):
		return say(gear.BadSecret, none, "password refused for user %q: set it with plumb secret set", d.o.Secret.User)
	case errors.Is(failed, ipmi.ErrUser):
		return say(gear.BadSecret, none, "user %q refused: set it with plumb secret set", d.o.Secret.User)
	case errors.Is(failed, ipmi.ErrKeyNeeded):
		return say(gear.BadSecret, none, "it wants the controller's key (Kg) and none is set: set it with plumb secret set --controller-key")
	case errors.Is(failed, ipmi.ErrKeyWrong):
		return say(gear.BadSecret, none, "the controller's key (Kg) is wrong: set it with plumb secret set --controller-key; the password is right")
	case errors.Is(failed, ipmi.ErrKeyNone):
		return say(gear.BadSecret, none, "it has no controller's key (Kg), and one is set: set the secret again without --controller-key")
	case errors.Is(failed, ipmi.ErrForged):
		return say(gear.Malformed, none, "its last answer at log-in is not signed with what was agreed: it has a controller's key (Kg) that it does not tell of (plumb secret set --controller-key), or somebody in between answers for it")
	case errors.Is(failed, ipmi.ErrOtherSuit):
		return say(gear.Malformed, none, "it answered with another cipher suite than was proposed, which is not taken")
	case errors.Is(failed, ipmi.ErrRole):
		return say(gear.NotPermitted, none, "user %q may not log in with any privilege", d.o.Secret.User)
	case errors.Is(failed, ipmi.ErrNoSession):
		return say(gear.Busy, none, "all its sessions are taken: close one, or restart the controller")
	case errors.Is(failed, ipmi.ErrSuites):
		return say(gear.Unsupported, none, "%v: allow one with cipher-suites on its endpoint, if you must", failed.Err)
	case errors.Is(failed, ipmi.ErrOldOnly):
		return say(gear.Unsupported, none, "its controller speaks IPMI 1.5 only: allow that with legacy: true on its endpoint, if you must")
	}
	if code, ok := errors.AsType[*ipmi.CompletionError](failed.Err); ok {
		return d.sortCode(code, say)
	}
	if unknown, ok := errors.AsType[*names.Error](failed.Err); ok {
		return say(gear.Unreachable, none, "%v", unknown)
	}
	if status, ok := errors.AsType[*rmcp.StatusError](failed.Err); ok {
		return say(gear.Malformed, none, "it refused the log-in: %v", status)
	}
	if shut, ok := errors.AsType[*ipmi.RefusalError](failed.Err); ok {
		return say(gear.Unreachable, none, "%s", d.shut(shut))
	}
	if garbled, ok := errors.AsType[*ipmi.ReplyError](failed.Err); ok {
		return say(gear.Malformed, none, "what it answers makes no sense: %v", garbled)
	}
	return say(gear.Unreachable, none, "its controller does not answer")
}

func (d *Driver) sortCode(c *ipmi.CompletionError, say sayer) *gear.Error {
	refused := sending.Refused
	switch c.Code {
	case ipmi.InsufficientPrivilege:
		return say(gear.NotPermitted, refused, "%v", c)
	case ipmi.Initializing, ipmi.FirmwareUpdating:
		return say(gear.Updating, refused, "%v", c)
	case ipmi.NodeBusy, ipmi.Updating, ipmi.OutOfSpace:
		return say(gear.Busy, refused, "%v", c)
	case ipmi.InvalidCommand, ipmi.InvalidForLUN, ipmi.SubFunctionDisabled:
		return say(gear.Unsupported, refused, "its controller cannot do that")
	case ipmi.ProcessingTimeout:
		return say(gear.Busy, sending.Unclear, "%v", c)
	}
	return say(gear.Malformed, refused, "%v", c)
}
