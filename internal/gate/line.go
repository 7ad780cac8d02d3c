package gate

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"time"

	"plumbbob/internal/client"
	"plumbbob/internal/people"
	"plumbbob/internal/store"
)

// A Line is a local port at which somebody may come in: a cable, or a modem that is called.
type Line struct {
	Name string
	// Await returns what somebody types at who has come, when they have.
	Await func(ctx context.Context) (io.ReadWriteCloser, error)
	Idle  time.Duration // without a key, until they are let go
}

const (
	lineTries  = 3 // at a name and its password
	lineAgain  = 10 * time.Second
	bareRows   = 24
	bareWide   = 80
	nameWithin = 2 * time.Minute
)

// at is where somebody is who has come by a local port: one place, for the brake on
// guessing as well.
type at string

// Network and String implement net.Addr.
func (at) Network() string  { return "tty" }
func (a at) String() string { return string(a) }

var _ net.Addr = at("")

// Attend lets people in at a local port, one after the other, until ctx ends.
func (g *Gate) Attend(ctx context.Context, l Line) error {
	said := ""
	for ctx.Err() == nil {
		conn, err := l.Await(ctx)
		if err != nil && ctx.Err() == nil {
			if err.Error() != said {
				said = err.Error()
				g.Log.Warn("nobody can come in by the serial port", "port", l.Name, "because", err)
			}
			select {
			case <-ctx.Done():
			case <-time.After(lineAgain):
			}
			continue
		}
		if err == nil {
			said = ""
			g.receive(ctx, l, conn)
			_ = conn.Close()
		}
	}
	return context.Cause(ctx)
}

// receive asks who somebody is, and serves them until they go.
func (g *Gate) receive(ctx context.Context, l Line, conn io.ReadWriteCloser) {
	ctx, cancel := context.WithTimeout(ctx, logInLasts)
	defer cancel()
	end := context.AfterFunc(ctx, func() { _ = conn.Close() })
	typed := &lastTyped{Reader: conn, at: time.Now()}
	far := client.NewFar(typed, conn, bareWide, bareRows)
	idle, gone := context.WithCancelCause(ctx)
	defer gone(nil)
	go typed.watch(idle, l.Idle, func() { gone(errIdle) })
	in, err := g.asks(idle, l, far)
	if err == nil {
		guest := g.guest(in, at("serial port "+l.Name))
		guest.In, guest.Out, guest.Err, guest.Terminal = nothingComes{}, far, far, far
		guest.Desk(idle)
		g.goes(in)
	}
	if errors.Is(context.Cause(idle), errIdle) {
		_, _ = io.WriteString(far, "\nNobody has typed anything for a long time: good-bye.\n")
	}
	end()
}

// errWrongs: nobody has shown to be anybody.
var errWrongs = errors.New("too many wrong passwords")

// asks has somebody say who they are.
func (g *Gate) asks(ctx context.Context, l Line, far *client.Far) (in people.LogIn, err error) {
	ctx, cancel := context.WithTimeoutCause(ctx, nameWithin, errIdle)
	defer cancel()
	fmt.Fprintln(far, "\nPlumb Bob")
	for range lineTries {
		name, err := far.Ask(ctx, "Account: ", false)
		if err != nil {
			return in, err
		}
		if name == "" {
			continue
		}
		pass, err := far.Ask(ctx, "Password: ", true)
		if err != nil {
			return in, err
		}
		from := "the serial port " + l.Name
		in, err = g.People.Come(ctx, people.Credentials{Account: name, Password: pass, From: from}, store.ClientSession, "gate", logInLasts)
		if err == nil {
			return in, nil
		}
		fmt.Fprintf(far, "Not let in: %s.\n", err)
	}
	return in, errWrongs
}
