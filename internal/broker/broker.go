// Package broker holds the one connection to a serial line, or to a screen, and serves all who
// sit there.
//
//	broker.go  the room: lines and screens by device, and taking a seat
//	place.go   what lines and screens have in common: who sits there
//	line.go    one line: calling it, what it says, and what happens at it
//	seat.go    one person at it, as a transport sees them
//	record.go  what a line says, on its way to the store
//	screen.go  one screen
//	view.go    one person at it, as a transport sees them
//	channel.go what a KVM shows that shows one port at a time
//	film.go    what a screen showed that is watched
//	glimpse.go a picture of a screen, without sitting down
package broker

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"sync"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
)

// A Path is one way to the line of a device.
type Path struct {
	Name string // of the endpoint
	Line *attach.Line
}

// Parts are what the broker needs of others.
type Parts struct {
	Estate func() *estate.Estate
	// Paths are the ways to the line of a device, in order of preference. None is an error
	// that says what is missing.
	Paths func(estate.Key) ([]Path, error)
	// Screens are likewise the ways to its screen.
	Screens func(estate.Key) ([]gear.View, error)
	Record  func(store.Entry) // beside; it must not wait
	// Pack makes a file of a picture, and ReadText the text of it, if it shows some; nil: none.
	Pack     func(*picture.Picture) ([]byte, error)
	ReadText func(*picture.Picture) ([]string, bool)
	Bus      *bus.Bus

	// TryDisplay is how long another display is tried that a KVM pretends to be; 0: triedFor.
	TryDisplay time.Duration

	Records Records
	Health  *health.Book
	// Acts says whether this service, of several, is the one that listens.
	Acts func() bool
}

// Room is where lines are. It may be shared between goroutines.
type Room struct {
	Parts
	work sync.WaitGroup

	mu      sync.Mutex
	ctx     context.Context // of Run: lines live in it; nil before
	lines   map[estate.Key]*line
	screens map[estate.Key]*screen
	kept    map[estate.Key]bool // these are listened to while nobody sits at them
	watched map[estate.Key]bool // these screens are watched likewise

	channels channels
	fallen   chan fallen
}

// New returns a room without lines.
func New(p Parts) *Room {
	return &Room{Parts: p, lines: map[estate.Key]*line{}, screens: map[estate.Key]*screen{}, fallen: make(chan fallen, mostFallen)}
}

// Run lets people sit down until ctx ends, and returns the cause when all lines have ended.
func (r *Room) Run(ctx context.Context) error {
	r.mu.Lock()
	r.ctx = ctx
	r.mu.Unlock()
	r.work.Go(func() { r.keepFilms(ctx) })
	tick := time.NewTicker(listenEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		r.listen(ctx)
		select {
		case <-ctx.Done():
		case <-tick.C:
		}
	}
	r.mu.Lock()
	r.ctx = nil // nobody begins a line any more
	r.mu.Unlock()
	r.work.Wait()
	return context.Cause(ctx)
}

// listenEvery is how often it is seen which lines are listened to, and which screens watched.
const listenEvery = 3 * time.Second

// listen calls the lines that the estate wants listened to, and the screens that it wants watched,
// and lets go of others.
func (r *Room) listen(ctx context.Context) {
	lines, screens := map[estate.Key]bool{}, map[estate.Key]bool{}
	if r.Acts == nil || r.Acts() {
		e := r.Estate()
		for i := range e.Devices {
			d := &e.Devices[i]
			if d.Listened() {
				lines[d.Key] = true
			}
			if e.Watched(d) {
				screens[d.Key] = true
			}
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for k := range lines {
		if r.lines[k] == nil {
			r.begin(ctx, k)
		}
	}
	for k := range screens {
		if r.screens[k] == nil {
			r.beginScreen(ctx, k)
		}
	}
	for k := range r.kept {
		if l := r.lines[k]; l != nil && !lines[k] {
			l.poke()
		}
	}
	for k := range r.watched {
		if s := r.screens[k]; s != nil && !screens[k] {
			s.poke()
		}
	}
	r.kept, r.watched = lines, screens
}

// beginScreen begins a screen. r.mu is held.
func (r *Room) beginScreen(ctx context.Context, k estate.Key) *screen {
	s := newScreen(r, k)
	r.screens[k] = s
	r.work.Go(func() { s.run(ctx) })
	return s
}

// begin begins a line. r.mu is held.
func (r *Room) begin(ctx context.Context, k estate.Key) *line {
	l := newLine(r, k)
	r.lines[k] = l
	r.work.Go(func() { l.run(ctx) })
	return l
}

// Coming is who comes to a line, and how.
type Coming struct {
	seat.Seat
	After int64 // goes on behind this byte; less than 0: with the last screenful
	New   bool  // wants nothing of what was said before
}

// someOf is how much of what was said before a newcomer is shown.
const someOf = 4 << 10

// Sit takes a seat at the line of a device. A seat whose ID is known is taken again.
func (r *Room) Sit(k estate.Key, c Coming) (*Seat, error) {
	if err := seat.MaySit(c.Role); err != nil { // before a line is called for them
		return nil, err
	}
	if _, err := r.Paths(k); err != nil {
		return nil, err
	}
	if c.ID == "" {
		c.ID = newID()
	}
	s, err := r.sit(k, c)
	if err == nil {
		r.Bus.Seated.Publish(k)
	}
	return s, err
}

func (r *Room) sit(k estate.Key, c Coming) (*Seat, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	l := r.lines[k]
	if l == nil {
		ctx := r.ctx
		if ctx == nil || ctx.Err() != nil {
			return nil, &seat.NoError{Text: "the service is starting, or stopping: nobody can sit at a line now"}
		}
		l = r.begin(ctx, k)
	}
	return l.sit(c)
}

// end ends a place that nobody needs any more, and says whether it is gone. kept says whether
// it is needed although nobody sits there, and forget takes it out of the room.
func (r *Room) end(p *place, kept func() bool, forget func()) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	p.mu.Lock()
	defer p.mu.Unlock()
	if (len(p.seats.All) > 0 || kept()) && r.ctx != nil && r.ctx.Err() == nil {
		return false
	}
	forget()
	p.over = true
	p.wake()
	return true
}

// line is the line of a device, nil while there is none.
func (r *Room) line(k estate.Key) *line {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.lines[k]
}

// An On is somebody at a line, or a screen.
type On struct {
	Who   string
	Types bool
	Since time.Time
}

// At lists who is at the line of a device, and at its screen.
func (r *Room) At(k estate.Key) (line, screen []On) {
	r.mu.Lock()
	l, s := r.lines[k], r.screens[k]
	r.mu.Unlock()
	if l != nil {
		line = l.who()
	}
	if s != nil {
		screen = s.who()
	}
	return line, screen
}

// who lists those at a place.
func (p *place) who() (on []On) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, x := range p.seats.All {
		on = append(on, On{x.Who, x.ID == p.seats.Keyboard, x.Since})
	}
	return on
}

// Words says who is at the line of a device, or at its screen, for previews: "i.marsh is on its
// serial line, and types". Who asks is left out.
func (r *Room) Words(k estate.Key, but string) (all []string) {
	add := func(on []On, where string) {
		for _, x := range on {
			switch {
			case x.Who == but:
			case x.Types:
				all = append(all, x.Who+" is "+where+", and types")
			default:
				all = append(all, x.Who+" is "+where)
			}
		}
	}
	line, screen := r.At(k)
	add(line, "on its serial line")
	add(screen, "at its screen")
	return all
}

// LastSaid is what the line of a device has said lately, as far as somebody hears it now; what
// was said while one was alone is left out.
func (r *Room) LastSaid(k estate.Key) (all []byte) {
	l := r.line(k)
	if l == nil {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for at := l.log.Tail(screenful); at < l.log.End(); {
		said, _, next := l.shown("", at)
		if next <= at {
			break
		}
		all, at = append(all, said...), next
	}
	return all
}

// screenful is enough to know a screen by, however it was drawn.
const screenful = 32 << 10

func newID() string {
	var b [12]byte
	_, _ = rand.Read(b[:]) // it never fails
	return hex.EncodeToString(b[:])
}
