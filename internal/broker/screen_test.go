package broker

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
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
func (g *glass) Takes() gear.Takes                   { return gear.Takes{Keys: true, Pointer: true} }
func (g *glass) Ended() <-chan struct{}              { return g.ended }
func (g *glass) Lights() (uint8, bool)               { return 0, false }
func (g *glass) Err() error                          { return errors.New("the far end is gone") }
func (g *glass) Close() error                        { return nil }

// attached is a glass as gear has it, whose method of that name is taken.
type attached struct{ *glass }

func (a attached) Canvas() *canvas.Canvas { return a.glass.Canvas }

// watched is a room with one screen.
func watched(t *testing.T) (*desk, chan *glass) { return watchedOf(t, estate.Empty()) }

func watchedOf(t *testing.T, e *estate.Estate, more ...func(*Parts)) (*desk, chan *glass) {
	made := make(chan *glass, 8)
	edids := &edids{is: "small"}
	screens := func(k estate.Key) ([]gear.View, error) {
		if k != "kiosk" {
			return nil, errors.New("no screen of " + string(k))
		}
		return []gear.View{
			{Name: "broken", Attach: func(context.Context) (gear.Attached, error) { return nil, net.ErrClosed }},
			{Name: "kvm", Edid: edids, Attach: func(context.Context) (gear.Attached, error) {
				g := &glass{Canvas: canvas.New(1, 1), ended: make(chan struct{})}
				made <- g
				return attached{g}, nil
			}},
		}, nil
	}
	return deskOf(t, e, append(more, func(p *Parts) { p.Screens = screens })...), made
}

// edids pretends to be a display, and fails as often as it is to, when it is to go back.
type edids struct {
	mu    sync.Mutex
	is    string
	fails int
}

func (e *edids) Pretends(context.Context) (gear.Pretence, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	return gear.Pretence{Is: e.is, Offers: []string{"small", "large"}}, nil
}

func (e *edids) Pretend(_ context.Context, name string) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if name == "small" && e.fails > 0 {
		e.fails--
		return net.ErrClosed
	}
	e.is = name
	return nil
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
	got, err := d.Glimpse(t.Context(), "kiosk", 0, false)
	require.NoError(t, err)
	require.Equal(t, p.Pix, got.Pix)
	other.Leave()
	v.Leave()
	_, err = v.Next(t.Context(), Wants{})
	require.ErrorIs(t, err, ErrGone)
	_, err = d.View("router", seat.Seat{Who: "marsh", Role: operation.Keeper})
	require.ErrorContains(t, err, "no screen of router")
}

// kvm is a KVM that shows one of two ports.
type kvm struct {
	mu    sync.Mutex
	shown string
	at    map[string]*canvas.Canvas
}

func (x *kvm) shows() string { x.mu.Lock(); defer x.mu.Unlock(); return x.shown }
func (x *kvm) show(p string) { x.mu.Lock(); defer x.mu.Unlock(); x.shown = p }

func (x *kvm) view(port string) gear.View {
	return gear.View{
		Name: "kvm screen",
		Attach: func(context.Context) (gear.Attached, error) {
			return attached{&glass{Canvas: x.at[port], ended: make(chan struct{})}}, nil
		},
		Port: &gear.Port{
			KVM: "kvm screen", Name: port,
			Shown: func(context.Context) (string, error) { return x.shows(), nil },
			Show:  func(context.Context, gear.Attached) error { x.show(port); return nil },
		},
	}
}

// TestOnePortAtATime: who sits at a screen keeps it; a picture steals nothing, and who is moved away
// at the KVM types at nobody else's host.
func TestOnePortAtATime(t *testing.T) {
	x := &kvm{shown: "2", at: map[string]*canvas.Canvas{"1": canvas.New(1, 1), "2": canvas.New(1, 1)}}
	for _, c := range x.at {
		c.Take(picture.New(8, 8), nil)
	}
	ports := map[estate.Key]string{"one": "1", "two": "2"}
	d := deskOf(t, estate.Empty(), func(p *Parts) {
		p.Screens = func(k estate.Key) ([]gear.View, error) { return []gear.View{x.view(ports[k])}, nil }
	})
	_, err := d.Glimpse(t.Context(), "one", 0, false)
	require.ErrorContains(t, err, "not brought up for a picture")
	require.Equal(t, "2", x.shows())
	_, err = d.Glimpse(t.Context(), "one", 0, true)
	require.NoError(t, err, "somebody wants it")
	require.Equal(t, "1", x.shows())

	sit := func(k estate.Key, who string, role operation.Role) *View {
		v, err := d.View(k, seat.Seat{Who: who, Role: role})
		require.NoError(t, err)
		return v
	}
	at := func(v *View, is func(At) bool) {
		require.Eventually(t, func() bool {
			ctx, stop := context.WithTimeout(t.Context(), 10*time.Millisecond)
			defer stop()
			n, err := v.Next(ctx, Wants{})
			return err == nil && n.At != nil && is(*n.At)
		}, time.Minute, time.Millisecond)
	}
	marsh := sit("two", "marsh", operation.Operator)
	at(marsh, func(a At) bool { return a.Up && a.Words == "up by kvm screen, port 2" })
	oduya := sit("one", "oduya", operation.Keeper)
	at(oduya, func(a At) bool { return a.Waits && !a.Up })
	require.Equal(t, "2", x.shows(), "it is not stolen")
	_, err = d.Glimpse(t.Context(), "one", 0, true)
	require.ErrorContains(t, err, "at which is marsh since")
	require.NoError(t, oduya.Ask())
	require.Eventually(t, func() bool {
		ctx, stop := context.WithTimeout(t.Context(), 10*time.Millisecond)
		defer stop()
		n, _ := marsh.Next(ctx, Wants{})
		return len(n.Notice) > 0 && n.Notice[len(n.Notice)-1] == "oduya would like to see the screen of one, which kvm screen shows on the same channel: leave this one, and it does"
	}, time.Minute, time.Millisecond)
	require.NoError(t, oduya.Take())
	at(oduya, func(a At) bool { return a.Up })
	at(marsh, func(a At) bool { return a.Waits })
	require.ErrorContains(t, marsh.Take(), "only a keeper", "no keeper: and what is waited for is not taken")
	require.Equal(t, "1", x.shows())
	oduya.Leave()
	at(marsh, func(a At) bool { return a.Up })
	require.Equal(t, "2", x.shows(), "shown when the other has left")

	x.show("1") // by somebody at its front
	at(marsh, func(a At) bool { return !a.Up && a.Moved && !a.Waits })
	require.ErrorContains(t, marsh.Key(true, 'a', 30), "nothing was sent")
	require.Equal(t, "1", x.shows(), "nor is it taken from them")
	require.NoError(t, marsh.Again())
	at(marsh, func(a At) bool { return a.Up })
	require.Equal(t, "2", x.shows())
}

// TestAFilm: what a watched screen showed is read while nobody sits there, and kept once its
// device has fallen silent, although the store is away for a while.
func TestAFilm(t *testing.T) {
	e, _ := estate.New("pier", "kiosk", []estate.Site{{Key: "pier"}}, []estate.Device{{
		Key: "kiosk", Site: "pier", Endpoints: []estate.Endpoint{{Name: "screen", Protocol: estate.RFB, Watch: true}},
	}})
	var text sync.Mutex
	rows, seen := []string{"Starting", "ticket service up"}, 0
	d, made := watchedOf(t, e, func(p *Parts) {
		p.Pack = func(*picture.Picture) ([]byte, error) { return []byte("packed"), nil }
		p.ReadText = func(*picture.Picture) ([]string, bool) {
			text.Lock()
			defer text.Unlock()
			seen++
			return slices.Clone(rows), true
		}
	})
	g := <-made
	p := picture.New(20, 20)
	g.Take(p, nil)
	shots := func() int { d.book.mu.Lock(); defer d.book.mu.Unlock(); return len(d.book.pictures) }
	require.Eventually(t, func() bool { text.Lock(); defer text.Unlock(); return seen > 0 }, time.Minute, time.Millisecond)
	require.Zero(t, shots(), "nothing has happened")
	text.Lock()
	rows = append(rows, "", "Kernel panic - not syncing: fatal exception")
	text.Unlock()
	d.book.set(true)
	p.Fill(picture.Rect{W: 20, H: 20}, 0xff0000)
	g.Take(p, []picture.Rect{{W: 20, H: 20}})
	require.Eventually(t, func() bool {
		d.book.set(false)
		_, found := d.book.text(t)
		return len(found) == 1 && found[0] == "kernel panic"
	}, time.Minute, time.Millisecond)
	d.KeepFilm("kiosk", "it was hung")
	require.Eventually(t, func() bool { return shots() == 2 }, time.Minute, time.Millisecond, "before it, and since")
	p.Fill(picture.Rect{W: 20, H: 10}, 0xff)
	g.Take(p, []picture.Rect{{W: 20, H: 20}})
	require.Eventually(t, func() bool { return shots() == 3 }, time.Minute, time.Millisecond, "and what comes after")
	d.KeepFilm("router", "it was hung")
}

// TestAnotherDisplay is tried, and goes back by itself, also where that does not work at once; one
// that somebody keeps stays.
func TestAnotherDisplay(t *testing.T) {
	d, made := watchedOf(t, estate.Empty(), func(p *Parts) { p.TryDisplay = 100 * time.Millisecond })
	v, _ := sits(t, d, "marsh", operation.Operator), <-made
	until := func(is, tries string) {
		t.Helper()
		require.Eventually(t, func() bool {
			v.s.mu.Lock()
			defer v.s.mu.Unlock()
			return v.s.pretence.Is == is && (v.s.trial != nil) == (tries != "")
		}, time.Minute, time.Millisecond)
	}
	until("small", "")
	all, err := d.Screens("kiosk")
	require.NoError(t, err)
	kvm := all[1].Edid.(*edids)
	kvm.fails = 1
	require.NoError(t, v.Pretend(t.Context(), "large"))
	require.ErrorContains(t, v.Pretend(t.Context(), "large"), "another display is being tried")
	until("small", "")
	now, _ := kvm.Pretends(t.Context())
	require.Equal(t, "small", now.Is)
	require.ErrorContains(t, v.Keep(), "it has gone back")

	d.TryDisplay = time.Minute
	require.NoError(t, v.Pretend(t.Context(), "large"))
	until("small", "large")
	require.NoError(t, v.Keep())
	until("large", "")
}

// TestTending: it is said when next to nothing is on a screen, and a device is kept awake while
// who asks sits there.
func TestTending(t *testing.T) {
	var reads []string
	d, made := watchedOf(t, estate.Empty(), func(p *Parts) {
		p.ReadText = func(*picture.Picture) ([]string, bool) { return reads, reads != nil }
	})
	v, g := sits(t, d, "marsh", operation.Operator), <-made
	until := func(what func(*At) bool) {
		t.Helper()
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		defer cancel()
		for {
			n, err := v.Next(ctx, Wants{})
			require.NoError(t, err)
			if n.At != nil && what(n.At) {
				return
			}
		}
	}
	dark := picture.New(640, 400)
	dark.Fill(picture.Rect{X: 10, Y: 10, W: 40, H: 8}, 0x808080)
	g.Take(dark, nil)
	until(func(a *At) bool { return a.Bare })
	dark.Fill(picture.Rect{X: 10, Y: 100, W: 400, H: 80}, 0x808080)
	g.Take(dark, []picture.Rect{{W: 640, H: 400}})
	until(func(a *At) bool { return !a.Bare })

	g.took()
	require.ErrorContains(t, v.Awake(9*time.Hour), "up to 8h")
	require.NoError(t, v.Point(20, 30, 0))
	require.NoError(t, v.Awake(30*time.Minute))
	until(func(a *At) bool { return !a.Awake.IsZero() })
	require.Eventually(t, func() bool { return slices.Contains(g.took(), "at 21,30 0") }, time.Minute, 10*time.Millisecond)
	require.NoError(t, v.Awake(0))
	until(func(a *At) bool { return a.Awake.IsZero() })
	require.NoError(t, v.Awake(time.Minute))
	other := sits(t, d, "oduya", operation.Operator)
	v.Leave()
	require.Eventually(t, func() bool {
		n, err := other.Next(t.Context(), Wants{})
		return err == nil && slices.ContainsFunc(n.Notice, func(s string) bool { return s == "marsh: it is over that kiosk is kept awake" })
	}, time.Minute, 10*time.Millisecond)
}
