package localports

import (
	"context"
	"errors"
	"io"
	"sync"

	"plumbbob/internal/attach"
	"plumbbob/internal/wire/telnet"
	"plumbbob/internal/wire/tty"
)

// A cable is a port with gear, or somebody's terminal, at its other end.
type cable struct {
	tty  *tty.Port
	give func()
}

// Cable opens a port.
func (r *Room) Cable(ctx context.Context, name string) (attach.Wire, error) {
	p, err := r.find(name)
	if err != nil {
		return nil, err
	}
	if p.Modem {
		return nil, errors.New("at " + name + " is a modem: it takes protocol modem, and a number")
	}
	if err := p.take(ctx); err != nil {
		return nil, err
	}
	t, err := p.open()
	if err != nil {
		p.turn.Give()
		return nil, err
	}
	return &cable{t, sync.OnceFunc(p.turn.Give)}, nil
}

// Mark implements attach.Wire: a cable cannot be asked.
func (c *cable) Mark() (<-chan struct{}, error) { return nil, nil }

// Read implements io.Reader.
func (c *cable) Read(b []byte) (int, error) { return c.tty.Read(b) }

// Write implements io.Writer.
func (c *cable) Write(b []byte) (int, error) { return c.tty.Write(b) }

// Break implements attach.Wire.
func (c *cable) Break() error { return c.tty.Break() }

// Close implements io.Closer.
func (c *cable) Close() error {
	defer c.give()
	return c.tty.Close()
}

// Port is how the port is.
func (c *cable) Port() attach.Port { return portOf(c.tty, c.tty.Set()) }

// modemLines is what tells of them.
type modemLines interface {
	Modem() (telnet.Modem, error)
}

func portOf(m modemLines, set string) attach.Port {
	lines, err := m.Modem()
	return attach.PortOf(set, lines, err == nil)
}

// PortNews tells of nothing: whoever wants to know asks.
func (c *cable) PortNews() <-chan struct{} { return nil }

// SetPort sets it.
func (c *cable) SetPort(_ context.Context, set string) error { return c.tty.SetTo(set) }

// Terminal waits at a port for somebody who presses Enter, and returns what they type at.
func (r *Room) Terminal(ctx context.Context, name string) (io.ReadWriteCloser, error) {
	w, err := r.Cable(ctx, name)
	if err != nil {
		return nil, err
	}
	stop := context.AfterFunc(ctx, func() { _ = w.Close() })
	defer stop()
	var b [1]byte
	for {
		if _, err := w.Read(b[:]); err != nil {
			_ = w.Close()
			if ctx.Err() != nil {
				err = context.Cause(ctx)
			}
			return nil, err
		}
		if b[0] == '\r' || b[0] == '\n' {
			return w, nil
		}
	}
}
