package ipmi

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"time"

	"plumbbob/internal/wire/cursor"
	"plumbbob/internal/wire/ipmi/rmcp"
)

const (
	firstTimeout = time.Second // before it is known how fast the controller is
	minTimeout   = 250 * time.Millisecond
	maxTimeout   = 6 * time.Second
	backoff      = 1.6 // from one try to the next
	jitter       = 0.2 // share by which a timeout varies
	busyPause    = 200 * time.Millisecond
	busyTries    = 6
	staleReplies = 64 // packets that are not the answer, before a try is given up
)

// ErrNoReply: all tries went unanswered.
var ErrNoReply = errors.New("no reply")

// packer is how a message travels: in a session of either kind, or in none.
type packer interface {
	seal(b, message []byte) []byte
	open(packet []byte) (message []byte, err error)
}

type plusPacker struct{ *rmcp.Session }

func (p plusPacker) seal(b, message []byte) []byte { return p.Seal(b, rmcp.PayloadIPMI, message) }

func (p plusPacker) open(packet []byte) ([]byte, error) {
	kind, payload, err := p.Open(packet)
	if err == nil && kind != rmcp.PayloadIPMI {
		err = fmt.Errorf("ipmi: payload type %02Xh was not asked for", uint8(kind))
	}
	return payload, err
}

type legacyPacker struct{ *rmcp.Legacy }

func (p legacyPacker) seal(b, message []byte) []byte      { return p.Seal(b, message) }
func (p legacyPacker) open(packet []byte) ([]byte, error) { return p.Open(packet) }

// pace is how long to wait for this controller, from how long it took before
// (RFC 6298, section 2).
type pace struct{ mean, dev time.Duration }

func (p *pace) took(d time.Duration) {
	if p.mean == 0 {
		p.mean, p.dev = d, d/2
		return
	}
	p.dev += ((p.mean - d).Abs() - p.dev) / 4
	p.mean += (d - p.mean) / 8
}

func (p *pace) timeout() time.Duration {
	if p.mean == 0 {
		return firstTimeout
	}
	return min(max(minTimeout, p.mean+4*p.dev), maxTimeout)
}

// exchange sends a request until it is answered, and decodes the reply. A
// command that must not be carried out twice is sent once. A controller that
// says that it is busy has not carried it out, so it may be asked again.
func (c *Client) exchange(ctx context.Context, p packer, cmd Command, req []byte, into Decoder) error {
	for n := 0; ; n++ {
		data, err := c.transfer(ctx, p, cmd, req)
		if err != nil {
			return err
		}
		code := CompletionCode(data[0])
		if (code == NodeBusy || code == Initializing) && n < busyTries {
			if err := pause(ctx, busyPause<<min(n, 3)); err != nil {
				return &CompletionError{cmd, code}
			}
			continue
		}
		if code != OK {
			return &CompletionError{cmd, code}
		}
		return decode(data[1:], cmd, into)
	}
}

func decode(data []byte, cmd Command, into Decoder) error {
	if into == nil {
		return nil
	}
	c := cursor.New(data)
	if cmd.NetFn == rmcp.Group && c.U8() != cmd.Group {
		return fmt.Errorf("ipmi: reply to %s comes from another group", cmd)
	}
	return into.Decode(c)
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return context.Cause(ctx)
	case <-time.After(d):
		return nil
	}
}

// transfer returns the data of a reply, which begin with the completion code
// and last until the next transfer. Each try has a sequence number of its own,
// so that a late reply is known for what it is. A reply to an earlier try of
// this same request counts: a slow controller is slow for every try.
func (c *Client) transfer(ctx context.Context, p packer, cmd Command, req []byte) ([]byte, error) {
	tries := c.opt.Tries
	if cmd.Once {
		tries = 1
	}
	stop := context.AfterFunc(ctx, func() { _ = c.conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	wait := c.pace.timeout()
	if cmd.Once {
		wait = max(wait, firstTimeout) * 2 // it is not asked again, so it gets more time
	}
	began, first := time.Now(), c.seq+1
	for try := range tries {
		if err := ctx.Err(); err != nil {
			return nil, &SilentError{cmd, try > 0, context.Cause(ctx)}
		}
		c.seq++
		m := c.message(cmd, req)
		c.out = p.seal(c.out[:0], c.frame(&m))
		if _, err := c.conn.Write(c.out); err != nil && !isRefusal(err) {
			return nil, &SilentError{cmd, try > 0, err}
		}
		data, err := c.await(ctx, p, &m, first, jittered(wait))
		if err == nil {
			c.pace.took(time.Since(began) / time.Duration(1+try))
			return data, nil
		}
		if ctx.Err() != nil {
			return nil, &SilentError{cmd, true, context.Cause(ctx)}
		}
		wait = min(time.Duration(float64(wait)*backoff), maxTimeout)
	}
	return nil, &SilentError{cmd, true, ErrNoReply}
}

func jittered(d time.Duration) time.Duration {
	return d + time.Duration(float64(d)*jitter*(rand.Float64()-0.5))
}

func (c *Client) message(cmd Command, req []byte) rmcp.Message {
	c.data = c.data[:0]
	if cmd.NetFn == rmcp.Group {
		c.data = append(c.data, cmd.Group)
	}
	c.data = append(c.data, req...)
	return rmcp.Message{To: rmcp.Controller, From: rmcp.Console, NetFn: cmd.NetFn, ToLUN: c.lun, Seq: c.seq & 0x3f, Command: cmd.Code, Data: c.data}
}

func (c *Client) frame(m *rmcp.Message) []byte {
	c.msg = m.Append(c.msg[:0])
	return c.msg
}

// await reads until a reply to one of the tries since first comes, or the
// time is over. What is not a reply is dropped: it may be late, doubled,
// damaged or forged.
func (c *Client) await(ctx context.Context, p packer, req *rmcp.Message, first uint8, wait time.Duration) ([]byte, error) {
	until := time.Now().Add(wait)
	_ = c.conn.SetReadDeadline(until)
	if ctx.Err() != nil { // it ended before the deadline was set
		return nil, context.Cause(ctx)
	}
	want := *req
	for range staleReplies {
		n, err := c.conn.Read(c.in)
		if err != nil {
			if isRefusal(err) { // nobody listens there now; somebody may in a moment
				return nil, errors.Join(err, pause(ctx, time.Until(until)))
			}
			return nil, err
		}
		message, err := p.open(c.in[:n])
		if err != nil {
			continue
		}
		reply, err := rmcp.ParseMessage(message)
		if err != nil || len(reply.Data) == 0 {
			continue
		}
		want.Seq = reply.Seq
		age := (req.Seq - reply.Seq) & 0x3f
		if reply.Answers(&want) && age <= (req.Seq-first)&0x3f {
			return reply.Data, nil
		}
	}
	return nil, ErrNoReply
}

// isRefusal: the host answered that nobody listens on the port (ICMP).
func isRefusal(err error) bool {
	var op *net.OpError
	return errors.As(err, &op) && !op.Timeout() && !errors.Is(err, net.ErrClosed) && !errors.Is(err, os.ErrDeadlineExceeded)
}
