package ipmi

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"plumbbob/internal/wire/ipmi/rmcp"
	"plumbbob/internal/wire/names"
)

// Options say how to reach a controller.
type Options struct {
	Address       string // host:port
	User          string
	Password      Secret
	ControllerKey Secret        // "Kg" of two-key log-ins; empty for one-key
	Highest       Privilege     // to ask for; 0 means Administrator, or what the controller grants
	Suites        []rmcp.Suite  // allowed beside 17 and 3, in order of preference
	Legacy        bool          // allow IPMI 1.5 sessions with MD5
	Tries         int           // of a request that may be repeated; 0 means 4
	KeepAlive     time.Duration // a request at least this often while the session is open; 0 means 25 s
	Names         *names.Book   // nil: names.Default
}

// A Client has one session with one controller and shares it between all who
// ask. The session is opened when first needed, in its own time, whoever waits for
// it; kept alive; opened again when the controller has dropped it, and closed by
// Close. A caller that runs out of time takes nothing from the others.
type Client struct {
	opt  Options
	lock chan struct{} // one request in flight: controllers are small
	life context.Context
	end  context.CancelFunc

	link    *link  // nil before the first request
	session packer // nil while there is none
	info    SessionInfo
	level   Privilege // of the session now
	raised  time.Time // when it was last needed
	highest Privilege // that the session may have
	pace    pace
	seq     uint8
	lun     uint8
	idle    *time.Timer
	timer   *time.Timer
	used    time.Time // when the session was last answered
	doubt   bool      // the last request in it was lost
	left    uint32    // a session that the controller may still have, and we have not
	refusal refusal
	closed  bool
	trip    atomic.Int64 // of pace, for those who do not wait for their turn

	call      call
	msg, data []byte

	once sync.Once
}

// SessionInfo is what was found while a session was opened; it is worth
// reporting when it is weak.
type SessionInfo struct {
	Legacy    bool       // IPMI 1.5
	Suite     rmcp.Suite // of IPMI 2.0
	Offered   []rmcp.Suite
	Anonymous bool      // the controller lets in who has no name and no password
	NullUser  bool      // it lets in who has no name, with a password
	Granted   Privilege // the highest level of the session
}

const (
	defaultTries     = 4
	defaultKeepAlive = 25 * time.Second
	sessionIdle      = 63 * time.Second // after which controllers drop a session (section 6.12.15: 60 s ± 3)
	openWithin       = time.Minute
	closeWithin      = 2 * time.Second // at the least: it follows the pace of the controller
	lowerAfter       = 5 * time.Second // that a privilege level is not needed
	bufferSize       = 256             // messages are short; longer ones grow the buffer
)

// Dial prepares a client. Nothing is sent, and no name looked up, before the first
// request.
func Dial(o Options) (*Client, error) {
	if len(o.User) > rmcp.MaxName || len(o.Password) > rmcp.MaxPassword {
		return nil, fmt.Errorf("ipmi: a user name has at most %d bytes and a password %d", rmcp.MaxName, rmcp.MaxPassword)
	}
	if o.Tries == 0 {
		o.Tries = defaultTries
	}
	if o.KeepAlive == 0 {
		o.KeepAlive = defaultKeepAlive
	}
	if o.Highest == 0 {
		o.Highest = Administrator
	}
	if o.Names == nil {
		o.Names = names.Default
	}
	c := &Client{opt: o, lock: make(chan struct{}, 1), timer: time.NewTimer(time.Hour), msg: make([]byte, 0, bufferSize/2), data: make([]byte, 0, bufferSize/4)}
	c.timer.Stop()
	c.call.got = make(chan struct{}, 1)
	c.life, c.end = context.WithCancel(context.Background())
	return c, nil
}

// ErrClosed: the client has been closed.
var ErrClosed = errors.New("ipmi: the client is closed")

// acquire waits for its turn.
func (c *Client) acquire(ctx context.Context) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	select {
	case c.lock <- struct{}{}:
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	if c.closed {
		c.release()
		return ErrClosed
	}
	return nil
}

func (c *Client) release() { <-c.lock }

// Do sends one request and decodes its reply into, which may be nil. Its
// errors are *CompletionError when the controller refused, *ReplyError when its reply
// makes no sense, *SilentError when it did not reply, and *OpenError when no session
// could be opened.
func (c *Client) Do(ctx context.Context, cmd Command, req []byte, into Decoder) error {
	return c.doLUN(ctx, 0, cmd, req, into)
}

// errLost: the controller has dropped the session, and answers.
var errLost = errors.New("ipmi: the session is lost")

func (c *Client) doLUN(ctx context.Context, lun uint8, cmd Command, req []byte, into Decoder) error {
	for again := false; ; again = true {
		if err := c.ready(ctx, cmd); err != nil {
			return err
		}
		c.lun = lun
		err := c.within(ctx, cmd, func() error { return c.exchange(ctx, c.session, cmd, req, into) })
		c.lun = 0
		c.keepAlive()
		c.release()
		if !errors.Is(err, errLost) {
			return err
		}
		if again {
			return &SilentError{cmd, false, ErrNoReply}
		}
	}
}

// ready returns with the lock held and a session open. Opening one goes on when ctx
// ends: who comes next finds it open, or further on.
func (c *Client) ready(ctx context.Context, cmd Command) error {
	for {
		if err := c.acquire(ctx); err != nil {
			return &SilentError{cmd, false, err}
		}
		if c.session != nil && c.doubt && time.Since(c.used) > sessionIdle {
			c.forget() // the controller has, too
		}
		if c.session != nil {
			return nil
		}
		if err := c.refusal.now(); err != nil {
			c.release()
			return &OpenError{err}
		}
		opened := make(chan error, 1)
		go func() {
			within, cancel := context.WithTimeout(c.life, openWithin)
			defer cancel()
			err := c.open(within)
			c.keepAlive()
			c.release()
			opened <- err
		}()
		select {
		case err := <-opened:
			if err != nil {
				return err
			}
		case <-ctx.Done():
			return &SilentError{cmd, false, context.Cause(ctx)}
		}
	}
}

// within runs do in the session that is open, at the privilege that cmd needs. When
// it goes unanswered, it is found out whether the controller is away, or has dropped
// the session (errLost); a command that may be repeated is, once.
func (c *Client) within(ctx context.Context, cmd Command, do func() error) error {
	if cmd.Once && (c.doubt || time.Since(c.used) > c.opt.KeepAlive/4) {
		// Not to find out with this command that the session is gone.
		if _, silent := errors.AsType[*SilentError](c.level0(ctx)); silent {
			return c.lost(ctx, cmd)
		}
	}
	for try := 0; ; try++ {
		err := c.raise(ctx, cmd.Needs)
		if err == nil {
			err = do()
		} else if _, silent := errors.AsType[*SilentError](err); silent {
			err = &SilentError{SetPrivilege, false, errors.Unwrap(err)} // cmd itself never left
		}
		silent, unanswered := errors.AsType[*SilentError](err)
		if !unanswered {
			c.used, c.doubt = time.Now(), false
			return err
		}
		c.doubt = true
		if ctx.Err() != nil || cmd.Once && silent.Sent || try > 0 {
			return err // one packet was lost, or more; the session is kept until that is known
		}
		if err := c.lost(ctx, cmd); err != nil {
			return err
		}
	}
}

// lost finds out what became of a session in which nothing is answered: nil when it
// is alive, errLost when the controller has dropped it, a *SilentError when it does
// not answer at all. Then the session is kept: the controller keeps it, too.
func (c *Client) lost(ctx context.Context, cmd Command) error {
	var caps AuthCapabilities
	if err := c.exchange(ctx, outside(), GetAuthCaps, caps.request(c.opt.Highest, true), &caps); err != nil {
		if silent, ok := errors.AsType[*SilentError](err); ok {
			return &SilentError{cmd, false, silent.Err}
		}
	}
	if err := c.level0(ctx); err != nil {
		if silent, ok := errors.AsType[*SilentError](err); ok {
			if ctx.Err() != nil {
				return &SilentError{cmd, false, silent.Err}
			}
			c.left = c.peerID()
			c.forget()
			return errLost
		}
	}
	c.used, c.doubt = time.Now(), false
	return nil
}

// level0 asks something harmless, to see whether the session is alive.
func (c *Client) level0(ctx context.Context) error {
	return c.exchange(ctx, c.session, SetPrivilege, []byte{0}, nil)
}

// raise sets the privilege level of the session to what the next command
// needs: higher for an action, and lower again some time after it.
func (c *Client) raise(ctx context.Context, need Privilege) error {
	need = max(need, User)
	switch {
	case need > c.highest:
		return &PrivilegeError{Needs: need, Has: c.highest}
	case need == c.level, need == User && c.level < User:
		c.raised = time.Now()
		return nil
	case need < c.level && time.Since(c.raised) < lowerAfter:
		return nil
	}
	if err := c.exchange(ctx, c.session, SetPrivilege, []byte{byte(need)}, nil); err != nil {
		if refused, ok := errors.AsType[*CompletionError](err); ok && refused.Code != NodeBusy {
			c.highest = min(c.highest, need-1) // whatever it has granted
			c.info.Granted = c.highest
			return &PrivilegeError{Needs: need, Has: c.level}
		}
		return err
	}
	c.level, c.raised = need, time.Now()
	return nil
}

// A PrivilegeError says that the user may not do what a command needs.
type PrivilegeError struct{ Needs, Has Privilege }

func (e *PrivilegeError) Error() string {
	return fmt.Sprintf("ipmi: this needs the privilege %q, and the user has %q", e.Needs, e.Has)
}

// forget drops the session, which the controller has forgotten.
func (c *Client) forget() {
	c.session, c.level, c.doubt = nil, 0, false
	if c.link != nil {
		c.link.use(nil)
	}
}

// keepAlive has the session used again before the controller drops it.
func (c *Client) keepAlive() {
	if c.session == nil || c.closed {
		return
	}
	if c.idle == nil {
		c.idle = time.AfterFunc(c.opt.KeepAlive, c.touch)
		return
	}
	c.idle.Reset(c.opt.KeepAlive)
}

func (c *Client) touch() {
	ctx, cancel := context.WithTimeout(c.life, openWithin)
	defer cancel()
	if c.acquire(ctx) != nil {
		return
	}
	defer c.release()
	if c.session == nil {
		return
	}
	if since := time.Since(c.used); since < c.opt.KeepAlive/2 {
		c.keepAlive()
		return
	}
	if _, silent := errors.AsType[*SilentError](c.level0(ctx)); silent {
		c.doubt = true // the next request finds out
		if time.Since(c.used) > sessionIdle {
			c.forget()
			return
		}
	} else {
		c.used, c.doubt = time.Now(), false
	}
	c.keepAlive()
}

// Session returns what was found when the session was opened, and whether one
// is open now.
func (c *Client) Session() (SessionInfo, bool) {
	c.lock <- struct{}{}
	defer c.release()
	return c.info, c.session != nil
}

// RoundTrip is how long an answer of the controller usually takes; 0 before it has
// given one.
func (c *Client) RoundTrip() time.Duration { return time.Duration(c.trip.Load()) }

// Close closes the session and the socket. A request that is on its way is
// waited for; a session that is being opened is not.
func (c *Client) Close() error {
	var err error
	c.once.Do(func() {
		c.end()
		c.lock <- struct{}{}
		defer c.release()
		c.closed = true
		if c.idle != nil {
			c.idle.Stop()
		}
		if c.session != nil {
			within, cancel := context.WithTimeout(context.Background(), max(closeWithin, 4*c.pace.timeout()))
			defer cancel()
			c.closeSession(within)
		}
		if c.link != nil {
			err = c.link.close()
		}
	})
	return err
}

// LogOut closes the session; the next request opens another, with what the user may do
// by then.
func (c *Client) LogOut(ctx context.Context) {
	if c.acquire(ctx) != nil {
		return
	}
	defer c.release()
	if c.session != nil {
		c.closeSession(ctx)
	}
}

// closeSession gives the session's slot back. It is asked for until it is answered:
// closing twice harms nobody.
func (c *Client) closeSession(ctx context.Context) {
	repeat := CloseSession
	repeat.Once = false
	_ = c.exchange(ctx, c.session, repeat, le32(c.peerID()), nil)
	c.forget()
}

func (c *Client) peerID() uint32 {
	switch s := c.session.(type) {
	case plusPacker:
		return s.PeerID
	case legacyPacker:
		return s.ID
	}
	return 0
}
