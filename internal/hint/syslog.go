package hint

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/wire/syslog"
)

// Bounds of what gear may say.
const (
	mostWaiting  = 2000 // messages that are not stored yet
	mostTogether = 500  // of those, in one go
	storeEvery   = time.Second
	burst        = 100 // messages of one device at once
	steady       = 5   // and each second
	mostStreams  = 64
	mostOfPeer   = 4 // streams from one address
	silentStream = 10 * time.Minute
	storeWithin  = 10 * time.Second
	longestSaid  = 500 // characters
)

// Said is where messages of gear go, and what is done about those that matter.
type Said struct {
	Log   *slog.Logger
	Store func(context.Context, []reading.Message) error
	Soon  func(context.Context, estate.Key) // has the device asked
}

// Messages listens for what gear says over syslog. Only what comes from an address of the
// estate is taken; it is not authenticated, so it is believed by nobody: it is kept, and
// has the device asked.
type Messages struct {
	Said
	packets net.PacketConn
	streams []net.Listener

	mu      sync.Mutex
	owners  map[netip.Addr][]owner
	rate    map[estate.Key]*allowance
	asked   map[estate.Key]time.Time
	waiting []reading.Message
	dropped int
	peers   map[netip.Addr]int
}

// owner is a device at an address.
type owner struct {
	key, site estate.Key
}

// allowance is how much a device may say.
type allowance struct {
	left float64
	at   time.Time
	over int // that were left out since
}

// ListenMessages takes messages over UDP and TCP at one address (RFC 5426, RFC 6587), and
// over TLS (RFC 5425) at another; either may be empty.
func ListenMessages(address, secure string, how *tls.Config, said Said) (m *Messages, err error) {
	m = &Messages{Said: said, rate: map[estate.Key]*allowance{}, asked: map[estate.Key]time.Time{}, peers: map[netip.Addr]int{}}
	defer func() {
		if err != nil {
			err = errors.Join(fmt.Errorf("messages of gear: %w", err), m.Close())
		}
	}()
	if address != "" {
		if m.packets, err = net.ListenPacket("udp", address); err != nil {
			return m, err
		}
		ln, err := net.Listen("tcp", m.packets.LocalAddr().String())
		if err != nil {
			return m, err
		}
		m.streams = append(m.streams, ln)
	}
	if secure != "" {
		ln, err := tls.Listen("tcp", secure, how)
		if err != nil {
			return m, err
		}
		m.streams = append(m.streams, ln)
	}
	return m, nil
}

// SetEstate says which addresses belong to which devices. What is behind a serial line
// has none: the address is that of the console server.
func (m *Messages) SetEstate(e *estate.Estate) {
	owners := map[netip.Addr][]owner{}
	add := func(d *estate.Device, at string) {
		if addr, err := netip.ParseAddr(estate.HostOf(at)); err == nil {
			owners[addr.Unmap()] = append(owners[addr.Unmap()], owner{d.Key, d.Site})
		}
	}
	for i := range e.Devices {
		d := &e.Devices[i]
		for _, ep := range d.Endpoints {
			if !d.OverSerial(ep) {
				for _, a := range ep.Addresses {
					add(d, a)
				}
			}
		}
		for _, p := range d.Probes {
			add(d, p.Target)
		}
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.owners = owners
	clear(m.rate)
	clear(m.asked)
}

// Run takes messages until ctx ends, and returns the cause.
func (m *Messages) Run(ctx context.Context) error {
	stop := context.AfterFunc(ctx, func() { _ = m.Close() })
	defer stop()
	var all sync.WaitGroup
	defer all.Wait()
	if m.packets != nil {
		all.Go(func() { m.takePackets(ctx) })
	}
	for _, ln := range m.streams {
		all.Go(func() { m.takeStreams(ctx, ln, &all) })
	}
	tick := time.NewTicker(storeEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
			m.store(ctx)
		}
	}
}

// Close lets go of the addresses.
func (m *Messages) Close() error {
	var errs []error
	if m.packets != nil {
		errs = append(errs, m.packets.Close())
	}
	for _, ln := range m.streams {
		errs = append(errs, ln.Close())
	}
	for i, err := range errs {
		if errors.Is(err, net.ErrClosed) {
			errs[i] = nil
		}
	}
	return errors.Join(errs...)
}

// Address is where it listens for packets.
func (m *Messages) Address() net.Addr { return m.packets.LocalAddr() }

func (m *Messages) takePackets(ctx context.Context) {
	var b [syslog.MostMessage]byte
	for ctx.Err() == nil {
		n, from, err := m.packets.ReadFrom(b[:])
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			continue
		}
		if h, err := syslog.Read(b[:n]); err == nil {
			m.heard(ctx, addrOf(from), h)
		}
	}
}

func addrOf(a net.Addr) netip.Addr {
	p, err := netip.ParseAddrPort(a.String())
	if err != nil {
		return netip.Addr{}
	}
	return p.Addr().Unmap()
}

func (m *Messages) takeStreams(ctx context.Context, ln net.Listener, all *sync.WaitGroup) {
	room := make(chan struct{}, mostStreams)
	for {
		conn, err := ln.Accept()
		if errors.Is(err, net.ErrClosed) || ctx.Err() != nil {
			return
		}
		if err != nil {
			time.Sleep(storeEvery)
			continue
		}
		from := addrOf(conn.RemoteAddr())
		if !m.mayStream(from) {
			_ = conn.Close()
			continue
		}
		select {
		case room <- struct{}{}:
		default:
			m.streamed(from)
			_ = conn.Close()
			continue
		}
		all.Go(func() {
			defer func() { <-room; m.streamed(from); _ = conn.Close() }()
			stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
			defer stop()
			_ = syslog.Each(patient{conn}, func(h syslog.Heard) { m.heard(ctx, from, h) })
		})
	}
}

// patient ends a stream on which nothing comes for long.
type patient struct{ net.Conn }

func (p patient) Read(b []byte) (int, error) {
	_ = p.SetReadDeadline(time.Now().Add(silentStream))
	n, err := p.Conn.Read(b)
	if n == 0 && err == nil {
		err = io.ErrNoProgress
	}
	return n, err
}

// mayStream says whether a stream from an address is taken: it has to be of the estate.
func (m *Messages) mayStream(from netip.Addr) bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	if len(m.owners[from]) == 0 || m.peers[from] >= mostOfPeer {
		return false
	}
	m.peers[from]++
	return true
}

func (m *Messages) streamed(from netip.Addr) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.peers[from]--; m.peers[from] == 0 {
		delete(m.peers, from)
	}
}

// levelOf is how bad a message is: RFC 5424, section 6.2.1.
func levelOf(s syslog.Severity) reading.Level {
	switch {
	case s <= 2:
		return reading.Critical
	case s <= 4:
		return reading.Warning
	}
	return reading.Fine
}

// heard takes one message in, if it is of a device of the estate that has not said too much.
func (m *Messages) heard(ctx context.Context, from netip.Addr, h syslog.Heard) {
	now := time.Now()
	level := levelOf(h.Severity)
	m.mu.Lock()
	o, ok := m.ownerOf(from, h.Host)
	if !ok {
		m.mu.Unlock()
		return
	}
	asks := false
	if m.allows(o, now) {
		text := []rune(h.Text)
		m.keep(reading.Message{Device: o.key, Site: o.site, At: now.UTC(), Level: level, App: h.App, Text: string(text[:min(len(text), longestSaid)])})
		if asks = level != reading.Fine && now.Sub(m.asked[o.key]) >= quiet; asks {
			m.asked[o.key] = now
		}
	}
	m.mu.Unlock()
	if asks {
		m.Soon(ctx, o.key)
	}
}

// ownerOf is the device at an address; of several, the one of that name. m.mu is held.
func (m *Messages) ownerOf(from netip.Addr, host string) (owner, bool) {
	all := m.owners[from]
	for _, o := range all {
		if strings.EqualFold(string(o.key), host) {
			return o, true
		}
	}
	if len(all) == 0 {
		return owner{}, false
	}
	return all[0], true
}

// allows says whether a device may say one more thing, and says later how much was left
// out. m.mu is held.
func (m *Messages) allows(o owner, now time.Time) bool {
	a := m.rate[o.key]
	if a == nil {
		a = &allowance{left: burst, at: now}
		m.rate[o.key] = a
	}
	a.left = min(burst, a.left+now.Sub(a.at).Seconds()*steady)
	a.at = now
	if a.left < 1 {
		a.over++
		return false
	}
	a.left--
	if a.over > 0 {
		m.keep(reading.Message{Device: o.key, Site: o.site, At: now.UTC(), Level: reading.Warning, App: "plumbd", Text: fmt.Sprintf("%d messages were left out: it says too much", a.over)})
		a.over = 0
	}
	return true
}

// keep has a message stored. m.mu is held.
func (m *Messages) keep(x reading.Message) {
	if len(m.waiting) >= mostWaiting {
		m.dropped++
		return
	}
	m.waiting = append(m.waiting, x)
}

// store brings what waits to the store. While that is away, what is too much is lost, and
// said.
func (m *Messages) store(ctx context.Context) {
	for {
		m.mu.Lock()
		n := min(len(m.waiting), mostTogether)
		part := append([]reading.Message(nil), m.waiting[:n]...)
		m.mu.Unlock()
		if n == 0 {
			return
		}
		within, cancel := context.WithTimeout(ctx, storeWithin)
		err := m.Store(within, part)
		cancel()
		if err != nil {
			m.Log.Debug("messages of gear wait", "how many", n, "because", err)
			return
		}
		m.mu.Lock()
		m.waiting = append(m.waiting[:0], m.waiting[n:]...)
		dropped := m.dropped
		m.dropped = 0
		m.mu.Unlock()
		if dropped > 0 {
			m.Log.Warn("messages of gear were lost while they could not be stored", "how many", dropped)
		}
	}
}
