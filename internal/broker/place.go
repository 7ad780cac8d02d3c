package broker

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
	"plumbbob/internal/store"
)

const (
	lingers     = 5 * time.Second // a place at which nobody sits is kept for so long
	keptNotices = 50
)

// How soon gear is tried again that was lost.
const (
	againFirst = time.Second
	againMost  = 15 * time.Second

	againWaiting = 500 * time.Millisecond // of what waits for people
)

// place is where people sit: at a line, or at a screen.
type place struct {
	room   *Room
	device estate.Key
	kind   kind
	moved  func(now time.Time) // is told, with mu held, when who sits how may have changed; or nil

	mu      sync.Mutex
	seats   seat.Table
	state   string // of the connection to the gear, in words
	up      bool
	notices []string // the newest, and how many there were before them
	before  int
	over    bool          // it has ended, with the service
	version int           // counts changes of all but what is said or shown
	news    chan struct{} // closed when anything is new
	poked   chan struct{} // wakes the loop: somebody has come, or gone
}

// kind is what sort of place it is.
type kind struct {
	words string // "serial line"
	entry string // of the journal
}

var (
	aLine   = kind{"serial line", store.EntrySerial}
	aScreen = kind{"screen", store.EntryScreen}
)

func newPlace(r *Room, k estate.Key, what kind) place {
	return place{room: r, device: k, kind: what, state: "calling", news: make(chan struct{}), poked: make(chan struct{}, 1)}
}

// tell has all look again. p.mu is held.
func (p *place) tell(said ...string) {
	p.notices = append(p.notices, said...)
	if over := len(p.notices) - keptNotices; over > 0 {
		p.notices, p.before = p.notices[over:], p.before+over
	}
	p.version++
	p.wake()
}

func (p *place) wake() {
	close(p.news)
	p.news = make(chan struct{})
}

func (p *place) poke() {
	select {
	case p.poked <- struct{}{}:
	default:
	}
}

// sit adds a seat, or finds it again, and returns it. p.mu is held.
func (p *place) sit(x seat.Seat) (*Sitting, error) {
	known := len(p.seats.All)
	said, err := p.seats.Sit(x, time.Now())
	if err != nil {
		return nil, err
	}
	s := &Sitting{ID: x.ID, who: x.Who, p: p, notices: p.before + len(p.notices), version: -1}
	p.tell(said...)
	p.poke()
	if len(p.seats.All) > known && !x.Brief {
		p.record(x.Who, "Sat down at the %s of %s", p.kind.words, p.device)
	}
	return s, nil
}

// record writes into the journal, beside.
func (p *place) record(who, format string, args ...any) {
	p.room.Record(store.Entry{At: time.Now().UTC(), Kind: p.kind.entry, Site: p.site(), Device: p.device, Who: who, Text: fmt.Sprintf(format, args...), Result: "done"})
}

// announce tells everybody at the place what somebody has done, and the journal. p.mu is held.
func (p *place) announce(who, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	p.tell(text)
	p.record(who, "%s", text)
}

// Record writes into the journal what somebody has done at the place.
func (s *Sitting) Record(format string, args ...any) { s.p.record(s.who, format, args...) }

// left records who has gone.
func (p *place) left(x seat.Seat) {
	if x.Brief {
		return
	}
	p.record(x.Who, "Left the %s of %s, after %s", p.kind.words, p.device, time.Since(x.Since).Round(time.Second))
}

func (p *place) site() estate.Key {
	if d := p.room.Estate().Device(p.device); d != nil {
		return d.Site
	}
	return ""
}

// keep keeps the clock until nobody needs the place any more, which end says, or ctx ends.
func (p *place) keep(ctx context.Context, end func() (gone bool)) {
	timer := time.NewTimer(lingers)
	defer timer.Stop()
	for {
		select {
		case <-ctx.Done():
		case <-p.poked:
		case <-timer.C:
		}
		wait, empty, changed := p.tick(time.Now())
		if changed {
			p.room.Bus.Seated.Publish(p.device)
		}
		if (empty || ctx.Err() != nil) && end() {
			return
		}
		timer.Reset(wait)
	}
}

// tick does what time does, and says when that is to be looked at again.
func (p *place) tick(now time.Time) (wait time.Duration, empty, changed bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	said, gone := p.seats.Tick(now)
	for _, x := range gone {
		p.left(x)
	}
	if len(said) > 0 {
		p.tell(said...)
	}
	p.hasMoved(now)
	if len(p.seats.All) == 0 {
		return lingers, true, len(said) > 0
	}
	if at := p.seats.Next(); !at.IsZero() {
		return max(0, at.Sub(now)), false, len(said) > 0
	}
	return time.Hour, false, len(said) > 0
}

func (p *place) hasMoved(now time.Time) {
	if p.moved != nil {
		p.moved(now)
	}
}

// is takes in how the connection to the gear is. p.mu is held.
func (p *place) is(up bool, state string) {
	if p.up != up || p.state != state {
		p.up, p.state = up, state
		p.tell()
	}
}

// keepTrying keeps a connection to the gear, until ctx ends; connect makes it, and returns when
// it is lost.
func (p *place) keepTrying(ctx context.Context, connect func(context.Context) error, lost func(state string, why error)) {
	again := againFirst
	for ctx.Err() == nil {
		began := time.Now()
		err := connect(ctx)
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > againMost {
			again = againFirst
		}
		var waits *waiting
		if errors.As(err, &waits) {
			lost("waiting: "+waits.text, err)
			again = againWaiting
		} else {
			lost(fmt.Sprintf("lost: %s; it is called again", err), err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(again):
		}
		again = min(2*again, againMost)
	}
}

func (p *place) seated() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.seats.All) > 0
}

// A Sitting is one person at a place.
type Sitting struct {
	ID  string
	who string
	p   *place

	// Owned by who asks for news.
	notices int
	version int
}

// At is how things are at a place.
type At struct {
	Up      bool
	Words   string // of the connection to the gear
	Seats   seat.Table
	You     string // your seat; empty: you have none any more
	MayTake bool

	// Of a screen at a KVM that shows one port at a time: somebody sits at another one that is
	// seen there, or somebody at the KVM has chosen another one.
	Waits, Moved bool
	LookOnly     bool // it takes neither keys nor a pointer
	Trouble      gear.Kind
	Displays     []picture.Rect
	Replugs      bool // its keyboard can be plugged out and in
	Pretence     gear.Pretence
	Trial        Trial     // the zero one: none runs
	Bare         bool      // next to nothing is on it
	Awake        time.Time // until then its device is kept awake; zero: it is not
}

// at is how things are for a seat. p.mu is held.
func (p *place) at(id string) At {
	a := At{Up: p.up, Words: p.state, Seats: p.seats}
	a.Seats.All = append([]seat.Seat(nil), p.seats.All...)
	if p.seats.Asked != nil {
		asked := *p.seats.Asked
		a.Seats.Asked = &asked
	}
	for _, x := range p.seats.All {
		if x.ID == id {
			a.You, a.MayTake = id, seat.May(x.Role, seat.Take)
		}
	}
	return a
}

// told is what the seat has not been told yet. p.mu is held.
func (s *Sitting) told() (notices []string, changed bool) {
	p := s.p
	if from := max(0, s.notices-p.before); from < len(p.notices) {
		notices = append(notices, p.notices[from:]...)
		s.notices = p.before + len(p.notices)
	}
	changed, s.version = s.version != p.version, p.version
	return notices, changed
}

// does changes who sits how, and tells everybody.
func (s *Sitting) does(f func(*seat.Table, time.Time) ([]string, error)) error {
	p := s.p
	p.mu.Lock()
	now := time.Now()
	said, err := f(&p.seats, now)
	if err == nil {
		p.hasMoved(now)
		p.tell(said...)
	}
	p.mu.Unlock()
	if err == nil {
		p.poke()
		p.room.Bus.Seated.Publish(p.device)
	}
	return err
}

// did tells everybody what somebody has done, who may have left meanwhile.
func (s *Sitting) did(say func(who string) string) error {
	return s.does(func(x *seat.Table, _ time.Time) ([]string, error) {
		for _, seat := range x.All {
			if seat.ID == s.ID {
				return []string{say(seat.Who)}, nil
			}
		}
		return nil, nil
	})
}

// Ask asks for the keyboard.
func (s *Sitting) Ask() error {
	return s.does(func(x *seat.Table, now time.Time) ([]string, error) { return x.Ask(s.ID, now) })
}

// Give hands the keyboard to who asks, or lets it go.
func (s *Sitting) Give() error {
	return s.does(func(x *seat.Table, now time.Time) ([]string, error) { return x.Give(s.ID, now) })
}

// Refuse keeps the keyboard.
func (s *Sitting) Refuse() error {
	return s.does(func(x *seat.Table, _ time.Time) ([]string, error) { return x.Refuse(s.ID) })
}

// Take takes the keyboard at once, for keepers.
func (s *Sitting) Take() error {
	return s.does(func(x *seat.Table, now time.Time) ([]string, error) {
		said, err := x.Take(s.ID, now)
		if err == nil {
			s.p.record(x.Holder().Who, "Took the keyboard of the %s of %s: %s", s.p.kind.words, s.p.device, said[0])
		}
		return said, err
	})
}

// Leave ends the seat.
func (s *Sitting) Leave() {
	_ = s.does(func(x *seat.Table, now time.Time) ([]string, error) {
		for _, was := range x.All {
			if was.ID == s.ID {
				s.p.left(was)
			}
		}
		return x.Leave(s.ID, now), nil
	})
}

// Lost keeps the seat for a while, for who comes back.
func (s *Sitting) Lost() {
	p := s.p
	p.mu.Lock()
	p.seats.Lost(s.ID, time.Now())
	p.version++
	p.wake()
	p.mu.Unlock()
	p.poke()
}
