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
)

// aliveEvery is how often a line is asked for a sign of life.
const aliveEvery = 10 * time.Second

// line is one line, for as long as somebody sits at it, or it is listened to.
type line struct {
	place // its lock is that of the line

	log    serial.Log
	rec    recorder
	hidden []hidden
	call   *attach.Call
	port   string // how the serial port at the far end is, in words; empty: not known
}

// hidden is what the line has said while one was alone. to is -1 while that goes on.
type hidden struct {
	from, to int64
	seat     string
}

func newLine(r *Room, k estate.Key) *line {
	l := &line{place: newPlace(r, k, aLine)}
	l.moved = l.curtain
	l.rec.news = make(chan struct{}, 1)
	return l
}

// sit adds a seat, or finds it again.
func (l *line) sit(c Coming) (*Seat, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	sits, err := l.place.sit(c.Seat)
	if err != nil {
		return nil, err
	}
	s := &Seat{Sitting: sits, l: l, at: c.After}
	switch {
	case c.New:
		s.at = l.log.End()
	case c.After < 0 || c.After > l.log.End(): // or from another start
		s.at = l.log.Tail(someOf)
	}
	return s, nil
}

// run calls the line and keeps the clock, until nobody sits at it or listens to it, or ctx
// ends.
func (l *line) run(ctx context.Context) {
	ctx, stop := context.WithCancel(ctx)
	var calling sync.WaitGroup
	defer calling.Wait()
	defer stop()
	calling.Go(func() {
		l.keepTrying(ctx, l.listen, func(state string, _ error) { l.becomes(nil, false, state) })
	})
	calling.Go(func() { l.keepRecord(ctx) })
	r := l.room
	l.keep(ctx, func() bool {
		return r.end(&l.place, func() bool { return r.kept[l.device] }, func() { delete(r.lines, l.device) })
	})
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
	l.is(up, state)
}

// listen calls the line, and hears what it says until that ends.
func (l *line) listen(ctx context.Context) error {
	paths, err := l.room.Paths(l.device)
	if err != nil {
		return err
	}
	var failed []error
	for _, p := range paths {
		if p.Line.Costs() && !l.seated() {
			continue
		}
		c, err := p.Line.Call(attach.Telling(ctx, func(words string) { l.becomes(nil, false, words) }))
		if err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", p.Name, plain(err)))
			continue
		}
		l.becomes(c, true, fmt.Sprintf("up by %s, at %s", p.Name, c.Address))
		l.portIs(c.Port())
		err = l.hear(ctx, c, p.Line.Costs())
		p.Line.Lost(c)
		return plain(err)
	}
	if len(failed) == 0 {
		return errNobody
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

// errNobody is how a call ends that costs, and for which nobody is there any more.
var errNobody = errors.New("nobody sits at it, and calling costs")

func (l *line) hear(ctx context.Context, c *attach.Call, costs bool) error {
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
				if costs && !l.seated() {
					stop(errNobody)
					return
				}
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
