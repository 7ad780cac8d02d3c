package rfb

import (
	"bytes"
	"image/jpeg"

	"plumbbob/internal/core/picture"
)

// tightly writes pictures in Tight: each rectangle as one colour, by a palette, as a JPEG where
// that is wanted and it has many colours, or pixel by pixel.
type tightly struct {
	z       [3]deflater // a stream for each way, so that like comes to like
	body    []byte
	palette map[uint32]uint8
	colours []uint32
}

// The streams.
const (
	tightPlain = iota
	tightTwo
	tightPalette
)

// A rectangle of Tight is neither wider nor larger than old viewers have room for, and no JPEG
// smaller than it pays.
const (
	tightArea     = 1 << 16
	smallestPhoto = 32 * 32
)

func (m *message) drawTight(p *picture.Picture, r picture.Rect) error {
	for x := r.X; x < r.X+r.W; x += tightWide {
		w := min(tightWide, r.X+r.W-x)
		h := tightArea / w
		for y := r.Y; y < r.Y+r.H; y += h {
			part := picture.Rect{X: x, Y: y, W: w, H: min(h, r.Y+r.H-y)}
			if m.n >= mostRects {
				return nil
			}
			m.head(part, encTight)
			if err := m.tightRect(p, part); err != nil {
				return err
			}
		}
	}
	return nil
}

func (m *message) tightRect(p *picture.Picture, r picture.Rect) error {
	t := &m.tight
	few := t.survey(p, r)
	switch n := len(t.colours); {
	case few && n == 1:
		m.out = m.format.appendTight(append(m.out, tightFill<<4), t.colours[0])
		return nil
	case few && n == 2:
		m.tightColours()
		t.bits(p, r)
		return m.tightBody(tightTwo)
	case few && m.format.bytes > 1:
		m.tightColours()
		t.body = t.body[:0]
		for y := range r.H {
			for _, c := range p.Row(r.X, r.Y+y, r.W) {
				t.body = append(t.body, t.palette[c])
			}
		}
		return m.tightBody(tightPalette)
	case m.quality >= 0 && m.format.bytes > 1 && r.W*r.H >= smallestPhoto:
		return m.tightPhoto(p, r)
	}
	m.out = append(m.out, tightPlain<<4)
	t.body = t.body[:0]
	for y := range r.H {
		for _, c := range p.Row(r.X, r.Y+y, r.W) {
			t.body = m.format.appendTight(t.body, c)
		}
	}
	return m.tightBody(tightPlain)
}

// survey finds the colours of a part; few says that a byte tells them apart.
func (t *tightly) survey(p *picture.Picture, r picture.Rect) (few bool) {
	if t.palette == nil {
		t.palette = map[uint32]uint8{}
	}
	clear(t.palette)
	t.colours = t.colours[:0]
	last := ^uint32(0)
	for y := range r.H {
		for _, c := range p.Row(r.X, r.Y+y, r.W) {
			if c == last {
				continue
			}
			last = c
			if _, known := t.palette[c]; known {
				continue
			}
			if len(t.colours) == 256 {
				return false
			}
			t.palette[c] = uint8(len(t.colours))
			t.colours = append(t.colours, c)
		}
	}
	return true
}

// bits is a part of two colours, a bit for each pixel.
func (t *tightly) bits(p *picture.Picture, r picture.Rect) {
	wide := (r.W + 7) / 8
	t.body = append(t.body[:0], make([]byte, wide*r.H)...)
	for y := range r.H {
		for x, c := range p.Row(r.X, r.Y+y, r.W) {
			if c == t.colours[1] {
				t.body[y*wide+x/8] |= 0x80 >> (x % 8)
			}
		}
	}
}

// tightColours writes which stream follows, and the palette.
func (m *message) tightColours() {
	stream := byte(tightPalette)
	if len(m.tight.colours) == 2 {
		stream = tightTwo
	}
	m.out = append(m.out, (stream|tightExplicit)<<4, filterPalette, byte(len(m.tight.colours)-1))
	for _, c := range m.tight.colours {
		m.out = m.format.appendTight(m.out, c)
	}
}

// appendTight writes one pixel as Tight has it.
func (f *Format) appendTight(out []byte, c uint32) []byte {
	if f.threeBytes() {
		return picture.RGB(out, c)
	}
	return f.appendPixel(out, c)
}

// tightBody writes what there is of a part, compressed where it is not short.
func (m *message) tightBody(stream int) error {
	t := &m.tight
	if len(t.body) < tightShort {
		m.out = append(m.out, t.body...)
		return nil
	}
	packed, err := t.z[stream].pack(t.body)
	m.out = append(appendTightLength(m.out, len(packed)), packed...)
	return err
}

// appendTightLength writes a length of up to 22 bits.
func appendTightLength(out []byte, n int) []byte {
	switch {
	case n < 1<<7:
		return append(out, byte(n))
	case n < 1<<14:
		return append(out, byte(n)|128, byte(n>>7))
	}
	return append(out, byte(n)|128, byte(n>>7)|128, byte(n>>14))
}

// tightPhoto writes a part as a JPEG, as good as the viewer wants it.
func (m *message) tightPhoto(p *picture.Picture, r picture.Rect) error {
	var text bytes.Buffer
	if err := jpeg.Encode(&text, p.Image(r), &jpeg.Options{Quality: 15 + 9*m.quality}); err != nil {
		return err
	}
	m.out = appendTightLength(append(m.out, tightJPEG<<4), text.Len())
	m.out = append(m.out, text.Bytes()...)
	return nil
}
