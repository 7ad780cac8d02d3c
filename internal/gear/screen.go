package gear

import (
	"context"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/picture"
)

// Screen is gear at which a screen is seen. Whoever attaches has a picture of their own; how
// many may at once is the gear's own affair.
type Screen interface {
	Attach(ctx context.Context) (Attached, error)
}

// Channel is a KVM of which one port is seen at a time.
type Channel interface {
	// ShownPort is the number of the port that is seen; 0: none.
	ShownPort(ctx context.Context) (int, error)
	// ShowPort has another one seen, and has read that back when it returns no error.
	ShowPort(ctx context.Context, port int) error
}

// Keyboard is gear that pretends to be a keyboard to its host, which can be plugged out and in.
type Keyboard interface {
	// Replug plugs it out, and in again; it has read that it is in when it returns no error.
	Replug(ctx context.Context) error
}

// Pretending is gear that pretends to be a display to its host (VESA E-EDID), one of several.
type Pretending interface {
	Pretends(ctx context.Context) (Pretence, error)
	// Pretend has it be another one, and has read that it is when it returns no error.
	Pretend(ctx context.Context, name string) error
}

// A Pretence is the display that gear pretends to be, and those that it could.
type Pretence struct {
	Is     string
	Offers []string
}

// A Port is one of several that a KVM shows, one at a time.
type Port struct {
	KVM  string // the endpoint at which they are seen
	Name string
	// Shown is the port that is seen now; nil: that cannot be read back.
	Shown func(ctx context.Context) (string, error)
	// Show has this one seen, at a connection at which nothing has been looked at yet.
	Show func(ctx context.Context, a Attached) error
}

// A View is a way to the screen of a device.
type View struct {
	Name   string // of the endpoint
	Attach func(ctx context.Context) (Attached, error)
	Port   *Port                           // nil: nothing else is seen there
	Replug func(ctx context.Context) error // nil: its keyboard cannot be plugged out and in
	Edid   Pretending                      // nil: it is the display that it is

	LookOnly bool // it takes neither keys nor a pointer
}

// Takes is what a screen takes. A camera takes nothing.
type Takes struct {
	Keys, Pointer bool
	ByPosition    bool // keys, by where they are on a keyboard
}

// Split is a connection to a screen whose picture has several displays on it.
type Split interface{ Displays() []picture.Rect }

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
	// Takes says what it takes beside being looked at.
	Takes() Takes
	// Lights are those of the keyboard, a bit each: Scroll Lock, Num Lock, Caps Lock; where the
	// gear tells of them.
	Lights() (lights uint8, known bool)
	// Ended is closed when the connection has ended; Err says why then.
	Ended() <-chan struct{}
	Err() error
	Close() error
}
