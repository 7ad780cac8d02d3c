package rfb

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"plumbbob/internal/canvas"
	"plumbbob/internal/core/picture"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// shows is a source for tests.
type shows struct {
	*canvas.Canvas
	mu   sync.Mutex
	keys []string

	lights atomic.Uint32
	two    atomic.Bool // displays
}

func (s *shows) Displays() (all []picture.Rect) {
	if s.two.Load() {
		all = []picture.Rect{{W: 200, H: 120}, {X: 200, W: 120, H: 120}}
	}
	return all
}

func (s *shows) Lights() uint8 { return uint8(s.lights.Load()) }

func (s *shows) Key(down bool, sym uint32, code uint16) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if down && code != 0 {
		s.keys = append(s.keys, "at")
	} else if down {
		s.keys = append(s.keys, string(rune(sym)))
	}
}

func (s *shows) Point(x, y int, buttons uint8) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if buttons != 0 {
		s.keys = append(s.keys, string(rune('0'+x))+string(rune('0'+y)))
	}
}

func (s *shows) has() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]string(nil), s.keys...)
}

// between serves a source at a door, and connects a viewer to it.
func between(t *testing.T, d Door, src Source, o Options) (*Viewer, error) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() {
		c, err := ln.Accept()
		_ = ln.Close() // not before: what has not been accepted is reset by that
		if err == nil {
			err = Serve(t.Context(), c, "a box", d, src)
		}
		ended <- err
	}()
	conn, err := net.Dial("tcp", ln.Addr().String())
	require.NoError(t, err)
	o.Within = time.Minute
	v, err := Connect(t.Context(), conn, o)
	t.Cleanup(func() {
		if v != nil {
			_ = v.Close()
		}
		<-ended
	})
	return v, err
}

// TestBothEnds: a picture, changes of it, another size, keys and a pointer, in every format and
// encoding that a server writes, sent unasked.
func TestBothEnds(t *testing.T) {
	few, err := Few.ready()
	require.NoError(t, err)
	for name, f := range formats {
		for _, only := range []string{"tight", "zrle", "raw"} {
			t.Run(name+" "+only, func(t *testing.T) {
				f, err := f.ready()
				require.NoError(t, err)
				looks := f
				if f.mapped != nil {
					looks = few
				}
				bothEnds(t, f, looks, only)
			})
		}
	}
}

func bothEnds(t *testing.T, f, looks Format, only string) {
	src := &shows{Canvas: canvas.New(1, 1)}
	first := sketch(300, 200, 1)
	src.Take(first, nil)
	v, err := between(t, Door{Password: "made up"}, src, Options{Login: Login{Password: "made up"}, Format: f, Only: only})
	require.NoError(t, err)
	require.Equal(t, "a box", v.Name)
	e := &eyes{}
	go func() { _ = v.Run(e) }()
	require.NoError(t, v.Look(true))
	require.Eventually(t, e.see(as(first, looks)), time.Minute, time.Millisecond)
	require.Equal(t, []picture.Rect{{W: 300, H: 200}}, v.Displays(), "as soon as it is seen")
	next := first.Clone()
	for i := range 6 { // more than are sent ahead
		next.Fill(picture.Rect{X: 20, Y: 10 + 20*i, W: 100, H: 30}, 0xff00)
		src.Take(next, []picture.Rect{{X: 0, Y: 0, W: 300, H: 200}})
		require.Eventually(t, e.see(as(next, looks)), time.Minute, time.Millisecond)
	}
	wide := sketch(320, 120, 2)
	src.two.Store(true)
	src.Take(wide, nil)
	require.Eventually(t, e.see(as(wide, looks)), time.Minute, time.Millisecond)
	require.Equal(t, []picture.Rect{{W: 200, H: 120}, {X: 200, W: 120, H: 120}}, v.Displays())
	require.True(t, unasked(v))
	require.True(t, v.ByPosition())
	require.NoError(t, v.Key(true, 'a', 0x1e))
	require.NoError(t, v.Key(true, 'b', 0))
	require.NoError(t, v.Point(3, 4, 1))
	require.Eventually(t, func() bool { return len(src.has()) == 3 }, time.Minute, time.Millisecond)
	require.Equal(t, []string{"at", "b", "34"}, src.has())
	for _, lights := range []uint8{NumLight, NumLight | CapsLight, 0} { // told with nothing new in the picture
		src.lights.Store(uint32(lights))
		require.Eventually(t, func() bool { l, known := v.Lights(); return known && l == lights }, time.Minute, time.Millisecond)
	}
	require.NoError(t, v.Look(false)) // and once more
	require.NoError(t, v.Look(true))
	src.Take(first, nil)
	require.Eventually(t, e.see(as(first, looks)), time.Minute, time.Millisecond)
	require.True(t, unasked(v))
}

func unasked(v *Viewer) bool { v.mu.Lock(); defer v.mu.Unlock(); return v.push.on }

// aViewer is one that is written out by hand, behind a handshake.
func aViewer(t *testing.T, src Source) (send func(p ...byte), read func(n int) []byte, ended chan error) {
	near, far := net.Pipe()
	ended = make(chan error, 1)
	go func() { ended <- Serve(t.Context(), far, "x", Door{}, src) }()
	t.Cleanup(func() { _ = near.Close() })
	require.NoError(t, near.SetDeadline(time.Now().Add(time.Minute)))
	read = func(n int) []byte {
		p := make([]byte, n)
		_, err := io.ReadFull(near, p)
		require.NoError(t, err)
		return p
	}
	send = func(p ...byte) { _, _ = near.Write(p) } // it may have hung up
	read(12)
	send([]byte("RFB 003.008\n")...)
	read(2)
	send(1)
	read(4)
	send(1)
	read(4 + formatBytes + 4 + 1)
	return send, read, ended
}

func (f Format) wanted() []byte { return f.append([]byte{setPixelFormat, 0, 0, 0}) }

// TestFences: they come back, with pixels of one format before and of another behind them, and who
// misuses them is told so.
func TestFences(t *testing.T) {
	src := &shows{Canvas: canvas.New(1, 1)}
	src.Take(sketch(4, 2, 1), nil)
	send, read, _ := aViewer(t, src)
	ask := []byte{updateRequest, 0, 0, 0, 0, 0, 0, 4, 0, 2}
	send(append(Full.wanted(), ask...)...)
	read(4 + 12 + 4*8)
	fence := appendFence(nil, fenceRequest|fenceSync|8, []byte("now"))
	send(append(append(fence, Few.wanted()...), ask...)...)
	require.Equal(t, appendFence(nil, fenceSync, []byte("now")), read(len(fence)), "bits that are not known do not come back")
	read(4 + 12 + 1*8)

	for name, c := range map[string]struct {
		sent []byte
		says string
	}{
		"long":    {append([]byte{fenceMessage, 0, 0, 0, 0, 0, 0, 0, 65}, make([]byte, 65)...), "a fence of 65 bytes"},
		"unasked": {append([]byte{pushMessage, 1}, make([]byte, 8)...), "has not said that it sends fences back"},
		"mapped":  {Format{Bits: 16, Depth: 16}.wanted(), "in pixels of 8 bits"},
	} {
		send, _, ended := aViewer(t, src)
		send(c.sent...)
		require.ErrorContains(t, <-ended, c.says, name)
	}
	send, _, ended := aViewer(t, src)
	for range 3 * mostFences * (longestFence + 9) / len(fence) { // and takes nothing back; one lot may be on its way
		send(fence...)
	}
	require.ErrorContains(t, <-ended, "faster than it takes them back")
}

// TestAPhotographIsServed: of many colours, to who wants that, it is one tenth as large, and not far from
// what it was.
func TestAPhotographIsServed(t *testing.T) {
	p := picture.New(256, 200)
	for i := range p.Pix {
		x, y := i%p.W, i/p.W
		p.Pix[i] = uint32(x)<<16 | uint32(y)<<8 | uint32((x*y)>>8&255)
	}
	full, err := Full.ready()
	require.NoError(t, err)
	sizes := map[int]int{}
	for _, quality := range []int{-1, 8} {
		m := message{served: &served{}, format: full, picture: encTight, quality: quality, out: []byte{framebufferUpdate, 0, 0, 0}}
		require.NoError(t, m.draw(p, picture.Rect{W: p.W, H: p.H}))
		binary.BigEndian.PutUint16(m.out[2:], uint16(m.n))
		got, err := seen(t, Full, p.W, p.H, m.out)
		require.ErrorIs(t, err, io.EOF)
		for i, c := range got.Pix {
			for shift := 0; shift < 24; shift += 8 {
				require.InDelta(t, p.Pix[i]>>shift&255, c>>shift&255, map[bool]float64{false: 0, true: 60}[quality >= 0])
			}
		}
		sizes[quality] = len(m.out)
	}
	require.Less(t, 5*sizes[8], sizes[-1])
}

// FuzzServed: whatever a viewer sends, reading it ends, and so does what is sent to it.
func FuzzServed(f *testing.F) {
	src := &shows{Canvas: canvas.New(1, 1)}
	src.Take(sketch(20, 10, 1), nil)
	ask := []byte{updateRequest, 0, 0, 0, 0, 0, 0, 20, 0, 10}
	lists := func(all ...int32) (p []byte) {
		p = u16([]byte{setEncodings, 0}, len(all))
		for _, e := range all {
			p = binary.BigEndian.AppendUint32(p, uint32(e))
		}
		return p
	}
	f.Add(append(Few.wanted(), ask...))
	f.Add(append(lists(encTight, encQuality0+3, encFence, encPushed, encExtendedSize), append([]byte{pushMessage, 1, 0, 0, 0, 0, 0, 20, 0, 10}, ask...)...))
	f.Add(append(lists(encZRLE), append(appendFence(nil, fenceRequest|fenceSync, []byte("x")), append(Mapped.wanted(), ask...)...)...))
	f.Add([]byte{qemuMessage, 0, 0, 1, 0, 0, 0, 'a', 0, 0, 0, 0x1e, viewerCutText, 0, 0, 0, 0, 0, 0, 2, 'h', 'i', pointerEvent, 1, 0, 2, 0, 3, keyEvent, 1, 0, 0, 0, 0, 0, 'a'})
	full, _ := Full.ready()
	f.Fuzz(func(t *testing.T, sent []byte) {
		near, far := net.Pipe()
		go func() { _, _ = io.Copy(io.Discard, far) }()
		s := &served{conn: near, r: bufio.NewReader(bytes.NewReader(sent)), src: src, wishes: make(chan struct{}, 1), lit: -1, format: full, w: 20, h: 10, picture: encRaw}
		err := s.read()
		var e *Error
		if !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.As(err, &e) {
			t.Fatal(err)
		}
		if err := s.update(picture.Rect{}); err != nil && !errors.As(err, &e) {
			t.Fatal(err)
		}
		_, _ = near.Close(), far.Close()
	})
}
