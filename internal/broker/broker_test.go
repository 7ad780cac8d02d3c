package broker

import (
	"context"
	"errors"
	"log/slog"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/attach"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/core/serial"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
)

// desk is a room with one line, whose far end is here.
type desk struct {
	*Room
	conns <-chan net.Conn
	stop  func()

	mu      sync.Mutex
	entries []store.Entry
	book    book
}

// book keeps what lines say, unless it is away.
type book struct {
	mu    sync.Mutex
	away  bool
	parts map[time.Time][]byte
	found []serial.Found

	pictures []store.Picture
}

func (b *book) SavePicture(_ context.Context, p store.Picture) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.away {
		return store.ErrAway
	}
	b.pictures = append(b.pictures, p)
	return nil
}

func (b *book) DropPictures(context.Context, estate.Key, int) error { return nil }

func (b *book) set(away bool) { b.mu.Lock(); defer b.mu.Unlock(); b.away = away }

func (b *book) SaveLinePart(_ context.Context, p store.LinePart) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.away {
		return store.ErrAway
	}
	if b.parts == nil {
		b.parts = map[time.Time][]byte{}
	}
	b.parts[p.Began] = p.Content
	return nil
}

func (b *book) AddLineEvents(_ context.Context, _, _ estate.Key, _ bool, found []serial.Found) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.away {
		return store.ErrAway
	}
	b.found = append(b.found, found...)
	return nil
}

func (b *book) DropLines(context.Context, estate.Key, int) error { return nil }

// text is all that is kept, and found the names of what was recognised.
func (b *book) text(t *testing.T) (text string, found []string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, at := range slices.SortedFunc(maps.Keys(b.parts), time.Time.Compare) {
		p, err := serial.DecodePart(b.parts[at])
		require.NoError(t, err)
		for _, s := range p.Said {
			text += string(s.Text)
		}
	}
	for _, f := range b.found {
		found = append(found, f.Name)
	}
	return text, found
}

// atLine are those at a line.
func (d *desk) atLine(k estate.Key) []On { line, _ := d.At(k); return line }

func newDesk(t *testing.T) *desk { return deskOf(t, estate.Empty()) }

func deskOf(t *testing.T, e *estate.Estate, more ...func(*Parts)) *desk {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	conns := make(chan net.Conn, 8)
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			conns <- c
		}
	}()
	line := attach.New(attach.Options{Addresses: []string{ln.Addr().String()}, Timeout: time.Minute})
	ctx, stop := context.WithCancel(t.Context())
	d := &desk{conns: conns, stop: stop}
	parts := Parts{
		Estate: func() *estate.Estate { return e }, Bus: &bus.Bus{}, Health: health.New(slog.New(slog.DiscardHandler)), Records: &d.book,
		Paths: func(k estate.Key) ([]Path, error) {
			if k != "router" {
				return nil, errors.New("no line leads to " + string(k))
			}
			return []Path{{"console", line}}, nil
		},
		Record: func(e store.Entry) { d.mu.Lock(); defer d.mu.Unlock(); d.entries = append(d.entries, e) },
	}
	for _, f := range more {
		f(&parts)
	}
	d.Room = New(parts)
	ran := make(chan error, 1)
	go func() { ran <- d.Run(ctx) }()
	require.Eventually(t, func() bool { d.Room.mu.Lock(); defer d.Room.mu.Unlock(); return d.ctx != nil }, time.Minute, time.Millisecond)
	t.Cleanup(func() {
		stop()
		require.ErrorIs(t, <-ran, context.Canceled)
		require.NoError(t, errors.Join(line.Close(), ln.Close()))
	})
	return d
}

func (d *desk) sit(t *testing.T, who string, role operation.Role) *Seat {
	s, err := d.Sit("router", Coming{Seat: seat.Seat{Who: who, Role: role}, After: -1})
	require.NoError(t, err)
	return s
}

// hears reads news until a condition holds, and returns all that was said.
func hears(t *testing.T, s *Seat, until func(said string, n News) bool) string {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	said := ""
	for {
		n, err := s.Next(ctx)
		require.NoError(t, err, "after %q", said)
		said += string(n.Said)
		if until(said, n) {
			return said
		}
	}
}

func says(text string) func(string, News) bool {
	return func(said string, _ News) bool { return strings.Contains(said, text) }
}

func notices(text string) func(string, News) bool {
	return func(_ string, n News) bool { return strings.Contains(strings.Join(n.Notice, "; "), text) }
}

func up(_ string, n News) bool { return n.State != nil && n.State.Up }

// TestTwoShareALine: one types, the other watches, asks and gets it; a line that was lost
// is called again, and who was away goes on where they were.
func TestTwoShareALine(t *testing.T) {
	d := newDesk(t)
	a, b := d.sit(t, "marsh", operation.Steward), d.sit(t, "oduya", operation.Operator)
	hears(t, a, up)
	hears(t, b, up)
	far := <-d.conns
	require.NoError(t, a.Type([]byte("show\r")))
	var got [5]byte
	_, err := far.Read(got[:])
	require.NoError(t, err)
	require.Equal(t, "show\r", string(got[:]))
	require.ErrorContains(t, b.Type([]byte("x")), "marsh has the keyboard: ask for it")
	_, err = far.Write([]byte("all is well\r\n"))
	require.NoError(t, err)
	hears(t, a, says("all is well"))
	hears(t, b, says("all is well"))
	require.Equal(t, []string{"marsh is on its serial line, and types"}, d.Words("router", "oduya"))

	require.NoError(t, b.Ask())
	hears(t, a, notices("oduya asks marsh for the keyboard"))
	require.NoError(t, a.Give())
	hears(t, b, notices("oduya has the keyboard"))
	require.NoError(t, b.BeAlone(time.Minute))
	_, err = far.Write([]byte("secret"))
	require.NoError(t, err)
	hears(t, b, says("secret"))
	a.Lost()
	again, err := d.Sit("router", Coming{Seat: seat.Seat{ID: a.ID, Who: "marsh", Role: operation.Steward}, After: a.at})
	require.NoError(t, err)
	require.NoError(t, b.BeAlone(0))
	_, err = far.Write([]byte("open"))
	require.NoError(t, err)
	require.Equal(t, "open", hears(t, again, says("open")), "what was said to one alone is not shown afterwards either")

	require.NoError(t, far.Close())
	hears(t, b, func(_ string, n News) bool { return n.State != nil && !n.State.Up })
	far = <-d.conns
	_, err = far.Write([]byte("back"))
	require.NoError(t, err)
	hears(t, b, says("back"))
	b.Leave()
	_, err = b.Next(t.Context())
	require.ErrorIs(t, err, ErrGone)
	again.Leave()
	require.Eventually(t, func() bool { return len(d.atLine("router")) == 0 }, time.Minute, 5*time.Millisecond)
	d.mu.Lock()
	defer d.mu.Unlock()
	require.Len(t, d.entries, 4, "two sat down, and two left")
	require.Equal(t, "Sat down at the serial line of router", d.entries[0].Text)
}

// TestAStopEndsLines: who sits there is told, and nobody sits down any more.
func TestAStopEndsLines(t *testing.T) {
	d := newDesk(t)
	a := d.sit(t, "marsh", operation.Steward)
	hears(t, a, up)
	d.stop()
	for {
		if _, err := a.Next(t.Context()); err != nil {
			require.ErrorIs(t, err, ErrOver)
			break
		}
	}
	require.Eventually(t, func() bool {
		_, err := d.Sit("router", Coming{Seat: seat.Seat{Who: "kari", Role: operation.Keeper}})
		return err != nil && strings.Contains(err.Error(), "starting, or stopping")
	}, time.Minute, time.Millisecond)
}

// TestWhoMayNotSit is told why.
func TestWhoMayNotSit(t *testing.T) {
	d := newDesk(t)
	_, err := d.Sit("router", Coming{Seat: seat.Seat{Who: "desk", Role: operation.Viewer}})
	require.ErrorContains(t, err, "a viewer may see neither what serial lines say")
	_, err = d.Sit("kiosk", Coming{Seat: seat.Seat{Who: "kari", Role: operation.Keeper}})
	require.ErrorContains(t, err, "no line leads to kiosk")
	a := d.sit(t, "oduya", operation.Operator)
	_, err = d.Sit("router", Coming{Seat: seat.Seat{ID: a.ID, Who: "kari", Role: operation.Keeper}})
	require.ErrorContains(t, err, "somebody else's seat")
}

// TestALineIsListenedTo while nobody sits at it: what it says is kept, with the store away
// for a while; what is known of it is told; and what was said to one alone is for nobody.
func TestALineIsListenedTo(t *testing.T) {
	e, _ := estate.New("pier", "router", []estate.Site{{Key: "pier"}}, []estate.Device{{
		Key: "router", Site: "pier", Endpoints: []estate.Endpoint{{Name: "line", Protocol: estate.Telnet, Listen: true, Recognise: map[string]string{"ring lost": `ring \d+ lost`}}},
	}})
	d := deskOf(t, e)
	told := make(chan bus.LineSaid, 8)
	defer d.Bus.Recognised.Listen(func(x bus.LineSaid) { told <- x })()
	far := <-d.conns
	says := func(text string) {
		_, err := far.Write([]byte(text))
		require.NoError(t, err)
	}
	keeps := func(what string) {
		t.Helper()
		require.Eventually(t, func() bool { text, _ := d.book.text(t); return strings.Contains(text, what) }, time.Minute, 10*time.Millisecond, what)
	}
	says("one\r\nKernel panic - not syncing: dead\r\n")
	require.Equal(t, "kernel panic", (<-told).Found[0].Name)
	keeps("not syncing: dead")
	require.Empty(t, d.atLine("router"))

	d.book.mu.Lock()
	d.book.away = true
	d.book.mu.Unlock()
	says("drive: ring 7 lost\r\n")
	require.Equal(t, "ring lost", (<-told).Found[0].Name)
	require.Eventually(t, func() bool { return len(d.Health.List()) == 1 }, time.Minute, 10*time.Millisecond, "it is said that it waits")
	d.book.mu.Lock()
	d.book.away = false
	d.book.mu.Unlock()
	keeps("ring 7 lost")
	require.Eventually(t, func() bool { return len(d.Health.List()) == 0 }, time.Minute, 10*time.Millisecond)

	s := d.sit(t, "marsh", operation.Operator)
	require.Contains(t, hears(t, s, func(said string, _ News) bool { return strings.Contains(said, "ring 7 lost") }), "one", "who comes later sees it")
	require.NoError(t, s.BeAlone(time.Minute))
	says("kernel panic: for marsh alone\r\n")
	hears(t, s, func(said string, _ News) bool { return strings.Contains(said, "for marsh alone") })
	require.NoError(t, s.BeAlone(0))
	says("two\r\n")
	keeps("two\r\n")
	text, found := d.book.text(t)
	require.NotContains(t, text, "for marsh alone")
	require.NotContains(t, string(d.LastSaid("router")), "for marsh alone")
	require.Contains(t, string(d.LastSaid("router")), "two\r\n")
	require.Empty(t, d.LastSaid("core"))
	require.Contains(t, text, "[not kept: marsh is alone at the line]")
	require.Equal(t, []string{"kernel panic", "ring lost"}, found)
	s.Leave()
	says("three\r\n")
	keeps("three") // it is not hung up
}
