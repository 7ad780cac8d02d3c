// Package rmcp carries IPMI messages over UDP: RMCP with the presence ping of
// ASF, IPMI 1.5 and IPMI 2.0 (RMCP+) session packets, and the messages of the
// handshake that opens a session. It serves both ends of the wire, so that the
// lab's controllers read and write the same bytes from the other side.
//
//	rmcp.go       the RMCP header, and the presence ping
//	message.go    one IPMI message: addresses, sequence number, two checksums
//	suite.go      cipher suites, and what each asks for
//	keys.go       what the handshake computes
//	handshake.go  Open Session and RAKP 1 to 4, as messages
//	console.go    the same as a step machine, as the remote console goes through it
//	session.go    packets within a session, sealed and opened
//	legacy.go     packets of IPMI 1.5
//
// No I/O and no clock. Section numbers are those of the IPMI 2.0
// specification, revision 1.1, unless another document is named.
package rmcp

import (
	"encoding/binary"
	"errors"
	"fmt"

	"plumbbob/internal/wire/cursor"
)

// Port is where controllers listen (section 13.1.2).
const Port = 623

// MaxPacket is the largest packet that is looked at; controllers send no more
// than a few hundred bytes.
const MaxPacket = 1024

// The RMCP header (section 13.1.3): version 1.0, a sequence number that says
// that no acknowledgement is wanted, and the class of what follows.
const (
	version   = 0x06
	noAck     = 0xff
	headerLen = 4
)

// A Class says what an RMCP packet carries.
type Class uint8

// The classes that are used here.
const (
	ASF  Class = 0x06
	IPMI Class = 0x07
)

// ErrNotRMCP marks bytes that are no RMCP packet.
var ErrNotRMCP = errors.New("rmcp: not an RMCP packet")

// ClassOf reads the header of a packet and returns what follows it.
func ClassOf(b []byte) (Class, []byte, error) {
	if len(b) < headerLen || b[0] != version {
		return 0, nil, ErrNotRMCP
	}
	return Class(b[3]), b[headerLen:], nil
}

func appendHeader(b []byte, c Class) []byte { return append(b, version, 0, noAck, byte(c)) }

// The ASF messages of the presence ping (section 13.2.3 and 13.2.4).
const (
	asfIANA  = 4542
	asfPing  = 0x80
	asfPong  = 0x40
	asfLen   = 8
	pongLen  = 16
	pongIPMI = 0x80 // supported entities: IPMI
	asf1     = 0x01 // supported entities: ASF 1.0
)

// AppendPing appends a presence ping; its pong bears the same tag.
func AppendPing(b []byte, tag uint8) []byte {
	b = appendHeader(b, ASF)
	b = binary.BigEndian.AppendUint32(b, asfIANA)
	return append(b, asfPing, tag, 0, 0)
}

// A Pong is the answer to a presence ping.
type Pong struct {
	Tag  uint8
	OEM  uint32 // IANA enterprise number
	IPMI bool   // IPMI is spoken here
}

// AppendPong is the inverse of ParsePong.
func AppendPong(b []byte, p Pong) []byte {
	b = appendHeader(b, ASF)
	b = binary.BigEndian.AppendUint32(b, asfIANA)
	b = append(b, asfPong, p.Tag, 0, pongLen)
	b = binary.BigEndian.AppendUint32(b, p.OEM)
	b = append(b, 0, 0, 0, 0)
	entities := byte(asf1)
	if p.IPMI {
		entities |= pongIPMI
	}
	return append(b, entities, 0, 0, 0, 0, 0, 0, 0)
}

// ParsePing returns the tag of a presence ping.
func ParsePing(b []byte) (tag uint8, err error) {
	kind, tag, _, err := parseASF(b)
	if err == nil && kind != asfPing {
		err = fmt.Errorf("rmcp: ASF message %02Xh is no ping", kind)
	}
	return tag, err
}

// ParsePong reads the answer to a presence ping.
func ParsePong(b []byte) (Pong, error) {
	kind, tag, data, err := parseASF(b)
	if err != nil {
		return Pong{}, err
	}
	r := cursor.New(data)
	oem := r.BE32()
	r.Bytes(4) // OEM-defined
	entities := r.U8()
	r.Rest() // supported interactions, reserved
	if err := r.Done(); err != nil || kind != asfPong {
		return Pong{}, errors.Join(fmt.Errorf("rmcp: ASF message %02Xh is no pong", kind), err)
	}
	return Pong{Tag: tag, OEM: oem, IPMI: entities&pongIPMI != 0}, nil
}

func parseASF(b []byte) (kind, tag uint8, data []byte, err error) {
	class, body, err := ClassOf(b)
	if err != nil {
		return 0, 0, nil, err
	}
	r := cursor.New(body)
	iana := r.BE32()
	kind, tag = r.U8(), r.U8()
	r.U8() // reserved
	data = r.Bytes(int(r.U8()))
	if err := r.Err(); err != nil || class != ASF || iana != asfIANA {
		return 0, 0, nil, errors.Join(errors.New("rmcp: not an ASF message"), err)
	}
	return kind, tag, data, nil
}
