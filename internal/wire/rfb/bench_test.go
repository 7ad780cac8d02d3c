package rfb

import (
	"bufio"
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/picture"
)

// console is a screen of 1280 × 800 with text on it.
func console() *picture.Picture {
	p := picture.New(1280, 800)
	p.Fill(picture.Rect{W: 1280, H: 800}, 0x101418)
	rng := rand.New(rand.NewPCG(3, 3))
	var shapes [64][16]byte
	for i := range shapes {
		for y := 2; y < 13; y++ {
			dots := rng.Uint32()
			shapes[i][y] = byte(dots&(dots>>8)) & 0x7e
		}
	}
	for row := range 50 {
		for column := range rng.IntN(150) {
			for y, bits := range shapes[rng.IntN(len(shapes))] {
				for x := range 8 {
					if bits&(0x80>>x) != 0 {
						p.Row(column*8+x, row*16+y, 1)[0] = 0xc8d0d8
					}
				}
			}
		}
	}
	return p
}

// noEyes looks at nothing.
type noEyes struct{}

func (noEyes) Resized(*picture.Picture)                 {}
func (noEyes) Updated(*picture.Picture, []picture.Rect) {}
func (noEyes) Cursor(Cursor)                            {}
func (noEyes) Bell()                                    {}

// BenchmarkDecode: a screen of text in each encoding, beside what it is measured against: a bare
// copy of its pixels, and what zlib alone takes for the bytes of ZRLE and of Tight.
func BenchmarkDecode(b *testing.B) {
	p := console()
	full, err := Full.ready()
	require.NoError(b, err)
	whole := picture.Rect{W: p.W, H: p.H}
	raw := plainRaw(&full, p, whole)
	rate := func(b *testing.B, n int) { b.SetBytes(int64(4 * n)) }
	b.Run("copy", func(b *testing.B) {
		to := make([]byte, len(raw))
		rate(b, len(p.Pix))
		for b.Loop() {
			copy(to, raw)
		}
	})
	var s served
	tiles, err := s.appendZRLE(nil, &full, p, whole)
	require.NoError(b, err)
	for _, c := range []struct {
		name   string
		number int32
		body   []byte
	}{
		{"raw", encRaw, raw}, {"hextile", encHextile, plainHextile(&full, p, whole)},
		{"zrle", encZRLE, tiles}, {"tight", encTight, plainTight(filterPalette)()(&full, p, whole)},
	} {
		sent := append(binary.BigEndian.AppendUint32(u16([]byte{framebufferUpdate, 0, 0, 1}, 0, 0, p.W, p.H), uint32(c.number)), c.body...)
		b.Run(c.name, func(b *testing.B) {
			rate(b, len(p.Pix))
			v := &Viewer{r: bufio.NewReaderSize(nil, readerBytes), format: full, pic: picture.New(p.W, p.H)}
			for b.Loop() {
				v.r.Reset(bytes.NewReader(sent[1:]))
				v.zrle, v.tight = inflater{}, [4]inflater{} // the same stream begins anew
				require.NoError(b, v.update(noEyes{}))
			}
			b.ReportMetric(float64(len(c.body)), "B/screen")
		})
	}
	for name, body := range map[string][]byte{"zlib of zrle": tiles[4:], "zlib of tight": tightBody(b, p, &full)} {
		b.Run(name, func(b *testing.B) {
			rate(b, len(p.Pix))
			for b.Loop() {
				z, err := zlib.NewReader(bytes.NewReader(body))
				require.NoError(b, err)
				_, _ = io.Copy(io.Discard, z) // it ends with a flush, and not with an end
			}
		})
	}
}

// tightBody is what of a picture in Tight is compressed: behind the control byte, the filter, the
// palette and the length.
func tightBody(b *testing.B, p *picture.Picture, f *Format) []byte {
	all := plainTight(filterPalette)()(f, p, picture.Rect{W: p.W, H: p.H})
	require.Equal(b, byte(filterPalette), all[1])
	return all[3+3*(int(all[2])+1)+3:]
}

// BenchmarkBytes: what changes of a screen take in bytes, as it is sent to browsers and in encodings of
// RFB: a terminal that scrolls, firmware that draws itself line by line, and a block that moves.
func BenchmarkBytes(b *testing.B) {
	text := console()
	line := func(n int) []uint32 { return text.Pix[n%50*16*text.W : (n%50+1)*16*text.W] }
	for name, step := range map[string]func(p *picture.Picture, n int){
		"scrolling": func(p *picture.Picture, n int) {
			copy(p.Pix, p.Pix[16*p.W:])
			copy(p.Pix[len(p.Pix)-16*p.W:], line(n))
		},
		"firmware": func(p *picture.Picture, n int) { copy(p.Pix[n%50*16*p.W:], line(n)) },
		"block": func(p *picture.Picture, n int) {
			p.Fill(picture.Rect{X: 8 * (n - 1), Y: 300, W: 120, H: 90}, 0x101418)
			p.Fill(picture.Rect{X: 8 * n, Y: 300, W: 120, H: 90}, 0x2f6f7f)
		},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				steps(b, step)
			}
		})
	}
}

func steps(b *testing.B, step func(p *picture.Picture, n int)) {
	const frames = 100
	full, err := Full.ready()
	require.NoError(b, err)
	p := picture.New(1280, 800)
	p.Fill(picture.Rect{W: p.W, H: p.H}, 0x101418)
	var framer picture.Framer
	c, sent := picture.NewChanging(p.Clone()), map[string]int{}
	served := map[int32]*served{encRaw: {}, encZRLE: {}, encTight: {}}
	for n := 1; n <= frames; n++ {
		then := c.Now
		step(p, n)
		c.Take(p, []picture.Rect{{W: p.W, H: p.H}})
		parts := c.Since(then)
		sent["frames"] += len(framer.Frame(c.Picture, parts, picture.InFull))
		for e, s := range served {
			m := message{served: s, format: full, picture: e, quality: -1}
			for _, r := range parts {
				require.NoError(b, m.draw(p, r))
			}
			sent[map[int32]string{encRaw: "raw", encZRLE: "zrle", encTight: "tight"}[e]] += len(m.out)
		}
	}
	for name, n := range sent {
		b.ReportMetric(float64(n)/frames, name+"-B/frame")
	}
}
