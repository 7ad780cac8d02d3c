// Package sending has the few words that drivers share with what has them act: what
// became of a command, and the buttons that can be pressed. A driver knows nothing of
// operations.
package sending

import "time"

// An Outcome says what became of a command that was sent to gear.
type Outcome uint8

// The outcomes. The zero value is the careful answer.
const (
	Unclear  Outcome = iota // sent, no usable answer: it may have happened
	NotSent                 // nothing left this host
	Refused                 // the gear answered, and declined
	Accepted                // the gear says that it will; it has not yet
)

// A Button is one on the front of a device.
type Button string

// The buttons.
const (
	PowerButton Button = "power"
	ResetButton Button = "reset"
)

// Buttons lists them.
var Buttons = []Button{PowerButton, ResetButton}

// How long buttons are pressed: shortly, and for longer than the 4 s after which
// firmware forces power off.
const (
	ShortPress = 400 * time.Millisecond
	LongPress  = 6 * time.Second
	ForcesOff  = 4 * time.Second
	MaxPress   = 15 * time.Second
)
