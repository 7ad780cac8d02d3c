package rmcp

import (
	"bytes"
	"encoding/binary"
)

// Exchange is all that both ends know once RAKP 2 has arrived, and from which
// each computes the same values (sections 13.20 to 13.32).
type Exchange struct {
	Suite         Suite
	ConsoleID     uint32 // chosen by the console: "SIDm"
	ControllerID  uint32 // chosen by the controller: "SIDc"
	ConsoleRand   [16]byte
	ControlRand   [16]byte
	GUID          [16]byte // of the controller, as sent
	Role          uint8    // the role byte as sent, its look-up bit included
	User          string
	Password      Secret
	ControllerKey Secret // "Kg"; empty means that the user's key stands in for it
}

// A Secret hides itself when printed or logged.
type Secret string

func (Secret) String() string { return "(secret)" }

// GoString hides it from %#v as well.
func (Secret) GoString() string { return "(secret)" }

func (x *Exchange) name() []byte {
	return append([]byte{x.Role, byte(len(x.User))}, x.User...)
}

func le32(v uint32) []byte { return binary.LittleEndian.AppendUint32(nil, v) }

// ControllerProof is the key exchange authentication code of RAKP 2 (section 13.21).
func (x *Exchange) ControllerProof() []byte {
	return x.Suite.mac([]byte(x.Password), le32(x.ConsoleID), le32(x.ControllerID), x.ConsoleRand[:], x.ControlRand[:], x.GUID[:], x.name())
}

// ConsoleProof is the key exchange authentication code of RAKP 3 (section 13.22).
func (x *Exchange) ConsoleProof() []byte {
	return x.Suite.mac([]byte(x.Password), x.ControlRand[:], le32(x.ConsoleID), x.name())
}

// IntegrityKey is the session integrity key, "SIK" (section 13.31).
func (x *Exchange) IntegrityKey() []byte {
	kg := x.ControllerKey
	if kg == "" {
		kg = x.Password
	}
	return x.Suite.mac([]byte(kg), x.ConsoleRand[:], x.ControlRand[:], x.name())
}

// FinalProof is the integrity check value of RAKP 4 (section 13.23).
func (x *Exchange) FinalProof() []byte {
	return x.Suite.mac(x.IntegrityKey(), x.ConsoleRand[:], le32(x.ControllerID), x.GUID[:])[:x.Suite.tagLen()]
}

// constLen is the length of the constants that K1 and K2 come from, with
// SHA256 too (section 13.32).
const constLen = 20

// additionalKey is "K1" for n = 1 and "K2" for n = 2 (section 13.32).
func (x *Exchange) additionalKey(n byte) []byte {
	return x.Suite.mac(x.IntegrityKey(), bytes.Repeat([]byte{n}, constLen))
}
