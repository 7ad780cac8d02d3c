// Package icmp asks many hosts at once whether they answer echo requests
// (RFC 792, RFC 4443), over one socket for each IP version.
//
//	icmp.go  the Pinger: questions, answers, and who was asked what
//	echo.go  one echo message as bytes; no I/O
//
// A raw socket is used where the process may open one, and otherwise a datagram
// socket, where the kernel allows those (net.ipv4.ping_group_range).
package icmp

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
)

// ErrNotPermitted: neither kind of socket may be opened by this process.
var ErrNotPermitted = errors.New("icmp: not permitted to send echo requests: allow it with setcap cap_net_raw+ep, or net.ipv4.ping_group_range")

// ErrTimeout: no answer came in time.
var ErrTimeout = errors.New("icmp: no answer")

// receiveBuffer holds the answers of thousands of hosts that are asked at once.
const receiveBuffer = 4 << 20

// A Pinger sends echo requests and takes in the answers. It may be shared
// between goroutines; Close ends it.
type Pinger struct {
	conn4, conn6 *socket
	token        [8]byte // proves that an answer is to one of our questions

	mu      sync.Mutex
	seq     uint16
	waiting map[uint16]waiter
	closed  bool
	reading sync.WaitGroup
}

type socket struct {
	net.PacketConn
	raw bool
	v6  bool
}

type waiter struct {
	to     netip.Addr
	sent   time.Time
	answer chan time.Duration
}

// Listen opens the sockets. Without IPv6 it pings IPv4 only. The error is
// ErrNotPermitted when the process may open no socket.
func Listen() (*Pinger, error) {
	p := &Pinger{waiting: map[uint16]waiter{}}
	_, _ = rand.Read(p.token[:]) // never fails
	p.conn4 = open("ip4:icmp", "udp4", "0.0.0.0", false)
	p.conn6 = open("ip6:ipv6-icmp", "udp6", "::", true)
	if p.conn4 == nil && p.conn6 == nil {
		return nil, ErrNotPermitted
	}
	for _, s := range []*socket{p.conn4, p.conn6} {
		if s != nil {
			p.reading.Go(func() { p.read(s) })
		}
	}
	return p, nil
}

func open(raw, datagram, address string, v6 bool) *socket {
	if c, err := net.ListenPacket(raw, address); err == nil {
		onlyReplies(c, v6)
		_ = c.(*net.IPConn).SetReadBuffer(receiveBuffer) // a smaller one does as well, for fewer hosts
		return &socket{c, true, v6}
	}
	if c, err := icmp.ListenPacket(datagram, address); err == nil {
		return &socket{c, false, v6}
	}
	return nil
}

// onlyReplies has the kernel drop what a raw socket would also see: everybody
// else's messages. Where it cannot, they are read and dropped here.
func onlyReplies(c net.PacketConn, v6 bool) {
	if v6 {
		var f ipv6.ICMPFilter
		f.SetAll(true)
		f.Accept(ipv6.ICMPTypeEchoReply)
		_ = ipv6.NewPacketConn(c).SetICMPFilter(&f)
		return
	}
	var f ipv4.ICMPFilter
	f.SetAll(true)
	f.Accept(ipv4.ICMPTypeEchoReply)
	_ = ipv4.NewPacketConn(c).SetICMPFilter(&f)
}

// Close closes the sockets and waits for the readers. Questions that wait for
// an answer time out.
func (p *Pinger) Close() error {
	p.mu.Lock()
	p.closed = true
	p.mu.Unlock()
	var err error
	for _, s := range []*socket{p.conn4, p.conn6} {
		if s != nil {
			err = errors.Join(err, s.Close())
		}
	}
	p.reading.Wait()
	return err
}

// Ping asks a host once and returns the round trip. The error is ErrTimeout
// when ctx ends first, or that of sending.
func (p *Pinger) Ping(ctx context.Context, to netip.Addr) (time.Duration, error) {
	to = to.Unmap()
	s := p.conn4
	if to.Is6() {
		s = p.conn6
	}
	if s == nil {
		return 0, fmt.Errorf("icmp: %s cannot be asked: %w", to, ErrNotPermitted)
	}
	seq, w := p.enter(to)
	defer p.leave(seq)
	if err := s.send(to, Echo{Seq: seq, Token: p.token}); err != nil {
		return 0, fmt.Errorf("icmp: to %s: %w", to, err)
	}
	select {
	case rtt := <-w.answer:
		return rtt, nil
	case <-ctx.Done():
		return 0, ErrTimeout
	}
}

// enter takes a sequence number that no other question is using.
func (p *Pinger) enter(to netip.Addr) (uint16, waiter) {
	w := waiter{to: to, sent: time.Now(), answer: make(chan time.Duration, 1)}
	p.mu.Lock()
	defer p.mu.Unlock()
	for range 1 << 16 {
		p.seq++
		if _, used := p.waiting[p.seq]; !used {
			break
		}
	}
	p.waiting[p.seq] = w
	return p.seq, w
}

func (p *Pinger) leave(seq uint16) {
	p.mu.Lock()
	delete(p.waiting, seq)
	p.mu.Unlock()
}

func (s *socket) send(to netip.Addr, e Echo) error {
	var addr net.Addr = &net.IPAddr{IP: to.AsSlice(), Zone: to.Zone()}
	if !s.raw {
		addr = &net.UDPAddr{IP: to.AsSlice(), Zone: to.Zone()}
	}
	b := e.AppendRequest(nil, s.v6)
	_, err := s.WriteTo(b, addr)
	return err
}

// maxPacket is more than any echo of ours; what is longer is not ours.
const maxPacket = 512

func (p *Pinger) read(s *socket) {
	buf := make([]byte, maxPacket)
	for {
		n, from, err := s.ReadFrom(buf)
		if err != nil {
			p.mu.Lock()
			closed := p.closed
			p.mu.Unlock()
			if closed || errors.Is(err, net.ErrClosed) {
				return
			}
			continue // an ICMP error that was queued on the socket
		}
		var e Echo
		if e.DecodeReply(buf[:n], s.v6) == nil && e.Token == p.token {
			p.answered(e.Seq, addrOf(from), time.Now())
		}
	}
}

func (p *Pinger) answered(seq uint16, from netip.Addr, at time.Time) {
	p.mu.Lock()
	w, ok := p.waiting[seq]
	p.mu.Unlock()
	if !ok || w.to.WithZone("") != from.WithZone("") {
		return // late, doubled, or from somebody else
	}
	select {
	case w.answer <- at.Sub(w.sent):
	default: // doubled
	}
}

func addrOf(a net.Addr) netip.Addr {
	var ip net.IP
	switch a := a.(type) {
	case *net.IPAddr:
		ip = a.IP
	case *net.UDPAddr:
		ip = a.IP
	}
	addr, _ := netip.AddrFromSlice(ip)
	return addr.Unmap()
}
