package ipmi

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"plumbbob/internal/wire/ipmi/rmcp"
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
}

// A Client has one session with one controller and shares it between all who
// ask. The session is opened when first needed, kept alive, opened again when
// the controller has dropped it, and closed by Close.
type Client struct {
	opt  Options
	lock chan struct{} // one request in flight: controllers are small

	conn    net.Conn
	session packer // nil while there is none
	info    SessionInfo
	level   Privilege // of the session now
	highest Privilege // that the session may have
	pace    pace
	seq     uint8
	lun     uint8
	idle    *time.Timer
	used    time.Time
	doubt   bool // the last request was lost
	closed  bool

	in, out, msg, data []byte

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
	defaultKeepAlive = 25 * time.Second // controllers drop a session after 60 s of silence (section 6.12.15)
	closeWithin      = time.Second
	bufferSize       = 256 // messages are short; longer ones grow the buffer
)

// Dial prepares a client. Nothing is sent before the first request.
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
	conn, err := net.Dial("udp", o.Address)
	if err != nil {
		return nil, fmt.Errorf("ipmi: %w", err)
	}
	return &Client{
		opt: o, lock: make(chan struct{}, 1), conn: conn,
		in: make([]byte, rmcp.MaxPacket), out: make([]byte, 0, bufferSize), msg: make([]byte, 0, bufferSize/2), data: make([]byte, 0, bufferSize/4),
	}, nil
}

// ErrClosed: the client has been closed.
var ErrClosed = errors.New("ipmi: the client is closed")

// acquire waits for its turn.
func (c *Client) acquire(ctx context.Context) error {
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
// errors are *CompletionError when the controller refused, *SilentError when
// it did not reply, *OpenError when no session could be opened, and what the
// decoder found.
func (c *Client) Do(ctx context.Context, cmd Command, req []byte, into Decoder) error {
	return c.doLUN(ctx, 0, cmd, req, into)
}

func (c *Client) doLUN(ctx context.Context, lun uint8, cmd Command, req []byte, into Decoder) error {
	if err := c.acquire(ctx); err != nil {
		return &SilentError{cmd, false, err}
	}
	defer c.release()
	err := c.within(ctx, cmd, func() error {
		c.lun = lun
		defer func() { c.lun = 0 }()
		return c.exchange(ctx, c.session, cmd, req, into)
	})
	c.keepAlive()
	return err
}

// within runs do in a session that may do what cmd needs. Silence may mean
// that the controller has dropped the session: then one more is opened, and a
// command that may be repeated is.
func (c *Client) within(ctx context.Context, cmd Command, do func() error) error {
	fresh := c.session == nil
	if cmd.Once && !fresh && (c.doubt || time.Since(c.used) > c.opt.KeepAlive/4) {
		// Not to find out with this command that the session is gone.
		if err := c.level0(ctx); err != nil {
			c.drop()
			fresh = true
		}
	}
	for {
		if c.session == nil {
			if err := c.open(ctx); err != nil {
				return err
			}
		}
		err := c.raise(ctx, cmd.Needs)
		if err == nil {
			err = do()
		} else if _, silent := errors.AsType[*SilentError](err); silent {
			err = &SilentError{SetPrivilege, false, ErrNoReply} // cmd itself never left
		}
		silent, lost := errors.AsType[*SilentError](err)
		if !lost {
			c.used, c.doubt = time.Now(), false
			return err
		}
		if cmd.Once && silent.Sent {
			c.doubt = true // one packet was lost, or the session is
			return err
		}
		c.drop()
		if fresh || ctx.Err() != nil {
			return err
		}
		fresh = true
	}
}

// level0 asks something harmless, to see whether the session is alive.
func (c *Client) level0(ctx context.Context) error {
	return c.exchange(ctx, c.session, SetPrivilege, []byte{0}, nil)
}

// raise sets the privilege level of the session to what the next command
// needs: higher for an action, and lower again after it.
func (c *Client) raise(ctx context.Context, need Privilege) error {
	need = max(need, User)
	if c.level == need || need <= User && c.level < User {
		return nil
	}
	if need > c.highest {
		return &PrivilegeError{Needs: need, Has: c.highest}
	}
	if err := c.exchange(ctx, c.session, SetPrivilege, []byte{byte(need)}, nil); err != nil {
		if refused, ok := errors.AsType[*CompletionError](err); ok && refused.Code != NodeBusy {
			return &PrivilegeError{Needs: need, Has: c.level}
		}
		return err
	}
	c.level = need
	return nil
}

// A PrivilegeError says that the user may not do what a command needs.
type PrivilegeError struct{ Needs, Has Privilege }

func (e *PrivilegeError) Error() string {
	return fmt.Sprintf("ipmi: this needs the privilege %q, and the user has %q", e.Needs, e.Has)
}

// drop forgets the session, which the controller has forgotten or will.
func (c *Client) drop() { c.session, c.level = nil, 0 }

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
	ctx, cancel := context.WithTimeout(context.Background(), maxTimeout)
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
	if err := c.level0(ctx); err != nil {
		c.drop() // the next request opens another
		return
	}
	c.used = time.Now()
	c.keepAlive()
}

// Session returns what was found when the session was opened, and whether one
// is open now.
func (c *Client) Session() (SessionInfo, bool) {
	c.lock <- struct{}{}
	defer c.release()
	return c.info, c.session != nil
}

// Close closes the session and the socket. A request that is on its way is
// waited for.
func (c *Client) Close() error {
	var err error
	c.once.Do(func() {
		c.lock <- struct{}{}
		defer c.release()
		c.closed = true
		if c.idle != nil {
			c.idle.Stop()
		}
		if c.session != nil {
			ctx, cancel := context.WithTimeout(context.Background(), closeWithin)
			defer cancel()
			c.closeSession(ctx)
		}
		err = c.conn.Close()
	})
	return err
}

// closeSession gives the session's slot back; whether the controller heard
// that cannot be helped.
func (c *Client) closeSession(ctx context.Context) {
	_ = c.exchange(ctx, c.session, CloseSession, le32(c.peerID()), nil)
	c.drop()
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
