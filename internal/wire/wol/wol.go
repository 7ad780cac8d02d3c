// Package wol wakes hosts over the network with magic packets: six bytes of
// FFh, the hardware address sixteen times, and, where the host asks for it, a
// SecureOn password of four or six bytes. The format is AMD's, "Magic Packet
// Technology", publication 20213.
package wol

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
)

const (
	headerLen = 6
	copies    = 16
	macLen    = 6
)

// Packet is a magic packet.
type Packet struct {
	MAC      [macLen]byte
	Password []byte // SecureOn: none, or 4 or 6 bytes
}

// Append writes the packet.
func (p Packet) Append(b []byte) []byte {
	b = append(b, bytes.Repeat([]byte{0xff}, headerLen)...)
	b = append(b, bytes.Repeat(p.MAC[:], copies)...)
	return append(b, p.Password...)
}

// errNone is bytes that are no magic packet.
var errNone = errors.New("wol: no magic packet")

// Decode reads a packet that stands alone. It leaves p untouched unless the
// whole of it is sound.
func (p *Packet) Decode(b []byte) error {
	const whole = headerLen + copies*macLen
	if len(b) < whole || !bytes.Equal(b[:headerLen], bytes.Repeat([]byte{0xff}, headerLen)) {
		return errNone
	}
	mac := [macLen]byte(b[headerLen:])
	if !bytes.Equal(b[headerLen:whole], bytes.Repeat(mac[:], copies)) {
		return errNone
	}
	rest := b[whole:]
	if n := len(rest); n != 0 && n != 4 && n != 6 {
		return errNone
	}
	*p = Packet{MAC: mac, Password: bytes.Clone(rest)}
	return nil
}

// repeats is how often a packet is sent: nothing acknowledges it, and to wake
// what is awake does no harm.
const repeats = 3

// Send sends a packet to where it is broadcast: host:port.
func Send(ctx context.Context, to string, p Packet) error {
	var d net.Dialer
	d.Control = allowBroadcast
	c, err := d.DialContext(ctx, "udp", to)
	if err != nil {
		return fmt.Errorf("wol: %w", err)
	}
	defer func() { _ = c.Close() }()
	b := p.Append(nil)
	for range repeats {
		if _, err := c.Write(b); err != nil {
			return fmt.Errorf("wol: %w", err)
		}
	}
	return nil
}
