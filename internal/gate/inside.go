package gate

import (
	"context"
	"net"
	"sync"
)

// Inside is the way from the gate to the service's API: a listener that nobody can reach
// from elsewhere, and that needs no port. It implements net.Listener.
type Inside struct {
	calls  chan net.Conn
	closed chan struct{}
	once   sync.Once
}

func newInside() *Inside { return &Inside{calls: make(chan net.Conn), closed: make(chan struct{})} }

// from is a connection that says where the person behind it is.
type from struct {
	net.Conn
	remote net.Addr
}

// RemoteAddr implements net.Conn.
func (f from) RemoteAddr() net.Addr { return f.remote }

func (i *Inside) dial(ctx context.Context, remote net.Addr) (net.Conn, error) {
	here, there := net.Pipe()
	select {
	case i.calls <- from{there, remote}:
		return here, nil
	case <-i.closed:
		return nil, net.ErrClosed
	case <-ctx.Done():
		return nil, context.Cause(ctx)
	}
}

// Accept implements net.Listener.
func (i *Inside) Accept() (net.Conn, error) {
	select {
	case c := <-i.calls:
		return c, nil
	case <-i.closed:
		return nil, net.ErrClosed
	}
}

// Close implements net.Listener.
func (i *Inside) Close() error {
	i.once.Do(func() { close(i.closed) })
	return nil
}

// Addr implements net.Listener.
func (i *Inside) Addr() net.Addr { return &net.TCPAddr{IP: net.IPv4(127, 0, 0, 1)} }
