package rmcp

import (
	"crypto/hmac"
	"encoding/binary"
	"errors"

	"plumbbob/internal/wire/cursor"
)

// Authentication types of IPMI 1.5 (section 13.6).
const (
	AuthNone uint8 = 0x00
	AuthMD5  uint8 = 0x02
)

// Legacy is a session of IPMI 1.5, for controllers that know no other. With
// AuthNone and id zero it is the way to ask what a controller can do, before
// any session.
type Legacy struct {
	Auth     uint8
	ID       uint32
	Password Secret // 16 bytes count
	Sequence uint32 // of the next packet out; stays zero before the session is active
	in       window
}

func (l *Legacy) code(sequence uint32, message []byte) [16]byte {
	var key [16]byte
	copy(key[:], l.Password)
	return md5Sum(key[:], le32(l.ID), message, le32(sequence), key[:]) // section 22.17.1
}

// Seal appends a packet that carries a message.
func (l *Legacy) Seal(b, message []byte) []byte {
	b = appendHeader(b, IPMI)
	b = append(b, l.Auth)
	b = binary.LittleEndian.AppendUint32(b, l.Sequence)
	b = binary.LittleEndian.AppendUint32(b, l.ID)
	if l.Auth != AuthNone {
		code := l.code(l.Sequence, message)
		b = append(b, code[:]...)
	}
	b = append(b, byte(len(message)))
	b = append(b, message...)
	if l.Sequence != 0 {
		l.Sequence = max(1, l.Sequence+1)
	}
	return b
}

var errNotLegacy = errors.New("rmcp: not an IPMI 1.5 packet")

// Open checks a packet and returns the message in it, which aliases it.
func (l *Legacy) Open(packet []byte) ([]byte, error) {
	class, body, err := ClassOf(packet)
	if err != nil || class != IPMI {
		return nil, ErrNotRMCP
	}
	r := cursor.New(body)
	auth := r.U8()
	if auth != AuthNone && auth != AuthMD5 {
		return nil, errNotLegacy
	}
	sequence, id := r.U32(), r.U32()
	var code [16]byte
	if auth == AuthMD5 {
		r.Copy(code[:])
	}
	message := r.Bytes(int(r.U8()))
	r.Rest() // some controllers pad (section 13.6, legacy pad)
	switch {
	case r.Done() != nil:
		return nil, errNotLegacy
	case id != l.ID || auth != l.Auth:
		return nil, ErrNotOurs
	}
	if auth == AuthMD5 {
		want := l.code(sequence, message)
		if !hmac.Equal(code[:], want[:]) {
			return nil, ErrIntegrity
		}
	}
	if sequence != 0 {
		if !l.in.admits(sequence) {
			return nil, ErrReplay
		}
		l.in.seen(sequence)
	}
	return message, nil
}
