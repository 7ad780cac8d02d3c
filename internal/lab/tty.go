package lab

import (
	"context"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/machine"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/telnet"
)

// A tty is the serial port of a box. Whoever is connected to it, at a console
// server or at the box itself, sees and types at the same line.
type tty struct {
	l *Lab
	b *box

	mu      sync.Mutex
	seats   map[any]chan string
	typed   []byte
	user    string // whose password is asked for
	asks    asks
	machine *machine.Machine // nil of a shell
	port    *serialPort      // of the console server that it is wired to
	powered time.Time        // the start of the box that the line has told of
	ready   bool             // it has told that the box is up
}

// asks is what a tty waits for.
type asks int

const (
	asksUser asks = iota
	asksPassword
	asksCommand
)

const (
	seatRoom   = 64 // pieces of text that a slow reader may lag behind
	maxTyped   = 256
	killLine   = 0x15
	backspace  = 0x7f
	anotherOne = 0x08
)

// serveLine answers for the command line of a device over Telnet: at a console
// server where a serial cable leads there, and at the device itself otherwise.
func (l *Lab) serveLine(ctx context.Context, d *estate.Device, ep estate.Endpoint) error {
	t := l.ttyOf(ctx, d.Key)
	at, side := d.Key, ep.Name
	if d.OverSerial(ep) {
		at, side = d.Serial[0].Device, ""
	}
	for _, address := range ep.Addresses {
		p, err := l.open(ctx, at, address, side)
		if err != nil {
			return err
		}
		l.tasks.Go(func() error {
			return l.each(ctx, p, func(c net.Conn) { l.leadsTo(t).serve(ctx, c, l.boxes[at], side) })
		})
	}
	return nil
}

// leadsTo is the line at which a lead ends that is stated for one.
func (l *Lab) leadsTo(t *tty) *tty {
	l.mu.Lock()
	defer l.mu.Unlock()
	if other := l.ttys[t.b.crossed]; other != nil && len(t.b.d.Serial) > 0 {
		return other
	}
	return t
}

// Hear has the line heard, as a controller does that is wired to it.
func (t *tty) Hear() (said <-chan string, leave func()) {
	out := make(chan string, seatRoom)
	t.mu.Lock()
	t.seats[out] = out
	t.mu.Unlock()
	return out, func() {
		t.mu.Lock()
		delete(t.seats, out)
		t.mu.Unlock()
	}
}

// Type gives the box keys.
func (t *tty) Type(p []byte) {
	for _, k := range p {
		t.key(k)
	}
}

// ttyOf is the serial port of a box: one, whoever is wired to it.
func (l *Lab) ttyOf(ctx context.Context, k estate.Key) *tty {
	t := l.ttys[k]
	if t == nil {
		t = &tty{l: l, b: l.boxes[k], seats: map[any]chan string{}, machine: machine.New(string(k)), port: &serialPort{now: usualPort, box: usualPort}}
		l.mu.Lock()
		t.b.port = t.port
		if l.up(t.b, time.Now()) { // it has been running for long: that start is none to be led, or told of
			t.powered, t.ready = t.b.start(), true
			t.machine.Up()
		}
		l.mu.Unlock()
		l.ttys[k] = t
		l.tasks.Go(func() error { return t.live(ctx) })
	}
	return t
}

// serve is one connection to the line, for as long as the box that holds it does.
func (t *tty) serve(ctx context.Context, conn net.Conn, at *box, side string) {
	defer func() { _ = conn.Close() }()
	t.l.mu.Lock()
	began := at.powered
	t.l.mu.Unlock()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go t.l.hangUp(ctx, conn, at, began)
	c, err := telnet.Server(muted{conn, ctx, t.l, at, side})
	if err != nil {
		return
	}
	wired := side == "" // at a console server
	if wired {
		t.lend(c, ctx.Done())
	}
	var port *serialPort
	if wired {
		port = t.port
	}
	t.sit(ctx, c, port)
}

// sit is one who reads and types at the line, through a port that may be set otherwise
// than the box, until that ends.
func (t *tty) sit(ctx context.Context, c io.ReadWriter, port *serialPort) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	out := make(chan string, seatRoom)
	t.mu.Lock()
	t.seats[c] = out
	t.mu.Unlock()
	defer func() {
		t.mu.Lock()
		delete(t.seats, c)
		t.mu.Unlock()
	}()
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case text := <-out:
				_, _ = c.Write(port.garbled([]byte(text)))
			}
		}
	}()
	var b [256]byte
	for {
		n, err := c.Read(b[:])
		if err != nil {
			return
		}
		t.Type(port.garbled(b[:n]))
	}
}

// muted is a connection on which nothing comes and goes while that side of a box
// cannot answer.
type muted struct {
	net.Conn
	ctx  context.Context
	l    *Lab
	at   *box
	side string
}

func (m muted) Read(p []byte) (int, error) {
	n, err := m.Conn.Read(p)
	m.l.mute(m.ctx, m.at, m.side)
	return n, err
}

func (m muted) Write(p []byte) (int, error) {
	m.l.mute(m.ctx, m.at, m.side)
	return m.Conn.Write(p)
}

// say has everybody at the line see a text. The lock is held.
func (t *tty) say(format string, args ...any) {
	text := strings.ReplaceAll(fmt.Sprintf(format, args...), "\n", "\r\n")
	if text == "" {
		return
	}
	for _, out := range t.seats {
		select {
		case out <- text:
		default: // a terminal that does not read misses something
		}
	}
}

// live has the line tell what becomes of the box.
func (t *tty) live(ctx context.Context) error {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case now := <-tick.C:
			t.look(now)
		}
	}
}

// look brings the line and the box up to date with each other.
func (t *tty) look(now time.Time) {
	t.mu.Lock()
	held, anew, known := t.machine.Held(), t.machine.Anew(), t.powered
	t.mu.Unlock()

	t.l.mu.Lock()
	b := t.b
	if anew && b.start().Equal(known) {
		b.restart(now)
	}
	b.hold(held && b.start().Equal(known), now)
	seen := sight{start: b.start(), part: t.l.part(b, now), up: t.l.up(b, now), hung: b.hung, crashed: b.crashed, says: b.says}
	b.says = ""
	t.l.mu.Unlock()

	if !seen.start.Equal(known) && b.chassis != nil && !seen.start.IsZero() {
		seen.once = bootSources[b.chassis.ctl.TakeBoot()] // asked for without a lock of ours: it may be asking us
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	t.told(now, seen)
}

// bootSources are what a controller may have a start lead to, as far as a machine can.
var bootSources = map[ipmi.BootDevice]string{ipmi.BootDisk: machine.Disk, ipmi.BootNetwork: machine.Network, ipmi.BootCD: machine.Disc, ipmi.BootSetup: machine.Setup}

// sight is a box as its line has it.
type sight struct {
	start             time.Time
	part              float64 // of the start that is over
	up, hung, crashed bool
	once              string
	says              string
}

// told has the line tell what has become of the box. The lock is held.
func (t *tty) told(now time.Time, seen sight) {
	if !seen.start.Equal(t.powered) {
		t.powered, t.ready = seen.start, false
		if t.machine.End(); !seen.start.IsZero() {
			t.say("%s", t.machine.Begin(seen.once))
		}
	}
	if !seen.hung {
		t.say("%s", t.machine.Tick(now, seen.part))
	}
	if seen.crashed {
		t.say("%s", t.machine.Crash())
	}
	if seen.says != "" {
		t.say("\n%s\n", seen.says)
	}
	if seen.up && !t.ready {
		t.machine.Up()
		t.asks, t.typed = asksUser, nil
		t.say("\n%s is up.\n", t.b.d.Key)
		t.prompt()
	}
	t.ready = t.ready || seen.up
}

// key takes one key, while somebody is there who reads it.
func (t *tty) key(k byte) {
	now := time.Now()
	t.l.mu.Lock()
	up, dead := t.l.up(t.b, now), t.b.start().IsZero() || t.b.hung
	t.l.mu.Unlock()
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case dead:
	case t.machine != nil && !t.machine.Running():
		t.say("%s", t.machine.Key(k, now))
	case !up || !t.ready:
	case k == '\r':
		line := string(t.typed)
		t.typed = nil
		t.say("\n")
		t.entered(line)
	case k == killLine:
		t.typed = nil
	case k == backspace || k == anotherOne:
		t.typed = t.typed[:max(0, len(t.typed)-1)]
	case k >= ' ' && len(t.typed) < maxTyped:
		t.typed = append(t.typed, k)
		if t.asks != asksPassword {
			t.say("%c", k)
		}
	}
}

// entered takes a line that was typed. The lock is held.
func (t *tty) entered(line string) {
	switch t.asks {
	case asksUser:
		if t.user = strings.TrimSpace(line); t.user != "" {
			t.asks = asksPassword
		}
	case asksPassword:
		t.asks = asksCommand
		if t.user != ShellSecret.User || line != ShellSecret.Password {
			t.asks = asksUser
			t.say("That is not right.\n\n")
		}
	case asksCommand:
		switch line = strings.TrimSpace(line); {
		case line == "":
		case slices.Contains([]string{"exit", "logout"}, line):
			t.asks = asksUser
		default:
			text, _ := t.l.told(t.b, line)
			t.say("%s", text)
		}
	}
	t.prompt()
}

func (t *tty) prompt() {
	switch t.asks {
	case asksUser:
		t.say("%s login: ", t.b.d.Key)
	case asksPassword:
		t.say("Password: ")
	case asksCommand:
		t.say("%s> ", t.b.d.Key)
	}
}
