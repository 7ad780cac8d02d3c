package rmcp

import (
	"encoding/binary"
	"errors"
	"fmt"

	"plumbbob/internal/wire/cursor"
)

// A Status is what an end says of the handshake message before (table 13-15).
type Status uint8

// The statuses that somebody has to tell apart.
const (
	StatusOK             Status = 0x00
	StatusNoResources    Status = 0x01
	StatusInvalidID      Status = 0x02
	StatusBadAuth        Status = 0x04
	StatusBadIntegrity   Status = 0x05
	StatusInactive       Status = 0x08
	StatusBadRole        Status = 0x09
	StatusRoleRefused    Status = 0x0a
	StatusNoRoomForRole  Status = 0x0b
	StatusBadNameLength  Status = 0x0c
	StatusNameRefused    Status = 0x0d
	StatusBadCheckValue  Status = 0x0f
	StatusBadConfidental Status = 0x10
	StatusNoSuite        Status = 0x11
	StatusBadParameter   Status = 0x12
)

var statusText = map[Status]string{
	StatusOK: "no error", StatusNoResources: "no free session", StatusInvalidID: "session id not valid", 0x03: "payload type not valid",
	StatusBadAuth: "authentication algorithm refused", StatusBadIntegrity: "integrity algorithm refused",
	0x06: "no matching authentication payload", 0x07: "no matching integrity payload", StatusInactive: "session id is inactive",
	StatusBadRole: "role not valid", StatusRoleRefused: "role or privilege refused", StatusNoRoomForRole: "no free session for this role",
	StatusBadNameLength: "length of the name not valid", StatusNameRefused: "name refused", 0x0e: "GUID refused",
	StatusBadCheckValue: "integrity check value not valid", StatusBadConfidental: "confidentiality algorithm refused",
	StatusNoSuite: "no cipher suite matches", StatusBadParameter: "parameter not valid",
}

func (s Status) String() string {
	if t, ok := statusText[s]; ok {
		return t
	}
	return fmt.Sprintf("status %02Xh", uint8(s))
}

// OpenRequest asks for a session (section 13.17).
type OpenRequest struct {
	Tag       uint8
	Privilege uint8 // the highest that will be asked for; 0 means as high as may be
	ConsoleID uint32
	Algorithms
}

func appendAlgorithms(b []byte, a Algorithms) []byte {
	for kind, number := range []uint8{a.Auth, a.Integrity, a.Confidentiality} {
		b = append(b, byte(kind), 0, 0, 8, number, 0, 0, 0)
	}
	return b
}

func readAlgorithms(r *cursor.Reader) (a Algorithms) {
	for kind, number := range []*uint8{&a.Auth, &a.Integrity, &a.Confidentiality} {
		if r.U8() != uint8(kind) {
			r.Fail(errors.New("algorithm payloads out of order"))
		}
		r.Bytes(3) // reserved, and the length, which is always 8
		*number = r.U8() & 0x3f
		r.Bytes(3)
	}
	return a
}

// Append is the inverse of Decode.
func (m OpenRequest) Append(b []byte) []byte {
	b = append(b, m.Tag, m.Privilege, 0, 0)
	b = binary.LittleEndian.AppendUint32(b, m.ConsoleID)
	return appendAlgorithms(b, m.Algorithms)
}

// Decode leaves m untouched unless the whole message is sound.
func (m *OpenRequest) Decode(r *cursor.Reader) error {
	var got OpenRequest
	got.Tag, got.Privilege = r.U8(), r.U8()&0x0f
	r.Bytes(2)
	got.ConsoleID, got.Algorithms = r.U32(), readAlgorithms(r)
	if err := r.Done(); err != nil {
		return fmt.Errorf("rmcp: open session request: %w", err)
	}
	*m = got
	return nil
}

// OpenReply answers it (section 13.18). With a status other than zero, only
// the fields up to ConsoleID mean anything.
type OpenReply struct {
	Tag          uint8
	Status       Status
	Privilege    uint8
	ConsoleID    uint32
	ControllerID uint32
	Algorithms
}

// Append is the inverse of Decode.
func (m OpenReply) Append(b []byte) []byte {
	b = append(b, m.Tag, byte(m.Status), m.Privilege, 0)
	b = binary.LittleEndian.AppendUint32(b, m.ConsoleID)
	if m.Status != StatusOK {
		return b
	}
	b = binary.LittleEndian.AppendUint32(b, m.ControllerID)
	return appendAlgorithms(b, m.Algorithms)
}

// Decode leaves m untouched unless the whole message is sound.
func (m *OpenReply) Decode(r *cursor.Reader) error {
	got := OpenReply{Tag: r.U8(), Status: Status(r.U8())}
	if got.Status == StatusOK {
		got.Privilege = r.U8() & 0x0f
		r.U8()
		got.ConsoleID, got.ControllerID = r.U32(), r.U32()
		got.Algorithms = readAlgorithms(r)
	} else if rest := r.Rest(); len(rest) >= 6 { // some send less with an error
		got.Privilege, got.ConsoleID = rest[0]&0x0f, binary.LittleEndian.Uint32(rest[2:])
	}
	if err := r.Done(); err != nil {
		return fmt.Errorf("rmcp: open session reply: %w", err)
	}
	*m = got
	return nil
}

// MaxName and MaxPassword bound what a session is opened with (sections 13.20 and 22.30).
const (
	MaxName     = 16
	MaxPassword = 20
)

// RAKP1 names the user (section 13.20).
type RAKP1 struct {
	Tag          uint8
	ControllerID uint32
	ConsoleRand  [16]byte
	Role         uint8 // with the look-up bit
	User         string
}

// NameOnly is the bit of the role byte that has the controller look the user
// up by name alone, and not by name and role (section 13.20).
const NameOnly = 0x10

// Append is the inverse of Decode.
func (m RAKP1) Append(b []byte) []byte {
	b = append(b, m.Tag, 0, 0, 0)
	b = binary.LittleEndian.AppendUint32(b, m.ControllerID)
	b = append(b, m.ConsoleRand[:]...)
	b = append(b, m.Role, 0, 0, byte(len(m.User)))
	return append(b, m.User...)
}

// Decode leaves m untouched unless the whole message is sound.
func (m *RAKP1) Decode(r *cursor.Reader) error {
	got := RAKP1{Tag: r.U8()}
	r.Bytes(3)
	got.ControllerID = r.U32()
	r.Copy(got.ConsoleRand[:])
	got.Role = r.U8()
	r.Bytes(2)
	n := int(r.U8())
	if n > MaxName {
		r.Fail(fmt.Errorf("a name of %d bytes is too long", n))
	}
	got.User = string(r.Bytes(n))
	r.Rest() // some consoles pad the name to 16 bytes
	if err := r.Done(); err != nil {
		return fmt.Errorf("rmcp: RAKP 1: %w", err)
	}
	*m = got
	return nil
}

// RAKP2 proves that the controller knows the password (section 13.21).
type RAKP2 struct {
	Tag         uint8
	Status      Status
	ConsoleID   uint32
	ControlRand [16]byte
	GUID        [16]byte
	Proof       []byte
}

// Append is the inverse of Decode.
func (m RAKP2) Append(b []byte) []byte {
	b = append(b, m.Tag, byte(m.Status), 0, 0)
	b = binary.LittleEndian.AppendUint32(b, m.ConsoleID)
	if m.Status != StatusOK {
		return b
	}
	b = append(b, m.ControlRand[:]...)
	b = append(b, m.GUID[:]...)
	return append(b, m.Proof...)
}

// Decode leaves m untouched unless the whole message is sound.
func (m *RAKP2) Decode(r *cursor.Reader) error {
	got := RAKP2{Tag: r.U8(), Status: Status(r.U8())}
	r.Bytes(2)
	got.ConsoleID = r.U32()
	if got.Status == StatusOK {
		r.Copy(got.ControlRand[:])
		r.Copy(got.GUID[:])
		got.Proof = append([]byte(nil), r.Rest()...)
	} else {
		r.Rest()
	}
	if err := r.Done(); err != nil {
		return fmt.Errorf("rmcp: RAKP 2: %w", err)
	}
	*m = got
	return nil
}

// RAKP3 proves that the console knows the password (section 13.22). With a
// status other than zero it tells the controller to forget the session.
type RAKP3 struct {
	Tag          uint8
	Status       Status
	ControllerID uint32
	Proof        []byte
}

// Append is the inverse of Decode.
func (m RAKP3) Append(b []byte) []byte {
	return appendProof(b, m.Tag, m.Status, m.ControllerID, m.Proof)
}

// Decode leaves m untouched unless the whole message is sound.
func (m *RAKP3) Decode(r *cursor.Reader) (err error) {
	got := RAKP3{}
	if got.Tag, got.Status, got.ControllerID, got.Proof, err = readProof(r); err != nil {
		return fmt.Errorf("rmcp: RAKP 3: %w", err)
	}
	*m = got
	return nil
}

// RAKP4 ends the handshake (section 13.23).
type RAKP4 struct {
	Tag       uint8
	Status    Status
	ConsoleID uint32
	Proof     []byte
}

// Append is the inverse of Decode.
func (m RAKP4) Append(b []byte) []byte {
	return appendProof(b, m.Tag, m.Status, m.ConsoleID, m.Proof)
}

// Decode leaves m untouched unless the whole message is sound.
func (m *RAKP4) Decode(r *cursor.Reader) (err error) {
	got := RAKP4{}
	if got.Tag, got.Status, got.ConsoleID, got.Proof, err = readProof(r); err != nil {
		return fmt.Errorf("rmcp: RAKP 4: %w", err)
	}
	*m = got
	return nil
}

func appendProof(b []byte, tag uint8, s Status, id uint32, proof []byte) []byte {
	b = append(b, tag, byte(s), 0, 0)
	b = binary.LittleEndian.AppendUint32(b, id)
	if s != StatusOK {
		return b
	}
	return append(b, proof...)
}

func readProof(r *cursor.Reader) (tag uint8, s Status, id uint32, proof []byte, err error) {
	tag, s = r.U8(), Status(r.U8())
	r.Bytes(2)
	id = r.U32()
	if rest := r.Rest(); s == StatusOK {
		proof = append(proof, rest...)
	}
	return tag, s, id, proof, r.Done()
}
