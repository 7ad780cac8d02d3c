package ipmi

import "errors"

// A SOLPacket is one payload of serial over LAN (section 15.9, table 15-2). With Seq 0 it
// carries no characters and is not acknowledged itself.
type SOLPacket struct {
	Seq      uint8 // 1 to 15
	Ack      uint8 // the packet that is acknowledged; 0: none
	Accepted uint8 // how many of its characters were taken
	Bits     uint8
	Data     []byte
}

// What a console asks for in Bits.
const (
	SOLNack  = 1 << 6 // also of a controller: it took nothing, or not all
	SOLBreak = 1 << 4 // generate a break
)

// What a controller says in Bits.
const (
	SOLUnavailable = 1 << 5 // characters go nowhere: the system may be off
	SOLDeactivated = 1 << 4
	SOLOverrun     = 1 << 3 // it has lost characters of the system
	SOLBroke       = 1 << 2 // it has heard a break
)

const solHeader = 4

// Append writes a packet.
func (p SOLPacket) Append(b []byte) []byte {
	return append(append(b, p.Seq&0x0f, p.Ack&0x0f, p.Accepted, p.Bits), p.Data...)
}

// ParseSOL reads one. Its data are those of b.
func ParseSOL(b []byte) (SOLPacket, error) {
	if len(b) < solHeader {
		return SOLPacket{}, errors.New("ipmi: a packet of serial over LAN is too short")
	}
	return SOLPacket{b[0] & 0x0f, b[1] & 0x0f, b[2], b[3], b[solHeader:]}, nil
}

// NextSOL is the sequence number behind another one: 1 to 15.
func NextSOL(seq uint8) uint8 { return seq%15 + 1 }
