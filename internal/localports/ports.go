// Package localports has the serial ports of the service's own machine: cables to gear,
// and modems. They are named on the service's command line, so that who writes an estate
// cannot open any other file, and each has one user at a time.
//
//	ports.go  which there are, and who has one
//	cable.go  what is at the other end of a cable
//	phone.go  modems: calling, and being called
//	text.go   modems: text messages
package localports

import (
	"context"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/gear"
	"plumbbob/internal/health"
	"plumbbob/internal/wire/telnet"
	"plumbbob/internal/wire/tty"
)

// A Config is one port as it is named on the command line.
type Config struct {
	Name, Path string
	Set        string // "9600 8N1"
	Modem      bool   // a modem is at it
}

const (
	usualSet      = "9600 8N1"
	usualModemSet = "115200 8N1" // between here and the modem
)

var portName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// Parse reads NAME=/dev/ttyS0 or "NAME=/dev/ttyS0 9600 8N1".
func Parse(text string, modem bool) (c Config, err error) {
	name, rest, ok := strings.Cut(text, "=")
	path, set, _ := strings.Cut(rest, " ")
	if !ok || !portName.MatchString(name) || !strings.HasPrefix(path, "/") {
		return c, fmt.Errorf("%q is not NAME=/dev/ttyS0, or \"NAME=/dev/ttyS0 9600 8N1\"", text)
	}
	c = Config{Name: name, Path: path, Set: usualSet, Modem: modem}
	if modem {
		c.Set = usualModemSet
	}
	if set != "" {
		p, err := telnet.ParsePort(set)
		if err != nil {
			return c, err
		}
		c.Set = p.String()
	}
	return c, nil
}

// A Room has the ports. It may be shared between goroutines.
type Room struct {
	health *health.Book
	ports  []*port
	ending sync.WaitGroup // calls that are being hung up
}

// port is one of them.
type port struct {
	Config
	turn gear.Turn // of its user

	mu     sync.Mutex
	wanted int      // by who has somebody to call
	yield  func()   // has who waits for calls let go of it; nil: nobody does
	ill    error    // why it could not be used, who waits for calls
	missed []missed // calls that did not come about
}

// missed is a call that did not come about.
type missed struct {
	number string
	at     time.Time
}

// New returns a room with these ports; none of them is opened yet. Two of one name are an
// error.
func New(all []Config, h *health.Book) (*Room, error) {
	r := &Room{health: h}
	for _, c := range all {
		if _, err := r.find(c.Name); err == nil {
			return nil, fmt.Errorf("--tty, --modem: %s is named twice", c.Name)
		}
		r.ports = append(r.ports, &port{Config: c, turn: gear.NewTurn()})
	}
	return r, nil
}

// find returns the port of a name.
func (r *Room) find(name string) (*port, error) {
	i := slices.IndexFunc(r.ports, func(p *port) bool { return p.Name == name })
	if i < 0 {
		names := make([]string, len(r.ports))
		for i, p := range r.ports {
			names[i] = p.Name
		}
		has := "it has none: plumbd serve --tty NAME=/dev/… and --modem name them"
		if len(names) > 0 {
			has = "there is " + strings.Join(names, ", ")
		}
		return nil, fmt.Errorf("this machine has no serial port %q: %s", name, has)
	}
	return r.ports[i], nil
}

// IsModem says whether a modem is at a port, which has to be there.
func (r *Room) IsModem(name string) (bool, error) {
	p, err := r.find(name)
	if err != nil {
		return false, err
	}
	return p.Modem, nil
}

// busyWithin is how long is waited for a port that somebody else has.
const busyWithin = 3 * time.Second

// take has the port for one user, who gives its turn.
func (p *port) take(ctx context.Context) error {
	within, cancel := context.WithTimeout(ctx, busyWithin)
	defer cancel()
	if err := p.turn.Take(within); err != nil {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		return fmt.Errorf("the serial port %s is in use", p.Name)
	}
	return nil
}

func (p *port) open() (*tty.Port, error) { return tty.Open(p.Path, p.Set) }

// Close returns when all calls are hung up.
func (r *Room) Close() { r.ending.Wait() }
