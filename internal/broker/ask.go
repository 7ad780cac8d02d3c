package broker

import (
	"context"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/seat"
)

// How long a line is waited for that is called, and how long it may take to answer.
const (
	askUp      = 20 * time.Second
	askAnswer  = 4 * time.Second
	askSettled = 700 * time.Millisecond
)

// An Answer is what a line said to a newline.
type Answer struct {
	Up    bool
	Line  string // of the connection, in words
	Asked bool   // false: somebody else types there, or it could not be sent
	Said  string
}

// Ask sits at the line of a device, presses Enter, and sees what is said. Where somebody
// types, nothing is sent.
func (r *Room) Ask(ctx context.Context, k estate.Key, who string, role operation.Role) (a Answer, err error) {
	seat, err := r.Sit(k, Coming{Seat: seat.Seat{Who: who, Role: role}, After: -1})
	if err != nil {
		return a, err
	}
	defer seat.Leave()
	ctx, cancel := context.WithTimeout(ctx, askUp)
	defer cancel()
	var said strings.Builder
	for {
		n, err := seat.Next(ctx)
		if err != nil {
			a.Said = said.String()
			return a, nil //nolint:nilerr // the time is up: that is the answer
		}
		said.Write(n.Said)
		if n.State != nil {
			a.Up, a.Line = n.State.Up, n.State.Words
		}
		if a.Up && !a.Asked {
			if seat.Type([]byte("\r")) != nil {
				a.Said = said.String() // somebody types there, and is not disturbed
				return a, nil
			}
			a.Asked = true
			said.Reset()
			var answered context.CancelFunc
			ctx, answered = context.WithTimeout(ctx, askAnswer)
			defer answered()
			continue
		}
		if a.Asked && said.Len() > 2 {
			var settled context.CancelFunc
			ctx, settled = context.WithTimeout(ctx, askSettled) // a prompt may come in pieces
			defer settled()
		}
	}
}

// How long the lights of a keyboard are waited for.
const (
	lightsAt     = 2 * time.Second
	lightsLook   = 20 * time.Millisecond
	lightsBehind = 300 * time.Millisecond // between one press and the next
)

// Tap presses Num Lock of a device twice, and sees whether its light comes back: it is the system
// that switches it. Where somebody types, nothing is pressed.
func (r *Room) Tap(ctx context.Context, k estate.Key, who string, role operation.Role) (lights, answered bool, err error) {
	v, err := r.View(k, seat.Seat{Who: who, Role: role, Brief: true})
	if err != nil {
		return false, false, err
	}
	defer v.Leave()
	if err := v.Up(ctx, askUp); err != nil {
		return false, false, err
	}
	before, known := v.lights(ctx, func(uint8) bool { return true })
	for range 2 {
		if err := v.Strokes(ctx, []keyboard.Chord{numLock}, lightsBehind/3, lightsBehind); err != nil {
			return known, false, err
		}
		if known && !answered {
			_, answered = v.lights(ctx, func(now uint8) bool { return now != before })
		}
	}
	v.Record("Pressed Num Lock twice at the screen of %s, to see its light", k)
	return known, answered, nil
}

var numLock = func() keyboard.Chord { c, _ := keyboard.Parse("num-lock"); return c }() // it is known

// lights waits for what the lights of the keyboard are to be.
func (v *View) lights(ctx context.Context, are func(uint8) bool) (lights uint8, came bool) {
	ctx, cancel := context.WithTimeout(ctx, lightsAt)
	defer cancel()
	for {
		v.s.mu.Lock()
		g := v.s.gear
		v.s.mu.Unlock()
		if g != nil {
			if now, known := g.Lights(); known && are(now) {
				return now, true
			}
		}
		select {
		case <-ctx.Done():
			return 0, false
		case <-time.After(lightsLook):
		}
	}
}
