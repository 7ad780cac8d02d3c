package serial

import "time"

// How what was typed and has not come back yet is shown: dim and underlined, behind the
// cursor, which stays where the far end has it.
const (
	ghostOn   = "\x1b7\x1b[2;4m"
	ghostOff  = "\x1b[0m\x1b8"
	wipeOn    = "\x1b7"
	wipeOff   = "\x1b8"
	ghostMost = 60 // characters
)

// How slow a line has to be for that, and how long an echo may take before it is thought
// that none comes, as none does of a password.
const (
	slowEcho = 150 * time.Millisecond
	noEcho   = 4 * time.Second
)

// Ahead shows on a slow line what somebody has typed before its echo comes. It shows nothing
// until a character of the same line of input has come back, so that a password that is not
// echoed is not shown here either.
type Ahead struct {
	typed  []byte      // that has not come back
	at     []time.Time // when each of it was typed
	echoes bool        // what is typed comes back, on this line of input
	slow   bool        // and takes long to
	shown  int         // characters of it that are on the screen
}

// Typed is what somebody has typed, and returns what to draw for it.
func (a *Ahead) Typed(keys []byte, now time.Time) (draw []byte) {
	draw = a.wipe()
	if len(a.at) > 0 && now.Sub(a.at[0]) > noEcho {
		a.forget()
	}
	for _, k := range keys {
		if k < ' ' || k > '~' { // what it does to the line is for the far end to say
			a.forget()
			a.echoes = a.echoes && k != '\r'
			continue
		}
		a.typed, a.at = append(a.typed, k), append(a.at, now)
	}
	return append(draw, a.ghost()...)
}

func (a *Ahead) forget() { a.typed, a.at = nil, nil }

// Said is what the line has said, and returns what to draw before that and behind it.
func (a *Ahead) Said(said []byte, now time.Time) (before, behind []byte) {
	before = a.wipe()
	for _, b := range said {
		switch {
		case len(a.typed) > 0 && a.typed[0] == b:
			a.slow = now.Sub(a.at[0]) >= slowEcho
			a.echoes = true
			a.typed, a.at = a.typed[1:], a.at[1:]
		default: // it says something of its own, and what it does with the rest is not known
			a.forget()
			a.echoes = a.echoes && b != '\n'
		}
	}
	return before, a.ghost()
}

// ghost draws what has not come back.
func (a *Ahead) ghost() []byte {
	if !a.echoes || !a.slow || len(a.typed) == 0 {
		return nil
	}
	a.shown = min(len(a.typed), ghostMost)
	return append(append([]byte(ghostOn), a.typed[:a.shown]...), ghostOff...)
}

// wipe takes it off the screen again.
func (a *Ahead) wipe() (draw []byte) {
	if a.shown == 0 {
		return nil
	}
	draw = append(draw, wipeOn...)
	for range a.shown {
		draw = append(draw, ' ')
	}
	a.shown = 0
	return append(draw, wipeOff...)
}
