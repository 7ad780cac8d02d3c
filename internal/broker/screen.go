package broker

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
)

// A ScreenPath is one way to the screen of a device.
type ScreenPath struct {
	Name   string // of the endpoint
	Attach func(ctx context.Context) (gear.Attached, error)
}

// screen is the screen of a device, for as long as somebody sits at it. What it showed last
// stays when its connection is lost.
type screen struct {
	place

	gear   gear.Attached  // nil while there is none
	canvas *canvas.Canvas // nil before the first
	down   map[key]bool   // keys that are pressed
	keys   string         // the seat that has pressed them

	framing sync.Mutex
	framer  picture.Framer
	frames  []frame // the newest last
}

// key is a key of a keyboard, as gear is told of it.
type key struct {
	sym  uint32
	code uint16
}

func newScreen(r *Room, k estate.Key) *screen {
	s := &screen{place: newPlace(r, k, aScreen), down: map[key]bool{}}
	s.moved = s.handedOver
	return s
}

// run keeps a connection to the screen, and the clock, until nobody sits at it, or ctx ends.
func (s *screen) run(ctx context.Context) {
	ctx, stop := context.WithCancel(ctx)
	var calling sync.WaitGroup
	defer calling.Wait()
	defer stop()
	calling.Go(func() {
		s.keepTrying(ctx, s.attach, func(state string) { s.becomes(nil, state) })
	})
	s.keep(ctx, func() bool {
		return s.room.end(&s.place, func() bool { return false }, func() { delete(s.room.screens, s.device) })
	})
}

// attach connects to the screen on the first path that leads there, until that is lost.
func (s *screen) attach(ctx context.Context) error {
	paths, err := s.room.Screens(s.device)
	if err != nil {
		return err
	}
	var failed []error
	for _, p := range paths {
		a, err := p.Attach(ctx)
		if err != nil {
			failed = append(failed, fmt.Errorf("%s: %w", p.Name, err))
			continue
		}
		s.becomes(a, "up by "+p.Name)
		err = a.Look(true)
		if err == nil {
			select {
			case <-ctx.Done():
				s.release()
			case <-a.Ended():
				err = a.Err()
			}
		}
		_ = a.Close()
		return err
	}
	return errors.Join(failed...)
}

func (s *screen) becomes(a gear.Attached, state string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.gear = a; a != nil {
		s.canvas = a.Canvas()
		clear(s.down)
	}
	s.is(a != nil, state)
}

// handedOver lets go of keys that somebody has pressed who has not got the keyboard any more.
// mu is held.
func (s *screen) handedOver(time.Time) {
	if s.keys != s.seats.Keyboard {
		s.letGo()
	}
}

// letGo lets go of all keys. mu is held.
func (s *screen) letGo() {
	if s.gear != nil {
		for k := range s.down {
			_ = s.gear.Key(false, k.sym, k.code) // what cannot be sent is lost with the connection
		}
	}
	clear(s.down)
	s.keys = s.seats.Keyboard
}

func (s *screen) release() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.letGo()
}

// frame is a frame that was made for somebody, and may do for others.
type frame struct {
	of       *canvas.Canvas
	from, to uint64
	form     picture.Form
	body     []byte
}

// mostFrames is how many are remembered: as many as there are paces at which people look.
const mostFrames = 8

// frameFrom is what is new on a canvas since a moment; without a body, nothing is. It is made
// once for all who look from there.
func (s *screen) frameFrom(c *canvas.Canvas, from uint64, form picture.Form) frame {
	s.framing.Lock()
	defer s.framing.Unlock()
	f := frame{of: c, from: from, form: form}
	made := false
	f.to = c.Look(from, func(p *picture.Picture, parts []picture.Rect) {
		for _, have := range s.frames {
			if have.of == c && have.from == from && have.form == form && have.to == c.Moment() {
				f.body = have.body
				return
			}
		}
		f.body, made = s.framer.Frame(p, parts, form), true
	})
	if made {
		s.frames = append(s.frames, f)
		s.frames = s.frames[max(0, len(s.frames)-mostFrames):]
	}
	return f
}

// View takes a seat at the screen of a device. A seat whose ID is known is taken again.
func (r *Room) View(k estate.Key, x seat.Seat) (*View, error) {
	if err := seat.MaySit(x.Role); err != nil { // before a screen is called for them
		return nil, err
	}
	if _, err := r.Screens(k); err != nil {
		return nil, err
	}
	if x.ID == "" {
		x.ID = newID()
	}
	v, err := r.view(k, x)
	if err == nil {
		r.Bus.Seated.Publish(k)
	}
	return v, err
}

func (r *Room) view(k estate.Key, x seat.Seat) (*View, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s := r.screens[k]
	if s == nil {
		ctx := r.ctx
		if ctx == nil || ctx.Err() != nil {
			return nil, &seat.NoError{Text: "the service is starting, or stopping: nobody can sit at a screen now"}
		}
		s = newScreen(r, k)
		r.screens[k] = s
		r.work.Go(func() { s.run(ctx) })
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	sits, err := s.sit(x)
	if err != nil {
		return nil, err
	}
	return &View{Sitting: sits, s: s}, nil
}

// Glimpse is what the screen of a device shows now, without sitting down at it: as somebody
// sees it who does, or by a connection for a moment.
func (r *Room) Glimpse(ctx context.Context, k estate.Key, settle time.Duration) (*picture.Picture, error) {
	r.mu.Lock()
	s := r.screens[k]
	r.mu.Unlock()
	if s != nil {
		s.mu.Lock()
		c, up := s.canvas, s.up
		s.mu.Unlock()
		if up && c.Drawn() {
			return c.Picture(), nil
		}
	}
	paths, err := r.Screens(k)
	if err != nil {
		return nil, err
	}
	var failed []error
	for _, p := range paths {
		a, err := p.Attach(ctx)
		if err == nil {
			var seen *picture.Picture
			seen, err = glimpse(ctx, a, settle)
			_ = a.Close()
			if err == nil {
				return seen, nil
			}
		}
		failed = append(failed, fmt.Errorf("%s: %w", p.Name, err))
	}
	return nil, errors.Join(failed...)
}

// glimpse waits until something has been drawn, and that has been there for a moment: a first
// picture may come in parts.
func glimpse(ctx context.Context, a gear.Attached, settle time.Duration) (*picture.Picture, error) {
	if err := a.Look(true); err != nil {
		return nil, err
	}
	c := a.Canvas()
	drawn := c.News(canvas.Blank)
	var settled <-chan time.Time
	for {
		select {
		case <-drawn:
			drawn, settled = nil, time.After(settle)
		case <-settled:
			return c.Picture(), nil
		case <-a.Ended():
			return nil, a.Err()
		case <-ctx.Done():
			return nil, errors.New("it has shown nothing yet")
		}
	}
}
