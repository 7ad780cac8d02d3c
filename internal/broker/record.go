package broker

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"sync"
	"time"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/serial"
	"plumbbob/internal/store"
)

// Records keep what lines say and screens show. All may fail; then they are asked again.
type Records interface {
	SaveLinePart(ctx context.Context, p store.LinePart) error
	AddLineEvents(ctx context.Context, k, site estate.Key, screen bool, found []serial.Found) error
	DropLines(ctx context.Context, k estate.Key, most int) error
	SavePicture(ctx context.Context, p store.Picture) error
	DropPictures(ctx context.Context, site estate.Key, most int) error
}

// How a record is kept.
const (
	saveEvery = 5 * time.Second // while something is said
	saveTakes = 10 * time.Second
	mostParts = 32      // that wait for the store; then the oldest is lost
	mostFound = 200     // likewise
	dropAfter = 4 << 20 // so much was written: it is seen whether it is too much
	mostKept  = 50 << 20
)

// recorder has what a line says on its way to the store. The lock of the line guards it.
type recorder struct {
	parts   []*serial.Part // the last is the one that grows
	changed bool           // since it was saved
	lost    int            // bytes that the store did not take in time
	curtain bool           // it is said in the record that nothing is kept now
	known   serial.Recogniser
	of      *estate.Estate // whose patterns those are
	found   []serial.Found
	last    time.Time
	saving  sync.Mutex    // what is saved later is newer
	news    chan struct{} // something was said
}

// keepSaid takes in what was said. l.mu is held.
func (l *line) keepSaid(said []byte, now time.Time) {
	r := &l.rec
	if e := l.room.Estate(); e != r.of {
		r.of, r.known.Stated = e, stated(e.Device(l.device))
	}
	if alone := now.Before(l.seats.Alone); alone {
		if r.curtain {
			return // it is for nobody else, now or later
		}
		r.curtain = true
		said = fmt.Appendf(nil, "\r\n[not kept: %s is alone at the line]\r\n", l.seats.Holder().Who)
	} else {
		r.curtain = false
		r.found = append(r.found, r.known.Read(said, now)...)
	}
	r.last, r.changed = now, true
	n := len(r.parts)
	if n == 0 || r.parts[n-1].Full(now) {
		r.parts = append(r.parts, &serial.Part{})
		if n++; n > mostParts {
			r.lost += r.parts[0].Bytes
			r.parts = append(r.parts[:0], r.parts[1:]...)
			n--
		}
	}
	r.parts[n-1].Add(said, now)
	select {
	case r.news <- struct{}{}:
	default:
	}
}

// keepRecord saves what is said until ctx ends, and once more then.
func (l *line) keepRecord(ctx context.Context) {
	written := 0
	for {
		select {
		case <-ctx.Done():
			last, cancel := context.WithTimeout(context.WithoutCancel(ctx), saveTakes)
			defer cancel()
			l.settle(time.Now())
			_, _ = l.save(last) // what cannot be kept now is lost with us
			return
		case <-l.rec.news:
		}
		for quiet := false; !quiet; {
			select {
			case <-ctx.Done():
				quiet = true
				continue
			case <-time.After(serial.Settled):
			}
			quiet = l.settle(time.Now())
			n, err := l.save(ctx)
			if err != nil {
				quiet = false
				l.room.Health.Ails("lines", fmt.Sprintf("what serial lines say is not kept now, and waits: %s", err))
				pause(ctx, saveEvery)
				continue
			}
			l.room.Health.Well("lines")
			if n > 0 && !quiet {
				pause(ctx, saveEvery-serial.Settled)
			}
			if written += n; written > dropAfter {
				written = 0
				_ = l.room.Records.DropLines(ctx, l.device, mostKept) // or the next time
			}
		}
	}
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// settle looks at what a line has stopped at, and says whether it is quiet.
func (l *line) settle(now time.Time) (quiet bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if now.Sub(l.rec.last) < serial.Settled {
		return false
	}
	l.rec.found = append(l.rec.found, l.rec.known.Settle(now)...)
	return true
}

// Save brings what the line of a device has said to the store, for who reads it there.
func (r *Room) Save(ctx context.Context, k estate.Key) error {
	l := r.line(k)
	if l == nil {
		return nil
	}
	_, err := l.save(ctx)
	return err
}

// save brings to the store what is not there yet, and returns how much that was.
func (l *line) save(ctx context.Context) (written int, err error) {
	l.rec.saving.Lock()
	defer l.rec.saving.Unlock()
	l.mu.Lock()
	r := &l.rec
	found := r.found
	r.found = nil
	var parts []store.LinePart
	site := l.site()
	if r.changed {
		for _, p := range r.parts {
			parts = append(parts, store.LinePart{Device: l.device, Site: site, Began: p.Began(), Ended: p.Ended(), Content: p.Encode()})
		}
	}
	r.changed = false
	l.mu.Unlock()

	if len(found) > 0 {
		l.room.Bus.Recognised.Publish(bus.LineSaid{Device: l.device, Found: found})
		if err = l.room.Records.AddLineEvents(ctx, l.device, site, false, found); err != nil && !errors.Is(err, store.ErrAway) {
			found = nil // a row that the store refuses is refused the next time as well
		}
	}
	saved := 0
	for _, p := range parts {
		ctx, cancel := context.WithTimeout(ctx, saveTakes)
		partErr := l.room.Records.SaveLinePart(ctx, p)
		cancel()
		if partErr != nil {
			err = partErr
			break
		}
		saved++
		written += len(p.Content)
	}

	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil {
		r.changed = r.changed || saved < len(parts)
		r.found = append(found, r.found...)
		r.found = r.found[max(0, len(r.found)-mostFound):]
	}
	// What is saved, and does not grow any more, need not be remembered. Meanwhile the
	// oldest may have gone; what is dropped begins no later than what was saved last.
	if saved > 0 {
		last := parts[saved-1].Began
		for len(r.parts) > 1 && !r.parts[0].Began().After(last) {
			r.parts = r.parts[1:]
		}
		if len(r.parts) == 1 && r.parts[0].Full(time.Now()) && !r.changed {
			r.parts = nil
		}
	}
	return written, err
}

// stated are the patterns that the estate states for a device, as what compiles of them.
func stated(d *estate.Device) (list []serial.Pattern) {
	if d == nil {
		return nil
	}
	for _, ep := range d.Endpoints {
		for name, match := range ep.Recognise {
			if m, err := regexp.Compile(match); err == nil {
				list = append(list, serial.Pattern{Name: name, Level: reading.Warning, Match: m})
			}
		}
	}
	return list
}
