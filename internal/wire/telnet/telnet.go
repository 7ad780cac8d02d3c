// Package telnet speaks the Telnet protocol (RFC 854, RFC 855) over a
// connection: what is read and written is plain data, and the negotiation of
// options goes on by itself.
//
// Both ends are offered the binary mode (RFC 856), echo by the far end of a
// client (RFC 857) and the suppression of go-aheads (RFC 858). Other options are
// refused unless they were allowed, and their parameters are passed over unless
// somebody hears them. An option is
// acknowledged only when it changes, so that two ends cannot go on agreeing for
// ever (RFC 1143, section 2).
package telnet

import (
	"bufio"
	"fmt"
	"net"
	"sync"
	"time"
)

// Commands (RFC 854, section "TELNET COMMAND STRUCTURE").
const (
	se   = 240 // end of the parameters of an option
	brk  = 243 // the Break key
	sb   = 250 // the parameters of an option follow
	will = 251
	wont = 252
	do   = 253
	dont = 254
	iac  = 255 // a command follows
)

// Options.
const (
	Binary          = 0  // RFC 856
	Echo            = 1  // RFC 857
	SuppressGoAhead = 3  // RFC 858
	TimingMark      = 6  // RFC 860
	WindowSize      = 31 // RFC 1073
	ComPort         = 44 // RFC 2217: the settings of a serial port
)

// maxParameters is how many bytes of parameters are taken; what is longer is passed
// over. RFC 2217 needs a signature of some words at the most.
const maxParameters = 512

// replyWithin is how long an answer to a negotiation may be stuck behind what the
// far end does not read.
const replyWithin = 10 * time.Second

// Conn is a connection whose bytes are data. One goroutine may read while others
// write.
type Conn struct {
	net.Conn

	// Parameters hears the parameters of options that are on, from the goroutine that
	// reads; nil: nobody does. It is set before anything is read.
	Parameters func(option byte, p []byte)
	// Agreed is told that the far end has agreed to what this one has offered; likewise.
	Agreed func(option byte) error

	offers []byte // to be made once the far end has shown that it speaks Telnet
	server bool
	in     *bufio.Reader
	cr     bool // the last byte read was a carriage return, not in binary mode

	mu     sync.Mutex // of what follows, and of writing
	spoken bool       // the far end speaks Telnet, and is no bare connection
	ours   [256]bool  // the options that are on at this end
	theirs [256]bool  // and at the far end
	asked  [256]bool  // those that this end has asked for, and that were not answered yet
	mayUs  [256]bool  // what this end may do beside the usual
	mayYou [256]bool  // and the far end
	marks  []chan struct{}
}

// Client speaks as the end that has asked for the connection. It waits for what
// the server offers, so that a far end that does not speak Telnet at all is sent
// nothing but data.
func Client(c net.Conn) *Conn { return &Conn{Conn: c, in: bufio.NewReader(c)} }

// Server speaks as the end that was asked, and offers to echo and to do without
// go-aheads, as every terminal of today expects.
func Server(c net.Conn) (*Conn, error) {
	s := &Conn{Conn: c, in: bufio.NewReader(c), server: true, spoken: true}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, option := range []byte{Echo, SuppressGoAhead} {
		s.ours[option], s.asked[option] = true, true
		if err := s.say(will, option); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// Read returns data, with the ends of lines as the far end writes them.
func (c *Conn) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	for n := 0; ; {
		if n > 0 && (n == len(p) || c.in.Buffered() == 0) {
			return n, nil
		}
		b, err := c.in.ReadByte()
		if err != nil {
			return n, err
		}
		if b == iac {
			if b, err = c.in.ReadByte(); err != nil {
				return n, err
			}
			if b != iac {
				if err := c.command(b); err != nil {
					return n, err
				}
				continue
			}
		}
		// Outside the binary mode a carriage return is followed by a line feed or
		// by a NUL (RFC 854, section "THE NVT PRINTER AND KEYBOARD"). The NUL is no data.
		after := c.cr
		if c.cr = b == '\r' && !c.on(&c.theirs, Binary); after && b == 0 {
			continue
		}
		p[n] = b
		n++
	}
}

func (c *Conn) on(side *[256]bool, option byte) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return side[option]
}

// command reads what follows an IAC, and does what it asks for.
func (c *Conn) command(b byte) error {
	switch b {
	case will, wont, do, dont:
		option, err := c.in.ReadByte()
		if err != nil {
			return err
		}
		agreed, err := c.negotiate(b, option)
		if err != nil {
			return err
		}
		if agreed && c.Agreed != nil {
			if err := c.Agreed(option); err != nil {
				return err
			}
		}
		return c.offer()
	case sb:
		return c.parameters()
	}
	return nil // no operation, go ahead, are you there…: nothing that a line would have to act on
}

// offer makes the offers that have waited until the far end speaks.
func (c *Conn) offer() error {
	offers := c.offers
	c.offers = nil
	for _, o := range offers {
		if err := c.Offer(o); err != nil {
			return err
		}
	}
	return nil
}

// Allow lets an option be agreed to, at this end or at the far one.
func (c *Conn) Allow(option byte, ours, theirs bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.mayUs[option], c.mayYou[option] = ours, theirs
}

// Offer asks the far end whether this end may do something, which has to be allowed.
// Whether it agrees shows by On.
func (c *Conn) Offer(option byte) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.ours[option] || c.asked[option] {
		return nil
	}
	c.asked[option] = true
	return c.say(will, option)
}

// On says whether both ends have agreed that this one does something.
func (c *Conn) On(option byte) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ours[option] && !c.asked[option]
}

// Send sends the parameters of an option (RFC 855, section 3).
func (c *Conn) Send(option byte, p []byte) error {
	out := []byte{iac, sb, option}
	for _, b := range p {
		if out = append(out, b); b == iac {
			out = append(out, iac)
		}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if err := c.SetWriteDeadline(time.Now().Add(replyWithin)); err != nil {
		return err
	}
	defer func() { _ = c.SetWriteDeadline(time.Time{}) }()
	_, err := c.Conn.Write(append(out, iac, se))
	return err
}

// parameters reads those of an option to their end, and has them heard when the option
// is on.
func (c *Conn) parameters() error {
	var p []byte
	long := false
	for {
		b, err := c.in.ReadByte()
		if err != nil {
			return err
		}
		if b == iac {
			if b, err = c.in.ReadByte(); err != nil {
				return err
			}
			if b == se {
				break
			}
			if b != iac {
				continue // no command belongs there
			}
		}
		if long = long || len(p) > maxParameters; !long {
			p = append(p, b)
		}
	}
	if c.Parameters != nil && !long && len(p) > 0 && (c.on(&c.ours, p[0]) || c.on(&c.theirs, p[0])) {
		c.Parameters(p[0], p[1:])
	}
	return nil
}

// negotiate takes in what the far end wants, and answers when that changes
// something or is refused. agreed says that this is the yes to what this end has offered.
func (c *Conn) negotiate(b, option byte) (agreed bool, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.spoken = true
	if option == TimingMark {
		return false, c.timing(b)
	}
	side, yes, no, may := &c.theirs, byte(do), byte(dont), c.mayBeTheirs(option)
	if b == do || b == dont {
		side, yes, no, may = &c.ours, will, wont, c.mayBeOurs(option)
		if c.asked[option] { // that is the answer to what this end has offered
			c.asked[option], c.ours[option] = false, b == do
			return b == do, nil
		}
	}
	wanted := b == will || b == do
	switch {
	case wanted && !may:
		return false, c.say(no, option)
	case wanted == side[option]:
		return false, nil
	}
	side[option] = wanted
	if wanted {
		return false, c.say(yes, option)
	}
	return false, c.say(no, option)
}

// timing answers a timing mark, or takes the answer to one. The lock is held.
func (c *Conn) timing(b byte) error {
	if b == do {
		return c.say(will, TimingMark)
	}
	if b != dont && len(c.marks) > 0 {
		close(c.marks[0])
		c.marks = c.marks[1:]
	}
	return nil
}

// Mark asks the far end for a sign of life, which no user of the line notices: the
// timing mark of RFC 860. What it returns is closed when that has come, and nil when
// the far end is a bare connection that cannot be asked. Somebody has to read
// meanwhile.
func (c *Conn) Mark() (<-chan struct{}, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.spoken {
		return nil, nil //nolint:nilnil // there is nothing to wait for
	}
	came := make(chan struct{})
	c.marks = append(c.marks, came)
	return came, c.say(do, TimingMark)
}

func (c *Conn) mayBeTheirs(option byte) bool {
	return option == Binary || option == SuppressGoAhead || option == Echo && !c.server || c.mayYou[option]
}

func (c *Conn) mayBeOurs(option byte) bool {
	return option == Binary || option == SuppressGoAhead || option == Echo && c.server || c.mayUs[option]
}

// say sends a negotiation, with the lock held.
func (c *Conn) say(verb, option byte) error {
	if err := c.SetWriteDeadline(time.Now().Add(replyWithin)); err != nil {
		return err
	}
	defer func() { _ = c.SetWriteDeadline(time.Time{}) }()
	if _, err := c.Conn.Write([]byte{iac, verb, option}); err != nil {
		return fmt.Errorf("negotiate an option: %w", err)
	}
	return nil
}

// Write sends data. A carriage return is the Enter key, unless a line feed follows
// in the same call.
func (c *Conn) Write(p []byte) (int, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make([]byte, 0, len(p)+8)
	for i, b := range p {
		out = append(out, b)
		switch {
		case b == iac:
			out = append(out, iac)
		case b == '\r' && c.spoken && !c.ours[Binary] && (i+1 == len(p) || p[i+1] != '\n'):
			out = append(out, 0)
		}
	}
	if _, err := c.Conn.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

// Break presses the Break key, which a console server hands on to its serial line.
func (c *Conn) Break() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	_, err := c.Conn.Write([]byte{iac, brk})
	return err
}
