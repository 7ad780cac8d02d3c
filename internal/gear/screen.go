package gear

import (
	"context"

	"plumbbob/internal/canvas"
)

// Screen is gear at which a screen is seen. Whoever attaches has a picture of their own; how
// many may at once is the gear's own affair.
type Screen interface {
	Attach(ctx context.Context) (Attached, error)
}

// Attached is a connection to a screen. It may be shared between goroutines.
type Attached interface {
	Canvas() *canvas.Canvas
	// Look has the picture kept up to date, or not any more.
	Look(on bool) error
	// Again has it sent as a whole.
	Again() error
	// Key presses a key or lets it go: its meaning, as a keysym of X, and its position, as a scan
	// code of set 1; either may be 0.
	Key(down bool, sym uint32, code uint16) error
	// Point moves the pointer, in pixels. Buttons are a bit each: left, middle, right, wheel up,
	// down, left, right.
	Point(x, y int, buttons uint8) error
	// ByPosition says whether keys are taken by their position.
	ByPosition() bool
	// Ended is closed when the connection has ended; Err says why then.
	Ended() <-chan struct{}
	Err() error
	Close() error
}
