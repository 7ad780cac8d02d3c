package rfb

import (
	"bufio"
	"context"
	"crypto/des" //nolint:gosec // the protocol has nothing else by that name
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"crypto/tls"
	"crypto/x509"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"net"
	"strings"
	"time"
)

// Security types (RFC 6143, section 7.1.2; VeNCrypt is registered), and subtypes of VeNCrypt.
const (
	secInvalid  = 0
	secNone     = 1
	secVNC      = 2
	secVeNCrypt = 19

	x509None  = 260
	x509VNC   = 261
	x509Plain = 262
)

// How a server turns somebody away. Both may come with words of its own.
var (
	ErrRefused     = errors.New("it refuses the credential")
	ErrTurnedAway  = errors.New("it turns connections away") // whoever they are of
	ErrNoAgreement = errors.New("it offers no way in that is spoken here")
)

// A Login is what a viewer comes in with.
type Login struct {
	User, Password string
	// Pin is the SHA-256 of the server's certificate, in hexadecimal; empty: Learn is asked.
	Pin   string
	Learn func(pin string) error
}

const challengeBytes = 16

// vncResponse is what a challenge is answered with: DES, with the bits of each byte of the
// password the other way round (section 7.2.2).
func vncResponse(challenge []byte, password string) ([]byte, error) {
	var key [8]byte
	copy(key[:], password)
	for i := range key {
		key[i] = bits.Reverse8(key[i])
	}
	block, err := des.NewCipher(key[:]) //nolint:gosec // as above
	if err != nil {
		return nil, err
	}
	out := make([]byte, challengeBytes)
	block.Encrypt(out, challenge)
	block.Encrypt(out[8:], challenge[8:])
	return out, nil
}

// handshake is a viewer on its way in.
type handshake struct {
	conn  net.Conn
	r     *bufio.Reader
	minor int // of version 3
	login Login
}

func (h *handshake) read(n int) ([]byte, error) {
	p := make([]byte, n)
	_, err := io.ReadFull(h.r, p)
	return p, err
}

func (h *handshake) byte() (byte, error) { return h.r.ReadByte() }

func (h *handshake) uint32() (uint32, error) {
	p, err := h.read(4)
	if err != nil {
		return 0, err
	}
	return binary.BigEndian.Uint32(p), nil
}

// version agrees on one: 3.3, 3.7 or 3.8. What a server says that is none of them counts as
// 3.3, and what is newer as 3.8.
func (h *handshake) version() error {
	p, err := h.read(12)
	if err != nil {
		return err
	}
	var major, minor int
	if _, err := fmt.Sscanf(string(p), "RFB %03d.%03d\n", &major, &minor); err != nil || string(p[:4]) != "RFB " {
		return wrong("it does not speak RFB: it began with %q", p)
	}
	switch {
	case major > 3 || minor >= 8:
		h.minor = 8
	case minor == 7:
		h.minor = 7
	default:
		h.minor = 3
	}
	_, err = fmt.Fprintf(h.conn, "RFB 003.%03d\n", h.minor)
	return err
}

// reason reads why a server turns somebody away.
func (h *handshake) reason(err error) error {
	n, readErr := h.uint32()
	if readErr != nil || n == 0 {
		return err
	}
	text, _ := h.read(int(min(n, longestReason)))
	words := strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return -1
		}
		return r
	}, strings.ToValidUTF8(strings.TrimRight(string(text), "\x00"), "?"))
	return fmt.Errorf("%w: it says: %s", err, words)
}

// security agrees on who is let in, and how.
func (h *handshake) security() error {
	offered, err := h.offers()
	if err != nil {
		return err
	}
	kind := h.choose(offered)
	if kind == secInvalid {
		return fmt.Errorf("%w: none, VNC passwords and VeNCrypt with a certificate are, and it offers %v", ErrNoAgreement, offered)
	}
	if h.minor >= 7 {
		if _, err := h.conn.Write([]byte{kind}); err != nil {
			return err
		}
	}
	switch kind {
	case secVNC:
		err = h.vnc()
	case secVeNCrypt:
		err = h.venCrypt()
	default:
		if h.minor < 8 {
			return nil
		}
	}
	if err != nil {
		return err
	}
	return h.result()
}

func (h *handshake) offers() ([]byte, error) {
	if h.minor < 7 {
		n, err := h.uint32()
		switch {
		case err != nil:
			return nil, err
		case n == secInvalid:
			return nil, h.reason(ErrTurnedAway)
		}
		return []byte{byte(min(n, 255))}, nil
	}
	n, err := h.byte()
	if err != nil {
		return nil, err
	}
	if n == 0 {
		return nil, h.reason(ErrTurnedAway)
	}
	return h.read(int(n))
}

// choose takes the safest of what is offered. A name, or a certificate that is pinned, goes over
// VeNCrypt alone: somebody in between could leave that out of the offer.
func (h *handshake) choose(offered []byte) byte {
	has := func(kind byte) bool { return strings.IndexByte(string(offered), kind) >= 0 }
	switch {
	case has(secVeNCrypt):
		return secVeNCrypt
	case h.login.User != "" || h.login.Pin != "":
		return secInvalid
	case has(secVNC) && h.login.Password != "":
		return secVNC
	case has(secNone):
		return secNone
	case has(secVNC):
		return secVNC
	}
	return secInvalid
}

func (h *handshake) vnc() error {
	challenge, err := h.read(challengeBytes)
	if err != nil {
		return err
	}
	answer, err := vncResponse(challenge, h.login.Password)
	if err != nil {
		return err
	}
	_, err = h.conn.Write(answer)
	return err
}

func (h *handshake) result() error {
	n, err := h.uint32()
	switch {
	case err != nil:
		return err
	case n == 0:
		return nil
	case h.minor < 8:
		return ErrRefused
	}
	return h.reason(ErrRefused)
}

// venCrypt goes on under TLS, with the certificate that is pinned (VeNCrypt 0.2).
func (h *handshake) venCrypt() error {
	version, err := h.read(2)
	if err != nil {
		return err
	}
	if version[0] == 0 && version[1] < 2 {
		return fmt.Errorf("%w: it speaks an old VeNCrypt", ErrNoAgreement)
	}
	if _, err := h.conn.Write([]byte{0, 2}); err != nil {
		return err
	}
	if ok, err := h.byte(); err != nil || ok != 0 {
		return errors.Join(err, fmt.Errorf("%w: it will not have VeNCrypt 0.2", ErrNoAgreement))
	}
	kind, err := h.subtype()
	if err != nil {
		return err
	}
	if _, err := h.conn.Write(binary.BigEndian.AppendUint32(nil, kind)); err != nil {
		return err
	}
	if ok, err := h.byte(); err != nil || ok != 1 {
		return errors.Join(err, fmt.Errorf("%w: it has refused to go on under TLS", ErrNoAgreement))
	}
	if err := h.underTLS(); err != nil {
		return err
	}
	switch kind {
	case x509VNC:
		return h.vnc()
	case x509Plain:
		p := binary.BigEndian.AppendUint32(nil, uint32(len(h.login.User)))
		p = binary.BigEndian.AppendUint32(p, uint32(len(h.login.Password)))
		_, err := h.conn.Write(append(append(p, h.login.User...), h.login.Password...))
		return err
	}
	return nil
}

func (h *handshake) subtype() (uint32, error) {
	n, err := h.byte()
	if err != nil {
		return 0, err
	}
	offered := map[uint32]bool{}
	for range n {
		kind, err := h.uint32()
		if err != nil {
			return 0, err
		}
		offered[kind] = true
	}
	switch {
	case offered[x509Plain] && h.login.User != "":
		return x509Plain, nil
	case offered[x509VNC] && h.login.User == "":
		return x509VNC, nil
	case offered[x509None] && h.login.User == "":
		return x509None, nil
	}
	return 0, fmt.Errorf("%w: of VeNCrypt, those with a certificate and a name (X509Plain), a password (X509Vnc) or neither (X509None) are", ErrNoAgreement)
}

// ErrPin is a certificate that is not the one that is known.
var ErrPin = errors.New("its certificate is not the one that is pinned")

func (h *handshake) underTLS() error {
	secure := tls.Client(buffered{h.conn, h.r}, &tls.Config{
		MinVersion:         tls.VersionTLS12,
		InsecureSkipVerify: true, //nolint:gosec // it is pinned instead: gear has certificates of its own
		VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
			return h.pinned(raw)
		},
	})
	if err := secure.HandshakeContext(context.Background()); err != nil { // the connection has a deadline
		return err
	}
	h.conn, h.r = secure, bufio.NewReaderSize(secure, readerBytes)
	return nil
}

func (h *handshake) pinned(raw [][]byte) error {
	if len(raw) == 0 {
		return ErrPin
	}
	sum := sha256.Sum256(raw[0])
	got := hex.EncodeToString(sum[:])
	switch {
	case h.login.Pin == "" && h.login.Learn != nil:
		return h.login.Learn(got)
	case h.login.Pin == "" || strings.EqualFold(h.login.Pin, got):
		return nil
	}
	return fmt.Errorf("%w: it is %s now", ErrPin, got)
}

// buffered is a connection of which some has been read already.
type buffered struct {
	net.Conn
	r *bufio.Reader
}

func (b buffered) Read(p []byte) (int, error) { return b.r.Read(p) }

// A Door is how a server lets people in: none of them open to everybody.
type Door struct {
	Password string // by VNC authentication
	// Plain lets a user in under TLS, and TLS has the certificate for that.
	// What is wrong with them is told as its error says.
	Plain  func(user, password string) error
	TLS    *tls.Config
	Within time.Duration // coming in may take so long; 0: as long as a message
}

// admit is a server at its door. It returns the connection to go on with.
func (d Door) admit(conn net.Conn) (net.Conn, error) {
	if _, err := io.WriteString(conn, "RFB 003.008\n"); err != nil {
		return nil, err
	}
	var version [12]byte
	if _, err := io.ReadFull(conn, version[:]); err != nil {
		return nil, err
	}
	kind := byte(secNone)
	switch {
	case d.Plain != nil:
		kind = secVeNCrypt
	case d.Password != "":
		kind = secVNC
	}
	switch v := string(version[:]); {
	case v == "RFB 003.003\n" && d.Plain == nil:
		if _, err := conn.Write([]byte{0, 0, 0, kind}); err != nil {
			return nil, err
		}
		if kind == secNone {
			return conn, nil
		}
	case v == "RFB 003.007\n", v == "RFB 003.008\n":
		if _, err := conn.Write([]byte{1, kind}); err != nil {
			return nil, err
		}
		var chosen [1]byte
		if _, err := io.ReadFull(conn, chosen[:]); err != nil {
			return nil, err
		}
		if chosen[0] != kind {
			return nil, wrong("the viewer has chosen security type %d, which was not offered", chosen[0])
		}
		if v == "RFB 003.007\n" && kind == secNone {
			return conn, nil
		}
	default:
		return nil, wrong("the viewer speaks %q", version)
	}
	next, err := d.ask(conn, kind)
	if err != nil {
		reason := "that is not right"
		if kind == secVeNCrypt {
			reason = err.Error()
		}
		text := binary.BigEndian.AppendUint32([]byte{0, 0, 0, 1}, uint32(len(reason)))
		if next != nil {
			_, _ = next.Write(append(text, reason...)) // it is turned away all the same
		}
		return nil, err
	}
	_, err = next.Write([]byte{0, 0, 0, 0})
	return next, err
}

// ask finds out who is at the door. Its connection is where to go on, also with an error.
func (d Door) ask(conn net.Conn, kind byte) (net.Conn, error) {
	switch kind {
	case secVNC:
		var challenge [challengeBytes]byte
		_, _ = rand.Read(challenge[:]) // it never fails
		if _, err := conn.Write(challenge[:]); err != nil {
			return nil, err
		}
		var answer [challengeBytes]byte
		if _, err := io.ReadFull(conn, answer[:]); err != nil {
			return nil, err
		}
		want, err := vncResponse(challenge[:], d.Password)
		if err == nil && subtle.ConstantTimeCompare(answer[:], want) != 1 {
			err = ErrRefused
		}
		return conn, err
	case secVeNCrypt:
		return d.askUnderTLS(conn)
	}
	return conn, nil
}

// longestCredential is the longest user or password that is taken.
const longestCredential = 256

func (d Door) askUnderTLS(conn net.Conn) (net.Conn, error) {
	if _, err := conn.Write([]byte{0, 2}); err != nil {
		return nil, err
	}
	var version [2]byte
	if _, err := io.ReadFull(conn, version[:]); err != nil {
		return nil, err
	}
	if version != [2]byte{0, 2} {
		_, _ = conn.Write([]byte{255})
		return nil, wrong("the viewer speaks VeNCrypt %d.%d", version[0], version[1])
	}
	if _, err := conn.Write(binary.BigEndian.AppendUint32([]byte{0, 1}, x509Plain)); err != nil {
		return nil, err
	}
	var chosen [4]byte
	if _, err := io.ReadFull(conn, chosen[:]); err != nil {
		return nil, err
	}
	if binary.BigEndian.Uint32(chosen[:]) != x509Plain {
		_, _ = conn.Write([]byte{0})
		return nil, wrong("the viewer has chosen a subtype of VeNCrypt that was not offered")
	}
	if _, err := conn.Write([]byte{1}); err != nil {
		return nil, err
	}
	secure := tls.Server(conn, d.TLS)
	var sizes [8]byte
	if _, err := io.ReadFull(secure, sizes[:]); err != nil {
		return nil, err
	}
	user, password := binary.BigEndian.Uint32(sizes[:]), binary.BigEndian.Uint32(sizes[4:])
	if user > longestCredential || password > longestCredential {
		return secure, wrong("the viewer has come with a name or a password that is too long")
	}
	both := make([]byte, user+password)
	if _, err := io.ReadFull(secure, both); err != nil {
		return nil, err
	}
	return secure, d.Plain(string(both[:user]), string(both[user:]))
}
