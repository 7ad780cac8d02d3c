package lab

import (
	"context"
	"fmt"
	"net"
	"sync"
	"time"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/lab/video"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/rfb"
)

// ScreenSecret is what the lab's KVMs let somebody in with.
var ScreenSecret = secret.Value{Kind: secret.Token, Password: "gannet-7"}

// display is the screen of a box, with its keyboard and pointer, whoever is wired to it.
type display struct {
	*canvas.Canvas
	l *Lab
	b *box
	t *tty

	mu      sync.Mutex
	term    video.Terminal
	desk    *video.Desktop // nil of a box that nobody works at
	looking int
	held    map[uint16]bool // keys that are down, by their codes
	lights  uint8           // of its keyboard
}

// desks are the roles of boxes that people work at.
var desks = map[string]bool{"pc": true, "terminal": true, "display": true}

// serveScreen answers for the screen of the box that is wired to a KVM, or of the box itself.
func (l *Lab) serveScreen(ctx context.Context, d *estate.Device, ep estate.Endpoint) error {
	x := l.seenOf(ctx, d.Key)
	for _, address := range ep.Addresses {
		p, err := l.open(ctx, d.Key, address, ep.Name)
		if err != nil {
			return err
		}
		l.tasks.Go(func() error {
			return l.each(ctx, p, func(c net.Conn) { l.serveViewer(ctx, c, l.boxes[d.Key], ep.Name, x) })
		})
	}
	return nil
}

// seenOf is what a box shows: its own screen, or that of the box that is wired to it, or one of
// several that are, also through a KVM of its own.
func (l *Lab) seenOf(ctx context.Context, k estate.Key) seen {
	switch wired := l.e.ShownBy(k); {
	case len(wired) == 0:
		own := l.displayOf(ctx, k)
		if own.desk != nil { // what systems show by themselves has all their displays
			own.desk.Two = true
		}
		return own
	case len(wired) > 1:
		return l.channelOf(ctx, k)
	case len(l.e.ShownBy(wired[0])) > 0:
		return l.seenOf(ctx, wired[0])
	default:
		return l.displayOf(ctx, wired[0])
	}
}

func (l *Lab) displayOf(ctx context.Context, k estate.Key) *display {
	x := l.shown[k]
	if x == nil {
		x = &display{Canvas: canvas.New(640, 480), l: l, b: l.boxes[k], t: l.ttyOf(ctx, k), held: map[uint16]bool{}}
		if desks[x.b.d.Role] {
			x.desk = &video.Desktop{Title: x.b.d.Title}
		} else {
			_, _ = fmt.Fprintf(&x.term, "%s login: ", k) // it ran before anybody looked
		}
		l.shown[k] = x
		l.tasks.Go(func() error { return x.live(ctx) })
	}
	return x
}

// seen is what is seen at one address.
type seen interface {
	rfb.Source
	look(n int) // so many more look
}

// serveViewer is one who looks, for as long as the box that shows it has power.
func (l *Lab) serveViewer(ctx context.Context, conn net.Conn, at *box, side string, x seen) {
	defer func() { _ = conn.Close() }()
	l.mu.Lock()
	began := at.powered
	l.mu.Unlock()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go l.hangUp(ctx, conn, at, began)
	x.look(1)
	defer x.look(-1)
	// How it ends is told to who looks; here it is over.
	_ = rfb.Serve(ctx, muted{conn, ctx, l, at, side}, string(at.d.Key), rfb.Door{Password: ScreenSecret.Password}, x)
}

func (x *display) look(n int) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.looking += n
}

// live has the screen show what becomes of the box.
func (x *display) live(ctx context.Context) error {
	said, leave := x.t.Hear()
	defer leave()
	tick := time.NewTicker(x.l.o.Frame)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case text := <-said:
			x.mu.Lock()
			_, _ = x.term.Write([]byte(text)) // it never fails
			x.mu.Unlock()
		case now := <-tick.C:
			x.draw(now)
		}
	}
}

// shows is what a screen shows of its box.
type shows int

const (
	showsNothing shows = iota
	showsStill         // as it was
	showsText
	showsDesk
)

func (x *display) sees(now time.Time) shows {
	x.l.mu.Lock()
	defer x.l.mu.Unlock()
	switch {
	case x.b.start().IsZero(), x.b.asleep, x.b.chassis != nil && x.b.chassis.asleep:
		return showsNothing
	case x.b.crashed:
		return showsText
	case x.b.hung:
		return showsStill
	case x.desk != nil && x.l.up(x.b, now):
		return showsDesk
	}
	return showsText
}

func (x *display) draw(now time.Time) {
	sees := x.sees(now)
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.looking == 0 && sees != showsNothing {
		return
	}
	var p *picture.Picture
	switch sees {
	case showsNothing:
		p = video.NoSignal()
	case showsStill:
		return
	case showsText:
		p = x.term.Draw(now.UnixMilli()/500%2 == 0)
	case showsDesk:
		p = x.fitted(x.desk.Draw(now))
	}
	x.Take(p, []picture.Rect{{W: p.W, H: p.H}})
}

// fitted is a picture as the display takes it that the KVM of the box pretends to be.
func (x *display) fitted(p *picture.Picture) *picture.Picture {
	if len(x.b.d.Video) == 0 {
		return p
	}
	var w, h int
	if _, err := fmt.Sscanf(x.l.Edid(x.b.d.Video[0].Device), "%dx%d", &w, &h); err != nil || w > p.W {
		return video.NoSignal()
	}
	if w == p.W {
		return p
	}
	out := picture.New(w, h)
	for y := range h {
		copy(out.Row(0, y, w), p.Row(0, y, w))
	}
	return out
}

// Point moves the pointer of the box.
func (x *display) Point(px, py int, buttons uint8) {
	if x.sees(time.Now()) != showsDesk {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.desk.Point(px, py, buttons&1 != 0)
}

// Displays are those of its desk.
func (x *display) Displays() []picture.Rect {
	if x.desk == nil || x.sees(time.Now()) != showsDesk {
		return nil
	}
	return x.desk.Displays()
}

// lockKeys are the keys with a light, which the system of a box switches, and not its keyboard.
var lockKeys = map[uint16]uint8{0x46: rfb.ScrollLight, 0x45: rfb.NumLight, 0x3a: rfb.CapsLight}

func (x *display) lives(sees shows) bool {
	x.l.mu.Lock()
	defer x.l.mu.Unlock()
	return (sees == showsText || sees == showsDesk) && !x.b.crashed
}

func (x *display) isDeaf() bool {
	x.l.mu.Lock()
	defer x.l.mu.Unlock()
	return x.b.deaf
}

// Lights are those of its keyboard.
func (x *display) Lights() uint8 {
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.lights
}

// Key presses a key of the box, or lets it go.
func (x *display) Key(down bool, sym uint32, code uint16) {
	if code == 0 {
		code = codeOf(sym)
	}
	if x.isDeaf() {
		return
	}
	x.mu.Lock()
	x.held[code] = down
	shift, ctrl, alt := x.held[codeShift] || x.held[codeShiftRight], x.held[codeCtrl] || x.held[codeCtrlRight], x.held[codeAlt] || x.held[codeAltRight]
	x.mu.Unlock()
	sees := x.sees(time.Now())
	if light := lockKeys[code]; down && light != 0 && x.lives(sees) {
		x.mu.Lock()
		x.lights ^= light
		x.mu.Unlock()
		return
	}
	if !down || sees == showsNothing || sees == showsStill {
		return
	}
	if code == codeDelete && ctrl && alt {
		x.l.mu.Lock()
		if !x.b.crashed {
			x.b.restart(time.Now())
		}
		x.l.mu.Unlock()
		return
	}
	text := typedBy(code, sym, shift, ctrl)
	if sees == showsDesk {
		if len(text) == 1 {
			x.mu.Lock()
			x.desk.Key(text[0])
			x.mu.Unlock()
		}
		return
	}
	x.t.Type([]byte(text))
}

// ScreenText is the text that is on the screen of a box, line by line, or what has been done at
// its desktop: for tests.
func (l *Lab) ScreenText(k estate.Key) string {
	x := l.shown[k]
	sees := x.sees(time.Now())
	x.mu.Lock()
	defer x.mu.Unlock()
	switch sees {
	case showsDesk:
		return x.desk.Text()
	case showsNothing:
		return ""
	}
	return x.term.Text()
}
