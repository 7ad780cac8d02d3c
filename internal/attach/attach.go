// Package attach owns lines of characters: the one connection to a serial port, what
// was lately said on it, and room for many who read it. Who logs in and types borrows
// a call; who only reads never disturbs it.
//
//	attach.go  a line, and calling it
//	call.go    one connection: what is heard on it, and readers
//	port.go    the serial port at the far end, where that tells of it
package attach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"sync"
	"time"

	"plumbbob/internal/gear"
	"plumbbob/internal/wire/names"
)

// Limits.
const (
	keep      = 64 << 10 // bytes of what was said, for readers who come later or are slow
	tailLines = 1000     // that outlive a call
)

// Options say where a line is.
type Options struct {
	Addresses []string      // host:port, in order of preference
	Hide      string        // is never shown: some far ends show a password as it is typed
	Timeout   time.Duration // of calling, and of a sign of life

	// Dial makes a connection to an address; nil: Telnet, or bare characters, over TCP.
	Dial func(ctx context.Context, address string) (Wire, error)
	// Costs says that calling does, so that it is only done for somebody who waits for it.
	Costs bool
}

type tellKey struct{}

// Telling has who makes a connection tell how that goes, where it takes long.
func Telling(ctx context.Context, tell func(words string)) context.Context {
	return context.WithValue(ctx, tellKey{}, tell)
}

// Tell is for who makes a connection.
func Tell(ctx context.Context, format string, args ...any) {
	if tell, ok := ctx.Value(tellKey{}).(func(string)); ok {
		tell(fmt.Sprintf(format, args...))
	}
}

// A Wire is what a call goes over. What it has beside that are methods of its own: Resize.
type Wire interface {
	io.ReadWriteCloser
	Break() error
	// Mark asks for a sign of life that nobody at the line notices. It returns nil where
	// that cannot be asked.
	Mark() (came <-chan struct{}, err error)
}

// A Line may be shared between goroutines, and keeps one connection.
type Line struct {
	o       Options
	dialing gear.Turn // one call at a time; what was heard can be read meanwhile

	mu     sync.Mutex
	call   *Call
	tail   []string // of the calls before this one
	at     int      // which address is used
	closed bool
}

// New returns a line that nobody has called yet.
func New(o Options) *Line { return &Line{o: o, dialing: gear.NewTurn()} }

// Costs says whether calling does.
func (l *Line) Costs() bool { return l.o.Costs }

// Address is where the line is called next, or is up.
func (l *Line) Address() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.call != nil {
		return l.call.Address
	}
	return l.o.Addresses[l.at%len(l.o.Addresses)]
}

// Close ends the call, and whatever is said on it.
func (l *Line) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.closed = true
	return l.hangUp()
}

// Lost hangs a call up that has failed, if it still is the one.
func (l *Line) Lost(c *Call) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.call == c {
		_ = l.hangUp() // it had failed before
	}
}

func (l *Line) hangUp() error {
	if l.call == nil {
		return nil
	}
	l.tail = append(l.tail, l.call.lines(tailLines)...)
	l.tail = l.tail[max(0, len(l.tail)-tailLines):]
	err := l.call.conn.Close()
	l.call = nil
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

// LastLines are up to n lines that were lately said, the oldest first; what was said
// before a call was lost counts.
func (l *Line) LastLines(n int) []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	all := l.tail
	if l.call != nil {
		all = slices.Concat(all, l.call.lines(n))
	}
	return slices.Clone(all[max(0, len(all)-n):])
}

// A CallError says where a line could not be called.
type CallError struct {
	Address string
	Err     error
}

func (e *CallError) Error() string { return e.Address + ": " + e.Err.Error() }
func (e *CallError) Unwrap() error { return e.Err }

// Call returns the call that is up, or makes one. Its error is a *CallError, that of
// ctx, or net.ErrClosed after Close.
func (l *Line) Call(ctx context.Context) (*Call, error) {
	if err := l.dialing.Take(ctx); err != nil {
		return nil, err
	}
	defer l.dialing.Give()
	l.mu.Lock()
	if l.call != nil && l.call.Err() == nil {
		defer l.mu.Unlock()
		return l.call, nil
	}
	_ = l.hangUp() // it has ended
	address, closed := l.o.Addresses[l.at%len(l.o.Addresses)], l.closed
	l.mu.Unlock()
	if closed {
		return nil, net.ErrClosed
	}
	conn, err := l.dial(ctx, address)
	l.mu.Lock()
	defer l.mu.Unlock()
	switch {
	case err != nil:
		l.at++ // try the next address another time
		return nil, &CallError{address, err}
	case l.closed:
		_ = conn.Close()
		return nil, net.ErrClosed
	}
	l.call = answer(conn, address, l.o)
	return l.call, nil
}

// alive has the system notice a dead far end that does not speak Telnet.
var alive = net.KeepAliveConfig{Enable: true, Idle: 10 * time.Second, Interval: 5 * time.Second, Count: 3}

func (l *Line) dial(ctx context.Context, address string) (Wire, error) {
	ctx, cancel := context.WithTimeout(ctx, l.o.Timeout)
	defer cancel()
	if l.o.Dial != nil {
		return l.o.Dial(ctx, address)
	}
	conn, err := names.Default.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	if c, ok := conn.(*net.TCPConn); ok {
		_ = c.SetKeepAliveConfig(alive)
	}
	return overTelnet(conn), nil
}
