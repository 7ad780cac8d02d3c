package lab

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"plumbbob/internal/core/estate"
)

// A port is a TCP port of a simulated device. While the device cannot answer,
// the port must not either, and must not refuse: a hung box says nothing at
// all. So its backlog is cut to nothing and filled up, and the kernel drops
// whatever knocks.
type port struct {
	*net.TCPListener
	device estate.Key
	side   string // an endpoint of it, or "" for its production side
	w      *World
	view   *view

	mu       sync.Mutex
	opened   sync.Cond // shut has become false
	shut     bool
	filling  []int // sockets that are connected to it
	ticks    int   // for which it was to be shut
	refusing bool  // shut, by turning away
}

const (
	lookEvery = 50 * time.Millisecond
	backlog   = 128

	fillWithin  = 10 // ms
	maxFilling  = 8
	refillEvery = 20 // ticks: somebody may have taken a connection out while it was being shut
)

func (l *Lab) listen(ctx context.Context, k estate.Key, address, side string, web bool) error {
	p, err := l.open(ctx, k, address, side)
	if err != nil {
		return err
	}
	if web {
		s := &http.Server{Handler: l.page(k), ReadHeaderTimeout: 5 * time.Second}
		l.tasks.Go(func() error { _ = s.Serve(p); return context.Cause(ctx) })
		return nil
	}
	l.tasks.Go(func() error { return l.each(ctx, p, func(c net.Conn) { _ = c.Close() }) })
	return nil
}

// each serves every connection that comes in.
func (l *Lab) each(ctx context.Context, ln net.Listener, serve func(net.Conn)) error {
	for {
		c, err := ln.Accept()
		if err != nil {
			return context.Cause(ctx)
		}
		l.tasks.Go(func() error { serve(c); return nil })
	}
}

// open binds a port that answers while that side of a device does.
func (l *Lab) open(ctx context.Context, k estate.Key, address, side string) (*port, error) {
	ln, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("listen: %w: is another lab running?", err)
	}
	p := &port{TCPListener: ln.(*net.TCPListener), device: k, side: side, w: l.World, view: l.view}
	p.opened.L = &p.mu
	context.AfterFunc(ctx, func() { _ = ln.Close() })
	if err := p.look(); err != nil { // before anybody can knock
		return nil, errors.Join(err, ln.Close())
	}
	l.tasks.Go(func() error { return p.watch(ctx) })
	return p, nil
}

// serveWeb serves the web interface of gear at its endpoint. A connection that
// was made before does not answer any better than a new one would.
func (l *Lab) serveWeb(ctx context.Context, d *estate.Device, ep estate.Endpoint, h http.Handler) error {
	heard := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if ok, _ := l.answers(d.Key, ep.Name); !ok {
			<-r.Context().Done()
			panic(http.ErrAbortHandler)
		}
		h.ServeHTTP(w, r)
	})
	for _, address := range ep.Addresses {
		p, err := l.open(ctx, d.Key, address, ep.Name)
		if err != nil {
			return err
		}
		s := &http.Server{Handler: heard, ReadHeaderTimeout: 5 * time.Second, MaxHeaderBytes: 8 << 10, BaseContext: func(net.Listener) context.Context { return ctx }}
		l.tasks.Go(func() error { _ = s.Serve(p); return context.Cause(ctx) })
	}
	return nil
}

func (l *Lab) page(k estate.Key) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if l.fails(k) {
			http.Error(w, "the application behind this page has failed", http.StatusInternalServerError)
			return
		}
		if s := l.serviceOn(k); s != nil {
			s.ServeHTTP(w, r)
			return
		}
		_, _ = io.WriteString(w, "This is "+string(k)+", a stand-in.\n")
	})
}

// Accept takes a connection while the device answers, and waits otherwise.
func (p *port) Accept() (net.Conn, error) {
	for {
		p.mu.Lock()
		for p.shut {
			p.opened.Wait()
		}
		p.mu.Unlock()
		c, err := p.TCPListener.Accept()
		if errors.Is(err, os.ErrDeadlineExceeded) {
			continue // shut while we were waiting for somebody
		}
		return c, err
	}
}

// watch opens and shuts the port as the device comes and goes.
func (p *port) watch(ctx context.Context) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	defer p.open()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
		if err := p.look(); err != nil {
			return err
		}
	}
}

// look opens the port, or shuts it, as the device is now.
func (p *port) look() error {
	p.w.mu.Lock()
	now := time.Now()
	up := p.w.stands(p.w.boxes[p.device], p.side, now)
	if up {
		up, _, _ = p.view.reach(p.device, p.side, now)
	}
	refuses := p.w.boxes[p.device].refuses && p.side == ""
	p.w.mu.Unlock()
	if up && refuses {
		if err := p.refuse(); err != nil && !errors.Is(err, net.ErrClosed) {
			return fmt.Errorf("%s: refuse at a port: %w", p.device, err)
		}
	} else if up {
		p.open()
	} else if err := p.close(); err != nil && !errors.Is(err, net.ErrClosed) {
		return fmt.Errorf("%s: shut a port: %w", p.device, err)
	}
	return nil
}

func (p *port) open() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.shut {
		return
	}
	p.shut, p.refusing = false, false
	for _, fd := range p.filling {
		_ = unix.Close(fd)
	}
	p.filling = nil
	_ = p.setBacklog(backlog) // at the end the socket is closed already
	_ = p.SetDeadline(time.Time{})
	p.opened.Broadcast()
}

func (p *port) close() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.refusing { // the kernel is to drop what knocks, and not to turn it away
		if err := p.setBacklog(0); err != nil {
			return err
		}
		p.refusing, p.ticks = false, -1
	}
	if p.ticks++; p.shut && p.ticks%refillEvery != 0 {
		return nil
	}
	if !p.shut {
		p.shut = true
		if err := errors.Join(p.SetDeadline(time.Unix(1, 0)), p.setBacklog(0)); err != nil {
			return err
		}
	}
	for len(p.filling) < maxFilling {
		fd, ok := knock(p.Addr().(*net.TCPAddr))
		if !ok {
			break // full: from now on the kernel drops what knocks
		}
		p.filling = append(p.filling, fd)
	}
	return nil
}

// refuse has the kernel turn away what knocks: a socket that does not listen any more keeps
// its address, and can listen again.
func (p *port) refuse() error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.refusing {
		return nil
	}
	p.shut, p.refusing = true, true
	for _, fd := range p.filling {
		_ = unix.Close(fd)
	}
	p.filling = nil
	if err := p.SetDeadline(time.Unix(1, 0)); err != nil {
		return err
	}
	raw, err := p.SyscallConn()
	if err != nil {
		return err
	}
	var shutErr error
	if err := raw.Control(func(fd uintptr) { shutErr = unix.Shutdown(int(fd), unix.SHUT_RD) }); err != nil {
		return err
	}
	return shutErr
}

// knock connects to a port of this machine, and says whether it was let in. That is
// settled while the system connects: however long this process is kept waiting
// before or after, a connection that was made is not missed.
func knock(at *net.TCPAddr) (fd int, ok bool) {
	fd, err := unix.Socket(unix.AF_INET, unix.SOCK_STREAM|unix.SOCK_NONBLOCK|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return 0, false
	}
	err = unix.Connect(fd, &unix.SockaddrInet4{Port: at.Port, Addr: [4]byte(at.IP.To4())})
	if errors.Is(err, unix.EINPROGRESS) {
		poll := []unix.PollFd{{Fd: int32(fd), Events: unix.POLLOUT}}
		if n, pollErr := unix.Poll(poll, fillWithin); n == 1 && pollErr == nil && poll[0].Revents&(unix.POLLERR|unix.POLLHUP) == 0 {
			return fd, true
		}
	}
	if err == nil {
		return fd, true
	}
	_ = unix.Close(fd)
	return 0, false
}

func (p *port) setBacklog(n int) error {
	raw, err := p.SyscallConn()
	if err != nil {
		return err
	}
	var listenErr error
	if err := raw.Control(func(fd uintptr) { listenErr = unix.Listen(int(fd), n) }); err != nil {
		return err
	}
	return listenErr
}
