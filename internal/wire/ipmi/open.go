package ipmi

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"slices"
	"time"

	"plumbbob/internal/wire/cursor"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// Why no session could be opened.
var (
	ErrPassword  = errors.New("the password is refused")
	ErrUser      = errors.New("the user name is refused")
	ErrNoSession = errors.New("all its sessions are taken")
	ErrSuites    = errors.New("it offers no cipher suite that is allowed")
	ErrOldOnly   = errors.New("it speaks IPMI 1.5 only, which is not allowed for it")
	ErrRole      = errors.New("the user may not log in with any privilege")
	ErrKeyNeeded = errors.New("it wants the controller's key (Kg), and none is set")
	ErrKeyWrong  = errors.New("the controller's key (Kg) is wrong, or it has been forged")
	ErrKeyNone   = errors.New("it has no controller's key (Kg), and one is set")
	ErrForged    = errors.New("its last answer is not signed with the password: it may be forged")
	ErrOtherSuit = errors.New("it answered with another cipher suite than was proposed")
)

// An OpenError says why no session could be opened. Err is one of the reasons
// above, a *SilentError, or what the protocol said.
type OpenError struct{ Err error }

func (e *OpenError) Error() string { return fmt.Sprintf("ipmi: open a session: %v", e.Err) }
func (e *OpenError) Unwrap() error { return e.Err }

// Ping asks an address for presence (section 13.2.3): whether somebody there
// speaks IPMI at all, which needs no session and no password.
func Ping(ctx context.Context, address string) (rmcp.Pong, error) {
	conn, err := net.Dial("udp", address)
	if err != nil {
		return rmcp.Pong{}, fmt.Errorf("ipmi: ping: %w", err)
	}
	defer func() { _ = conn.Close() }()
	stop := context.AfterFunc(ctx, func() { _ = conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	b := make([]byte, rmcp.MaxPacket)
	for tag := uint8(1); ; tag++ {
		if _, err := conn.Write(rmcp.AppendPing(nil, tag)); err != nil {
			return rmcp.Pong{}, fmt.Errorf("ipmi: ping: %w", err)
		}
		_ = conn.SetReadDeadline(time.Now().Add(minTimeout))
		if ctx.Err() != nil {
			return rmcp.Pong{}, fmt.Errorf("ipmi: ping: %w", context.Cause(ctx))
		}
		n, err := conn.Read(b)
		if pong, wrong := rmcp.ParsePong(b[:n]); err == nil && wrong == nil && pong.Tag <= tag && pong.IPMI {
			return pong, nil
		} else if err == nil || isRefusal(err) {
			if err := pause(ctx, minTimeout); err != nil { // not to ask without end
				return rmcp.Pong{}, fmt.Errorf("ipmi: ping: %w", err)
			}
		}
	}
}

// outside sends messages outside of any session.
var outside = func() packer { return legacyPacker{&rmcp.Legacy{}} }

const restarts = 3 // of a handshake that got out of step

// A log-in that was refused is not tried again at once: controllers lock accounts,
// and each try with a wrong key takes a slot of theirs for a minute.
const (
	refusedFor     = 2 * time.Minute
	refusedForMost = 10 * time.Minute
)

type refusal struct {
	err   error
	until time.Time
	wait  time.Duration
}

// now returns why nothing is tried, or nil.
func (r *refusal) now() error {
	if r.err != nil && time.Now().Before(r.until) {
		return r.err
	}
	return nil
}

// note takes in how a log-in went.
func (r *refusal) note(err error) {
	for _, lasting := range []error{ErrPassword, ErrUser, ErrRole, ErrKeyNeeded, ErrKeyWrong, ErrKeyNone, ErrForged} {
		if errors.Is(err, lasting) {
			r.err, r.wait = err, min(max(refusedFor, 2*r.wait), refusedForMost)
			r.until = time.Now().Add(r.wait)
			return
		}
	}
	*r = refusal{}
}

// connect opens the socket, with the lock held, or another one when the name of the
// controller leads somewhere else now.
func (c *Client) connect(ctx context.Context) error {
	address, err := c.opt.Names.HostPort(ctx, c.opt.Address)
	if err != nil {
		return err
	}
	if c.link != nil && c.link.address == address {
		return nil
	}
	conn, err := net.Dial("udp", address) // numbers alone: nothing is waited for
	if err != nil {
		return err
	}
	if c.link != nil {
		_ = c.link.close()
	}
	c.link = newLink(conn, address)
	return nil
}

// open opens a session, with the lock held.
func (c *Client) open(ctx context.Context) error {
	c.forget()
	if err := c.connect(ctx); err != nil {
		return &OpenError{err}
	}
	err := c.logIn(ctx)
	if c.life.Err() == nil { // else it is no answer
		c.refusal.note(err)
	}
	if err != nil {
		c.forget()
		return &OpenError{err}
	}
	c.info.Granted, c.level, c.used, c.doubt = c.highest, User, time.Now(), false
	c.reclaim(ctx)
	return nil
}

// reclaim closes a session of ours that the controller may still have, so that it
// takes nobody's slot.
func (c *Client) reclaim(ctx context.Context) {
	left := c.left
	c.left = 0
	if left == 0 || left == c.peerID() || c.raise(ctx, CloseSession.Needs) != nil {
		return
	}
	if c.raise(ctx, Administrator) == nil { // it takes that to close another one than this
		_ = c.exchange(ctx, c.session, CloseSession, le32(left), nil)
	}
}

func (c *Client) logIn(ctx context.Context) error {
	var caps AuthCapabilities
	if err := c.exchange(ctx, outside(), GetAuthCaps, caps.request(c.opt.Highest, true), &caps); err != nil {
		// Controllers of before IPMI 2.0 may refuse the bit that asks for it.
		if _, refused := errors.AsType[*CompletionError](err); !refused {
			return err
		}
		if err := c.exchange(ctx, outside(), GetAuthCaps, caps.request(c.opt.Highest, false), &caps); err != nil {
			return err
		}
	}
	c.info = SessionInfo{Anonymous: caps.Anonymous, NullUser: caps.NullUser}
	switch {
	case caps.Plus && caps.KeyNeeded && len(c.opt.ControllerKey) == 0:
		return ErrKeyNeeded
	case caps.Plus:
		return c.openPlus(ctx)
	case c.opt.Legacy && caps.MD5:
		return c.openLegacy(ctx)
	}
	return ErrOldOnly
}

func (c *Client) openPlus(ctx context.Context) error {
	offered, err := c.offered(ctx)
	if err != nil {
		return err
	}
	c.info.Offered = offered
	suite, ok := rmcp.Choose(offered, c.opt.Suites)
	if !ok {
		return fmt.Errorf("%w: only %v", ErrSuites, offered)
	}
	role := c.opt.Highest
	for n := 0; ; n++ {
		session, err := c.handshake(ctx, suite, role)
		if err == nil {
			c.session, c.info.Suite, c.highest = plusPacker{session}, suite, role
			c.link.use(c.session)
			return c.confirm(ctx)
		}
		refused, is := errors.AsType[*rmcp.StatusError](err)
		switch {
		case errors.Is(err, rmcp.ErrPassword):
			return ErrPassword
		case errors.Is(err, rmcp.ErrKeyNone):
			return ErrKeyNone
		case errors.Is(err, rmcp.ErrLast) && len(c.opt.ControllerKey) > 0:
			return ErrKeyWrong
		case errors.Is(err, rmcp.ErrLast):
			return ErrForged
		case errors.Is(err, rmcp.ErrSuite):
			return ErrOtherSuit
		case !is:
			return err
		case (refused.Status == rmcp.StatusRoleRefused || refused.Status == rmcp.StatusBadRole) && role > User:
			role-- // the user's limit is lower
		case refused.Status == rmcp.StatusRoleRefused || refused.Status == rmcp.StatusBadRole:
			return ErrRole
		case refused.Status == rmcp.StatusNameRefused || refused.Status == rmcp.StatusBadNameLength:
			return ErrUser
		case refused.Status == rmcp.StatusBadCheckValue:
			return ErrPassword
		case refused.Status == rmcp.StatusNoResources || refused.Status == rmcp.StatusNoRoomForRole:
			return ErrNoSession
		case (refused.Status == rmcp.StatusNoSuite || refused.Status == rmcp.StatusBadAuth || refused.Status == rmcp.StatusBadIntegrity) && suite == rmcp.Suite17:
			suite = rmcp.Suite3 // it lists what it does not speak, or lists nothing
		case n >= restarts:
			return err
		}
	}
}

// offered asks for the cipher suites. A controller that does not say is taken
// to speak the two that we prefer: the handshake shows whether it does.
// Half a list is no list: a reply that is lost must not lower what is chosen.
func (c *Client) offered(ctx context.Context) ([]rmcp.Suite, error) {
	const (
		thisChannel = 0x0e
		bySuite     = 0x80
		chunk       = 16
		most        = 0x40 // index, section 22.15.1
	)
	var all []byte
	for i := byte(0); i < most; i++ {
		var part tail
		err := c.exchange(ctx, outside(), GetCipherSuites, []byte{thisChannel, byte(rmcp.PayloadIPMI), bySuite | i}, &part)
		if _, silent := errors.AsType[*SilentError](err); silent {
			return nil, err
		}
		if err != nil || len(part) < 1 {
			break // it says no more
		}
		all = append(all, part[1:]...)
		if len(part)-1 < chunk {
			break
		}
	}
	if list := rmcp.ParseSuites(all); len(list) > 0 {
		return slices.Compact(list), nil
	}
	return []rmcp.Suite{rmcp.Suite17, rmcp.Suite3}, nil
}

// tail is a reply of any length.
type tail []byte

// Decode takes all of it.
func (t *tail) Decode(r *cursor.Reader) error {
	*t = append((*t)[:0], r.Rest()...)
	return r.Done()
}

// handshake goes through Open Session and RAKP 1 to 4. On every way out but
// success the controller is told to forget what is half open.
func (c *Client) handshake(ctx context.Context, suite rmcp.Suite, role Privilege) (*rmcp.Session, error) {
	var random [16]byte
	var id [4]byte
	_, _ = rand.Read(random[:]) // never fails
	_, _ = rand.Read(id[:])
	h := rmcp.NewHandshake(suite, rmcp.Credentials{User: c.opt.User, Password: c.opt.Password, ControllerKey: c.opt.ControllerKey},
		uint8(role), binary.LittleEndian.Uint32(id[:])|1, random)
	c.drain()
	for h.Session() == nil {
		err := c.stage(ctx, h)
		if err == nil {
			continue
		}
		c.abandon(h)
		return nil, err
	}
	return h.Session(), nil
}

// abandon has the controller forget what a handshake has left there: a session that
// may be open already is closed, one that is half open is given up.
func (c *Client) abandon(h *rmcp.Handshake) {
	if packet := h.Abandon(nil); len(packet) > 0 {
		_, _ = c.link.conn.Write(packet)
	}
	s := h.LeftOver()
	if s == nil {
		return
	}
	ctx, cancel := context.WithTimeout(context.Background(), max(closeWithin, 4*c.pace.timeout()))
	defer cancel()
	c.session = plusPacker{s}
	c.link.use(c.session)
	c.closeSession(ctx)
}

// drain drops what is left of an earlier handshake.
func (c *Client) drain() {
	for {
		select {
		case <-c.link.steps:
		default:
			return
		}
	}
}

// stage sends one message of the handshake until it is answered. A repeat is the
// same to the last byte, so that a controller knows it for one, and the answer to
// any of them counts.
func (c *Client) stage(ctx context.Context, h *rmcp.Handshake) error {
	packet := h.Next(nil)
	wait := c.pace.timeout()
	began, shut := time.Now(), 0
	for range c.opt.Tries {
		if _, err := c.link.conn.Write(packet); err != nil && !isRefusal(err) {
			return err
		}
		c.timer.Reset(jittered(wait))
		took, err := c.step(ctx, h, &shut)
		c.timer.Stop()
		switch {
		case took:
			c.pace.slower(time.Since(began))
			c.trip.Store(int64(c.pace.mean))
			return err
		case ctx.Err() != nil:
			return context.Cause(ctx)
		case shut >= refusals:
			return &SilentError{OpenSession, true, &RefusalError{err}}
		}
		h.Repeated()
		wait = min(time.Duration(float64(wait)*backoff), maxTimeout)
	}
	return &SilentError{OpenSession, true, ErrNoReply}
}

// step waits for one answer of the handshake, until the timer ends.
func (c *Client) step(ctx context.Context, h *rmcp.Handshake, shut *int) (took bool, err error) {
	for {
		select {
		case packet := <-c.link.steps:
			if took, err := h.Take(packet); took {
				return true, err
			}
		case refusal := <-c.link.refused:
			*shut++
			err = refusal
		case <-ctx.Done():
			return false, context.Cause(ctx)
		case <-c.timer.C:
			return false, err
		}
	}
}

// confirm asks something in a session that was never proved to us, because the last
// answer was lost and the controller will not repeat it: who can answer in it knows
// the password.
func (c *Client) confirm(ctx context.Context) error {
	s, ok := c.session.(plusPacker)
	if !ok || !s.Unproved {
		return nil
	}
	err := c.level0(ctx)
	if _, silent := errors.AsType[*SilentError](err); silent {
		return err
	}
	return nil
}

// OpenSession stands for the steps of a handshake in errors.
var OpenSession = Command{Name: "Open Session"}

// openLegacy opens a session of IPMI 1.5 (sections 22.16 and 22.17).
func (c *Client) openLegacy(ctx context.Context) error {
	var name [rmcp.MaxName]byte
	copy(name[:], c.opt.User)
	var challenge challengeReply
	if err := c.exchange(ctx, outside(), GetChallenge, append([]byte{rmcp.AuthMD5}, name[:]...), &challenge); err != nil {
		if refused, ok := errors.AsType[*CompletionError](err); ok && (refused.Code == 0x81 || refused.Code == 0x82) {
			return ErrUser
		}
		return err
	}
	session := &rmcp.Legacy{Auth: rmcp.AuthMD5, ID: challenge.id, Password: c.opt.Password}
	role := c.opt.Highest
	for {
		req := append([]byte{rmcp.AuthMD5, byte(role)}, challenge.text[:]...)
		req = append(req, 1, 0, 0, 0) // the sequence number that the controller begins with
		var active activeReply
		err := c.exchange(ctx, legacyPacker{session}, ActivateSession, req, &active)
		refused, is := errors.AsType[*CompletionError](err)
		switch {
		case err == nil:
			session = &rmcp.Legacy{Auth: active.auth, ID: active.id, Password: c.opt.Password, Sequence: max(1, active.sequence)}
			c.session, c.info.Legacy, c.highest = legacyPacker{session}, true, min(role, Privilege(active.highest))
			c.link.use(c.session)
			return nil
		case is && refused.Code == 0x86 && role > User: // section 22.17: privilege exceeds the user's limit
			role--
		case is && (refused.Code == 0x81 || refused.Code == 0x82 || refused.Code == 0x83):
			return ErrNoSession
		case is:
			return ErrPassword // a wrong code is refused with any code, or not answered
		default:
			return fmt.Errorf("%w, or the password is wrong: IPMI 1.5 does not say", err)
		}
	}
}

type challengeReply struct {
	id   uint32
	text [16]byte
}

// Decode reads the reply to Get Session Challenge (section 22.16).
func (m *challengeReply) Decode(r *cursor.Reader) error {
	var got challengeReply
	got.id = r.U32()
	r.Copy(got.text[:])
	if err := ended(r, "session challenge"); err != nil {
		return err
	}
	*m = got
	return nil
}

type activeReply struct {
	auth     uint8
	id       uint32
	sequence uint32
	highest  uint8
}

// Decode reads the reply to Activate Session (section 22.17).
func (m *activeReply) Decode(r *cursor.Reader) error {
	got := activeReply{r.U8() & 0x0f, r.U32(), r.U32(), r.U8() & 0x0f}
	if err := ended(r, "activate session"); err != nil {
		return err
	}
	*m = got
	return nil
}

func le32(v uint32) []byte { return binary.LittleEndian.AppendUint32(nil, v) }

func le16(v uint16) []byte { return binary.LittleEndian.AppendUint16(nil, v) }
