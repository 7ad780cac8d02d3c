package broker

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/serial"
	"plumbbob/internal/store"
)

// How a line is called again that was lost, and how long one is kept at which nobody sits.
const (
	againFirst = time.Second
	againMost  = 15 * time.Second
	lingers    = 5 * time.Second
	aliveEvery = 10 * time.Second

	keptNotices = 50
)

// line is one line, for as long as somebody sits at it, or it is listened to.
type line struct {
	room   *Room
	device estate.Key

	mu      sync.Mutex
	seats   serial.Seats
	log     serial.Log
	rec     recorder
	hidden  []hidden
	call    *attach.Call
	state   string // of the connection, in words
	port    string // how the serial port at the far end is, in words; empty: not known
	up      bool
	notices []string // the newest, and how many there were before them
	before  int
	over    bool          // it has ended, with the service
	version int           // counts changes of all but the log
	news    chan struct{} // closed when anything is new
	poked   chan struct{} // wakes the loop: somebody has come, or gone
}

// hidden is what the line has said while one was alone. to is -1 while that goes on.
type hidden struct {
	from, to int64
	seat     string
}

func newLine(r *Room, k estate.Key) *line {
	l := &line{room: r, device: k, state: "calling", news: make(chan struct{}), poked: make(chan struct{}, 1)}
	l.rec.news = make(chan struct{}, 1)
	return l
}

// tell has all look again. l.mu is held.
func (l *line) tell(said ...string) {
	l.notices = append(l.notices, said...)
	if over := len(l.notices) - keptNotices; over > 0 {
		l.notices, l.before = l.notices[over:], l.before+over
	}
	l.version++
	l.wake()
}

func (l *line) wake() {
	close(l.news)
	l.news = make(chan struct{})
}

func (l *line) poke() {
	select {
	case l.poked <- struct{}{}:
	default:
	}
}

// sit adds a seat, or finds it again.
func (l *line) sit(c Coming) (*Seat, error) {
	now := time.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	known := len(l.seats.All)
	said, err := l.seats.Sit(c.Seat, now)
	if err != nil {
		return nil, err
	}
	s := &Seat{ID: c.ID, l: l, at: c.After, notices: l.before + len(l.notices), version: -1}
	if c.After < 0 || c.After > l.log.End() { // or from another start
		s.at = l.log.Tail(someOf)
	}
	l.tell(said...)
	l.poke()
	if len(l.seats.All) > known {
		l.record(c.Who, "Sat down at the serial line of %s", l.device)
	}
	return s, nil
}

// record writes into the journal, beside.
func (l *line) record(who, format string, args ...any) {
	l.room.Record(store.Entry{At: time.Now().UTC(), Kind: store.EntrySerial, Site: l.site(), Device: l.device, Who: who, Text: fmt.Sprintf(format, args...), Result: "done"})
}

// left records who has gone.
func (l *line) left(x serial.Seat) {
	l.record(x.Who, "Left the serial line of %s, after %s", l.device, time.Since(x.Since).Round(time.Second))
}

// run calls the line and keeps the clock, until nobody sits at it or listens to it, or ctx
// ends.
func (l *line) run(ctx context.Context) {
	ctx, stop := context.WithCancel(ctx)
	var calling sync.WaitGroup
	defer calling.Wait()
	defer stop()
	calling.Go(func() { l.keepCalling(ctx) })
	calling.Go(func() { l.keepRecord(ctx) })
	timer := time.NewTimer(lingers)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
		case <-l.poked:
		case <-timer.C:
		}
		wait, empty, changed := l.tick(time.Now())
		if changed {
			l.room.Bus.Seated.Publish(l.device)
		}
		if (empty || ctx.Err() != nil) && l.room.end(l) {
			return
		}
		timer.Reset(wait)
	}
}

// tick does what time does, and says when that is to be looked at again.
func (l *line) tick(now time.Time) (wait time.Duration, empty, changed bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	said, gone := l.seats.Tick(now)
	for _, x := range gone {
		l.left(x)
	}
	if len(said) > 0 {
		l.tell(said...)
	}
	l.curtain(now)
	if len(l.seats.All) == 0 {
		return lingers, true, len(said) > 0
	}
	if at := l.seats.Next(); !at.IsZero() {
		return max(0, at.Sub(now)), false, len(said) > 0
	}
	return time.Hour, false, len(said) > 0
}

// curtain begins and ends what is hidden, as somebody is alone or is not any more.
func (l *line) curtain(now time.Time) {
	oldest := l.log.Tail(serial.Keep)
	l.hidden = slices.DeleteFunc(l.hidden, func(h hidden) bool { return h.to >= 0 && h.to <= oldest })
	alone := now.Before(l.seats.Alone)
	n := len(l.hidden)
	open := n > 0 && l.hidden[n-1].to < 0
	switch {
	case open && (!alone || l.hidden[n-1].seat != l.seats.Keyboard):
		l.hidden[n-1].to = l.log.End()
		l.wake()
		l.curtain(now)
	case alone && !open:
		l.hidden = append(l.hidden, hidden{l.log.End(), -1, l.seats.Keyboard})
	}
}

// keepCalling keeps a call up, on the first path that leads there.
func (l *line) keepCalling(ctx context.Context) {
	again := againFirst
	for ctx.Err() == nil {
		began := time.Now()
		err := l.listen(ctx)
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > againMost {
			again = againFirst
		}
		l.becomes(nil, false, fmt.Sprintf("lost: %s; it is called again", err))
		select {
		case <-ctx.Done():
		case <-time.After(again):
		}
		again = min(2*again, againMost)
	}
}

// portIs takes in how the serial port at the far end is.
func (l *line) portIs(p attach.Port) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if words := p.Words(); l.port != words {
		l.port = words
		l.tell()
	}
}

func (l *line) becomes(c *attach.Call, up bool, state string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.call = c; !up {
		l.port = ""
	}
	if l.up != up || l.state != state {
		l.up, l.state = up, state
		l.tell()
	}
}

// listen calls the line, and hears what it says until that ends.
func (l *line) listen(ctx context.Context) error {
	paths, err := l.room.Paths(l.device)
	if err != nil {
		return err
	}
	var failed []error
	for _, p := range paths {
		c, err := p.Line.Call(ctx)
		if err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", p.Name, plain(err)))
			continue
		}
		l.becomes(c, true, fmt.Sprintf("up by %s, at %s", p.Name, c.Address))
		err = l.hear(ctx, c)
		p.Line.Lost(c)
		return plain(err)
	}
	return errors.Join(failed...)
}

// plain is an error without what only programs need.
func plain(err error) error {
	if errors.Is(err, net.ErrClosed) {
		return errors.New("it was ended")
	}
	return err
}

func (l *line) hear(ctx context.Context, c *attach.Call) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	go func() {
		tick := time.NewTicker(aliveEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-c.PortNews():
				l.portIs(c.Port())
			case <-tick.C:
				if err := c.Alive(ctx); err != nil {
					stop(fmt.Errorf("no sign of life: %w", err))
					return
				}
			}
		}
	}()
	r := c.Reader()
	for {
		said, missed, err := r.Next(ctx)
		if err != nil {
			return err
		}
		l.mu.Lock()
		if missed > 0 {
			l.log.Append(fmt.Appendf(nil, "\r\n[%d bytes were lost here]\r\n", missed))
		}
		l.log.Append(said)
		l.keepSaid(said, time.Now())
		l.wake()
		l.mu.Unlock()
	}
}
