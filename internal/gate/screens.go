package gate

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/broker"
	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/people"
	"plumbbob/internal/store"
	"plumbbob/internal/wire/rfb"
)

// screenDoor is where people come in with a viewer of their own, to the screen of a device.
type screenDoor struct {
	ln   net.Listener
	how  *tls.Config
	view func(estate.Key, seat.Seat) (*broker.View, error)
}

// ListenScreens opens the gate for viewers of RFB. Names and passwords go under TLS alone.
func (g *Gate) ListenScreens(address string, how *tls.Config, view func(estate.Key, seat.Seat) (*broker.View, error)) (err error) {
	g.screens.how, g.screens.view = how, view
	if g.screens.ln, err = net.Listen("tcp", address); err != nil {
		return fmt.Errorf("--screen-gate: %w", err)
	}
	return nil
}

// ScreenAddress is where that is; empty where it is not open.
func (g *Gate) ScreenAddress() string {
	if g.screens.ln == nil {
		return ""
	}
	return g.screens.ln.Addr().String()
}

// visitor is somebody at a screen by a viewer of their own. It is what their viewer sees.
type visitor struct {
	*canvas.Canvas
	g    *Gate
	from string

	in   people.LogIn
	view *broker.View // nil before they have come in

	mu    sync.Mutex
	asked time.Time // for the keyboard
}

// seesAgain is how often it is seen whether somebody still may look, and asksAgain how often
// the keyboard is asked for that somebody types on and has not got.
const (
	seesAgain = 15 * time.Second
	asksAgain = 30 * time.Second
)

// meetViewer serves one connection.
func (g *Gate) meetViewer(ctx context.Context, conn net.Conn, enter func()) {
	defer enter()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	v := &visitor{Canvas: canvas.New(1, 1), g: g, from: hostOf(conn.RemoteAddr())}
	defer func() {
		if v.view != nil {
			v.view.Leave()
			g.goes(v.in)
		}
	}()
	var work sync.WaitGroup
	defer work.Wait()
	door := rfb.Door{TLS: g.screens.how, Within: comeWithin + drawnWithin, Plain: func(name, password string) error {
		done, err := v.comes(ctx, name, password)
		if err != nil {
			return err
		}
		enter()
		work.Go(func() { <-ctx.Done(); done() })
		work.Go(func() { stop(v.view.Mirror(ctx, v.Canvas)) })
		work.Go(func() { stop(v.staysIn(ctx)) })
		return v.drawn(ctx)
	}}
	err := rfb.Serve(ctx, conn, "Plumb Bob", door, v)
	stop(err)
	if v.view == nil {
		g.Log.Debug("nobody has come in by the gate of screens", "from", v.from, "because", err)
	}
}

// comes lets somebody in who names themselves and a device, ACCOUNT@DEVICE.
func (v *visitor) comes(ctx context.Context, name, password string) (done func(), err error) {
	account, device, named := strings.Cut(name, "@")
	if !named {
		return nil, errors.New("log in as ACCOUNT@DEVICE: the device says whose screen it is")
	}
	v.in, err = v.g.People.Come(ctx, people.Credentials{Account: account, Password: password, From: v.from}, store.ClientSession, "gate of screens", logInLasts)
	var wait *people.WaitError
	var away *people.AwayError
	switch {
	case errors.As(err, &wait), errors.As(err, &away):
		return nil, err
	case err != nil:
		return nil, people.ErrWrong
	}
	done, ok := v.g.room(v.g.in, account, MostIn, MostOfThem)
	if !ok {
		v.g.goes(v.in)
		return nil, errors.New("too many are in")
	}
	view, err := v.g.screens.view(estate.Key(device), seat.Seat{Who: v.in.Account, Role: operation.Role(v.in.Role)})
	if err != nil {
		done()
		v.g.goes(v.in)
		return nil, err
	}
	v.view = view
	return done, nil
}

// drawnWithin is how long a viewer waits for the first picture; then it is let in to a black one.
const drawnWithin = 10 * time.Second

// drawn waits for the first picture, so that a viewer is told its size.
func (v *visitor) drawn(ctx context.Context) error {
	select {
	case <-v.News(canvas.Blank):
	case <-time.After(drawnWithin):
	case <-ctx.Done():
		return context.Cause(ctx)
	}
	return nil
}

// staysIn returns once somebody may not look any more.
func (v *visitor) staysIn(ctx context.Context) error {
	tick := time.NewTicker(seesAgain)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-tick.C:
		}
		x, err := v.g.People.Who(ctx, v.in.Token)
		if errors.Is(err, people.ErrNotIn) || err == nil && !seat.May(operation.Role(x.Role), seat.See) {
			return errors.New("the log-in has ended, or screens may not be seen any more")
		}
	}
}

// Key presses a key. Who has not got the keyboard asks for it by that.
func (v *visitor) Key(down bool, sym uint32, code uint16) { v.does(v.view.Key(down, sym, code)) }

// Point moves the pointer; only pressing a button asks for it.
func (v *visitor) Point(x, y int, buttons uint8) {
	if err := v.view.Point(x, y, buttons); buttons != 0 {
		v.does(err)
	}
}

func (v *visitor) does(err error) {
	if err == nil {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if time.Since(v.asked) < asksAgain {
		return
	}
	v.asked = time.Now()
	_ = v.view.Ask() // or they may not
}
