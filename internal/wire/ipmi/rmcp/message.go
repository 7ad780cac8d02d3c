package rmcp

import (
	"errors"
	"fmt"
)

// Addresses of the two ends of a session (sections 5.5 and 13.8).
const (
	Controller = 0x20 // the BMC's slave address
	Console    = 0x81 // the first software id of a remote console
)

// NetFn is a network function; requests are even, and the reply to one is the
// odd number after it (section 5.1).
type NetFn uint8

// The network functions (table 5-1).
const (
	Chassis   NetFn = 0x00
	Bridge    NetFn = 0x02
	SensorEvt NetFn = 0x04
	App       NetFn = 0x06
	Firmware  NetFn = 0x08
	Storage   NetFn = 0x0a
	Transport NetFn = 0x0c
	Group     NetFn = 0x2c // the first data byte says which body defines the command
)

// A Message is one IPMI message in LAN format (section 13.8).
type Message struct {
	To, From       uint8 // addresses
	NetFn          NetFn
	ToLUN, FromLUN uint8
	Seq            uint8 // 6 bits
	Command        uint8
	Data           []byte // of a reply, the completion code comes first
}

// messageMin is the length of a message without data.
const messageMin = 7

// ErrChecksum marks a message that was damaged on its way.
var ErrChecksum = errors.New("rmcp: checksum does not match")

// Append writes the message with its two checksums.
func (m *Message) Append(b []byte) []byte {
	at := len(b)
	b = append(b, m.To, byte(m.NetFn)<<2|m.ToLUN&3)
	b = append(b, checksum(b[at:]))
	at = len(b)
	b = append(b, m.From, m.Seq<<2|m.FromLUN&3, m.Command)
	b = append(b, m.Data...)
	return append(b, checksum(b[at:]))
}

// ParseMessage reads a message. Its data aliases b.
func ParseMessage(b []byte) (Message, error) {
	if len(b) < messageMin {
		return Message{}, fmt.Errorf("rmcp: a message of %d bytes is too short", len(b))
	}
	if checksum(b[:2]) != b[2] || checksum(b[3:len(b)-1]) != b[len(b)-1] {
		return Message{}, ErrChecksum
	}
	return Message{
		To: b[0], NetFn: NetFn(b[1] >> 2), ToLUN: b[1] & 3,
		From: b[3], Seq: b[4] >> 2, FromLUN: b[4] & 3, Command: b[5],
		Data: b[6 : len(b)-1],
	}, nil
}

// Reply addresses an answer to m.
func (m *Message) Reply(data []byte) Message {
	return Message{
		To: m.From, ToLUN: m.FromLUN, NetFn: m.NetFn | 1, From: m.To, FromLUN: m.ToLUN,
		Seq: m.Seq, Command: m.Command, Data: data,
	}
}

// Answers says whether m is the reply to a request: network function,
// command, sequence number and LUN all have to match (section 13.8.1).
func (m *Message) Answers(req *Message) bool {
	return m.NetFn == req.NetFn|1 && m.Command == req.Command && m.Seq == req.Seq && m.FromLUN == req.ToLUN && m.ToLUN == req.FromLUN
}

// checksum makes the sum of all bytes and itself zero (section 13.8).
func checksum(b []byte) uint8 {
	var sum uint8
	for _, x := range b {
		sum += x
	}
	return -sum
}
