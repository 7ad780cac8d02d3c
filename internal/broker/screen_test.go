package broker

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/picture"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/gear"
)

// glass is a screen whose far end is here.
type glass struct {
	*canvas.Canvas
	ended chan struct{}

	mu    sync.Mutex
	did   []string
	looks bool
}

func (g *glass) note(format string, args ...any) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.did = append(g.did, fmt.Sprintf(format, args...))
	return nil
}

func (g *glass) took() []string {
	g.mu.Lock()
	defer g.mu.Unlock()
	did := g.did
	g.did = nil
	return did
}

func (g *glass) Look(on bool) error { g.mu.Lock(); defer g.mu.Unlock(); g.looks = on; return nil }
func (g *glass) Again() error       { return g.note("again") }
func (g *glass) Key(down bool, sym uint32, code uint16) error {
	return g.note("%c%s", sym, map[bool]string{true: " down", false: " up"}[down])
}
func (g *glass) Point(x, y int, buttons uint8) error { return g.note("at %d,%d %d", x, y, buttons) }
func (g *glass) ByPosition() bool                    { return true }
func (g *glass) Ended() <-chan struct{}              { return g.ended }
func (g *glass) Err() error                          { return errors.New("the far end is gone") }
func (g *glass) Close() error                        { return nil }

// attached is a glass as gear has it, whose method of that name is taken.
type attached struct{ *glass }

func (a attached) Canvas() *canvas.Canvas { return a.glass.Canvas }

// watched is a room with one screen.
func watched(t *testing.T) (*desk, chan *glass) {
	d := newDesk(t)
	made := make(chan *glass, 8)
	d.Screens = func(k estate.Key) ([]ScreenPath, error) {
		if k != "kiosk" {
			return nil, errors.New("no screen of " + string(k))
		}
		return []ScreenPath{
			{"broken", func(context.Context) (gear.Attached, error) { return nil, net.ErrClosed }},
			{"kvm", func(context.Context) (gear.Attached, error) {
				g := &glass{Canvas: canvas.New(1, 1), ended: make(chan struct{})}
				made <- g
				return attached{g}, nil
			}},
		}, nil
	}
	return d, made
}

func sits(t *testing.T, d *desk, who string, role operation.Role) *View {
	v, err := d.View("kiosk", seat.Seat{Who: who, Role: role})
	require.NoError(t, err)
	require.NoError(t, v.Up(t.Context(), time.Minute))
	return v
}

// TestNoKeyStaysPressed: by whatever the keyboard leaves somebody.
func TestNoKeyStaysPressed(t *testing.T) {
	d, made := watched(t)
	marsh, g := sits(t, d, "marsh", operation.Keeper), <-made
	oduya := sits(t, d, "oduya", operation.Keeper)
	require.NoError(t, marsh.Key(true, 'a', 30))
	require.NoError(t, marsh.Key(true, 'A', 30)) // it repeats, with Shift by now
	require.NoError(t, marsh.Key(false, 'A', 30))
	require.Equal(t, []string{"a down", "a down", "a up"}, g.took(), "a key is let go of as what it was pressed as")
	require.NoError(t, marsh.Key(true, 'c', 29))
	require.ErrorContains(t, oduya.Key(true, 'x', 45), "marsh has the keyboard")
	require.ErrorContains(t, oduya.Point(1, 1, 1), "marsh has the keyboard")
	require.NoError(t, oduya.Take())
	require.Equal(t, []string{"c down", "c up"}, g.took(), "taken away")
	require.NoError(t, oduya.Key(true, 'd', 32))
	oduya.Lost()
	require.Equal(t, []string{"d down", "d up"}, g.took(), "lost")
	require.NoError(t, oduya.Key(true, 'e', 18))
	oduya.Leave()
	require.Equal(t, []string{"e down", "e up"}, g.took(), "left")
	require.NoError(t, marsh.Ask())
	require.NoError(t, marsh.Key(true, 'f', 33))
	marsh.LetGo()
	require.Equal(t, []string{"f down", "f up"}, g.took(), "the window is elsewhere")
	chord, err := keyboard.Parse("ctrl-alt-delete")
	require.NoError(t, err)
	require.NoError(t, marsh.Strokes(t.Context(), []keyboard.Chord{chord, chord[:1]}, 0, 0))
	require.Len(t, g.took(), 8)
	_, err = d.View("kiosk", seat.Seat{Who: "desk", Role: operation.Viewer})
	require.ErrorContains(t, err, "a viewer may see neither")
}

// TestAScreenComesBack: what it showed stays, and the next picture is whole; the same frame is
// made once for all.
func TestAScreenComesBack(t *testing.T) {
	d, made := watched(t)
	v, g := sits(t, d, "marsh", operation.Operator), <-made
	next := func() Seen {
		for {
			n, err := v.Next(t.Context(), Wants{Picture: true})
			require.NoError(t, err)
			if n.Frame != nil {
				return n
			}
		}
	}
	g.Take(picture.New(20, 20), nil)
	first := next().Frame
	p := picture.New(20, 20)
	p.Fill(picture.Rect{X: 17, Y: 17, W: 2, H: 2}, 0xff)
	g.Take(p, []picture.Rect{{W: 20, H: 20}})
	other := sits(t, d, "oduya", operation.Operator)
	changed := next().Frame
	require.Less(t, len(changed), len(first)+8, "only what has changed")
	f := v.s.frameFrom(v.of, 2, picture.InFull)
	again := v.s.frameFrom(v.of, 2, picture.InFull)
	require.Same(t, &f.body[0], &again.body[0], "made once")
	close(g.ended)
	require.Eventually(t, func() bool {
		n, err := other.Next(t.Context(), Wants{})
		require.NoError(t, err)
		return n.At != nil && n.At.Words == "lost: the far end is gone; it is called again"
	}, time.Minute, time.Millisecond)
	require.ErrorContains(t, v.Key(true, 'a', 30), "nothing was sent: the screen is lost")
	g = <-made
	require.NoError(t, v.Up(t.Context(), time.Minute))
	g.Take(p, []picture.Rect{{W: 20, H: 20}})
	got, err := d.Glimpse(t.Context(), "kiosk", 0)
	require.NoError(t, err)
	require.Equal(t, p.Pix, got.Pix)
	other.Leave()
	v.Leave()
	_, err = v.Next(t.Context(), Wants{})
	require.ErrorIs(t, err, ErrGone)
	_, err = d.View("router", seat.Seat{Who: "marsh", Role: operation.Keeper})
	require.ErrorContains(t, err, "no screen of router")
}
