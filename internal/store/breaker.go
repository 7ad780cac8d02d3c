package store

import (
	"context"
	"database/sql/driver"
	"errors"
	"net"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// How long an answer may take before it is asked beside whether the server answers at
// all, how long that may take, and how often both are looked at.
const (
	slowAfter   = time.Second
	probeWithin = 1500 * time.Millisecond
	watchEvery  = 250 * time.Millisecond
	probeAgain  = time.Second
)

// hungError: the server takes connections, and answers nobody.
type hungError struct{}

func (hungError) Error() string   { return "the database server takes connections and answers nobody" }
func (hungError) Timeout() bool   { return true }
func (hungError) Temporary() bool { return true }

// A breaker watches the connections to the server. One that hangs is found out while
// somebody waits for it: then all that wait are let go at once, and whoever comes is
// turned away, until it answers again. A server that is only slow with one statement
// answers the question beside, or somebody else meanwhile, and is given its time: where
// all is slow, a new connection may well take longer than the question has.
type breaker struct {
	probe func(context.Context) error

	mu    sync.Mutex
	lines map[*line]bool
	open  bool
	late  atomic.Bool  // it has not been seen yet
	heard atomic.Int64 // when anybody was answered last

	stop context.CancelFunc
	done chan struct{}
}

// newBreaker has the connections of c watched from now on.
func newBreaker(c *mysql.Config) (*breaker, error) {
	quick := c.Clone()
	quick.Timeout, quick.ReadTimeout, quick.WriteTimeout = probeWithin, probeWithin, probeWithin
	beside, err := mysql.NewConnector(quick)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	b := &breaker{probe: answers(beside), lines: map[*line]bool{}, stop: stop, done: make(chan struct{})}
	c.DialFunc = b.dial
	go b.watch(ctx)
	return b, nil
}

// answers asks the server on a connection of its own.
func answers(c driver.Connector) func(context.Context) error {
	return func(ctx context.Context) error {
		ctx, cancel := context.WithTimeout(ctx, probeWithin)
		defer cancel()
		conn, err := c.Connect(ctx)
		if err != nil {
			return err
		}
		return errors.Join(conn.(driver.Pinger).Ping(ctx), conn.Close())
	}
}

func (b *breaker) dial(ctx context.Context, network, addr string) (net.Conn, error) {
	if b.late.Load() {
		return nil, lateError{}
	}
	if b.isOpen() {
		return nil, hungError{}
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, network, addr)
	if err != nil {
		return nil, err
	}
	l := &line{Conn: conn, b: b}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.lines[l] = true
	return l, nil
}

func (b *breaker) isOpen() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.open
}

func (b *breaker) watch(ctx context.Context) {
	defer close(b.done)
	tick := time.NewTicker(watchEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if !b.isOpen() && !b.slow() {
			tick.Reset(watchEvery)
			continue
		}
		began := time.Now().UnixNano()
		silent := b.probe(ctx) != nil && b.heard.Load() < began
		b.set(ctx.Err() == nil && silent)
		tick.Reset(probeAgain)
	}
}

// slow says whether somebody has waited for long.
func (b *breaker) slow() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	late := time.Now().Add(-slowAfter).UnixNano()
	for l := range b.lines {
		if since := l.since.Load(); since != 0 && since < late {
			return true
		}
	}
	return false
}

// set opens the breaker, which lets everybody go who waits, or closes it.
func (b *breaker) set(open bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.open = open
	if open {
		for l := range b.lines {
			_ = l.Conn.Close()
		}
	}
}

// close ends the watching.
func (b *breaker) close() {
	b.stop()
	<-b.done
}

// A line is one connection, that knows since when somebody has waited for it.
type line struct {
	net.Conn
	b     *breaker
	since atomic.Int64
}

func (l *line) Read(p []byte) (int, error) {
	l.since.Store(time.Now().UnixNano())
	defer l.since.Store(0)
	n, err := l.Conn.Read(p)
	if n > 0 {
		l.b.heard.Store(time.Now().UnixNano())
	}
	return n, err
}

func (l *line) Write(p []byte) (int, error) {
	l.since.Store(time.Now().UnixNano())
	defer l.since.Store(0)
	return l.Conn.Write(p)
}

func (l *line) Close() error {
	l.b.mu.Lock()
	delete(l.b.lines, l)
	l.b.mu.Unlock()
	return l.Conn.Close()
}

// SyscallConn lets the driver see whether the server has hung up.
func (l *line) SyscallConn() (syscall.RawConn, error) {
	c, ok := l.Conn.(syscall.Conn)
	if !ok {
		return nil, errors.ErrUnsupported
	}
	return c.SyscallConn()
}
