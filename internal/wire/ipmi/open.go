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

// open opens a session, with the lock held.
func (c *Client) open(ctx context.Context) error {
	c.drop()
	var caps AuthCapabilities
	if err := c.exchange(ctx, outside(), GetAuthCaps, caps.request(c.opt.Highest, true), &caps); err != nil {
		// Controllers of before IPMI 2.0 may refuse the bit that asks for it.
		if _, refused := errors.AsType[*CompletionError](err); !refused {
			return &OpenError{err}
		}
		if err := c.exchange(ctx, outside(), GetAuthCaps, caps.request(c.opt.Highest, false), &caps); err != nil {
			return &OpenError{err}
		}
	}
	c.info = SessionInfo{Anonymous: caps.Anonymous, NullUser: caps.NullUser}
	var err error
	switch {
	case caps.Plus:
		err = c.openPlus(ctx)
	case c.opt.Legacy && caps.MD5:
		err = c.openLegacy(ctx)
	default:
		err = ErrOldOnly
	}
	if err != nil {
		c.drop()
		return &OpenError{err}
	}
	c.info.Granted, c.level, c.used = c.highest, User, time.Now()
	return nil
}

func (c *Client) openPlus(ctx context.Context) error {
	c.info.Offered = c.offered(ctx)
	suite, ok := rmcp.Choose(c.info.Offered, c.opt.Suites)
	if !ok {
		return fmt.Errorf("%w: only %v", ErrSuites, c.info.Offered)
	}
	role := c.opt.Highest
	for n := 0; ; n++ {
		session, err := c.handshake(ctx, suite, role)
		if err == nil {
			c.session, c.info.Suite, c.highest = plusPacker{session}, suite, role
			return nil
		}
		refused, is := errors.AsType[*rmcp.StatusError](err)
		switch {
		case errors.Is(err, rmcp.ErrPassword):
			return ErrPassword
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
func (c *Client) offered(ctx context.Context) []rmcp.Suite {
	const (
		thisChannel = 0x0e
		bySuite     = 0x80
		chunk       = 16
		most        = 0x40 // index, section 22.15.1
	)
	var all []byte
	for i := byte(0); i < most; i++ {
		var part tail
		if err := c.exchange(ctx, outside(), GetCipherSuites, []byte{thisChannel, byte(rmcp.PayloadIPMI), bySuite | i}, &part); err != nil || len(part) < 1 {
			break
		}
		all = append(all, part[1:]...)
		if len(part)-1 < chunk {
			break
		}
	}
	if list := rmcp.ParseSuites(all); len(list) > 0 {
		return slices.Compact(list)
	}
	return []rmcp.Suite{rmcp.Suite17, rmcp.Suite3}
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
	stop := context.AfterFunc(ctx, func() { _ = c.conn.SetReadDeadline(time.Unix(1, 0)) })
	defer stop()
	for h.Session() == nil {
		if err := c.stage(ctx, h); err != nil {
			if _, told := errors.AsType[*rmcp.StatusError](err); !told {
				_, _ = c.conn.Write(h.Abandon(c.out[:0]))
			}
			return nil, err
		}
	}
	return h.Session(), nil
}

// stage sends one message of the handshake until it is answered.
func (c *Client) stage(ctx context.Context, h *rmcp.Handshake) error {
	wait := c.pace.timeout()
	for range c.opt.Tries {
		c.out = h.Next(c.out[:0])
		if _, err := c.conn.Write(c.out); err != nil && !isRefusal(err) {
			return err
		}
		until := time.Now().Add(jittered(wait))
		_ = c.conn.SetReadDeadline(until)
		for range staleReplies {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			n, err := c.conn.Read(c.in)
			if err != nil {
				break
			}
			if took, err := h.Take(c.in[:n]); took {
				return err
			}
		}
		wait = min(time.Duration(float64(wait)*backoff), maxTimeout)
	}
	return ErrNoReply
}

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
