package rmcp

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"

	"plumbbob/internal/wire/cursor"
)

// Parts of an RMCP+ packet (section 13.6).
const (
	formatPlus     = 0x06 // authentication type: RMCP+
	encryptedBit   = 0x80
	authenticBit   = 0x40
	payloadMask    = 0x3f
	plusHeaderLen  = 12 // format, type, session id, sequence, length
	nextHeader     = 0x07
	maxPayload     = 512
	sequenceWindow = 32
	sequenceAhead  = 16 // so far ahead a controller takes a number (section 6.12.13): behind more lost ones a session is dead
)

// An End is one side of a session.
type End bool

// The two ends.
const (
	ConsoleEnd    End = false
	ControllerEnd End = true
)

// Session seals and opens packets. It is not safe for concurrent use.
type Session struct {
	Suite    Suite
	Unproved bool   // that the other end knows the password shows only once it has answered
	ID       uint32 // that the other end sends to us
	PeerID   uint32 // that we send to it
	tag      hash.Hash
	tagLen   int
	block    cipher.Block
	sequence uint32
	window   window
	scratch  []byte
	iv       [aes.BlockSize]byte
	enc, dec cipher.BlockMode
}

// NewSession derives the keys of a session from the exchange that opened it.
func NewSession(x *Exchange, end End) *Session {
	s := &Session{Suite: x.Suite, ID: x.ConsoleID, PeerID: x.ControllerID}
	if end == ControllerEnd {
		s.ID, s.PeerID = s.PeerID, s.ID
		s.window.reach = sequenceAhead
	}
	a := x.Suite.Algorithms()
	if a.Integrity != integrityNone {
		s.tag, s.tagLen = hmac.New(x.Suite.newHash(), x.additionalKey(1)), x.Suite.tagLen()
	}
	if a.Confidentiality == confAES {
		block, err := aes.NewCipher(x.additionalKey(2)[:aes.BlockSize])
		if err != nil {
			panic(err) // the length of the key is a constant
		}
		s.block = block
		s.enc, s.dec = cipher.NewCBCEncrypter(block, s.iv[:]), cipher.NewCBCDecrypter(block, s.iv[:])
	}
	return s
}

// Why a packet was not taken. All but ErrReplay may be forgeries or garbage.
var (
	ErrNotOurs   = errors.New("rmcp: a packet of another session")
	ErrIntegrity = errors.New("rmcp: the integrity value of a packet is wrong")
	ErrReplay    = errors.New("rmcp: a packet that has been here before")
	ErrPadding   = errors.New("rmcp: the padding of a packet is wrong")
)

// Seal appends a packet that carries a payload (sections 13.6, 13.28 and 13.29).
func (s *Session) Seal(b []byte, kind PayloadType, payload []byte) []byte {
	s.sequence++
	if s.sequence == 0 {
		s.sequence = 1 // zero is for packets outside of sessions
	}
	start := len(b) + headerLen
	b = appendHeader(b, IPMI)
	if s.block != nil {
		kind |= encryptedBit
	}
	if s.tag != nil {
		kind |= authenticBit
	}
	b = append(b, formatPlus, byte(kind))
	b = binary.LittleEndian.AppendUint32(b, s.PeerID)
	b = binary.LittleEndian.AppendUint32(b, s.sequence)
	b = append(b, 0, 0) // length, below
	body := len(b)
	if s.block != nil {
		b = s.encrypt(b, payload)
	} else {
		b = append(b, payload...)
	}
	binary.LittleEndian.PutUint16(b[body-2:], uint16(len(b)-body))
	if s.tag == nil {
		return b
	}
	pad := (4 - (len(b)-start+2)%4) % 4
	for range pad {
		b = append(b, 0xff)
	}
	b = append(b, byte(pad), nextHeader)
	return append(b, s.sum(b[start:])...)
}

// sum is the integrity value over a packet; it lasts until the next call.
func (s *Session) sum(b []byte) []byte {
	s.tag.Reset()
	s.tag.Write(b)
	s.scratch = s.tag.Sum(s.scratch[:0])
	return s.scratch[:s.tagLen]
}

// encrypt appends a new initialization vector and the payload, padded with
// 01h, 02h, 03h … and the length of that (section 13.29).
func (s *Session) encrypt(b, payload []byte) []byte {
	_, _ = rand.Read(s.iv[:]) // never fails
	b = append(b, s.iv[:]...)
	at := len(b)
	b = append(b, payload...)
	pad := (aes.BlockSize - (len(payload)+1)%aes.BlockSize) % aes.BlockSize
	for i := range pad {
		b = append(b, byte(i+1))
	}
	b = append(b, byte(pad))
	s.mode(&s.enc, cipher.NewCBCEncrypter).CryptBlocks(b[at:], b[at:])
	return b
}

// mode prepares a block mode for the vector in s.iv. The modes of the standard
// library take a new vector without being made anew.
func (s *Session) mode(m *cipher.BlockMode, anew func(cipher.Block, []byte) cipher.BlockMode) cipher.BlockMode {
	if again, ok := (*m).(interface{ SetIV([]byte) }); ok {
		again.SetIV(s.iv[:])
	} else {
		*m = anew(s.block, s.iv[:])
	}
	return *m
}

// Open checks a packet and returns its payload, which it decrypts in place:
// the payload aliases the packet. A packet that is refused is untouched, and
// moves nothing in the session.
func (s *Session) Open(packet []byte) (PayloadType, []byte, error) {
	class, body, err := ClassOf(packet)
	if err != nil || class != IPMI {
		return 0, nil, ErrNotRMCP
	}
	r := cursor.Of(body)
	format, kind := r.U8(), r.U8()
	id, sequence, length := r.U32(), r.U32(), int(r.U16())
	if format != formatPlus || id != s.ID || length > maxPayload {
		return 0, nil, ErrNotOurs
	}
	payload := r.Bytes(length)
	if r.Err() != nil || (kind&authenticBit != 0) != (s.tag != nil) || (kind&encryptedBit != 0) != (s.block != nil) {
		return 0, nil, ErrNotOurs
	}
	if s.tag != nil {
		if err := s.verify(body, r.Rest()); err != nil {
			return 0, nil, err
		}
	}
	if !s.window.admits(sequence) {
		return 0, nil, ErrReplay
	}
	if s.block != nil {
		if payload, err = s.decrypt(payload); err != nil {
			return 0, nil, err
		}
	}
	s.window.seen(sequence)
	return PayloadType(kind & payloadMask), payload, nil
}

// verify checks what follows the payload: padding, its length, the next
// header, and the integrity value over all before it.
func (s *Session) verify(body, tail []byte) error {
	n := len(tail) - s.tagLen
	if n < 2 || tail[n-1] != nextHeader || int(tail[n-2]) != n-2 {
		return ErrIntegrity
	}
	if !hmac.Equal(tail[n:], s.sum(body[:len(body)-s.tagLen])) {
		return ErrIntegrity
	}
	return nil
}

func (s *Session) decrypt(b []byte) ([]byte, error) {
	if len(b) < 2*aes.BlockSize || len(b)%aes.BlockSize != 0 {
		return nil, ErrPadding
	}
	copy(s.iv[:], b)
	b = b[aes.BlockSize:]
	s.mode(&s.dec, cipher.NewCBCDecrypter).CryptBlocks(b, b)
	pad := int(b[len(b)-1])
	if pad >= aes.BlockSize || pad+1 > len(b) {
		return nil, ErrPadding
	}
	for i, x := range b[len(b)-1-pad : len(b)-1] {
		if int(x) != i+1 {
			return nil, ErrPadding
		}
	}
	return b[:len(b)-1-pad], nil
}

// window is the sequence numbers that may still come: above the highest one
// seen, or within reach below it and not seen yet (section 6.12.13).
type window struct {
	reach   uint32 // how far above the highest one may be; 0 for any distance
	highest uint32
	before  uint32 // bit n: highest-1-n has been seen
	begun   bool
}

func (w *window) admits(n uint32) bool {
	if n == 0 {
		return false
	}
	if ahead := n - w.highest; !w.begun || ahead != 0 && ahead < 1<<31 {
		return w.reach == 0 || ahead <= w.reach // the first one has to be near zero, too
	}
	behind := w.highest - n
	return behind > 0 && behind <= sequenceWindow && w.before&(1<<(behind-1)) == 0
}

func (w *window) seen(n uint32) {
	ahead := n - w.highest
	switch {
	case !w.begun:
		w.highest, w.begun = n, true
	case ahead != 0 && ahead < 1<<31:
		if ahead > sequenceWindow {
			w.before = 0
		} else {
			w.before = w.before<<ahead | 1<<(ahead-1)
		}
		w.highest = n
	default:
		w.before |= 1 << (w.highest - n - 1)
	}
}

// appendPlain writes a packet outside of any session.
func appendPlain(b []byte, kind PayloadType, payload []byte) []byte {
	b = appendHeader(b, IPMI)
	b = append(b, formatPlus, byte(kind))
	b = append(b, 0, 0, 0, 0, 0, 0, 0, 0)
	b = binary.LittleEndian.AppendUint16(b, uint16(len(payload)))
	return append(b, payload...)
}

func parsePlain(packet []byte) (PayloadType, []byte, error) {
	class, body, err := ClassOf(packet)
	if err != nil || class != IPMI {
		return 0, nil, ErrNotRMCP
	}
	r := cursor.New(body)
	format, kind := r.U8(), PayloadType(r.U8())
	id, sequence := r.U32(), r.U32()
	payload := r.Bytes(int(r.U16()))
	if r.Err() != nil || format != formatPlus || id != 0 || sequence != 0 {
		return 0, nil, fmt.Errorf("rmcp: no packet outside of a session: %w", r.Err())
	}
	return kind, payload, nil
}

// ParseOutside returns the payload of an RMCP+ packet outside of any session, and
// AppendOutside writes one; without a payload it writes nothing.
func ParseOutside(packet []byte) (PayloadType, []byte, error) { return parsePlain(packet) }

// AppendOutside is the inverse of ParseOutside.
func AppendOutside(b []byte, kind PayloadType, payload []byte) []byte {
	if len(payload) == 0 {
		return b
	}
	return appendPlain(b, kind, payload)
}

// ParseHandshake returns the payload of a packet that asks for a session, for
// the controller's end. AppendHandshake writes the answer, of the next type.
func ParseHandshake(packet []byte) (PayloadType, []byte, error) { return parsePlain(packet) }

// AppendHandshake writes the controller's answer to a handshake message of a type.
func AppendHandshake(b []byte, to PayloadType, payload []byte) []byte {
	return appendPlain(b, to+1, payload)
}

// The handshake messages that a controller gets.
const (
	AsksOpen  = payloadOpen
	AsksRAKP1 = payloadRAKP1
	AsksRAKP3 = payloadRAKP3
)

// SessionID returns the id of the session that a packet belongs to, for an end
// that has several, and whether it is an RMCP+ packet.
func SessionID(packet []byte) (id uint32, plus, ok bool) {
	class, body, err := ClassOf(packet)
	if err != nil || class != IPMI || len(body) < plusHeaderLen-2 {
		return 0, false, false
	}
	if body[0] == formatPlus {
		return binary.LittleEndian.Uint32(body[2:]), true, true
	}
	return binary.LittleEndian.Uint32(body[5:]), false, true
}
