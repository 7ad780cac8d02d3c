package ipmi

import (
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"time"

	"plumbbob/internal/wire/ipmi/rmcp"
)

// packer is how a message travels: in a session of either kind, or in none.
type packer interface {
	seal(b, message []byte) []byte
	open(packet []byte) (kind rmcp.PayloadType, payload []byte, err error)
}

type plusPacker struct{ *rmcp.Session }

func (p plusPacker) seal(b, message []byte) []byte { return p.Seal(b, rmcp.PayloadIPMI, message) }

func (p plusPacker) open(packet []byte) (rmcp.PayloadType, []byte, error) { return p.Open(packet) }

type legacyPacker struct{ *rmcp.Legacy }

func (p legacyPacker) seal(b, message []byte) []byte { return p.Seal(b, message) }

func (p legacyPacker) open(packet []byte) (rmcp.PayloadType, []byte, error) {
	message, err := p.Open(packet)
	return rmcp.PayloadIPMI, message, err
}

// A link is the socket to a controller, with the one goroutine that reads it. What
// comes in is told apart by what it is: the answer to the request that waits, a step
// of a handshake, another payload of the session. Everything else is dropped: it may
// be late, doubled, damaged or forged.
type link struct {
	conn    net.Conn
	address string // that it is connected to, as numbers
	steps   chan []byte
	refused chan error // the host says that nobody listens there (ICMP)
	done    chan struct{}

	mu      sync.Mutex // sessions are sealed and opened under it
	session packer     // nil while there is none
	call    *call      // that waits for its answer
	out     []byte
	others  func(kind rmcp.PayloadType, payload []byte) // takes other payloads; nil: nobody
}

// A call is a request on its way, with all its tries. Each has a sequence number of
// its own, so that it is known which one was answered: a slow controller is slow for
// every try, and its late answer counts.
type call struct {
	p       packer
	message rmcp.Message // as it was sent last
	first   uint8        // sequence number of the first try
	sent    [64]time.Time
	reply   []byte
	took    time.Duration
	got     chan struct{}
}

const stepsKept = 8

func newLink(conn net.Conn, address string) *link {
	l := &link{conn: conn, address: address, steps: make(chan []byte, stepsKept), refused: make(chan error, 1), done: make(chan struct{}), out: make([]byte, 0, bufferSize)}
	go l.read()
	return l
}

// close ends the reader, and waits for it.
func (l *link) close() error {
	err := l.conn.Close()
	<-l.done
	return err
}

// readAgain is how long is waited after an error that says nothing.
const readAgain = 50 * time.Millisecond

func (l *link) read() {
	defer close(l.done)
	b := make([]byte, rmcp.MaxPacket)
	for {
		n, err := l.conn.Read(b)
		switch {
		case err == nil:
			l.take(b[:n])
		case errors.Is(err, net.ErrClosed):
			return
		case isRefusal(err):
			select {
			case l.refused <- err:
			default:
			}
		default:
			time.Sleep(readAgain)
		}
	}
}

func (l *link) take(packet []byte) {
	id, plus, ok := rmcp.SessionID(packet)
	switch {
	case !ok:
	case plus && id == 0:
		select {
		case l.steps <- append([]byte(nil), packet...):
		default: // nobody is shaking hands
		}
	default:
		l.answer(packet, id)
	}
}

// answer takes in a packet of the session, or one outside of any.
func (l *link) answer(packet []byte, id uint32) {
	l.mu.Lock()
	defer l.mu.Unlock()
	p := l.session
	if id == 0 || p == nil { // before there is a session, or while it is being activated
		if l.call == nil {
			return
		}
		p = l.call.p
	}
	kind, payload, err := p.open(packet)
	switch {
	case err != nil:
	case kind != rmcp.PayloadIPMI:
		if l.others != nil {
			l.others(kind, payload)
		}
	case l.call != nil && l.call.p == p:
		l.call.take(payload)
	}
}

// take keeps the answer to one of the tries.
func (c *call) take(payload []byte) {
	reply, err := rmcp.ParseMessage(payload)
	if err != nil || len(reply.Data) == 0 || len(c.reply) > 0 {
		return
	}
	want := c.message
	want.Seq = reply.Seq
	age := (c.message.Seq - reply.Seq) & 0x3f
	if !reply.Answers(&want) || age > (c.message.Seq-c.first)&0x3f {
		return
	}
	c.reply = append(c.reply[:0], reply.Data...)
	c.took = time.Since(c.sent[reply.Seq&0x3f])
	select {
	case c.got <- struct{}{}:
	default:
	}
}

// begin has the answers to a call taken in. The buffers of the last one are used
// again.
func (l *link) begin(c *call, p packer) {
	l.mu.Lock()
	defer l.mu.Unlock()
	c.p, c.reply = p, c.reply[:0]
	select {
	case <-c.got:
	default:
	}
	select {
	case <-l.refused: // of what was sent before
	default:
	}
	l.call = c
}

func (l *link) end() {
	l.mu.Lock()
	l.call = nil
	l.mu.Unlock()
}

// send seals one try of a call, and sends it.
func (l *link) send(c *call, m rmcp.Message, frame []byte) error {
	l.mu.Lock()
	c.message = m
	c.message.Data = nil // the reader looks at the rest
	c.sent[m.Seq&0x3f] = time.Now()
	l.out = c.p.seal(l.out[:0], frame)
	_, err := l.conn.Write(l.out)
	l.mu.Unlock()
	return err
}

// use says which session what comes in belongs to.
func (l *link) use(p packer) {
	l.mu.Lock()
	l.session = p
	l.mu.Unlock()
}

// isRefusal: the host answered that nobody listens on the port (ICMP).
func isRefusal(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && !op.Timeout() && !errors.Is(err, net.ErrClosed) && !errors.Is(err, os.ErrDeadlineExceeded)
}

// A RefusalError says that the host answered, and that nobody listens there.
type RefusalError struct{ Err error }

func (e *RefusalError) Error() string { return fmt.Sprintf("nothing listens there: %v", e.Err) }
func (e *RefusalError) Unwrap() error { return e.Err }
