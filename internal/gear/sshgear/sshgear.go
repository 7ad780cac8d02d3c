// Package sshgear tells devices things on their own command line, over SSH. The
// host key is pinned: by the estate, or when it is first seen.
package sshgear

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"plumbbob/internal/attach"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/names"
)

// Options say where a device is and how it is spoken to.
type Options struct {
	Name      string   // the device, for messages
	Addresses []string // host:port, in order of preference
	Secret    secret.Value
	Pin       string // SHA-256 of the host key; empty: the one that is seen first
	Timeout   time.Duration
	Pins      Pins
}

// Pins keeps the host keys that were seen first. Both may be nil.
type Pins struct {
	Known func(address string) string // "" for none
	Learn func(address, pin string) error
}

// Driver is one device. It may be shared between goroutines, and keeps one
// connection.
type Driver struct {
	o    Options
	auth ssh.AuthMethod
	line *attach.Line // a shell, for people

	dialing gear.Turn // one connection is made at a time; not held while it is used

	mu     sync.Mutex // not held while anything is waited for
	client *ssh.Client
	users  map[*ssh.Client]int // how many wait for something on a connection
	at     int                 // which address is used
	closed bool
}

var (
	_ gear.CommandLine = (*Driver)(nil)
	_ gear.Answerer    = (*Driver)(nil)
)

// Open prepares a driver; nothing is sent before the first question.
func Open(o Options) (*Driver, error) {
	if len(o.Addresses) == 0 {
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: o.Name + " has no address"}
	}
	d := &Driver{o: o, dialing: gear.NewTurn(), users: map[*ssh.Client]int{}, auth: ssh.Password(o.Secret.Password)}
	d.line = attach.New(attach.Options{Addresses: o.Addresses, Hide: o.Secret.Password, Timeout: 2 * o.Timeout, Dial: d.shell})
	if o.Secret.Kind == secret.SSHKey {
		key, err := ssh.ParsePrivateKey([]byte(o.Secret.Password))
		if err != nil {
			return nil, &gear.Error{Kind: gear.BadSecret, Outcome: sending.NotSent, Text: o.Name + ": the key is none that is understood: write an unencrypted OpenSSH or PEM key", Err: err}
		}
		d.auth = ssh.PublicKeys(key)
	}
	return d, nil
}

// Close ends the connection.
func (d *Driver) Close() error {
	d.mu.Lock()
	c := d.client
	d.closed = true
	d.mu.Unlock()
	_ = d.line.Close()
	return d.drop(c)
}

// drop ends a connection, if it is still the one that is used.
func (d *Driver) drop(c *ssh.Client) error {
	d.mu.Lock()
	if d.client == c {
		d.client = nil
	}
	d.mu.Unlock()
	if c == nil {
		return nil
	}
	if err := c.Close(); !errors.Is(err, net.ErrClosed) && !errors.Is(err, io.EOF) {
		return err
	}
	return nil
}

// Answer asks the far end for a sign of life.
func (d *Driver) Answer(ctx context.Context) error {
	c, err := d.connect(ctx)
	if err != nil {
		return err
	}
	defer d.follow(ctx, c)()
	answered := make(chan error, 1)
	go func() { // it may wait for what others have asked before
		// A request that nobody knows is answered with a refusal (RFC 4254, section 4).
		_, _, err := c.SendRequest("alive@plumbbob.invalid", true, nil)
		answered <- err
	}()
	select {
	case err = <-answered:
	case <-ctx.Done():
		return d.err(context.Cause(ctx), sending.NotSent)
	}
	if err != nil {
		_ = d.drop(c)
		return d.err(err, sending.NotSent)
	}
	return nil
}

const (
	maxOutput = 4 << 10
	tellsFor  = 10 * time.Second // what takes longer is under way, and not waited for
)

// Tell runs one command. What it says is kept for the error only.
func (d *Driver) Tell(ctx context.Context, text string) error {
	c, err := d.connect(ctx)
	if err != nil {
		return err
	}
	defer d.follow(ctx, c)()
	s, err := c.NewSession()
	if err != nil { // the connection may have died long ago: nothing was sent on it
		_ = d.drop(c)
		if c, err = d.connect(ctx); err != nil {
			return err
		}
		defer d.follow(ctx, c)()
		if s, err = c.NewSession(); err != nil {
			return d.err(err, sending.NotSent)
		}
	}
	defer func() { _ = s.Close() }()
	var said bounded
	s.Stdout, s.Stderr = &said, &said
	ended := make(chan error, 1)
	if err := s.Start(text); err != nil {
		_ = d.drop(c)
		return d.err(err, sending.Unclear)
	}
	go func() { ended <- s.Wait() }()
	select {
	case err = <-ended:
	case <-ctx.Done():
		return d.err(context.Cause(ctx), sending.Unclear)
	case <-time.After(tellsFor):
		return nil
	}
	var exit *ssh.ExitError
	if errors.As(err, &exit) && exit.Signal() == "" {
		return &gear.Error{
			Kind: gear.NotPermitted, Outcome: sending.Refused, Err: err,
			Text: fmt.Sprintf("%s refused the command (status %d): %s", d.o.Name, exit.ExitStatus(), said.line()),
		}
	}
	if err != nil { // the device went before it could answer: that is what was asked for
		_ = d.drop(c)
	}
	return nil
}

// follow has a connection not be used any more when ctx ends, because it may be dead: a blocking call must
// not outlive it. It is closed when nobody else waits for anything on it.
func (d *Driver) follow(ctx context.Context, c *ssh.Client) (done func()) {
	d.mu.Lock()
	d.users[c]++
	d.mu.Unlock()
	leave := func() (last bool) {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.users[c]--; d.users[c] == 0 {
			delete(d.users, c)
			return true
		}
		if d.client == c && ctx.Err() != nil {
			d.client = nil // closed by the last who waits
		}
		return false
	}
	stop := context.AfterFunc(ctx, func() {
		if leave() {
			_ = d.drop(c)
		}
	})
	return func() {
		if stop() && leave() && d.left(c) {
			_ = c.Close()
		}
	}
}

// left says whether a connection is not the one that is used any more.
func (d *Driver) left(c *ssh.Client) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.client != c
}

// bounded keeps the beginning of what is written to it, by both of the streams of
// a session.
type bounded struct {
	mu    sync.Mutex
	begin []byte
}

func (b *bounded) Write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.begin = append(b.begin, p[:min(len(p), maxOutput-len(b.begin))]...)
	return len(p), nil
}

func (b *bounded) line() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	line, _, _ := strings.Cut(strings.TrimSpace(string(b.begin)), "\n")
	if line = gear.Clean(line); line != "" {
		return line
	}
	return "it said nothing"
}

// connect returns the connection, and makes one where there is none.
func (d *Driver) connect(ctx context.Context) (*ssh.Client, error) {
	if err := d.dialing.Take(ctx); err != nil {
		return nil, d.err(err, sending.NotSent)
	}
	defer d.dialing.Give()
	d.mu.Lock()
	c, closed, address := d.client, d.closed, d.o.Addresses[d.at%len(d.o.Addresses)]
	d.mu.Unlock()
	switch {
	case c != nil:
		return c, nil
	case closed:
		return nil, d.err(net.ErrClosed, sending.NotSent)
	}
	c, err := d.dial(ctx, address)
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case err != nil:
		d.at++ // try the next address another time
		return nil, err
	case d.closed:
		_ = c.Close()
		return nil, d.sorted(net.ErrClosed, sending.NotSent, address)
	}
	d.client = c
	return c, nil
}

func (d *Driver) dial(ctx context.Context, address string) (*ssh.Client, error) {
	within, cancel := context.WithTimeout(ctx, d.o.Timeout)
	defer cancel()
	conn, err := names.Default.DialContext(within, "tcp", address)
	if err != nil {
		return nil, d.sorted(err, sending.NotSent, address)
	}
	defer context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })()
	_ = conn.SetDeadline(time.Now().Add(2 * d.o.Timeout))
	c, channels, requests, err := ssh.NewClientConn(conn, address, &ssh.ClientConfig{
		User: d.o.Secret.User, Auth: []ssh.AuthMethod{d.auth}, HostKeyCallback: d.hostKey, Timeout: d.o.Timeout,
	})
	if err != nil {
		_ = conn.Close()
		return nil, d.sorted(err, sending.NotSent, address)
	}
	_ = conn.SetDeadline(time.Time{})
	if ctx.Err() != nil { // it may have set the deadline before
		_ = conn.Close()
		return nil, d.sorted(context.Cause(ctx), sending.NotSent, address)
	}
	return ssh.NewClient(c, channels, requests), nil
}

// errKey is a host key that is not the one that we know.
var errKey = errors.New("its host key is not the one that is pinned")

func (d *Driver) hostKey(address string, _ net.Addr, key ssh.PublicKey) error {
	sum := sha256.Sum256(key.Marshal())
	got, want := hex.EncodeToString(sum[:]), d.o.Pin
	if want == "" && d.o.Pins.Known != nil {
		want = d.o.Pins.Known(address)
	}
	switch {
	case want == got:
		return nil
	case want != "":
		return fmt.Errorf("%w: it is %s now", errKey, got)
	case d.o.Pins.Learn != nil:
		return d.o.Pins.Learn(address, got)
	}
	return nil
}

func (d *Driver) err(err error, oc sending.Outcome) error {
	d.mu.Lock()
	address := d.o.Addresses[d.at%len(d.o.Addresses)]
	d.mu.Unlock()
	return d.sorted(err, oc, address)
}

func (d *Driver) sorted(err error, oc sending.Outcome, address string) error {
	e := &gear.Error{Kind: gear.Unreachable, Outcome: oc, Err: err}
	where := fmt.Sprintf("%s at %s", d.o.Name, address)
	switch {
	case errors.Is(err, errKey):
		e.Kind, e.Text = gear.BadSecret, where+": "+err.Error()+": find out why before you pin it anew"
	case strings.Contains(err.Error(), "unable to authenticate"): // x/crypto/ssh has no type for it
		e.Kind, e.Text = gear.BadSecret, d.o.Name+" refuses the credential: set it again with plumb secret set"
	default:
		e.Text = gear.Unreached(where, "answer SSH", err)
	}
	return e
}
