package rfb

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"image"
	"image/color"
	"image/jpeg"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/canvas"
	"plumbbob/internal/core/picture"
)

// formats are those that decoders are tried with.
var formats = map[string]Format{
	"full": Full, "high": High, "few": Few, "mapped": Mapped,
	"big":     {Bits: 32, Depth: 24, Big: true, TrueColour: true, MaxR: 255, MaxG: 255, MaxB: 255, ShiftR: 16, ShiftG: 8},
	"shifted": {Bits: 32, Depth: 24, TrueColour: true, MaxR: 255, MaxG: 255, MaxB: 255, ShiftR: 8, ShiftG: 16, ShiftB: 24},
}

// sketch is a picture with text, areas and noise in it.
func sketch(w, h int, seed uint64) *picture.Picture {
	rng := rand.New(rand.NewPCG(seed, 1))
	p := picture.New(w, h)
	p.Fill(picture.Rect{W: w, H: h}, 0x203040)
	for range 40 {
		r := picture.Rect{X: rng.IntN(w), Y: rng.IntN(h), W: 1 + rng.IntN(w), H: 1 + rng.IntN(h/3+1)}.Clip(w, h)
		p.Fill(r, rng.Uint32()&0xffffff)
	}
	for i := range min(len(p.Pix), 3000) { // noise, of many colours and of few
		p.Pix[i] = rng.Uint32() & 0xffffff
	}
	for i := len(p.Pix) / 2; i < len(p.Pix)*3/4; i++ {
		p.Pix[i] = []uint32{0, 0xffffff, 0xff0000}[rng.IntN(3)]
	}
	return p
}

// as is a picture as it looks in a format: of each colour what is nearest.
func as(p *picture.Picture, f Format) *picture.Picture {
	q := p.Clone()
	for i, c := range q.Pix {
		q.Pix[i] = f.colour(f.value(c))
	}
	return q
}

// seen decodes what a server sends of a picture of that size.
func seen(t require.TestingT, f Format, w, h int, sent []byte) (*picture.Picture, error) {
	f, err := f.ready()
	require.NoError(t, err)
	v := &Viewer{r: bufio.NewReaderSize(bytes.NewReader(sent), readerBytes), format: f, pic: picture.New(w, h)}
	err = v.Run(&eyes{})
	return v.pic, err
}

// eyes notes what it is told.
type eyes struct {
	mu     sync.Mutex
	pic    *picture.Picture
	cursor Cursor
	bells  int
}

func (e *eyes) Resized(p *picture.Picture) { e.mu.Lock(); defer e.mu.Unlock(); e.pic = p.Clone() }
func (e *eyes) Updated(p *picture.Picture, parts []picture.Rect) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for _, r := range parts {
		for y := r.Y; y < r.Y+r.H; y++ {
			copy(e.pic.Row(r.X, y, r.W), p.Row(r.X, y, r.W))
		}
	}
}
func (e *eyes) Cursor(c Cursor) { e.cursor = c }
func (e *eyes) Bell()           { e.bells++ }

func (e *eyes) see(p *picture.Picture) func() bool {
	return func() bool {
		e.mu.Lock()
		defer e.mu.Unlock()
		return e.pic != nil && e.pic.W == p.W && e.pic.H == p.H && bytes.Equal(pixels(e.pic), pixels(p))
	}
}

func pixels(p *picture.Picture) (out []byte) {
	for _, c := range p.Pix {
		out = binary.BigEndian.AppendUint32(out, c)
	}
	return out
}

// An encoder writes a rectangle, apart from all that decodes it.
type encoder func(f *Format, p *picture.Picture, r picture.Rect) []byte

func u16(out []byte, all ...int) []byte {
	for _, n := range all {
		out = binary.BigEndian.AppendUint16(out, uint16(n))
	}
	return out
}

func plainRaw(f *Format, p *picture.Picture, r picture.Rect) (out []byte) {
	for y := range r.H {
		for x := range r.W {
			out = f.appendPixel(out, p.Row(r.X, r.Y+y, r.W)[x])
		}
	}
	return out
}

// plainRRE draws each pixel that is not the background.
func plainRRE(f *Format, p *picture.Picture, r picture.Rect) (out []byte) {
	back, n := p.Row(r.X, r.Y, 1)[0], uint32(0)
	var subs []byte
	for y := range r.H {
		for x, c := range p.Row(r.X, r.Y+y, r.W) {
			if c != back {
				subs, n = u16(f.appendPixel(subs, c), x, y, 1, 1), n+1
			}
		}
	}
	return append(f.appendPixel(binary.BigEndian.AppendUint32(nil, n), back), subs...)
}

// plainHextile has each kind of tile, where it can.
func plainHextile(f *Format, p *picture.Picture, r picture.Rect) (out []byte) {
	n := 0
	for y := r.Y; y < r.Y+r.H; y += 16 {
		for x := r.X; x < r.X+r.W; x += 16 {
			t := picture.Rect{X: x, Y: y, W: min(16, r.X+r.W-x), H: min(16, r.Y+r.H-y)}
			colours := map[uint32]int{}
			for j := range t.H {
				for _, c := range p.Row(t.X, t.Y+j, t.W) {
					colours[c]++
				}
			}
			back := p.Row(t.X, t.Y, 1)[0]
			var subs []byte
			count, one := 0, uint32(0)
			for j := range t.H {
				for i, c := range p.Row(t.X, t.Y+j, t.W) {
					if c == back {
						continue
					}
					if len(colours) > 2 {
						subs = f.appendPixel(subs, c)
					}
					subs, one = append(subs, byte(i<<4|j), 0), c
					count++
				}
			}
			switch n++; {
			case len(colours) == 1:
				out = f.appendPixel(append(out, hexBackground), back)
			case count > 255 || n%7 == 0:
				out = append(append(out, hexRaw), plainRaw(f, p, t)...)
			case len(colours) == 2:
				out = append(f.appendPixel(f.appendPixel(append(out, hexBackground|hexForeground|hexSubrects), back), one), byte(count))
				out = append(out, subs...)
			default:
				out = append(f.appendPixel(append(out, hexBackground|hexSubrects|hexColoured), back), byte(count))
				out = append(out, subs...)
			}
		}
	}
	return out
}

// plainTight uses a filter, and a stream of its own for each.
func plainTight(filter byte) func() encoder {
	return func() encoder {
		var packed bytes.Buffer
		z := zlib.NewWriter(&packed)
		return func(f *Format, p *picture.Picture, r picture.Rect) (out []byte) {
			out = append(out, (filter|tightExplicit)<<4, filter)
			three := func(out []byte, c uint32) []byte {
				if f.threeBytes() {
					return append(out, byte(c>>16), byte(c>>8), byte(c))
				}
				return f.appendPixel(out, c)
			}
			var body []byte
			switch filter {
			case filterCopy:
				for y := range r.H {
					for _, c := range p.Row(r.X, r.Y+y, r.W) {
						body = three(body, c)
					}
				}
			case filterPalette:
				index := map[uint32]int{}
				var colours []uint32
				for y := range r.H {
					for _, c := range p.Row(r.X, r.Y+y, r.W) {
						if _, ok := index[c]; !ok {
							index[c], colours = len(colours), append(colours, c)
						}
					}
				}
				if len(colours) == 1 {
					return three([]byte{tightFill << 4}, colours[0])
				}
				if len(colours) > 256 {
					return plainTight(filterCopy)()(f, p, r)
				}
				out = append(out, byte(len(colours)-1))
				for _, c := range colours {
					out = three(out, c)
				}
				for y := range r.H {
					row := p.Row(r.X, r.Y+y, r.W)
					if len(colours) > 2 {
						for _, c := range row {
							body = append(body, byte(index[c]))
						}
						continue
					}
					bits := make([]byte, (r.W+7)/8)
					for x, c := range row {
						bits[x/8] |= byte(index[c]) << (7 - x%8)
					}
					body = append(body, bits...)
				}
			case filterGradient:
				at := func(x, y, shift int) int {
					if x < 0 || y < 0 {
						return 0
					}
					return int(p.Row(r.X+x, r.Y+y, 1)[0] >> shift & 255)
				}
				for y := range r.H {
					for x := range r.W {
						for _, s := range []int{16, 8, 0} {
							body = append(body, byte(at(x, y, s)-min(max(0, at(x-1, y, s)+at(x, y-1, s)-at(x-1, y-1, s)), 255)))
						}
					}
				}
			}
			if len(body) < tightShort {
				return append(out, body...)
			}
			packed.Reset()
			_, _ = z.Write(body)
			_ = z.Flush()
			n := packed.Len()
			return append(append(out, byte(n&127|128), byte(n>>7&127|128), byte(n>>14)), packed.Bytes()...)
		}
	}
}

func always(e encoder) func() encoder { return func() encoder { return e } }

// TestEncodings: what encoders that were written apart say of a picture is that picture, to the
// pixel, in every format.
func TestEncodings(t *testing.T) {
	for name, e := range map[string]struct {
		number int32
		make   func() encoder
		only   string
	}{
		"raw": {encRaw, always(plainRaw), ""}, "rre": {encRRE, always(plainRRE), ""}, "hextile": {encHextile, always(plainHextile), ""},
		"tight": {encTight, plainTight(filterCopy), ""}, "tight with palettes": {encTight, plainTight(filterPalette), ""}, "tight with gradients": {encTight, plainTight(filterGradient), "full"},
	} {
		for kind, f := range formats {
			if e.only != "" && e.only != kind {
				continue
			}
			f, err := f.ready()
			require.NoError(t, err)
			if f.mapped != nil { // its colours come with the pictures elsewhere
				continue
			}
			want := as(sketch(150, 90, 7), f)
			encode := e.make()
			sent := []byte{framebufferUpdate, 0, 255, 255}
			for _, r := range []picture.Rect{{X: 0, Y: 0, W: 150, H: 50}, {X: 0, Y: 50, W: 77, H: 40}, {X: 77, Y: 50, W: 73, H: 40}, {X: 3, Y: 3, W: 1, H: 1}} {
				sent = binary.BigEndian.AppendUint32(u16(sent, r.X, r.Y, r.W, r.H), uint32(e.number))
				sent = append(sent, encode(&f, want, r)...)
			}
			last := int32(encLastRect)
			sent = binary.BigEndian.AppendUint32(u16(sent, 0, 0, 0, 0), uint32(last))
			got, err := seen(t, f, 150, 90, sent)
			require.ErrorIs(t, err, io.EOF, "%s, %s", name, kind)
			require.Equal(t, want.Pix, got.Pix, "%s, %s", name, kind)
		}
	}
}

func TestAPhotograph(t *testing.T) {
	m := image.NewRGBA(image.Rect(0, 0, 40, 30))
	for i := range 1200 {
		m.Set(i%40, i/40, color.RGBA{uint8(i % 40 * 6), uint8(i / 40 * 8), 90, 255})
	}
	var text bytes.Buffer
	require.NoError(t, jpeg.Encode(&text, m, &jpeg.Options{Quality: 95}))
	n := text.Len()
	sent := binary.BigEndian.AppendUint32(u16([]byte{framebufferUpdate, 0, 0, 1}, 5, 5, 40, 30), uint32(encTight))
	sent = append(append(sent, tightJPEG<<4, byte(n&127|128), byte(n>>7&127|128), byte(n>>14)), text.Bytes()...)
	got, err := seen(t, Full, 60, 40, sent)
	require.ErrorIs(t, err, io.EOF)
	for i := range 1200 {
		c := got.Row(5+i%40, 5+i/40, 1)[0]
		require.InDelta(t, i%40*6, int(c>>16), 12)
		require.InDelta(t, i/40*8, int(c>>8&255), 12)
	}
	small := bytes.Replace(sent, []byte{0, 40, 0, 30}, []byte{0, 50, 0, 30}, 1)
	_, err = seen(t, Full, 60, 40, small)
	require.ErrorContains(t, err, "JPEG of 40 × 30 pixels for 50 × 30")
}

// TestDoors: who is let in, and how it is told who is not.
func TestDoors(t *testing.T) {
	src := &shows{Canvas: canvas.New(8, 8)}
	under := &tls.Config{Certificates: []tls.Certificate{certificate(t)}}
	plain := func(user, password string) error {
		if user != "i.marsh" || password != "made up" {
			return ErrRefused
		}
		return nil
	}
	var pin string
	learn := func(p string) error { pin = p; return nil }
	for name, c := range map[string]struct {
		door  Door
		login Login
		err   error
	}{
		"open":               {Door{}, Login{}, nil},
		"password":           {Door{Password: "x"}, Login{Password: "x"}, nil},
		"wrong password":     {Door{Password: "x"}, Login{Password: "y"}, ErrRefused},
		"a name in clear":    {Door{Password: "x"}, Login{User: "i.marsh", Password: "x"}, ErrNoAgreement},
		"a pin, and no TLS":  {Door{}, Login{Pin: "00"}, ErrNoAgreement},
		"a name under TLS":   {Door{Plain: plain, TLS: under}, Login{User: "i.marsh", Password: "made up", Learn: learn}, nil},
		"a wrong one":        {Door{Plain: plain, TLS: under}, Login{User: "i.marsh", Password: "y"}, ErrRefused},
		"nobody under TLS":   {Door{Plain: plain, TLS: under}, Login{Password: "y"}, ErrNoAgreement},
		"another than known": {Door{Plain: plain, TLS: under}, Login{User: "i.marsh", Password: "made up", Pin: "00"}, ErrPin},
	} {
		_, err := between(t, c.door, src, Options{Login: c.login})
		require.ErrorIs(t, err, c.err, name)
	}
	require.Len(t, pin, 64)
}

// TestWhatServersGetWrong: whatever is announced or drawn ends with words, and no memory is
// taken for it.
func TestWhatServersGetWrong(t *testing.T) {
	rect := func(x, y, w, h int, enc int32, body ...byte) []byte {
		return append(binary.BigEndian.AppendUint32(u16([]byte{framebufferUpdate, 0, 0, 1}, x, y, w, h), uint32(enc)), body...)
	}
	var bomb bytes.Buffer
	z := zlib.NewWriter(&bomb)
	for range 64 { // 64 MiB of nothing
		_, _ = z.Write(make([]byte, 1<<20))
	}
	_ = z.Flush()
	for name, c := range map[string]struct {
		sent []byte
		says string
	}{
		"size":          {rect(0, 0, 60000, 60000, encDesktopSize), "a picture of 60000 × 60000 is not taken"},
		"nothing":       {rect(0, 0, 0, 0, encDesktopSize), "is not taken"},
		"outside":       {rect(60, 0, 30, 1, encRaw), "it draws 30 × 1 pixels at 60, 0"},
		"copy":          {rect(0, 0, 30, 1, encCopyRect, 0, 60, 0, 0), "from outside"},
		"many":          {rect(0, 0, 2, 2, encRRE, 255, 255, 255, 255, 0, 0, 0, 0), "4294967295 rectangles"},
		"outside again": {rect(0, 0, 2, 2, encRRE, 0, 0, 0, 1, 0, 0, 0, 0, 1, 1, 1, 1, 0, 1, 0, 0, 255, 255, 0, 1), "outside of its rectangle"},
		"encoding":      {rect(0, 0, 2, 2, 99), "encoding 99"},
		"message":       {[]byte{77}, "message 77"},
		"cursor":        {rect(0, 0, 2000, 2, encCursor), "a pointer of 2000 × 2"},
		"screens":       {rect(0, 0, 64, 64, encExtendedSize, 255, 0, 0, 0), "255 screens"},
		"text":          {[]byte{serverCutText, 0, 0, 0, 255, 255, 255, 255}, "text of 4294967295 bytes"},
		"bomb":          {rect(0, 0, 64, 64, encZRLE, append(appendLength(nil, bomb.Len()), bomb.Bytes()...)...), "more than its picture has"},
		"short":         {rect(0, 0, 64, 64, encZRLE, 0, 0, 0, 2, 0x78, 0x9c), "less of a picture"},
		"no stream":     {rect(0, 0, 64, 64, encZRLE, 0, 0, 0, 2, 1, 2), "cannot be decompressed"},
		"filter":        {rect(0, 0, 64, 64, encTight, 0x40, 9), "filter 9"},
		"JPEG":          {rect(0, 0, 64, 64, encTight, 0x90, 2, 1, 1), "JPEG that is none"},
		"way of Tight":  {rect(0, 0, 64, 64, encTight, 0xa0), "was not offered"},
		"runs":          {rect(0, 0, 4, 4, encZRLE, zrleOf(128, 0, 0, 0, 255, 0)...), "more than there is of a tile"},
		"colour":        {rect(0, 0, 4, 4, encZRLE, zrleOf(3, 0, 0, 0, 1, 1, 1, 2, 2, 2, 255, 255, 255, 255)...), "colour 3 of 3"},
		"colours":       {[]byte{setColourMap, 0, 0, 250, 0, 9}, "colours 250 to 258 of a map of 256"},
		"fence":         {append([]byte{fenceMessage, 0, 0, 0, 0, 0, 0, 0, 200}, make([]byte, 200)...), "a fence of 200 bytes"},
		"kind of tile":  {rect(0, 0, 4, 4, encZRLE, zrleOf(100)...), "kind 100"},
	} {
		f := Full
		if c.sent[0] == setColourMap {
			f = Mapped
		}
		_, err := seen(t, f, 64, 64, c.sent)
		require.ErrorContains(t, err, c.says, name)
		var e *Error
		require.ErrorAs(t, err, &e, name)
	}
}

func zrleOf(body ...byte) []byte {
	var packed bytes.Buffer
	z := zlib.NewWriter(&packed)
	_, _ = z.Write(body)
	_ = z.Flush()
	return append(appendLength(nil, packed.Len()), packed.Bytes()...)
}

// TestHandshakesOfStrangers: old versions, reasons that end with a NUL, and what is no RFB.
func TestHandshakesOfStrangers(t *testing.T) {
	for name, c := range map[string]struct {
		says string
		err  string
	}{
		"not RFB":   {"SSH-2.0-x\r\n\r\n\r\n", "does not speak RFB"},
		"too many":  {"RFB 003.008\n\x00\x00\x00\x00\x13Too many attempts\x00\x00", "it turns connections away: it says: Too many attempts"},
		"of old":    {"RFB 003.003\n\x00\x00\x00\x00\x00\x00\x00\x04busy", "it says: busy"},
		"no way":    {"RFB 003.008\n\x01\x12", "no way in"},
		"too large": {"RFB 003.008\n\x01\x01\x00\x00\x00\x00\xea\x60\xea\x60" + string(make([]byte, 16)) + "\x00\x00\x00\x00", "60000 × 60000"},
		"a name":    {"RFB 003.008\n\x01\x01\x00\x00\x00\x00\x00\x09\x00\x09" + string(make([]byte, 16)) + "\xff\xff\xff\xff", "name is"},
	} {
		near, far := net.Pipe()
		go func() { _, _ = io.Copy(io.Discard, far) }()
		go func() { _, _ = io.WriteString(far, c.says) }()
		_, err := Connect(context.Background(), near, Options{Within: time.Minute})
		require.ErrorContains(t, err, c.err, name)
	}
}

// FuzzViewer: whatever a server sends, decoding it ends, within the picture's memory.
func FuzzViewer(f *testing.F) {
	want := sketch(40, 30, 3)
	full, _ := Full.ready()
	for number, e := range map[int32]encoder{encRaw: plainRaw, encRRE: plainRRE, encHextile: plainHextile, encTight: plainTight(filterPalette)()} {
		head := binary.BigEndian.AppendUint32(u16([]byte{framebufferUpdate, 0, 0, 1}, 0, 0, 40, 30), uint32(number))
		f.Add(append(head, e(&full, want, picture.Rect{W: 40, H: 30})...))
	}
	f.Add(append(binary.BigEndian.AppendUint32(u16([]byte{framebufferUpdate, 0, 0, 1}, 0, 0, 4, 4), uint32(encZRLE)), zrleOf(128, 0, 0, 0, 15)...))
	f.Fuzz(func(t *testing.T, sent []byte) {
		_, err := seen(t, Full, 40, 30, sent)
		var e *Error
		if !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) && !errors.As(err, &e) {
			t.Fatal(err)
		}
	})
}
