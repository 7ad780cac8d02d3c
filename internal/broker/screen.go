package broker

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
)

// screen is the screen of a device, for as long as somebody sits at it. What it showed last
// stays when its connection is lost.
type screen struct {
	place

	gear      gear.Attached  // nil while there is none
	canvas    *canvas.Canvas // nil before the first
	down      map[key]bool   // keys that are pressed
	keys      string         // the seat that has pressed them
	waits     *gear.Port     // somebody else's screen is seen there
	elsewhere bool           // somebody at the KVM has chosen another port
	film      film

	displays []picture.Rect              // of its picture, where there are several
	replug   func(context.Context) error // of the path that it is up by; nil: that cannot be done
	edid     gear.Pretending             // of that path; nil: it pretends to be no other display
	pretence gear.Pretence               // as it was read last
	trial    *trial                      // of another display; nil: none is being tried
	bare     bool                        // next to nothing is on it
	awake    *awake                      // nil: nobody has asked for that
	pointer  struct{ x, y int }          // where it was last

	trouble gear.Kind // why there is no connection

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
		s.keepTrying(ctx, s.attach, func(state string, why error) { s.gone(state, why) })
	})
	calling.Go(func() { s.keepFilm(ctx) })
	calling.Go(func() { s.tend(ctx) })
	s.keep(ctx, func() bool {
		return s.room.end(&s.place, func() bool { return s.room.watched[s.device] }, func() { delete(s.room.screens, s.device); s.room.channels.leave(s) })
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
		was, err := s.attachBy(ctx, p)
		if was {
			return err
		}
		failed = append(failed, fmt.Errorf("%s: %w", p.Name, err))
	}
	return errors.Join(failed...)
}

// attachBy connects to it on one path, and says whether it was there.
func (s *screen) attachBy(ctx context.Context, p gear.View) (was bool, err error) {
	ctx, cut := context.WithCancelCause(ctx)
	defer cut(nil)
	if err := s.claim(ctx, p.Port, cut); err != nil {
		return false, err
	}
	a, err := attachTo(ctx, p)
	if err != nil {
		return false, err
	}
	defer func() { _ = a.Close() }()
	s.becomes(a, p, "up by "+p.Name+portWords(p.Port))
	if err := a.Look(true); err != nil {
		return true, err
	}
	var keeping sync.WaitGroup
	defer keeping.Wait()
	defer cut(nil)
	keeping.Go(func() { s.keepPort(ctx, p.Port, cut) })
	keeping.Go(func() { s.readPretence(ctx, p.Edid) })
	select {
	case <-ctx.Done():
		s.release()
		return true, context.Cause(ctx)
	case <-a.Ended():
		return true, a.Err()
	}
}

// attachTo connects on a path, and has the right port seen.
func attachTo(ctx context.Context, p gear.View) (gear.Attached, error) {
	a, err := p.Attach(ctx)
	if err != nil || p.Port == nil {
		return a, err
	}
	if err := p.Port.Show(ctx, a); err != nil {
		_ = a.Close()
		return nil, err
	}
	return a, nil
}

// gone is that there is no connection to it.
func (s *screen) gone(state string, why error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.gear, s.trouble = nil, gear.KindOf(why)
	var waits *waiting
	if errors.As(why, &waits) {
		s.trouble = ""
	}
	s.is(false, state)
}

func (s *screen) becomes(a gear.Attached, p gear.View, state string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.gear, s.canvas, s.replug, s.edid = a, a.Canvas(), p.Replug, p.Edid
	s.waits, s.trouble = nil, ""
	clear(s.down)
	s.is(true, state)
}

// handedOver lets go of keys that somebody has pressed who has not got the keyboard any more, and
// has those who have come see all that moves.
// mu is held.
func (s *screen) handedOver(time.Time) {
	if s.gear != nil && len(s.seats.All) > 0 {
		_ = s.gear.Look(true) // it may have been watched only; what is lost ends by itself
	}
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

// frameInTurn is what of a canvas goes next to somebody alone.
func (s *screen) frameInTurn(c *canvas.Canvas, t *picture.Turn, w Wants) (seen uint64, body []byte) {
	s.framing.Lock()
	defer s.framing.Unlock()
	seen = c.LookInTurn(t, w.Around, w.Room, func(p *picture.Picture, parts []picture.Rect) {
		body = s.framer.Frame(p, parts, w.Form)
	})
	return seen, body
}

// View takes a seat at the screen of a device. A seat whose ID is known is taken again.
func (r *Room) View(k estate.Key, x seat.Seat) (*View, error) {
	if err := seat.MaySit(x.Role); err != nil { // before a screen is called for them
		return nil, err
	}
	all, err := r.Screens(k)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(all, func(v gear.View) bool { return !v.LookOnly }) {
		x.Watch = true // there is no keyboard to have
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
		s = r.beginScreen(ctx, k)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	sits, err := s.sit(x)
	if err != nil {
		return nil, err
	}
	return &View{Sitting: sits, s: s}, nil
}
