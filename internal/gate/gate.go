// Package gate lets people in who have nothing but a terminal: over SSH, and over a local
// tty with a modem or a cable at it. Behind it are the client's own commands, run here, as
// the person who has come in and through the same contract as from anywhere else.
//
//	gate.go    who may be in at once, and for how long
//	ssh.go     over SSH: keys, passwords, channels
//	line.go    at a local port: a cable, or a modem that is called
//	screens.go to the screen of a device, with a viewer of RFB
//	inside.go  the way from here to the service's own API
package gate

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"plumbbob/internal/client"
	"plumbbob/internal/people"
	"plumbbob/internal/store"
)

// Limits of the gate.
const (
	MostIn     = 32               // people who are in at once
	MostOfThem = 8                // with one account
	mostAtDoor = 64               // connections that have not come in yet
	mostOfOne  = 8                // of those, from one network
	comeWithin = time.Minute      // from the connection to the log-in
	logInLasts = 12 * time.Hour   // then whoever is in has to come in again
	idleFor    = 60 * time.Minute // without a key, at a terminal
)

// Parts are what a gate works with.
type Parts struct {
	People  *people.Desk
	Log     *slog.Logger
	DataDir string // where the host key is kept
}

// A Gate lets people in. It may be shared between goroutines.
type Gate struct {
	Parts
	Inside *Inside

	ln      net.Listener
	host    ssh.Signer
	screens screenDoor
	conns   sync.WaitGroup

	mu   sync.Mutex
	door map[string]int // who is before it, by network
	in   map[string]int // who is in, by account
}

// New returns a gate that nobody can come in by yet.
func New(p Parts) *Gate {
	return &Gate{Parts: p, Inside: newInside(), door: map[string]int{}, in: map[string]int{}}
}

// Listen opens the gate for SSH.
func (g *Gate) Listen(address string) (err error) {
	if g.host, err = hostKey(filepath.Join(g.DataDir, HostKeyFile)); err != nil {
		return fmt.Errorf("the gate's host key: %w", err)
	}
	if g.ln, err = net.Listen("tcp", address); err != nil {
		return fmt.Errorf("--gate: %w", err)
	}
	return nil
}

// Address is where the gate is, and its host key's fingerprint; empty where it is not open.
func (g *Gate) Address() (address, print string) {
	if g.ln == nil {
		return "", ""
	}
	return g.ln.Addr().String(), ssh.FingerprintSHA256(g.host.PublicKey())
}

// Close lets nobody in any more.
func (g *Gate) Close() error {
	var errs []error
	for _, ln := range []net.Listener{g.ln, g.screens.ln} {
		if ln == nil {
			continue
		}
		if err := ln.Close(); !errors.Is(err, net.ErrClosed) {
			errs = append(errs, err)
		}
	}
	return errors.Join(errs...)
}

// Run lets people in until ctx ends, and then has all of them go.
func (g *Gate) Run(ctx context.Context) error {
	defer g.conns.Wait()
	stop := context.AfterFunc(ctx, func() { _ = g.Close() })
	defer stop()
	var doors errgroup.Group
	if g.ln != nil {
		doors.Go(func() error { return g.attend(ctx, g.ln, g.meet) })
	}
	if g.screens.ln != nil {
		doors.Go(func() error { return g.attend(ctx, g.screens.ln, g.meetViewer) })
	}
	return doors.Wait()
}

// attend has everybody met who comes to a door, until ctx ends.
func (g *Gate) attend(ctx context.Context, ln net.Listener, meet func(ctx context.Context, conn net.Conn, enter func())) error {
	for {
		conn, err := ln.Accept()
		if err != nil {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			g.Log.Warn("the gate could not take a connection", "because", err)
			select { // out of files, for instance
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
			continue
		}
		enter, ok := g.approach(conn.RemoteAddr())
		if !ok {
			_ = conn.Close()
			continue
		}
		g.conns.Go(func() { meet(ctx, conn, enter) })
	}
}

// approach is where somebody is before the door, until they enter, or leave; false when
// there is no room. Who only holds connections keeps nobody out who is elsewhere.
func (g *Gate) approach(remote net.Addr) (enter func(), ok bool) {
	return g.room(g.door, people.Network(hostOf(remote)), mostAtDoor, mostOfOne)
}

// room counts one more, until done, unless there are too many in all, or of this name.
func (g *Gate) room(taken map[string]int, name string, most, mostOf int) (done func(), ok bool) {
	g.mu.Lock()
	defer g.mu.Unlock()
	all := 0
	for _, n := range taken {
		all += n
	}
	if all >= most || taken[name] >= mostOf {
		return nil, false
	}
	taken[name]++
	return sync.OnceFunc(func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		if taken[name]--; taken[name] == 0 {
			delete(taken, name)
		}
	}), true
}

// hostOf is an address without its port.
func hostOf(a net.Addr) string {
	host, _, err := net.SplitHostPort(a.String())
	if err != nil {
		return a.String()
	}
	return host
}

// guest is somebody who runs commands here.
func (g *Gate) guest(in people.LogIn, remote net.Addr) client.Guest {
	return client.Guest{Account: in.Account, Token: in.Token, Dial: func(ctx context.Context, _, _ string) (net.Conn, error) { return g.Inside.dial(ctx, remote) }}
}

// goes logs somebody out.
func (g *Gate) goes(in people.LogIn) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := g.People.Go(ctx, in.Token, in.Account); err != nil && !errors.Is(err, store.ErrAway) {
		g.Log.Warn("a log-in at the gate could not be ended", "who", in.Account, "because", err)
	}
}

// HostKeyFile is where the key is kept that the gate shows, in the data directory.
const HostKeyFile = "gate-key.pem"

// hostKey is the one that was made at the first start.
func hostKey(file string) (ssh.Signer, error) {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		if text, err = newHostKey(); err == nil {
			err = os.WriteFile(file, text, 0o600)
		}
	}
	if err != nil {
		return nil, err
	}
	s, err := ssh.ParsePrivateKey(text)
	if err != nil {
		return nil, fmt.Errorf("%s: %w: remove it to have another one made, which everybody will be asked about", file, err)
	}
	return s, nil
}
