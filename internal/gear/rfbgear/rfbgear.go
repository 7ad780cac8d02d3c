// Package rfbgear is screens that are seen over RFB: of a KVM, of a controller, of a system
// that shows its own.
package rfbgear

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/names"
	"plumbbob/internal/wire/rfb"
)

// Options say where a screen is.
type Options struct {
	Name      string   // the device, for messages
	Addresses []string // host:port, in order of preference
	Secret    secret.Value
	Pin       string // of its certificate
	Timeout   time.Duration
	// Known and Learn are of certificates that were seen first; nil: any is taken.
	Known func(address string) string
	Learn func(address, pin string) error
}

// Driver may be shared between goroutines.
type Driver struct {
	o Options

	mu     sync.Mutex
	at     int // which address is used
	open   map[*attached]bool
	closed bool
}

var (
	_ gear.Screen   = (*Driver)(nil)
	_ gear.Answerer = (*Driver)(nil)
	_ gear.Split    = (*attached)(nil)
)

// Open prepares a driver; nothing is sent before somebody attaches.
func Open(o Options) (*Driver, error) {
	if len(o.Addresses) == 0 {
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: o.Name + " has no address"}
	}
	return &Driver{o: o, open: map[*attached]bool{}}, nil
}

// Close ends all connections.
func (d *Driver) Close() error {
	d.mu.Lock()
	d.closed = true
	all := make([]*attached, 0, len(d.open))
	for a := range d.open {
		all = append(all, a)
	}
	d.mu.Unlock()
	for _, a := range all {
		_ = a.Close() // it has ended, whatever it says
	}
	return nil
}

// Answer says whether the screen can be looked at. Where somebody does, it can. A log-in is
// needed to know: servers keep out who connects often and does not log in.
func (d *Driver) Answer(ctx context.Context) error {
	d.mu.Lock()
	looks := len(d.open) > 0
	d.mu.Unlock()
	if looks {
		return nil
	}
	v, err := d.connect(ctx)
	if err != nil {
		return err
	}
	_ = v.Close()
	return nil
}

func (d *Driver) connect(ctx context.Context) (*rfb.Viewer, error) {
	d.mu.Lock()
	address := d.o.Addresses[d.at%len(d.o.Addresses)]
	d.mu.Unlock()
	v, err := d.dial(ctx, address)
	if err != nil {
		d.mu.Lock()
		d.at++ // try the next address another time
		d.mu.Unlock()
		return nil, d.sorted(err, address)
	}
	return v, nil
}

func (d *Driver) dial(ctx context.Context, address string) (*rfb.Viewer, error) {
	within, cancel := context.WithTimeout(ctx, d.o.Timeout)
	defer cancel()
	conn, err := names.Default.DialContext(within, "tcp", address)
	if err != nil {
		return nil, err
	}
	in := rfb.Login{User: d.o.Secret.User, Password: d.o.Secret.Password, Pin: d.o.Pin}
	if in.Pin == "" && d.o.Known != nil {
		in.Pin = d.o.Known("rfb://" + address)
		in.Learn = func(pin string) error { return d.o.Learn("rfb://"+address, pin) }
	}
	return rfb.Connect(ctx, conn, rfb.Options{Login: in, Within: 2 * d.o.Timeout})
}

func (d *Driver) sorted(err error, address string) error {
	e := &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Err: err}
	where := fmt.Sprintf("the screen of %s at %s", d.o.Name, address)
	var wrong *rfb.Error
	switch {
	case errors.Is(err, rfb.ErrPin):
		e.Kind, e.Text = gear.BadSecret, where+": "+err.Error()+": find out why before you pin it anew"
	case errors.Is(err, rfb.ErrRefused):
		e.Kind, e.Text = gear.BadSecret, where+": "+err.Error()+": set it again with plumb secret set"
	case errors.Is(err, rfb.ErrTurnedAway):
		e.Kind, e.Text = gear.Busy, where+": "+err.Error()
	case errors.Is(err, rfb.ErrNoAgreement):
		e.Kind, e.Text = gear.Unsupported, where+": "+err.Error()
	case errors.As(err, &wrong):
		e.Kind, e.Text = gear.Malformed, where+": "+err.Error()
	default:
		e.Text = gear.Unreached(where, "answer RFB", err)
	}
	return e
}

// Attach connects to the screen.
func (d *Driver) Attach(ctx context.Context) (gear.Attached, error) {
	v, err := d.connect(ctx)
	if err != nil {
		return nil, err
	}
	a := wrap(v)
	d.mu.Lock()
	if d.closed {
		d.mu.Unlock()
		_ = v.Close()
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: d.o.Name + ": its screen is not in use any more"}
	}
	d.open[a] = true
	d.mu.Unlock()
	go func() {
		ctx, over := context.WithCancelCause(context.Background())
		go d.keepAsking(ctx, over, a)
		err := gear.Safely(func() error { return v.Run(a) })
		if ctx.Err() != nil {
			err = context.Cause(ctx)
		}
		over(nil)
		_ = v.Close()
		d.mu.Lock()
		delete(d.open, a)
		address := d.o.Addresses[d.at%len(d.o.Addresses)]
		d.mu.Unlock()
		a.err = d.sorted(err, address)
		close(a.ended)
	}()
	return a, nil
}

// wrap has what a viewer sees drawn on a canvas.
func wrap(v *rfb.Viewer) *attached {
	return &attached{Viewer: v, canvas: canvas.New(1, 1), ended: make(chan struct{})}
}

// asksAfter is for how long a screen may say nothing until it is asked for a sign of life: one
// on which nothing changes has nothing to say.
const asksAfter = 10 * time.Second

// errSilent is a screen that has given none.
var errSilent = fmt.Errorf("no sign of life: %w", context.DeadlineExceeded)

// keepAsking ends a connection whose far end is dead.
func (d *Driver) keepAsking(ctx context.Context, over context.CancelCauseFunc, a *attached) {
	tick := time.NewTicker(asksAfter)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if time.Since(a.Heard()) < asksAfter {
			continue
		}
		asked := time.Now()
		err := a.Probe()
		if err == nil {
			select {
			case <-ctx.Done():
				return
			case <-time.After(d.o.Timeout):
			}
		}
		if err != nil || a.Heard().Before(asked) {
			over(errSilent)
			_ = a.Close()
			return
		}
	}
}

// attached is one connection.
type attached struct {
	*rfb.Viewer
	canvas *canvas.Canvas
	drawn  bool // something was; owned by who reads
	ended  chan struct{}
	err    error // once it has ended
}

func (a *attached) Canvas() *canvas.Canvas { return a.canvas }
func (a *attached) Ended() <-chan struct{} { return a.ended }
func (a *attached) Err() error             { return a.err }
func (a *attached) Takes() gear.Takes {
	return gear.Takes{Keys: true, Pointer: true, ByPosition: a.ByPosition()}
}

// Resized is told of another size. Before anything is drawn the picture is empty, and none.
func (a *attached) Resized(p *picture.Picture) {
	if a.drawn {
		a.canvas.Take(p, nil)
	}
}

// Updated is told what is new.
func (a *attached) Updated(p *picture.Picture, parts []picture.Rect) {
	a.drawn = true
	a.canvas.Take(p, parts)
}

// Cursor is not asked for, and Bell has nobody to hear it.
func (a *attached) Cursor(rfb.Cursor) {}
func (a *attached) Bell()             {}
