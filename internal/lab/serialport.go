package lab

import (
	"sync"
	"time"

	"plumbbob/internal/wire/telnet"
)

// serialPort is the port of a console server that a box is wired to. It stays as it is set
// from one connection to the next, as such ports do.
type serialPort struct {
	mu    sync.Mutex
	now   telnet.Port
	wrong telnet.Errors // in what came through it since that was asked
	box   telnet.Port   // as the box talks: at another speed nothing can be read
}

// usualPort is how boxes talk, and how ports of console servers are set.
var usualPort = telnet.Port{Speed: 9600, Bits: 8, Parity: telnet.NoParity, Stop: telnet.OneStop}

func (p *serialPort) get() telnet.Port {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.now
}

func (p *serialPort) set(to telnet.Port) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.now = to
}

// spoils says whether the port is set otherwise than the box, which shows in what comes
// through it; flow control is all the same.
func (p *serialPort) spoils(n int) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	now := p.now
	now.Flow = p.box.Flow
	if now == p.box {
		return false
	}
	if n > 0 {
		p.wrong |= telnet.FramingErrors
	}
	return true
}

// errors are those since it was asked last.
func (p *serialPort) errors() telnet.Errors {
	p.mu.Lock()
	defer p.mu.Unlock()
	wrong := p.wrong
	p.wrong = 0
	return wrong
}

// garbled is a text as it arrives through the port, in either direction; without one, as it is.
func (p *serialPort) garbled(text []byte) []byte {
	if p == nil || !p.spoils(len(text)) {
		return text
	}
	out := make([]byte, len(text))
	for i, b := range text {
		out[i] = b<<3 ^ b>>2 | 0x80
	}
	return out
}

// lend lends the port to a connection, until done is closed.
func (t *tty) lend(c *telnet.Conn, done <-chan struct{}) {
	notify := c.Serve(telnet.Served{
		Now: t.port.get, Set: t.port.set,
		Modem: func() telnet.Modem {
			t.l.mu.Lock()
			defer t.l.mu.Unlock()
			on := !t.b.powered.IsZero()
			return telnet.Modem{Carrier: on, Ready: on, Clear: on}
		},
		Break: func(bool) {},
		Wrong: t.port.errors,
	})
	go func() {
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-tick.C:
				if notify() != nil {
					return
				}
			}
		}
	}()
}
