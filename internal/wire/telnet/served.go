package telnet

import (
	"bytes"
	"encoding/binary"
	"sync"
)

// A Served is a serial port that a server lends to its clients (RFC 2217): a console
// server's end.
type Served struct {
	Now   func() Port
	Set   func(Port)    // what of it cannot be is left as it is: Now tells
	Modem func() Modem  // its lines
	Break func(on bool) // the break condition
	Wrong func() Errors // what has gone wrong since it was last asked; nil: nothing is told
}

// Serve answers for the port of a server's end, and returns what tells the client of its
// lines when they have changed. It is called before anything is read.
func (c *Conn) Serve(s Served) (notify func() error) {
	c.Allow(ComPort, false, true)
	var mu sync.Mutex
	mask := byte(everyModem) // unless the client says otherwise
	errors := Errors(0)      // none, unless the client asks for them
	last := -1
	tell := func() error {
		if !c.on(&c.theirs, ComPort) {
			return nil
		}
		if s.Wrong != nil {
			mu.Lock()
			wrong := s.Wrong() & errors
			mu.Unlock()
			if wrong != 0 {
				if err := c.Send(ComPort, []byte{fromServer + lineState, byte(wrong)}); err != nil {
					return err
				}
			}
		}
		mu.Lock()
		state := int(s.Modem().bits() & mask)
		same := state == last
		last = state
		mu.Unlock()
		if same {
			return nil
		}
		return c.Send(ComPort, []byte{fromServer + modemState, byte(state)})
	}
	c.Parameters = func(option byte, p []byte) {
		if option != ComPort || len(p) == 0 {
			return
		}
		answer := bytes.Clone(p)
		switch p[0] {
		case setSpeed, setBits, setParity, setStop:
			answer = s.change(p)
		case setControl:
			if len(p) == 2 {
				answer = s.control(p[1])
			}
		case lineMask:
			if len(p) == 2 {
				mu.Lock()
				errors = Errors(p[1])
				mu.Unlock()
			}
		case modemMask:
			if len(p) == 2 {
				mu.Lock()
				mask, last = p[1], -1
				mu.Unlock()
			}
		}
		if answer == nil {
			return // it makes no sense
		}
		answer[0] += fromServer
		if c.Send(ComPort, answer) == nil {
			_ = tell() // an error is that the connection has ended, which who reads it finds out
		}
	}
	return tell
}

// control holds the line broken, or sets the flow control, unless it is only asked for.
func (s Served) control(value byte) []byte {
	switch {
	case value == breakOn || value == breakOff:
		s.Break(value == breakOn)
	case flowWords[value] != "":
		now := s.Now()
		now.Flow = value
		s.Set(now)
		value = s.Now().Flow
	case value == 0:
		value = max(NoFlow, s.Now().Flow)
	}
	return []byte{setControl, value}
}

func (m Modem) bits() (b byte) {
	for bit, on := range map[byte]bool{bitCarrier: m.Carrier, bitRing: m.Ring, bitReady: m.Ready, bitClear: m.Clear} {
		if on {
			b |= bit
		}
	}
	return b
}

// change sets one of the settings, unless it is only asked for, and returns how it is.
func (s Served) change(p []byte) []byte {
	now := s.Now()
	if p[0] == setSpeed {
		if len(p) != 5 {
			return nil
		}
		if n := binary.BigEndian.Uint32(p[1:]); n > 0 && n <= mostSpeed {
			now.Speed = int(n)
			s.Set(now)
		}
		return binary.BigEndian.AppendUint32([]byte{setSpeed}, uint32(s.Now().Speed))
	}
	if len(p) != 2 {
		return nil
	}
	value := p[1]
	if value > 0 {
		switch p[0] {
		case setBits:
			now.Bits = int(value)
		case setParity:
			now.Parity = value
		case setStop:
			now.Stop = value
		}
		s.Set(now)
	}
	is := s.Now()
	return []byte{p[0], map[byte]byte{setBits: byte(is.Bits), setParity: is.Parity, setStop: is.Stop}[p[0]]}
}
