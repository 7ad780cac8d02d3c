package lab

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"time"

	"golang.org/x/sys/unix"

	"plumbbob/internal/wire/icmp"
)

// The TUN interface takes one /20 of 198.18.0.0/15, the range for benchmarks of
// networks (RFC 2544): room for 16 sites, and for more than one lab at a time.
const (
	echoBits  = 20
	tunDevice = "/dev/net/tun"
	mtu       = 1500
)

// startEcho brings up a TUN interface behind which the devices answer echo requests.
func (l *Lab) startEcho(ctx context.Context) error {
	if len(l.echo) == 0 {
		return nil
	}
	var prefix netip.Prefix
	for addr := range l.echo {
		p, err := addr.Prefix(echoBits)
		if err != nil || prefix.IsValid() && p != prefix {
			return fmt.Errorf("the addresses for ICMP are not all in one /%d", echoBits)
		}
		prefix = p
	}
	tun, err := openTUN(prefix)
	if err != nil {
		return err
	}
	l.Echo = true
	context.AfterFunc(ctx, func() { _ = tun.Close() })
	l.tasks.Go(func() error { return l.answerEcho(ctx, tun) })
	return nil
}

// openTUN makes an interface that owns the prefix; it goes away when the file is closed.
func openTUN(prefix netip.Prefix) (*os.File, error) {
	fd, err := unix.Open(tunDevice, unix.O_RDWR|unix.O_CLOEXEC|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", tunDevice, err)
	}
	name, err := configure(fd, prefix)
	if err != nil {
		_ = unix.Close(fd)
		return nil, err
	}
	return os.NewFile(uintptr(fd), name), nil
}

func configure(fd int, prefix netip.Prefix) (string, error) {
	ifr, err := unix.NewIfreq("plumb%d")
	if err != nil {
		return "", err
	}
	ifr.SetUint16(unix.IFF_TUN | unix.IFF_NO_PI)
	if err := unix.IoctlIfreq(fd, unix.TUNSETIFF, ifr); err != nil {
		return "", fmt.Errorf("make a TUN interface: %w", err)
	}
	name := ifr.Name()
	s, err := unix.Socket(unix.AF_INET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return "", fmt.Errorf("configure %s: %w", name, err)
	}
	defer func() { _ = unix.Close(s) }()
	mask := net.CIDRMask(prefix.Bits(), 32)
	err = errors.Join(
		setAddress(s, name, unix.SIOCSIFADDR, prefix.Addr().Next().As4()),
		setAddress(s, name, unix.SIOCSIFNETMASK, [4]byte(mask)),
		up(s, name),
	)
	if err != nil {
		return "", fmt.Errorf("configure %s: %w", name, err)
	}
	return name, nil
}

func setAddress(s int, name string, request uint, addr [4]byte) error {
	ifr, err := unix.NewIfreq(name)
	if err != nil {
		return err
	}
	if err := ifr.SetInet4Addr(addr[:]); err != nil {
		return err
	}
	return unix.IoctlIfreq(s, request, ifr)
}

func up(s int, name string) error {
	ifr, err := unix.NewIfreq(name)
	if err != nil {
		return err
	}
	if err := unix.IoctlIfreq(s, unix.SIOCGIFFLAGS, ifr); err != nil {
		return err
	}
	ifr.SetUint16(ifr.Uint16() | unix.IFF_UP | unix.IFF_RUNNING)
	return unix.IoctlIfreq(s, unix.SIOCSIFFLAGS, ifr)
}

func (l *Lab) answerEcho(ctx context.Context, tun *os.File) error {
	for {
		b := make([]byte, mtu)
		n, err := tun.Read(b)
		if err != nil {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			return fmt.Errorf("echo: %w", err)
		}
		reply, to := echoReply(b[:n])
		k, known := l.echo[to]
		if reply == nil || !known {
			continue
		}
		if ok, delay := l.answers(k, ""); ok {
			time.AfterFunc(delay, func() { _, _ = tun.Write(reply) })
		}
	}
}

// Offsets in an IPv4 header (RFC 791) and in the ICMP message behind it.
const (
	ipHeader   = 20
	ipTTL      = 8
	ipProtocol = 9
	ipSum      = 10
	ipSource   = 12
	ipDest     = 16
	protoICMP  = 1
	echoAsk    = 8
	ourTTL     = 64
)

// echoReply turns an IPv4 packet with an echo request into the reply to it,
// and says to whom the request was sent. Anything else gives nil.
func echoReply(b []byte) (reply []byte, to netip.Addr) {
	if len(b) < ipHeader+8 || b[0] != 0x45 || b[ipProtocol] != protoICMP || b[ipHeader] != echoAsk {
		return nil, to
	}
	to = netip.AddrFrom4([4]byte(b[ipDest:]))
	var source, dest [4]byte
	copy(source[:], b[ipSource:])
	copy(dest[:], b[ipDest:])
	copy(b[ipSource:], dest[:])
	copy(b[ipDest:], source[:])
	b[ipTTL] = ourTTL
	putSum(b[:ipHeader], ipSum)
	b[ipHeader] = 0 // echo reply
	putSum(b[ipHeader:], 2)
	return b, to
}

func putSum(b []byte, at int) {
	b[at], b[at+1] = 0, 0
	binary.BigEndian.PutUint16(b[at:], icmp.Checksum(b))
}
