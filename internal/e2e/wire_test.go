package e2e

import (
	"io"
	"net"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// A wire leads to a server, and can be cut.
type wire struct {
	t    *testing.T
	kind string // of network
	to   string // the server
	at   string // host:port
	mu   sync.Mutex
	ln   net.Listener
	ends []net.Conn
}

func newWire(t *testing.T, kind, to string) *wire {
	w := &wire{t: t, kind: kind, to: to, at: "127.0.0.1:0"}
	w.join()
	t.Cleanup(w.cut)
	return w
}

func (w *wire) join() {
	ln, err := net.Listen("tcp", w.at)
	require.NoError(w.t, err)
	w.ln, w.at = ln, ln.Addr().String()
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go w.carry(c)
		}
	}()
}

func (w *wire) carry(c net.Conn) {
	db, err := net.Dial(w.kind, w.to)
	if err != nil {
		_ = c.Close()
		return
	}
	w.mu.Lock()
	w.ends = append(w.ends, c, db)
	w.mu.Unlock()
	go func() { _, _ = io.Copy(db, c); _ = db.Close() }()
	_, _ = io.Copy(c, db)
	_ = c.Close()
}

func (w *wire) cut() {
	_ = w.ln.Close()
	w.drop()
}

// drop ends all that go through it; new ones come through.
func (w *wire) drop() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, c := range w.ends {
		_ = c.Close()
	}
	w.ends = nil
}
