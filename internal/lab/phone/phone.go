// Package phone is a telephone exchange with one modem at it that a computer drives, by
// the commands of ITU-T V.250, and with numbers that can be called. Others can call the
// modem.
package phone

import (
	"context"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"
)

// Rate is what every connection carries, in bit/s, ten bits a character.
const Rate = 1200

const (
	guard     = time.Second // of silence before and behind the escape: S12
	ringEvery = time.Second
	ringMost  = 20
	longest   = 200 // of a command line
	atOnce    = 12  // characters that go together
)

// What the modem is at.
type state int

const (
	commands state = iota // nobody is on the line
	dialling
	online
	escaped // somebody is on the line, and the computer gives commands
)

// A Modem is what is at the computer's port. DTE is what Serve is given.
type Modem struct {
	numbers map[string]func(ctx context.Context) (net.Conn, error)
	out     io.Writer
	wmu     sync.Mutex

	mu       sync.Mutex
	ctx      context.Context
	is       state
	echo     bool
	line     []byte
	far      net.Conn
	callers  chan net.Conn // rings
	ringing  net.Conn
	cancel   func()    // of the dialling
	last     time.Time // something came from the computer
	plus     int
	deaf     bool // it takes no commands any more
	answered chan struct{}

	texting bool // what comes is a message
	text    []byte
	sent    []Text
	inbox   []string // messages that have come; empty: there is none at that place
	refuses bool     // the network takes no messages
}

// A Text is a message as it was sent.
type Text struct {
	At       time.Time
	To, Text string
}

// New returns a modem at an exchange with these numbers, which is heard on out.
func New(out io.Writer, numbers map[string]func(ctx context.Context) (net.Conn, error)) *Modem {
	return &Modem{numbers: numbers, out: out, echo: true, callers: make(chan net.Conn), answered: make(chan struct{}, 1)}
}

func (m *Modem) say(text string) { m.write([]byte("\r\n" + text + "\r\n")) }

func (m *Modem) write(p []byte) {
	m.wmu.Lock()
	defer m.wmu.Unlock()
	_, _ = m.out.Write(p)
}

// Serve takes what the computer sends until in ends or ctx does; what an error of in means
// is asked of gone, which says whether to go on.
func (m *Modem) Serve(ctx context.Context, in io.Reader, gone func(error) bool) {
	m.mu.Lock()
	m.ctx = ctx
	m.mu.Unlock()
	go m.rings(ctx)
	defer m.Ready(false)
	var b [256]byte
	for ctx.Err() == nil {
		n, err := in.Read(b[:])
		m.take(b[:n])
		if err != nil && !gone(err) {
			return
		}
	}
}

// Ready is the line by which the computer says that it is there (DTR): without it there is
// no call.
func (m *Modem) Ready(on bool) {
	if !on {
		m.hangUp("")
	}
}

// Carrier says whether somebody is on the line.
func (m *Modem) Carrier() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.far != nil
}

// Deafen has the modem take no commands any more, nor the escape.
func (m *Modem) Deafen(on bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.deaf = on
}

// take is what the computer has sent.
func (m *Modem) take(p []byte) {
	m.mu.Lock()
	if m.deaf && m.is != online {
		m.mu.Unlock()
		return
	}
	quiet := time.Since(m.last)
	m.last = time.Now()
	is, far := m.is, m.far
	if is == online {
		switch {
		case string(p) == "+++" && quiet >= guard && !m.deaf:
			m.plus++
			n := m.plus
			time.AfterFunc(guard, func() { m.escape(n) })
		default:
			m.plus++ // an escape that was begun is none
		}
		m.mu.Unlock()
		_, _ = far.Write(p)
		return
	}
	m.mu.Unlock()
	for _, c := range p {
		m.key(c)
	}
}

// escape is the end of the silence behind one.
func (m *Modem) escape(n int) {
	m.mu.Lock()
	ok := m.is == online && m.plus == n
	if ok {
		m.is = escaped
	}
	m.mu.Unlock()
	if ok {
		m.say("OK")
	}
}

// key is one character of a command line.
func (m *Modem) key(c byte) {
	m.mu.Lock()
	if m.texting {
		m.mu.Unlock()
		m.texts(c)
		return
	}
	if m.is == dialling { // any character gives it up
		if m.cancel != nil {
			m.cancel()
		}
		m.mu.Unlock()
		return
	}
	echo := m.echo
	var line string
	switch {
	case c == '\r':
		line, m.line = string(m.line), nil
	case len(m.line) < longest && c > ' ':
		m.line = append(m.line, c)
	}
	m.mu.Unlock()
	if echo {
		m.write([]byte{c})
	}
	if c == '\r' {
		m.command(strings.ToUpper(line))
	}
}

// command is one command line: V.250, section 5.2. What stands before its prefix counts
// for nothing.
func (m *Modem) command(line string) {
	_, rest, ok := strings.Cut(line, "AT")
	if !ok {
		return // which is no command
	}
	switch {
	case strings.HasPrefix(rest, "D"):
		m.dial(strings.TrimLeft(rest[1:], "TP"))
		return
	case rest == "A":
		m.answer()
		return
	case rest == "H", rest == "H0", rest == "Z":
		m.hangUp("")
	case rest == "O":
		m.mu.Lock()
		ok = m.far != nil
		if ok {
			m.is = online
		}
		m.mu.Unlock()
		m.say(map[bool]string{true: "CONNECT", false: "NO CARRIER"}[ok])
		return
	case rest == "E0", rest == "E1":
		m.mu.Lock()
		m.echo = rest == "E1"
		m.mu.Unlock()
	case strings.HasPrefix(rest, "+CMG"):
		m.textCommand(rest)
		return
	case rest == "", rest == "V1", rest == "Q0", rest == "X4", rest == "&C1", rest == "&D2", strings.HasPrefix(rest, "S0="):
	default:
		m.say("ERROR")
		return
	}
	m.say("OK")
}

func (m *Modem) dial(number string) {
	call, ok := m.numbers[number]
	if !ok {
		m.say("NO CARRIER")
		return
	}
	m.mu.Lock()
	if m.far != nil {
		m.mu.Unlock()
		m.say("ERROR")
		return
	}
	ctx, cancel := context.WithCancel(m.ctx)
	m.is, m.cancel = dialling, cancel
	m.mu.Unlock()
	go func() {
		defer cancel()
		far, err := call(ctx)
		if err == nil && ctx.Err() != nil {
			_ = far.Close()
			err = ctx.Err()
		}
		if err != nil {
			m.mu.Lock()
			m.is = commands
			m.mu.Unlock()
			m.say("NO ANSWER")
			return
		}
		m.connect(far)
	}()
}

// connect puts the computer through.
func (m *Modem) connect(far net.Conn) {
	m.mu.Lock()
	m.is, m.far, m.plus = online, far, 0
	m.mu.Unlock()
	m.say(fmt.Sprint("CONNECT ", Rate))
	go m.hear(far)
}

// hear brings the computer what the far end says, as fast as the line is.
func (m *Modem) hear(far net.Conn) {
	var b [atOnce]byte
	for {
		n, err := far.Read(b[:])
		m.mu.Lock()
		hears := m.far == far && m.is == online
		m.mu.Unlock()
		if n > 0 && hears {
			m.write(b[:n])
			time.Sleep(time.Duration(n) * 10 * time.Second / Rate)
		}
		if err != nil {
			m.lost(far)
			return
		}
	}
}

// lost is a far end that has hung up.
func (m *Modem) lost(far net.Conn) {
	m.mu.Lock()
	mine := m.far == far
	m.mu.Unlock()
	if mine {
		m.hangUp("NO CARRIER")
	}
}

func (m *Modem) hangUp(says string) {
	m.mu.Lock()
	far := m.far
	m.far, m.is, m.line = nil, commands, nil
	if m.cancel != nil {
		m.cancel()
		m.cancel = nil
	}
	m.mu.Unlock()
	if far != nil {
		_ = far.Close()
		if says != "" {
			m.say(says)
		}
	}
}

// Call is somebody who calls the modem: what they hear, once it has answered.
func (m *Modem) Call(ctx context.Context) (net.Conn, error) {
	here, there := net.Pipe()
	select {
	case m.callers <- there:
		return here, nil
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// rings has it ring for whoever calls, until it answers or they give up.
func (m *Modem) rings(ctx context.Context) {
	for {
		var caller net.Conn
		select {
		case <-ctx.Done():
			return
		case caller = <-m.callers:
		}
		m.mu.Lock()
		busy := m.is != commands
		if !busy {
			m.ringing = caller
		}
		m.mu.Unlock()
		if busy {
			_, _ = io.WriteString(caller, "BUSY\r\n")
			_ = caller.Close()
			continue
		}
		m.ring(ctx, caller)
	}
}

func (m *Modem) ring(ctx context.Context, caller net.Conn) {
	for range ringMost {
		m.say("RING")
		select {
		case <-m.answered:
			return
		case <-ctx.Done():
			_ = caller.Close()
			return
		case <-time.After(ringEvery):
		}
	}
	m.mu.Lock()
	gone := m.ringing == caller
	m.ringing = nil
	m.mu.Unlock()
	if gone {
		_ = caller.Close()
	}
}

func (m *Modem) answer() {
	m.mu.Lock()
	caller := m.ringing
	m.ringing = nil
	m.mu.Unlock()
	if caller == nil {
		m.say("NO CARRIER")
		return
	}
	m.answered <- struct{}{}
	_ = caller.SetWriteDeadline(time.Now().Add(ringEvery))
	_, _ = fmt.Fprintf(caller, "CONNECT %d\r\n", Rate)
	_ = caller.SetWriteDeadline(time.Time{})
	m.connect(caller)
}
