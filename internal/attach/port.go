package attach

import (
	"context"
	"errors"
	"net"
	"strings"
	"time"

	"plumbbob/internal/wire/telnet"
)

// A Port is a serial port as the far end of a line tells of it.
type Port struct {
	Set   string   // "9600 8N1"; empty while it is not known
	Lines []string // of a modem, that are on: carrier, ready, clear, ring
	Told  bool     // the far end tells of its lines
	Wrong string   // in what arrives there, in words; empty: nothing, as far as is told
}

// ErrNoPort: the far end lets no port be set, and tells of none.
var ErrNoPort = errors.New("the far end does not let its serial port be set: that takes Telnet with RFC 2217")

// A ported wire tells of the serial port at its far end.
type ported interface {
	Port() Port
	SetPort(ctx context.Context, set string) error
	PortNews() <-chan struct{}
}

// Port is how the serial port at the far end is set, as far as that is known.
func (c *Call) Port() Port {
	if w, ok := c.conn.(ported); ok {
		return w.Port()
	}
	return Port{}
}

// PortNews tells one who listens that its port is not as it was; nil where that is not told.
func (c *Call) PortNews() <-chan struct{} {
	if w, ok := c.conn.(ported); ok {
		return w.PortNews()
	}
	return nil
}

// SetPort sets the serial port at the far end, as "9600 8N1", and returns when that says
// that it is. Its error is ErrNoPort where nothing can be set, or says what is wrong.
func (c *Call) SetPort(ctx context.Context, set string) error {
	if w, ok := c.conn.(ported); ok {
		return w.SetPort(ctx, set)
	}
	return ErrNoPort
}

// portWire is Telnet, with the settings of a port beside it where the far end has them.
type portWire struct {
	*telnet.Conn
	port *telnet.FarPort
	news chan struct{} // has room for one
}

func overTelnet(conn net.Conn) *portWire {
	w := &portWire{Conn: telnet.Client(conn), news: make(chan struct{}, 1)}
	w.port = w.FarPort(func() {
		select {
		case w.news <- struct{}{}:
		default:
		}
	})
	return w
}

func (w *portWire) PortNews() <-chan struct{} { return w.news }

func (w *portWire) Port() Port {
	set, known, modem, told := w.port.State()
	words := ""
	if known {
		words = set.String()
	}
	p := PortOf(words, modem, told)
	p.Wrong = w.port.Wrong().Words()
	return p
}

// PortOf is a port that is set so, and of whose modem's lines it is told or not.
func PortOf(set string, modem telnet.Modem, told bool) Port {
	p := Port{Set: set, Told: told}
	if !told {
		return p
	}
	for _, x := range []struct {
		on   bool
		name string
	}{{modem.Carrier, "carrier"}, {modem.Ready, "ready"}, {modem.Clear, "clear to send"}, {modem.Ring, "ring"}} {
		if x.on {
			p.Lines = append(p.Lines, x.name)
		}
	}
	return p
}

// agreesWithin is how long the far end of a call may take to say that its port can be set.
const agreesWithin = 3 * time.Second

// Words says how a port is, for people.
func (p Port) Words() string {
	words := p.Set
	if p.Told {
		lines := strings.Join(p.Lines, ", ")
		if lines == "" {
			lines = "no line of a modem is on: is its cable in?"
		}
		words = strings.TrimPrefix(words+", "+lines, ", ")
	}
	if p.Wrong != "" {
		words += "; " + p.Wrong
	}
	return words
}

func (w *portWire) SetPort(ctx context.Context, set string) error {
	p, err := telnet.ParsePort(set)
	if err != nil {
		return err
	}
	select { // the call may only just have been answered
	case <-w.port.Agreed():
		return w.port.Set(ctx, p)
	case <-time.After(agreesWithin):
		return ErrNoPort
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// Break goes by the port where that can be told, and else as the key of a terminal.
func (w *portWire) Break() error {
	if w.port.On() {
		return w.port.Break()
	}
	return w.Conn.Break()
}
