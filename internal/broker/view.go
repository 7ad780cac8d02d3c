package broker

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
)

// A View is one person at a screen. One goroutine may wait for news while another types.
type View struct {
	*Sitting
	s *screen

	// Owned by who calls Next.
	of   *canvas.Canvas
	seen uint64
	turn *picture.Turn // of whom not all is sent that is new; or nil
}

// Seen is what is new at a screen: a part of it, or all.
type Seen struct {
	At     *At // nil while nothing has changed
	Notice []string
	Frame  []byte // as picture.Framer writes it; nil: none
	Left   bool   // there was no room for all that is new
}

// Wants is what somebody waits for.
type Wants struct {
	Picture bool // and not only what happens at the screen
	Form    picture.Form
	Room    int             // of what is new, as that of picture.Turn; 0: all of it
	Around  picture.Rect    // where they point
	Changed <-chan struct{} // ends the wait, with nothing
}

// Next waits for news. Its error is that of ctx, ErrGone or ErrOver.
func (v *View) Next(ctx context.Context, w Wants) (n Seen, err error) {
	for {
		news, over := v.told(&n)
		switch {
		case over:
			return n, ErrOver
		case n.At != nil && n.At.You == "":
			return n, ErrGone
		}
		var drawn <-chan struct{}
		if w.Picture && v.of != nil {
			n.Frame, n.Left = v.frame(w)
			drawn = v.of.News(v.seen)
		}
		if n.At != nil || len(n.Notice) > 0 || n.Frame != nil {
			return n, nil
		}
		select {
		case <-news:
		case <-drawn:
		case <-w.Changed:
			return n, nil
		case <-ctx.Done():
			return Seen{}, context.Cause(ctx)
		}
	}
}

// frame is what goes next, and whether anything is left over.
func (v *View) frame(w Wants) (body []byte, left bool) {
	switch {
	case w.Room > 0 && v.turn == nil:
		v.turn = &picture.Turn{}
		v.of.BeginTurn(v.turn, v.seen)
	case w.Room == 0 && v.turn != nil:
		if v.turn.Left() {
			v.seen = 0
		}
		v.turn = nil
	}
	if v.turn == nil {
		f := v.s.frameFrom(v.of, v.seen, w.Form)
		v.seen = f.to
		return f.body, false
	}
	v.seen, body = v.s.frameInTurn(v.of, v.turn, w)
	return body, v.turn.Left()
}

// told takes what there is beside the picture, and says what tells when there is more.
func (v *View) told(n *Seen) (more <-chan struct{}, over bool) {
	s := v.s
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.over {
		return nil, true
	}
	var changed bool
	if n.Notice, changed = v.Sitting.told(); changed {
		at := s.at(v.ID)
		at.Waits, at.Moved = s.waits != nil, s.elsewhere
		at.Trouble, at.Bare = s.trouble, s.bare && s.gear != nil
		at.Displays, at.Replugs = s.displays, s.gear != nil && s.replug != nil
		if s.gear != nil && s.edid != nil {
			at.Pretence = s.pretence
		}
		if s.trial != nil {
			at.Trial = s.trial.Trial
		}
		if s.awake != nil {
			at.Awake = s.awake.until
		}
		at.LookOnly = s.gear != nil && s.gear.Takes() == gear.Takes{}
		n.At = &at
	}
	if v.of != s.canvas {
		v.of, v.seen, v.turn = s.canvas, canvas.Blank, nil // until something is drawn, the last picture stays
	}
	return s.news, false
}

// Mirror draws on a canvas what the screen shows, until ctx or the seat ends; its error says
// which.
func (v *View) Mirror(ctx context.Context, on *canvas.Canvas) error {
	for {
		var n Seen
		news, over := v.told(&n)
		switch {
		case over:
			return ErrOver
		case n.At != nil && n.At.You == "":
			return ErrGone
		}
		var drawn <-chan struct{}
		if v.of != nil {
			v.seen = v.of.Look(v.seen, on.Take)
			drawn = v.of.News(v.seen)
		}
		select {
		case <-news:
		case <-drawn:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// Anew has the next frame be of the whole picture, in whatever form.
func (v *View) Anew() { v.seen, v.turn = 0, nil }

// typing takes in that something is typed, and calls f with the gear.
func (v *View) typing(f func(gear.Attached) error) error {
	s := v.s
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.gear != nil && s.gear.Takes() == (gear.Takes{}) {
		return &seat.NoError{Text: "nothing was sent: a camera takes neither keys nor a pointer"}
	}
	if err := s.seats.Types(v.ID, time.Now()); err != nil {
		return err
	}
	if s.gear == nil {
		return &seat.NoError{Text: "nothing was sent: the screen is " + s.state}
	}
	s.keys = v.ID
	if err := f(s.gear); err != nil {
		return &seat.NoError{Text: fmt.Sprintf("it may not have been sent: %s", err)}
	}
	return nil
}

// Key presses a key, or lets it go, as those of gear.Attached.
func (v *View) Key(down bool, sym uint32, code uint16) error {
	return v.typing(func(g gear.Attached) error {
		k := key{sym, code}
		if code != 0 {
			k = v.s.known(code, sym)
		}
		if down {
			v.s.down[k] = true
		} else {
			delete(v.s.down, k)
		}
		return g.Key(down, k.sym, k.code)
	})
}

// known is a key that is down already, whatever it means by now: with Shift let go of in
// between, the same key has another meaning.
func (s *screen) known(code uint16, sym uint32) key {
	for k := range s.down {
		if k.code == code {
			return k
		}
	}
	return key{sym, code}
}

// Point moves the pointer.
func (v *View) Point(x, y int, buttons uint8) error {
	return v.typing(func(g gear.Attached) error {
		v.s.pointer.x, v.s.pointer.y = x, y
		return g.Point(x, y, buttons)
	})
}

// Replug has the keyboard be plugged out and in again, as its host sees it.
func (v *View) Replug(ctx context.Context) error {
	s := v.s
	var replug func(context.Context) error
	err := v.typing(func(gear.Attached) error {
		s.letGo() // of what would be pressed while it is out
		replug = s.replug
		return nil
	})
	switch {
	case err != nil:
		return err
	case replug == nil:
		return &seat.NoError{Text: "nothing was done: its gear cannot plug a keyboard out and in"}
	}
	if err := replug(ctx); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.announce(v.who, "%s had the keyboard of %s plugged out and in again", v.who, s.device)
	return nil
}

// Picture is what the screen shows now, or showed last; an empty one before the first.
func (v *View) Picture() *picture.Picture {
	v.s.mu.Lock()
	c := v.s.canvas
	v.s.mu.Unlock()
	if c == nil {
		return picture.New(0, 0)
	}
	return c.Picture()
}

// Again has the gear send the whole picture: anybody who looks may ask for that.
func (v *View) Again() error {
	s := v.s
	if s.again() {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.gear == nil {
		return &seat.NoError{Text: "the screen is " + s.state}
	}
	return s.gear.Again()
}

// LetGo lets go of all keys that are pressed, where they are this seat's.
func (v *View) LetGo() {
	v.s.mu.Lock()
	defer v.s.mu.Unlock()
	if v.s.keys == v.ID {
		v.s.letGo()
	}
}

// Lost keeps the seat for a while, for who comes back. No key is left pressed meanwhile.
func (v *View) Lost() {
	v.LetGo()
	v.Sitting.Lost()
}

// Up waits until the screen is there; if it is not in time, that says why.
func (v *View) Up(ctx context.Context, within time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	for {
		v.s.mu.Lock()
		up, state := v.s.up, v.s.state
		v.s.mu.Unlock()
		if up {
			return nil
		}
		if _, err := v.Next(ctx, Wants{}); err != nil {
			if ctx.Err() != nil {
				return fmt.Errorf("the screen of %s is not there: it is %s", v.s.device, state)
			}
			return err
		}
	}
}

// Strokes presses keys one chord after the other, each for a moment and with a pause behind it.
func (v *View) Strokes(ctx context.Context, chords []keyboard.Chord, held, gap time.Duration) error {
	for _, c := range chords {
		err := c.Press(func(down bool, k keyboard.Key) error { return v.Key(down, k.Sym, k.Code) }, func() { pause(ctx, held) })
		if err != nil {
			return err
		}
		pause(ctx, gap)
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
	}
	return nil
}
