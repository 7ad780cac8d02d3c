package icmp

import (
	"encoding/binary"
	"errors"
)

// Echo is an echo message as this package sends it. The identifier is left to
// the kernel on datagram sockets, so the token in the data stands for it.
type Echo struct {
	Seq   uint16
	Token [8]byte
}

const (
	echoRequest4, echoReply4 = 8, 0
	echoRequest6, echoReply6 = 128, 129
	headerLen                = 8
	echoLen                  = headerLen + 8
)

// ErrNotEcho: the bytes are not an echo message of ours.
var ErrNotEcho = errors.New("icmp: not an echo of ours")

// AppendRequest appends the message as an echo request. The kernel fills in
// the checksum of ICMPv6, which covers addresses.
func (e Echo) AppendRequest(b []byte, v6 bool) []byte {
	kind := byte(echoRequest4)
	if v6 {
		kind = echoRequest6
	}
	return e.append(b, kind, !v6)
}

func (e Echo) append(b []byte, kind byte, sum bool) []byte {
	from := len(b)
	b = append(b, kind, 0, 0, 0)
	b = append(b, e.Token[0], e.Token[1]) // the identifier
	b = binary.BigEndian.AppendUint16(b, e.Seq)
	b = append(b, e.Token[:]...)
	if sum {
		binary.BigEndian.PutUint16(b[from+2:], Checksum(b[from:]))
	}
	return b
}

// DecodeReply reads an echo reply, and leaves e untouched unless it is one.
func (e *Echo) DecodeReply(b []byte, v6 bool) error {
	kind := byte(echoReply4)
	if v6 {
		kind = echoReply6
	}
	if len(b) != echoLen || b[0] != kind || b[1] != 0 {
		return ErrNotEcho
	}
	e.Seq = binary.BigEndian.Uint16(b[6:])
	copy(e.Token[:], b[headerLen:])
	return nil
}

// Checksum is the Internet checksum (RFC 1071) of b, in which the checksum
// field itself counts as zero when it is.
func Checksum(b []byte) uint16 {
	var sum uint32
	for ; len(b) > 1; b = b[2:] {
		sum += uint32(b[0])<<8 | uint32(b[1])
	}
	if len(b) == 1 {
		sum += uint32(b[0]) << 8
	}
	for sum > 0xffff {
		sum = sum>>16 + sum&0xffff
	}
	return ^uint16(sum)
}
