package rfb

import (
	"bufio"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"
	"time"

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

// Split is a source with several displays on its picture.
type Split interface{ Displays() []picture.Rect }

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
	colours  bool      // its map has to be told
	picture  int32     // the encoding that it would have
	quality  int       // of JPEG, from 0 to 9; -1: none is wanted
	fences   bool      // it sends fences back
	push     bool      // it wants pictures unasked
	ahead    int       // pictures that it has not said to have drawn
	sync     []byte    // a fence that goes back with what the next message does
	told     abilities // that this end can do so
	owed     []byte    // messages beside pictures
	resizes  bool      // it takes another size
	extended bool      // and by a layout of screens
	keys     bool      // it can send keys by position
	lights   bool      // it wants to know of the keyboard's lights
	asked    bool
	all      bool         // the whole picture
	part     picture.Rect // or this part of it, whether it is new or not

	// Owned by write.
	w, h  int
	seen  uint64
	laid  []picture.Rect // the displays that were told
	lit   int            // what was told of the lights; -1: nothing
	z     deflater
	tiler picture.Tiler
	tiles []byte
	tight tightly
}

type abilities struct{ fences, push, keys bool }

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
		case pushMessage:
			err = s.setPush()
		case fenceMessage:
			err = s.fence()
		case qemuMessage:
			err = s.position()
		default:
			err = wrong("the viewer sends message %d, which was not agreed on", kind)
		}
		if err != nil {
			return err
		}
		if kind != fenceMessage {
			s.mu.Lock()
			s.synced()
			s.mu.Unlock()
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
	if f.mapped != nil { // by a map, which is the same colours
		if s.format, err = Few.ready(); err != nil {
			return err
		}
		s.colours = true
	}
	s.synced()
	s.wish()
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
	s.picture, s.quality = encRaw, -1
	s.resizes, s.extended, s.keys, s.lights, s.fences = false, false, false, false, false
	pushed := false
	for ; len(p) > 0; p = p[4:] {
		switch e := int32(binary.BigEndian.Uint32(p)); e {
		case encZRLE, encTight: // whichever comes first
			if s.picture == encRaw {
				s.picture = e
			}
		case encDesktopSize:
			s.resizes = true
		case encExtendedSize:
			s.resizes, s.extended = true, true
		case encExtendedKeys:
			s.keys = true
		case encLights:
			s.lights = true
		case encFence:
			s.fences = true
		case encPushed:
			pushed = true
		default:
			if e >= encQuality0 && e < encQuality0+10 {
				s.quality = int(e - encQuality0)
			}
		}
	}
	if s.fences && !s.told.fences { // that this end has them as well
		s.told.fences = true
		s.owed = appendFence(s.owed, fenceRequest|fenceBefore, nil)
		s.ahead++
	}
	if s.fences && pushed && !s.told.push {
		s.told.push = true
		s.owed = append(s.owed, pushEnded)
	}
	s.wish()
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
		beside := s.besides()
		asked, all, part := s.asked || s.push && s.ahead < mostAhead, s.all, s.part
		s.part = picture.Rect{}
		s.mu.Unlock()
		if err := s.send(beside); err != nil {
			return err
		}
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
		s.mu.Lock()
		if s.push {
			s.wish()
		}
		s.mu.Unlock()
	}
}

// besides takes what is owed beside pictures: fences, and the map of colours. mu is held.
func (s *served) besides() []byte {
	p := s.owed
	s.owed = nil
	if s.colours {
		s.colours = false
		p = s.format.appendMap(p)
	}
	return p
}

// sentAtOnce is how much of a message has to be taken by a viewer within writesWithin: on a slow way a
// picture takes longer than that, and goes on.
const sentAtOnce = 16 << 10

func (s *served) send(p []byte) error {
	for len(p) > 0 {
		n := min(len(p), sentAtOnce)
		_ = s.conn.SetWriteDeadline(time.Now().Add(writesWithin))
		if _, err := s.conn.Write(p[:n]); err != nil {
			return err
		}
		p = p[n:]
	}
	return nil
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
