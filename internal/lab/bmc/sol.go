package bmc

import (
	"encoding/binary"
	"time"

	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// Port is the serial port of the host, as its controller is wired to it.
type Port interface {
	// Hear has what the host says sent to a channel until leave is called.
	Hear() (said <-chan string, leave func())
	// Type gives the host characters.
	Type(p []byte)
}

// Serial over LAN, of the controller's side.
const (
	solPacket   = 64 // characters at a time
	solRetry    = 400 * time.Millisecond
	solRetries  = 7
	solTypes    = 16 // pieces that wait for the host
	solPayload  = 255
	solEncrypts = 1 << 7
)

// sol is the line while a session has it.
type sol struct {
	slot  *slot
	send  func([]byte) // to its console
	done  chan struct{}
	typed chan []byte

	seq     uint8
	waiting []byte // was sent, and is not acknowledged
	tries   int
	queue   []byte

	heard, took uint8
}

// OnSerial wires the serial port of the host to the controller.
func (c *Controller) OnSerial(p Port) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.port = p
}

func (c *Controller) activatePayload(r request) (ipmi.CompletionCode, []byte) {
	switch {
	case r.data[0] != byte(rmcp.PayloadSOL) || r.data[1] != 1:
		return ipmi.InvalidField, nil
	case c.port == nil || r.who.slot == nil:
		return ipmi.PayloadDisabled, nil
	case c.sol != nil && c.sol.slot != r.who.slot && c.alive(c.sol.slot):
		return ipmi.PayloadActive, nil
	case r.data[2]&solEncrypts == 0:
		return ipmi.PayloadOnlySecret, nil
	}
	c.endSOL(false)
	said, leave := c.port.Hear()
	s := &sol{slot: r.who.slot, send: r.who.slot.send, done: make(chan struct{}), typed: make(chan []byte, solTypes)}
	c.sol = s
	go c.line(s, c.port, said, leave)
	reply := make([]byte, 4, 12)
	reply = binary.LittleEndian.AppendUint16(reply, solPayload)
	reply = binary.LittleEndian.AppendUint16(reply, solPayload)
	reply = binary.LittleEndian.AppendUint16(reply, c.solPort())
	return ipmi.OK, binary.LittleEndian.AppendUint16(reply, 0xffff)
}

// solPort is where the payload is to be had: here, or where a fault says.
func (c *Controller) solPort() uint16 { return c.Faults.SOLPort }

func (c *Controller) deactivatePayload(r request) (ipmi.CompletionCode, []byte) {
	const inactive = 0x80
	if c.sol == nil || r.who.level < ipmi.Operator {
		return inactive, nil
	}
	c.endSOL(c.sol.slot != r.who.slot)
	return ipmi.OK, nil
}

func (c *Controller) alive(s *slot) bool {
	for _, x := range c.slots {
		if x == s {
			return true
		}
	}
	return false
}

// endSOL takes the line away, and says so to who had it.
func (c *Controller) endSOL(say bool) {
	s := c.sol
	if s == nil {
		return
	}
	if say {
		s.pack(ipmi.SOLPacket{Bits: ipmi.SOLDeactivated})
	}
	close(s.done)
	c.sol = nil
}

// line moves characters between the host and whoever has the line.
func (c *Controller) line(s *sol, p Port, said <-chan string, leave func()) {
	defer leave()
	tick := time.NewTicker(solRetry)
	defer tick.Stop()
	for {
		select {
		case <-s.done:
			return
		case text := <-said:
			c.mu.Lock()
			s.queue = append(s.queue, text...)
			s.pump()
			c.mu.Unlock()
		case keys := <-s.typed:
			p.Type(keys)
		case <-tick.C:
			c.mu.Lock()
			s.again()
			if c.sol == s && !c.alive(s.slot) {
				c.endSOL(false)
			}
			c.mu.Unlock()
		}
	}
}

func (s *sol) pack(p ipmi.SOLPacket) {
	if s.send != nil {
		s.send(s.slot.Seal(nil, rmcp.PayloadSOL, p.Append(nil)))
	}
}

// pump sends what waits, one packet at a time.
func (s *sol) pump() {
	if s.waiting != nil || len(s.queue) == 0 {
		return
	}
	n := min(len(s.queue), solPacket)
	s.waiting, s.queue = append([]byte(nil), s.queue[:n]...), s.queue[n:]
	s.seq, s.tries = ipmi.NextSOL(s.seq), 0
	s.pack(ipmi.SOLPacket{Seq: s.seq, Data: s.waiting})
}

func (s *sol) again() {
	if s.waiting == nil {
		return
	}
	if s.tries++; s.tries > solRetries {
		s.waiting = nil // the console is gone
		s.pump()
		return
	}
	s.pack(ipmi.SOLPacket{Seq: s.seq, Data: s.waiting})
}

// takeSOL takes a packet of the console in. c.mu is held.
func (c *Controller) takeSOL(x *slot, payload []byte) {
	s := c.sol
	p, err := ipmi.ParseSOL(payload)
	if err != nil || s == nil || s.slot != x {
		return
	}
	s.send = x.send
	if p.Ack != 0 && p.Ack == s.seq && s.waiting != nil {
		rest := s.waiting[min(int(p.Accepted), len(s.waiting)):]
		s.queue, s.waiting = append(append([]byte(nil), rest...), s.queue...), nil
		if p.Bits&ipmi.SOLNack == 0 || len(rest) == 0 {
			s.pump()
		}
	}
	if p.Seq == 0 {
		return
	}
	ack := ipmi.SOLPacket{Ack: p.Seq}
	if p.Seq != s.heard {
		s.heard, s.took = p.Seq, 0
		n := len(p.Data)
		if c.Faults.SOLTakes > 0 {
			n = min(n, c.Faults.SOLTakes)
		}
		if p.Bits&ipmi.SOLBreak != 0 {
			c.Breaks++
		}
		select {
		case s.typed <- append([]byte(nil), p.Data[:n]...):
			s.took = uint8(n)
		default: // the host is slower than that
		}
	}
	ack.Accepted = s.took
	if int(s.took) < len(p.Data) {
		ack.Bits = ipmi.SOLNack
	}
	s.pack(ack)
}
