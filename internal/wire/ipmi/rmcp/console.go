package rmcp

import (
	"crypto/hmac"
	"errors"
	"fmt"

	"plumbbob/internal/wire/cursor"
)

// PayloadType says what a session packet carries (table 13-16).
type PayloadType uint8

// The payload types. Serial over LAN has its place here; nothing sends it yet.
const (
	PayloadIPMI      PayloadType = 0x00
	PayloadSOL       PayloadType = 0x01
	payloadOpen      PayloadType = 0x10
	payloadOpenReply PayloadType = 0x11
	payloadRAKP1     PayloadType = 0x12
	payloadRAKP2     PayloadType = 0x13
	payloadRAKP3     PayloadType = 0x14
	payloadRAKP4     PayloadType = 0x15
)

// A StatusError is a controller's refusal during the handshake.
type StatusError struct {
	Sent   string // the message that it refused
	Status Status
}

func (e *StatusError) Error() string { return fmt.Sprintf("rmcp: %s refused: %s", e.Sent, e.Status) }

var (
	// ErrPassword: the controller's proof does not fit the password that we
	// have. Both ends must know the same one.
	ErrPassword = errors.New("rmcp: the password is not the controller's")
	// ErrLast: the last answer is not what the keys make of it. The password is
	// right, so the controller's key is not, or the answer is forged.
	ErrLast = errors.New("rmcp: the integrity check value of RAKP 4 is wrong")
	// ErrKeyNone: the controller has no key of its own, and one was given.
	ErrKeyNone = errors.New("rmcp: the controller has no key of its own")
	// ErrSuite: the controller answered with other algorithms than were asked for.
	ErrSuite = errors.New("rmcp: the controller chose another cipher suite than was proposed")
)

// Credentials are what a session is opened with.
type Credentials struct {
	User          string
	Password      Secret
	ControllerKey Secret // "Kg", or empty
}

// Handshake is the console's way through Open Session and RAKP 1 to 4, as a
// step machine: Next is what to send, Take what came back. A packet that is
// not the answer to the last one sent changes nothing.
type Handshake struct {
	x       Exchange
	role    uint8
	tag     uint8
	stage   stage
	repeats int // of the message that is out now
	session *Session

	proofSent bool
	leftOver  *Session
}

type stage uint8

const (
	opening stage = iota
	naming
	proving
	established
)

// NewHandshake prepares a session. role is the highest privilege level that
// will be asked for; the two random values must not repeat.
func NewHandshake(s Suite, c Credentials, role uint8, consoleID uint32, random [16]byte) *Handshake {
	return &Handshake{role: role, x: Exchange{
		Suite: s, ConsoleID: consoleID, ConsoleRand: random, Role: role | NameOnly,
		User: c.User, Password: c.Password, ControllerKey: c.ControllerKey,
	}}
}

// Next appends the packet to send now. To repeat it, the same bytes are sent again.
func (h *Handshake) Next(b []byte) []byte {
	h.tag++
	h.repeats = 0
	switch h.stage {
	case opening:
		return appendPlain(b, payloadOpen, OpenRequest{Tag: h.tag, Privilege: h.role, ConsoleID: h.x.ConsoleID, Algorithms: h.x.Suite.Algorithms()}.Append(nil))
	case naming:
		return appendPlain(b, payloadRAKP1, RAKP1{Tag: h.tag, ControllerID: h.x.ControllerID, ConsoleRand: h.x.ConsoleRand, Role: h.x.Role, User: h.x.User}.Append(nil))
	}
	h.proofSent = true
	return appendPlain(b, payloadRAKP3, RAKP3{Tag: h.tag, ControllerID: h.x.ControllerID, Proof: h.x.ConsoleProof()}.Append(nil))
}

// Repeated says that the packet is about to be sent again.
func (h *Handshake) Repeated() { h.repeats++ }

// Abandon appends the packet that has the controller forget a session that is
// half open, or nothing when there is none (section 13.22).
func (h *Handshake) Abandon(b []byte) []byte {
	if h.x.ControllerID == 0 || h.stage == established || h.proofSent {
		return b // there is nothing, or it may be open and has to be closed
	}
	return appendPlain(b, payloadRAKP3, RAKP3{Tag: h.tag + 1, Status: StatusBadCheckValue, ControllerID: h.x.ControllerID}.Append(nil))
}

// Take takes in a packet. It says whether that was the awaited answer; with an
// error, the handshake has failed for good.
func (h *Handshake) Take(packet []byte) (took bool, err error) {
	kind, payload, err := parsePlain(packet)
	if err != nil {
		return false, nil // not of this handshake
	}
	r := cursor.New(payload)
	switch {
	case h.stage == opening && kind == payloadOpenReply:
		return h.opened(r)
	case h.stage == naming && kind == payloadRAKP2:
		return h.named(r)
	case h.stage == proving && kind == payloadRAKP4:
		return h.proved(r)
	}
	return false, nil
}

func (h *Handshake) opened(r *cursor.Reader) (bool, error) {
	var m OpenReply
	if m.Decode(r) != nil || m.Tag != h.tag || m.Status == StatusOK && m.ConsoleID != h.x.ConsoleID {
		return false, nil
	}
	switch {
	case m.Status != StatusOK:
		return true, &StatusError{"open session", m.Status}
	case m.Algorithms != h.x.Suite.Algorithms() || m.ControllerID == 0:
		h.x.ControllerID = m.ControllerID
		return true, ErrSuite
	}
	h.x.ControllerID = m.ControllerID
	h.stage = naming
	return true, nil
}

func (h *Handshake) named(r *cursor.Reader) (bool, error) {
	var m RAKP2
	if m.Decode(r) != nil || m.Tag != h.tag || m.ConsoleID != h.x.ConsoleID {
		return false, nil
	}
	if m.Status != StatusOK {
		return true, &StatusError{"RAKP 1", m.Status}
	}
	h.x.ControlRand, h.x.GUID = m.ControlRand, m.GUID
	if !hmac.Equal(m.Proof, h.x.ControllerProof()) {
		return true, ErrPassword
	}
	h.stage = proving
	return true, nil
}

func (h *Handshake) proved(r *cursor.Reader) (bool, error) {
	var m RAKP4
	if m.Decode(r) != nil || m.Tag != h.tag || m.ConsoleID != h.x.ConsoleID {
		return false, nil
	}
	switch {
	case (m.Status == StatusInactive || m.Status == StatusInvalidID) && h.repeats > 0:
		// The session is open, and the answer that said so was lost: it is proved by
		// who can answer in it.
		h.session = NewSession(&h.x, ConsoleEnd)
		h.session.Unproved = true
	case m.Status != StatusOK:
		h.proofSent = false // it is refused: there is no session
		return true, &StatusError{"RAKP 3", m.Status}
	case hmac.Equal(m.Proof, h.x.FinalProof()):
		h.session = NewSession(&h.x, ConsoleEnd)
	default:
		return true, h.unfit(m.Proof)
	}
	h.stage = established
	return true, nil
}

// unfit says why the last answer does not fit. The controller has activated the
// session then, and holds a slot for it; where it is our key that is too much, that
// session can still be used, to close it.
func (h *Handshake) unfit(proof []byte) error {
	h.proofSent = false
	if len(h.x.ControllerKey) == 0 {
		return ErrLast
	}
	without := h.x
	without.ControllerKey = ""
	if !hmac.Equal(proof, without.FinalProof()) {
		return ErrLast
	}
	h.leftOver = NewSession(&without, ConsoleEnd)
	return ErrKeyNone
}

// LeftOver is a session that the controller has opened, or may have, and that is not
// to be used, but closed; nil when there is none that could be.
func (h *Handshake) LeftOver() *Session {
	if h.leftOver == nil && h.stage == proving && h.proofSent {
		return NewSession(&h.x, ConsoleEnd) // the proof is on its way, or has arrived
	}
	return h.leftOver
}

// Session is the open session once the handshake is through, and nil before.
func (h *Handshake) Session() *Session { return h.session }
