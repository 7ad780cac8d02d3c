package localports

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/wire/modem"
	"plumbbob/internal/wire/tty"
)

// What calling costs is bounded.
const (
	callsWithin = 90 * time.Second // until the far end has answered
	callLasts   = time.Hour
	missesMost  = 3 // calls in a row that did not come about
	missesFor   = 15 * time.Minute
	hangUpTime  = time.Minute
	lookEvery   = 5 * time.Minute // at a modem that waits for calls
	freeWithin  = 50 * time.Millisecond
)

// errTooLong is how a call ends that has lasted for as long as one may.
var errTooLong = fmt.Errorf("the call has lasted for %s, which is the most, and was hung up", callLasts)

// A call is a connection by telephone.
type call struct {
	r     *Room
	p     *port
	modem *modem.Modem
	tty   *tty.Port
	says  string // of the connection, by the modem
	once  sync.Once

	long    *time.Timer
	tooLong atomic.Bool
}

// parts are the port and the number of an address, "NAME NUMBER".
func (r *Room) parts(address string) (*port, string, error) {
	name, number, _ := strings.Cut(address, " ")
	p, err := r.find(name)
	if err == nil && !p.Modem {
		err = fmt.Errorf("at %s is no modem: plumbd serve --modem %s=%s says that one is", name, name, p.Path)
	}
	return p, number, err
}

// Dial calls a number by a modem: address is "NAME NUMBER". How it goes is told by
// attach.Tell.
func (r *Room) Dial(ctx context.Context, address string) (attach.Wire, error) {
	p, number, err := r.parts(address)
	if err != nil {
		return nil, err
	}
	tries, err := p.mayCall(number, time.Now())
	if err != nil {
		return nil, err
	}
	done := p.want()
	defer done()
	if err := p.take(ctx); err != nil {
		return nil, errors.New("the modem is in a call already")
	}
	attach.Tell(ctx, "calling %s by the modem %s, try %d of %d", number, p.Name, tries+1, missesMost)
	c, err := r.call(ctx, p, func(ctx context.Context, m *modem.Modem) (string, error) { return m.Dial(ctx, number) })
	if err != nil {
		p.turn.Give()
		p.missedCall(number, time.Now())
		return nil, fmt.Errorf("%s by the modem %s: %w", number, p.Name, err)
	}
	p.got(number)
	return c, nil
}

// call opens the port, which has been taken, and makes a call on it.
func (r *Room) call(ctx context.Context, p *port, connect func(context.Context, *modem.Modem) (string, error)) (*call, error) {
	t, err := p.open()
	if err != nil {
		return nil, err
	}
	within, cancel := context.WithTimeoutCause(ctx, callsWithin, errors.New("nobody answers there"))
	defer cancel()
	m := modem.New(t)
	var said string
	if err = m.SetUp(within); err == nil {
		said, err = connect(within, m)
	}
	r.tells(p, err)
	if err != nil {
		_ = m.Close()
		return nil, err
	}
	return r.connected(p, m, t, said), nil
}

// connected is a call that has come about.
func (r *Room) connected(p *port, m *modem.Modem, t *tty.Port, said string) *call {
	c := &call{r: r, p: p, modem: m, tty: t, says: strings.TrimSpace("by modem " + strings.TrimPrefix(said, "CONNECT"))}
	c.long = time.AfterFunc(callLasts, func() {
		c.tooLong.Store(true)
		_ = c.Close()
	})
	return c
}

// tells has the health of the service say when a modem may hold the line, or does nothing.
func (r *Room) tells(p *port, err error) {
	name := "modem " + p.Name
	switch {
	case errors.Is(err, modem.ErrHolds), errors.Is(err, modem.ErrSilent):
		r.health.Ails(name, fmt.Sprintf("the modem %s at %s: %s", p.Name, p.Path, err))
	case err == nil:
		r.health.Well(name)
	}
}

// mayCall says how often in a row a number was called in vain lately, or why it is not
// called now.
func (p *port) mayCall(number string, now time.Time) (tries int, err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.missed = slices.DeleteFunc(p.missed, func(m missed) bool { return now.Sub(m.at) >= missesFor })
	var first time.Time
	for _, m := range p.missed {
		if m.number == number {
			if tries++; first.IsZero() {
				first = m.at
			}
		}
	}
	if tries >= missesMost {
		return tries, fmt.Errorf("%s was called %d times in vain; it is called again in %s at the earliest", number, tries, first.Add(missesFor).Sub(now).Round(time.Minute))
	}
	return tries, nil
}

func (p *port) missedCall(number string, at time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.missed = append(p.missed, missed{number, at})
}

func (p *port) got(number string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.missed = slices.DeleteFunc(p.missed, func(m missed) bool { return m.number == number })
}

// want has who waits for calls let go of the port, until done.
func (p *port) want() (done func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.wanted++
	if p.yield != nil {
		p.yield()
	}
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		p.wanted--
	}
}

// Well says whether a modem can be used. It calls nobody.
func (r *Room) Well(ctx context.Context, address string) error {
	p, _, err := r.parts(address)
	if err != nil {
		return err
	}
	p.mu.Lock()
	waits, ill := p.yield != nil, p.ill
	p.mu.Unlock()
	if waits || ill != nil {
		return ill
	}
	atOnce, cancel := context.WithTimeout(ctx, freeWithin)
	defer cancel()
	if p.turn.Take(atOnce) != nil {
		return nil // it is in a call
	}
	defer p.turn.Give()
	t, err := p.open()
	if err != nil {
		return err
	}
	defer func() { _ = t.Close() }()
	err = modem.New(t).SetUp(ctx)
	r.tells(p, err)
	return err
}

// Read implements io.Reader.
func (c *call) Read(b []byte) (int, error) {
	n, err := c.modem.Read(b)
	if err != nil && c.tooLong.Load() {
		err = errTooLong
	}
	return n, err
}

// Write implements io.Writer.
func (c *call) Write(b []byte) (int, error) { return c.modem.Write(b) }

// Break implements attach.Wire.
func (c *call) Break() error { return c.modem.Break() }

// Mark implements attach.Wire: who answers a telephone cannot be asked.
func (c *call) Mark() (<-chan struct{}, error) { return nil, nil }

// Port is the connection, and the lines of the modem.
func (c *call) Port() attach.Port { return portOf(c.tty, c.says) }

// PortNews tells of nothing.
func (c *call) PortNews() <-chan struct{} { return nil }

// SetPort sets nothing: how modems talk is between them.
func (c *call) SetPort(context.Context, string) error {
	return errors.New("at a modem the port at the far end cannot be set")
}

// Close hangs up, beside: that takes seconds. The port is free when it is certain.
func (c *call) Close() error {
	c.once.Do(func() {
		c.long.Stop()
		c.r.ending.Go(func() {
			defer c.p.turn.Give()
			ctx, cancel := context.WithTimeout(context.Background(), hangUpTime)
			defer cancel()
			c.r.tells(c.p, c.modem.HangUp(ctx))
			_ = c.modem.Close()
		})
	})
	return nil
}

// Await waits at a modem until somebody calls and it has rung so often, and answers. Who
// wants to call somebody from here meanwhile goes first.
func (r *Room) Await(ctx context.Context, name string, rings int) (io.ReadWriteCloser, error) {
	p, _, err := r.parts(name)
	if err != nil {
		return nil, err
	}
	for ctx.Err() == nil {
		c, err := r.await(ctx, p, rings)
		if c != nil || err != nil && ctx.Err() == nil {
			return c, err
		}
		p.unwanted(ctx)
	}
	return nil, context.Cause(ctx)
}

// errYields: somebody wants to call.
var errYields = errors.New("somebody calls from here")

// await is one wait; nothing, without an error, when it is to be begun again.
func (r *Room) await(ctx context.Context, p *port, rings int) (io.ReadWriteCloser, error) {
	if err := p.turn.Take(ctx); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	p.waits(func() { cancel(errYields) })
	t, m, err := r.rung(ctx, p, rings)
	p.waits(nil)
	if err == nil {
		var said string
		if said, err = m.Answer(context.WithoutCancel(ctx)); err == nil {
			return r.connected(p, m, t, said), nil
		}
		if result := (*modem.ResultError)(nil); errors.As(err, &result) {
			err = nil // they have hung up meanwhile
		}
	}
	if m != nil {
		_ = m.Close()
	}
	p.turn.Give()
	if context.Cause(ctx) == errYields || errors.Is(err, context.DeadlineExceeded) { //nolint:errorlint // it is bare
		return nil, nil //nolint:nilnil // the next wait
	}
	return nil, err
}

// rung opens the modem and waits until it has rung.
func (r *Room) rung(ctx context.Context, p *port, rings int) (*tty.Port, *modem.Modem, error) {
	t, err := p.open()
	if err != nil {
		return nil, nil, err
	}
	m := modem.New(t)
	err = m.SetUp(ctx)
	if ctx.Err() == nil {
		p.mu.Lock()
		p.ill = err
		p.mu.Unlock()
		r.tells(p, err)
	}
	if err != nil {
		return t, m, err
	}
	within, cancel := context.WithTimeout(ctx, lookEvery)
	defer cancel()
	return t, m, m.Rings(within, rings)
}

func (p *port) waits(yield func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.yield = yield; yield != nil && p.wanted > 0 {
		yield()
	}
}

// unwanted waits until nobody wants to call.
func (p *port) unwanted(ctx context.Context) {
	for ctx.Err() == nil {
		p.mu.Lock()
		wanted := p.wanted
		p.mu.Unlock()
		if wanted == 0 {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(100 * time.Millisecond):
		}
	}
}
