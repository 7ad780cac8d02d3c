package rfb

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"github.com/klauspost/compress/zlib"

	"plumbbob/internal/core/picture"
)

// A Source is what a server shows, and who takes what viewers do there.
type Source interface {
	// Look calls f with the picture and what of it is new since a moment, if anything is, and
	// returns the moment that this one is. News is closed when there is more.
	Look(since uint64, f func(p *picture.Picture, parts []picture.Rect)) uint64
	News(since uint64) <-chan struct{}
	// Key and Point are as those of a Viewer.
	Key(down bool, sym uint32, code uint16)
	Point(x, y int, buttons uint8)
}

// Lit is a source with a keyboard whose lights are known, as those of a Viewer.
type Lit interface{ Lights() uint8 }

// lightsEvery is how often these are looked at.
const lightsEvery = 100 * time.Millisecond

// atMost is how often a viewer is sent something.
const atMost = 15 * time.Millisecond

const mostEncodings = 256

// smallPart is how many pixels somebody may ask for, new or not, without being sent all of them.
const smallPart = 1 << 14

// Serve serves one viewer until that has gone, or ctx ends.
func Serve(ctx context.Context, conn net.Conn, name string, d Door, src Source) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	defer context.AfterFunc(ctx, func() { _ = conn.Close() })()
	_ = conn.SetDeadline(time.Now().Add(cmp.Or(d.Within, writesWithin)))
	inside, err := d.admit(conn)
	if err != nil {
		return err
	}
	s := &served{conn: inside, r: bufio.NewReader(inside), src: src, wishes: make(chan struct{}, 1), lit: -1}
	if err := s.greet(name); err != nil {
		return err
	}
	_ = conn.SetDeadline(time.Time{})
	var both sync.WaitGroup
	both.Go(func() { stop(s.read()) })
	both.Go(func() { stop(s.write(ctx)) })
	<-ctx.Done()
	_ = conn.Close()
	both.Wait()
	if err := context.Cause(ctx); !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
		return err
	}
	return nil
}

// served is one viewer.
type served struct {
	conn   net.Conn
	r      *bufio.Reader
	src    Source
	wishes chan struct{} // the viewer has asked for something

	mu       sync.Mutex
	format   Format
	zrle     bool
	resizes  bool // it takes another size
	extended bool // and by a layout of screens
	keys     bool // it can send keys by position
	lights   bool // it wants to know of the keyboard's lights
	asked    bool
	all      bool         // the whole picture
	part     picture.Rect // or this part of it, whether it is new or not

	// Owned by write.
	w, h   int
	seen   uint64
	told   bool // that keys by position are taken
	lit    int  // what was told of the lights; -1: nothing
	z      *zlib.Writer
	packed bytes.Buffer
	tiler  picture.Tiler
	tiles  []byte
}

func (s *served) greet(name string) error {
	if _, err := s.r.ReadByte(); err != nil { // whether others may look: they may
		return err
	}
	s.format, _ = Full.ready()
	s.src.Look(0, func(p *picture.Picture, _ []picture.Rect) { s.w, s.h = p.W, p.H })
	p := binary.BigEndian.AppendUint16(nil, uint16(s.w))
	p = s.format.append(binary.BigEndian.AppendUint16(p, uint16(s.h)))
	_, err := s.conn.Write(append(appendLength(p, len(name)), name...))
	return err
}

// read takes what the viewer sends.
func (s *served) read() error {
	for {
		kind, err := s.r.ReadByte()
		if err != nil {
			return err
		}
		switch kind {
		case setPixelFormat:
			err = s.setFormat()
		case setEncodings:
			err = s.setEncodings()
		case updateRequest:
			err = s.request()
		case keyEvent:
			err = s.key()
		case pointerEvent:
			var p []byte
			if p, err = s.take(5); err == nil {
				s.src.Point(int(binary.BigEndian.Uint16(p[1:])), int(binary.BigEndian.Uint16(p[3:])), p[0])
			}
		case viewerCutText:
			err = s.cutText()
		case qemuMessage:
			err = s.position()
		default:
			err = wrong("the viewer sends message %d, which was not agreed on", kind)
		}
		if err != nil {
			return err
		}
	}
}

func (s *served) take(n int) ([]byte, error) {
	p := make([]byte, n)
	_, err := io.ReadFull(s.r, p)
	return p, err
}

func (s *served) setFormat() error {
	p, err := s.take(3 + formatBytes)
	if err != nil {
		return err
	}
	f, err := parseFormat(p[3:]).ready()
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.format = f
	return nil
}

func (s *served) setEncodings() error {
	p, err := s.take(3)
	if err != nil {
		return err
	}
	n := int(binary.BigEndian.Uint16(p[1:]))
	if n > mostEncodings {
		return wrong("the viewer lists %d encodings", n)
	}
	if p, err = s.take(4 * n); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.zrle, s.resizes, s.extended, s.keys, s.lights = false, false, false, false, false
	for ; len(p) > 0; p = p[4:] {
		switch int32(binary.BigEndian.Uint32(p)) {
		case encZRLE:
			s.zrle = true
		case encDesktopSize:
			s.resizes = true
		case encExtendedSize:
			s.resizes, s.extended = true, true
		case encExtendedKeys:
			s.keys = true
		case encLights:
			s.lights = true
		}
	}
	return nil
}

func (s *served) request() error {
	p, err := s.take(9)
	if err != nil {
		return err
	}
	r := rectOf(p[1:])
	s.mu.Lock()
	switch { // one part is remembered; with another, it is all of it
	case p[0] != 0:
		s.asked = true
	case r.W*r.H > smallPart || !s.part.Empty():
		s.asked, s.all = true, true
	default:
		s.part = r
	}
	s.mu.Unlock()
	s.wish()
	return nil
}

func (s *served) key() error {
	p, err := s.take(7)
	if err == nil {
		s.src.Key(p[0] != 0, binary.BigEndian.Uint32(p[3:]), 0)
	}
	return err
}

// position takes a key by where it is (QEMU Extended Key Event Message).
func (s *served) position() error {
	p, err := s.take(11)
	if err != nil {
		return err
	}
	if p[0] != 0 {
		return wrong("the viewer sends a message of a kind that was not agreed on")
	}
	s.src.Key(binary.BigEndian.Uint16(p[1:]) != 0, binary.BigEndian.Uint32(p[3:]), uint16(binary.BigEndian.Uint32(p[7:])))
	return nil
}

func (s *served) cutText() error {
	p, err := s.take(7)
	if err != nil {
		return err
	}
	n := binary.BigEndian.Uint32(p[3:])
	if n > longestCut {
		return wrong("the viewer sends a text of %d bytes to be pasted", n)
	}
	_, err = s.r.Discard(int(n))
	return err
}

// write sends what the viewer has asked for, once there is something.
func (s *served) write(ctx context.Context) error {
	tick := time.NewTicker(lightsEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-s.wishes:
		}
		s.mu.Lock()
		asked, all, part := s.asked, s.all, s.part
		s.part = picture.Rect{}
		s.mu.Unlock()
		if !part.Empty() {
			if err := s.update(part); err != nil {
				return err
			}
		}
		if !asked {
			continue
		}
		if all {
			s.seen = 0
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-s.wishes: // more of it, by now
			s.wish()
			continue
		case <-s.src.News(s.seen):
		case <-tick.C:
			if s.lightsNow() == s.lit {
				s.wish()
				continue
			}
		}
		s.mu.Lock()
		s.asked, s.all = false, false
		s.mu.Unlock()
		if err := s.update(picture.Rect{}); err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(atMost):
		}
	}
}

// lightsNow are the lights of the keyboard, as they are told to who wants that.
func (s *served) lightsNow() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	if l, known := s.src.(Lit); known && s.lights {
		return int(l.Lights())
	}
	return s.lit
}

// wish has write look again.
func (s *served) wish() {
	select {
	case s.wishes <- struct{}{}:
	default:
	}
}

// message is an update that is being written.
type message struct {
	*served
	format  Format
	zrle    bool
	resizes bool
	layout  bool // a size is told as a layout of screens
	out     []byte
	n       int
}

// update sends what is new, or one part, whether it is new or not.
func (s *served) update(only picture.Rect) (err error) {
	s.mu.Lock()
	m := message{served: s, format: s.format, zrle: s.zrle, resizes: s.resizes, layout: s.extended, out: []byte{framebufferUpdate, 0, 0, 0}}
	keys := s.keys && !s.told
	s.mu.Unlock()
	if keys {
		s.told = true
		m.head(picture.Rect{}, encExtendedKeys)
	}
	if l := s.lightsNow(); l != s.lit {
		s.lit = l
		m.head(picture.Rect{}, encLights)
		m.out = append(m.out, byte(l))
	}
	since := s.seen
	if !only.Empty() {
		since = 0
	}
	seen := s.src.Look(since, func(p *picture.Picture, parts []picture.Rect) {
		if !only.Empty() {
			parts = []picture.Rect{only}
		}
		m.size(p)
		for _, r := range parts {
			if err == nil && m.n < mostRects {
				err = m.draw(p, r.Clip(min(s.w, p.W), min(s.h, p.H)))
			}
		}
	})
	if err != nil {
		return err
	}
	if only.Empty() {
		s.seen = seen
	}
	binary.BigEndian.PutUint16(m.out[2:], uint16(m.n))
	_ = s.conn.SetWriteDeadline(time.Now().Add(writesWithin))
	_, err = s.conn.Write(m.out)
	return err
}

const mostRects = 65534

func (m *message) head(r picture.Rect, encoding int32) {
	for _, x := range []int{r.X, r.Y, r.W, r.H} {
		m.out = binary.BigEndian.AppendUint16(m.out, uint16(x))
	}
	m.out = binary.BigEndian.AppendUint32(m.out, uint32(encoding))
	m.n++
}

// size tells of another size, to who takes that; others see what fits into the first one.
func (m *message) size(p *picture.Picture) {
	if !m.resizes || p.W == m.w && p.H == m.h {
		return
	}
	m.w, m.h = p.W, p.H
	if !m.layout {
		m.head(picture.Rect{W: p.W, H: p.H}, encDesktopSize)
		return
	}
	m.head(picture.Rect{W: p.W, H: p.H}, encExtendedSize)
	m.out = append(m.out, 1, 0, 0, 0, 0, 0, 0, 1, 0, 0, 0, 0) // one screen, which is the first, at the corner
	m.out = binary.BigEndian.AppendUint16(binary.BigEndian.AppendUint16(m.out, uint16(p.W)), uint16(p.H))
	m.out = append(m.out, 0, 0, 0, 0)
}

func (m *message) draw(p *picture.Picture, r picture.Rect) (err error) {
	if r.Empty() {
		return nil
	}
	if m.zrle {
		m.head(r, encZRLE)
		m.out, err = m.appendZRLE(m.out, &m.format, p, r)
		return err
	}
	m.head(r, encRaw)
	for y := range r.H {
		for _, c := range p.Row(r.X, r.Y+y, r.W) {
			m.out = m.format.appendPixel(m.out, c)
		}
	}
	return nil
}

func (s *served) appendZRLE(out []byte, f *Format, p *picture.Picture, r picture.Rect) ([]byte, error) {
	s.tiler.Bytes, s.tiler.Pixel = f.compact, f.appendSmall
	s.tiles = s.tiler.Append(s.tiles[:0], p, r)
	s.packed.Reset()
	if s.z == nil {
		s.z, _ = zlib.NewWriterLevel(&s.packed, zlib.BestSpeed) // the level is one
	}
	if _, err := s.z.Write(s.tiles); err != nil {
		return nil, err
	}
	if err := s.z.Flush(); err != nil {
		return nil, err
	}
	return append(appendLength(out, s.packed.Len()), s.packed.Bytes()...), nil
}
