package ipmi

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
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
	sensorTries  = 1 // of one that is busy: the others, and whoever waits for the chassis, must not wait for it
	refusals     = 2 // tries to a port that is shut, before that is believed
)

// ErrNoReply: all tries went unanswered.
var ErrNoReply = errors.New("no reply")

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

// slower is what a time-out says: it takes at least so long.
func (p *pace) slower(d time.Duration) {
	if d > p.mean {
		p.took(d)
	}
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
		if (code == NodeBusy || code == Initializing) && n < busyFor(cmd) {
			if err := pause(ctx, busyPause<<min(n, 3)); err != nil {
				return &CompletionError{cmd, code}
			}
			continue
		}
		if code != OK {
			return &CompletionError{cmd, code}
		}
		if err := decode(data[1:], cmd, into); err != nil {
			return &ReplyError{cmd, err}
		}
		return nil
	}
}

// busyFor is how often a command is tried again while the controller says that it is
// busy.
func busyFor(cmd Command) int {
	if cmd == GetSensorReading {
		return sensorTries
	}
	return busyTries
}

// A ReplyError says that the reply to a command makes no sense: it is too short, or
// not of its kind. It says nothing about other commands.
type ReplyError struct {
	Command Command
	Err     error
}

func (e *ReplyError) Error() string { return fmt.Sprintf("ipmi: %s: %v", e.Command, e.Err) }
func (e *ReplyError) Unwrap() error { return e.Err }

func decode(data []byte, cmd Command, into Decoder) error {
	if into == nil {
		return nil
	}
	c := cursor.New(data)
	if cmd.NetFn == rmcp.Group && c.U8() != cmd.Group {
		return errors.New("the reply comes from another group")
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
// and last until the next transfer.
func (c *Client) transfer(ctx context.Context, p packer, cmd Command, req []byte) ([]byte, error) {
	tries := c.opt.Tries
	if cmd.Once {
		tries = 1
	}
	wait := c.pace.timeout()
	if cmd.Once {
		wait = max(wait, firstTimeout) * 2 // it is not asked again, so it gets more time
	}
	c.call.first = (c.seq + 1) & 0x3f
	c.link.begin(&c.call, p)
	defer c.link.end()
	shut := 0
	for try := range tries {
		if ctx.Err() != nil {
			return nil, &SilentError{cmd, try > 0, context.Cause(ctx)}
		}
		c.seq++
		m := c.message(cmd, req)
		if err := c.link.send(&c.call, m, c.frame(&m)); err != nil && !isRefusal(err) {
			return nil, &SilentError{cmd, try > 0, err}
		}
		refusal, err := c.await(ctx, jittered(wait))
		if err == nil {
			c.pace.took(c.call.took)
			c.trip.Store(int64(c.pace.mean))
			return c.call.reply, nil
		}
		if ctx.Err() != nil {
			return nil, &SilentError{cmd, true, context.Cause(ctx)}
		}
		if refusal != nil {
			if shut++; shut == min(tries, refusals) {
				return nil, &SilentError{cmd, true, &RefusalError{refusal}}
			}
		}
		wait = min(time.Duration(float64(wait)*backoff), maxTimeout)
	}
	return nil, &SilentError{cmd, true, ErrNoReply}
}

// await waits for the answer to any try. A refusal says that nobody listens there
// now; somebody may before the time is over.
func (c *Client) await(ctx context.Context, wait time.Duration) (refusal, err error) {
	c.timer.Reset(wait)
	defer c.timer.Stop()
	for {
		select {
		case <-c.call.got:
			return nil, nil
		case <-ctx.Done():
			return refusal, context.Cause(ctx)
		case <-c.timer.C:
			return refusal, ErrNoReply
		case refusal = <-c.link.refused:
		}
	}
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
