package ipmi

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"sync"
	"time"

	"plumbbob/internal/wire/ipmi/rmcp"
)

// Serial over LAN (sections 15 and 24): the serial port of a host through its controller.

// The commands that switch a payload on and off.
var (
	ActivatePayload   = Command{"Activate Payload", rmcp.App, 0x48, Operator, Once, 0}
	DeactivatePayload = Command{"Deactivate Payload", rmcp.App, 0x49, Operator, false, 0}
)

// Completion codes of Activate Payload (table 24-2).
const (
	PayloadActive     CompletionCode = 0x80 // in another session
	PayloadDisabled   CompletionCode = 0x81
	PayloadLimit      CompletionCode = 0x82
	PayloadNotSecret  CompletionCode = 0x83 // it cannot be encrypted
	PayloadOnlySecret CompletionCode = 0x84
	solInstance                      = 1
	solEncrypted                     = 1 << 7
	solAuthenticated                 = 1 << 6
	solMost                          = 128 // characters in a packet, whatever the controller would take
	solTries                         = 8
	solHeld                          = 64 << 10 // characters that wait to be read
	solPackets                       = 64
	solWatch                         = time.Second
	solAgainAfterNack                = 100 * time.Millisecond
)

// ErrTaken: the serial line of a controller is used by another session.
var ErrTaken = errors.New("its serial line is in use by another session")

// Serial is the serial port of a host through its controller. One goroutine may read while
// another writes.
type Serial struct {
	c      *Client
	link   *link
	p      packer
	most   int
	cancel context.CancelFunc
	ended  chan struct{}

	packets chan []byte
	acks    chan SOLPacket

	writing sync.Mutex
	seq     uint8 // of the last packet that was sent with characters

	mu    sync.Mutex
	in    []byte
	news  chan struct{} // closed when there is more, or it has ended
	err   error
	heard uint8 // the last packet of the controller that was taken
	took  uint8 // how much of it
}

// OpenSerial activates serial over LAN in a session of its own, which Close ends.
func OpenSerial(ctx context.Context, o Options) (*Serial, error) {
	for moved := false; ; moved = true {
		c, err := Dial(o)
		if err != nil {
			return nil, err
		}
		s, port, err := c.activateSerial(ctx)
		if err != nil {
			_ = c.Close()
			return nil, err
		}
		host, own, splitErr := net.SplitHostPort(o.Address)
		if splitErr != nil || port == 0 || own == strconv.Itoa(port) || moved {
			return s, nil
		}
		_ = s.Close() // it is to be had at another port
		o.Address = net.JoinHostPort(host, strconv.Itoa(port))
	}
}

// activateSerial switches the payload on, and says at which port it is to be had.
func (c *Client) activateSerial(ctx context.Context) (*Serial, int, error) {
	aux := byte(solEncrypted | solAuthenticated)
	var reply tail
	var err error
	for range 3 {
		err = c.Do(ctx, ActivatePayload, []byte{byte(rmcp.PayloadSOL), solInstance, aux, 0, 0, 0}, &reply)
		refused, ok := errors.AsType[*CompletionError](err)
		if !ok {
			break
		}
		switch refused.Code {
		case PayloadNotSecret:
			aux &^= solEncrypted
			continue
		case PayloadOnlySecret:
			aux |= solEncrypted
			continue
		case PayloadActive:
			err = ErrTaken
		case PayloadDisabled:
			err = errors.New("serial over LAN is switched off in its controller")
		case PayloadLimit:
			err = errors.New("its controller has no room for another serial line")
		}
		break
	}
	if err != nil {
		return nil, 0, err
	}
	if len(reply) < 12 {
		return nil, 0, &ReplyError{ActivatePayload, errors.New("it is too short")}
	}
	most := int(binary.LittleEndian.Uint16(reply[4:])) - solHeader
	port := int(binary.LittleEndian.Uint16(reply[8:]))
	if most < 1 {
		most = 1
	}
	ctx, cancel := context.WithCancel(context.Background())
	s := &Serial{c: c, most: min(most, solMost), cancel: cancel, ended: make(chan struct{}), packets: make(chan []byte, solPackets), acks: make(chan SOLPacket, 1), news: make(chan struct{})}
	if err := c.acquire(ctx); err != nil {
		cancel()
		return nil, 0, err
	}
	s.link, s.p = c.link, c.session
	c.release()
	s.link.hearing(func(kind rmcp.PayloadType, payload []byte) {
		if kind == rmcp.PayloadSOL {
			select {
			case s.packets <- append([]byte(nil), payload...):
			default: // it is sent again
			}
		}
	})
	go s.run(ctx)
	return s, port, nil
}

// run takes what comes, and sees whether the session is still the one.
func (s *Serial) run(ctx context.Context) {
	defer close(s.ended)
	tick := time.NewTicker(solWatch)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			s.fail(net.ErrClosed)
			return
		case b := <-s.packets:
			s.take(b)
		case <-tick.C:
			if !s.link.is(s.p) {
				s.fail(errors.New("the controller has dropped the session"))
				return
			}
		}
		if s.failed() != nil {
			return
		}
	}
}

func (s *Serial) failed() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.err
}

// wake has whoever reads look again. s.mu is held.
func (s *Serial) wake() {
	close(s.news)
	s.news = make(chan struct{})
}

func (s *Serial) fail(err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
		s.wake()
	}
}

// take takes one packet in: an acknowledgement, characters, or both.
func (s *Serial) take(b []byte) {
	p, err := ParseSOL(b)
	if err != nil {
		return
	}
	if p.Bits&SOLDeactivated != 0 {
		s.fail(errors.New("the controller has ended it: somebody else may have taken the line"))
		return
	}
	if p.Ack != 0 {
		select {
		case s.acks <- p:
		default:
			select { // of before
			case <-s.acks:
			default:
			}
			s.acks <- p
		}
	}
	if p.Seq == 0 {
		return
	}
	s.mu.Lock()
	if p.Seq != s.heard { // else it is a repeat, whose acknowledgement was lost
		room := solHeld - len(s.in)
		n := min(len(p.Data), room)
		s.in = append(s.in, p.Data[:n]...)
		s.heard, s.took = p.Seq, uint8(n)
		s.wake()
	}
	ack := SOLPacket{Ack: p.Seq, Accepted: s.took}
	if int(s.took) < len(p.Data) {
		ack.Bits = SOLNack
	}
	s.mu.Unlock()
	_ = s.link.carry(s.p, rmcp.PayloadSOL, ack.Append(nil)) // what is lost is asked for again
}

// Read returns what the host has said.
func (s *Serial) Read(b []byte) (int, error) {
	for {
		s.mu.Lock()
		n := copy(b, s.in)
		s.in = append(s.in[:0], s.in[n:]...)
		news, err := s.news, s.err
		s.mu.Unlock()
		switch {
		case n > 0:
			return n, nil
		case err != nil:
			return 0, err
		}
		<-news
	}
}

// Write sends characters, as many at a time as the controller takes, and returns when it has
// taken all of them.
func (s *Serial) Write(b []byte) (n int, err error) {
	s.writing.Lock()
	defer s.writing.Unlock()
	for n < len(b) {
		piece := b[n:min(len(b), n+s.most)]
		took, err := s.deliver(SOLPacket{Data: piece})
		n += took
		if err != nil {
			return n, err
		}
	}
	return n, nil
}

// Break has the controller send a break to the host.
func (s *Serial) Break() error {
	s.writing.Lock()
	defer s.writing.Unlock()
	_, err := s.deliver(SOLPacket{Bits: SOLBreak})
	return err
}

// deliver sends one packet until it is acknowledged. What was not taken of it goes into
// another one (section 15.11).
func (s *Serial) deliver(p SOLPacket) (took int, err error) {
	s.seq = NextSOL(s.seq)
	p.Seq = s.seq
	wait := max(minTimeout, 2*s.c.RoundTrip())
	for range solTries {
		if err := s.failed(); err != nil {
			return 0, err
		}
		if err := s.link.carry(s.p, rmcp.PayloadSOL, p.Append(nil)); err != nil && !isRefusal(err) {
			return 0, err
		}
		over := time.After(wait)
		for waiting := true; waiting; {
			select {
			case a := <-s.acks:
				if a.Ack != p.Seq {
					continue
				}
				took = min(int(a.Accepted), len(p.Data))
				if took < len(p.Data) && took == 0 || a.Bits&SOLNack != 0 {
					time.Sleep(solAgainAfterNack) // it has no room now
				}
				if a.Bits&SOLUnavailable != 0 && took == 0 && len(p.Data) > 0 {
					return 0, errUnavailable
				}
				return took, nil
			case <-over:
				waiting = false
			case <-s.ended:
				return 0, s.failed()
			}
		}
		wait = min(wait*8/5, maxTimeout)
	}
	s.fail(ErrNoReply)
	return 0, ErrNoReply
}

var errUnavailable = errors.New("the controller cannot pass it on: the system may be off")

// Mark asks the controller for a sign of life that nobody at the line notices.
func (s *Serial) Mark() (<-chan struct{}, error) {
	came := make(chan struct{})
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), maxTimeout)
		defer cancel()
		if s.c.Do(ctx, GetDeviceID, nil, nil) == nil {
			close(came)
		}
	}()
	return came, s.failed()
}

// Close switches the payload off, and ends its session.
func (s *Serial) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), closeWithin)
	defer cancel()
	if s.failed() == nil {
		_ = s.c.Do(ctx, DeactivatePayload, []byte{byte(rmcp.PayloadSOL), solInstance, 0, 0, 0, 0}, nil)
	}
	s.link.hearing(nil)
	s.cancel()
	<-s.ended
	return s.c.Close()
}

var _ io.ReadWriteCloser = (*Serial)(nil)

// hearing has payloads that are no messages taken by f.
func (l *link) hearing(f func(rmcp.PayloadType, []byte)) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.others = f
}

// is says whether a session is the one that is used.
func (l *link) is(p packer) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.session == p
}

// carry sends a payload that is no message in a session, if that still is the one.
func (l *link) carry(p packer, kind rmcp.PayloadType, payload []byte) error {
	plus, ok := p.(plusPacker)
	if !ok {
		return fmt.Errorf("ipmi: a session of IPMI 1.5 carries nothing but messages")
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.session != p {
		return errLost
	}
	l.out = plus.Seal(l.out[:0], kind, payload)
	_, err := l.conn.Write(l.out)
	return err
}
