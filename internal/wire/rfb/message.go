package rfb

import (
	"bytes"
	"encoding/binary"
	"errors"
	"slices"

	"github.com/klauspost/compress/zlib"

	"plumbbob/internal/core/picture"
)

// message is an update that is being written.
type message struct {
	*served
	format  Format
	picture int32
	quality int
	resizes bool
	layout  bool // a size is told as a layout of screens
	out     []byte
	n       int
}

// update sends what is new, or one part, whether it is new or not.
func (s *served) update(only picture.Rect) (err error) {
	s.mu.Lock()
	m := message{served: s, format: s.format, picture: s.picture, quality: s.quality, resizes: s.resizes, layout: s.extended}
	m.out = append(s.besides(), framebufferUpdate, 0, 0, 0) // what is owed was before it
	count := len(m.out) - 2
	keys := s.keys && !s.told.keys
	fence := s.push && only.Empty()
	if fence {
		s.ahead++
	}
	s.told.keys = s.told.keys || keys
	s.mu.Unlock()
	if keys {
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
	binary.BigEndian.PutUint16(m.out[count:], uint16(m.n))
	if fence {
		m.out = appendFence(m.out, fenceRequest|fenceBefore, nil)
	}
	return s.send(m.out)
}

const mostRects = 65534

func (m *message) head(r picture.Rect, encoding int32) {
	for _, x := range []int{r.X, r.Y, r.W, r.H} {
		m.out = binary.BigEndian.AppendUint16(m.out, uint16(x))
	}
	m.out = binary.BigEndian.AppendUint32(m.out, uint32(encoding))
	m.n++
}

// size tells of another size, to who takes that; others see what fits into the first one. Who takes
// a layout of displays is told of that once, and whenever it changes.
func (m *message) size(p *picture.Picture) {
	if !m.resizes {
		return
	}
	same := p.W == m.w && p.H == m.h
	m.w, m.h = p.W, p.H
	if !m.layout {
		if !same {
			m.head(picture.Rect{W: p.W, H: p.H}, encDesktopSize)
		}
		return
	}
	displays := []picture.Rect{{W: p.W, H: p.H}}
	if x, is := m.src.(Split); is {
		if all := x.Displays(); len(all) > 0 && len(all) <= mostScreens {
			displays = all
		}
	}
	if same && slices.Equal(displays, m.laid) {
		return
	}
	m.laid = displays
	m.head(picture.Rect{W: p.W, H: p.H}, encExtendedSize)
	m.out = append(m.out, byte(len(displays)), 0, 0, 0)
	for i, r := range displays {
		m.out = binary.BigEndian.AppendUint32(m.out, uint32(i+1))
		for _, n := range []int{r.X, r.Y, r.W, r.H} {
			m.out = binary.BigEndian.AppendUint16(m.out, uint16(n))
		}
		m.out = append(m.out, 0, 0, 0, 0)
	}
}

func (m *message) draw(p *picture.Picture, r picture.Rect) (err error) {
	if r.Empty() {
		return nil
	}
	switch m.picture {
	case encZRLE:
		m.head(r, encZRLE)
		m.out, err = m.appendZRLE(m.out, &m.format, p, r)
		return err
	case encTight:
		return m.drawTight(p, r)
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
	packed, err := s.z.pack(s.tiles)
	return append(appendLength(out, len(packed)), packed...), err
}

// A deflater compresses a stream, of which each rectangle has a part.
type deflater struct {
	z   *zlib.Writer
	out bytes.Buffer
}

// pack compresses what comes next; what is returned stays until it is called again.
func (d *deflater) pack(p []byte) ([]byte, error) {
	d.out.Reset()
	if d.z == nil {
		d.z, _ = zlib.NewWriterLevel(&d.out, zlib.BestSpeed) // the level is one
	}
	_, err := d.z.Write(p)
	err = errors.Join(err, d.z.Flush())
	return d.out.Bytes(), err
}
