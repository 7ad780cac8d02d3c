package picture

import (
	"compress/flate"
	"encoding/binary"
)

// A Form is how a picture is written for somebody who looks.
type Form uint8

// The forms.
const (
	InFull Form = iota // every pixel as it is
	InFew              // 256 colours
)

// Forms are their names.
var Forms = map[string]Form{"full": InFull, "few": InFew}

// few is a colour as one byte: three bits of red, three of green, two of blue.
func few(out []byte, c uint32) []byte { return append(out, byte(c>>16&0xe0|c>>11&0x1c|c>>6&0x03)) }

// A Framer writes frames: parts of a picture, compressed. It may be used again, and not be
// shared.
type Framer struct {
	tiler Tiler
	tiles []byte
	out   []byte
	z     *flate.Writer
}

const mostParts = 65535

// Frame writes parts of a picture, each within it: its width and height, the form, how many parts
// there are, each as x, y, width and height (all big-endian, of 16 bits; the form of 8), and then,
// deflated (RFC 1951), the tiles of all parts one after the other (RFC 6143, section 7.7.6), with
// pixels of three bytes, red, green and blue, or of one, 3-3-2 bits.
func (f *Framer) Frame(p *Picture, parts []Rect, form Form) []byte {
	if len(parts) > mostParts {
		parts = []Rect{{0, 0, p.W, p.H}}
	}
	head := binary.BigEndian.AppendUint16(nil, uint16(p.W))
	head = append(binary.BigEndian.AppendUint16(head, uint16(p.H)), byte(form))
	head = binary.BigEndian.AppendUint16(head, uint16(len(parts)))
	f.tiler.Bytes, f.tiler.Pixel, f.tiler.Mask = 3, RGB, 0
	if form == InFew {
		f.tiler.Bytes, f.tiler.Pixel, f.tiler.Mask = 1, few, 0xe0e0c0
	}
	f.tiles = f.tiles[:0]
	for _, r := range parts {
		for _, n := range []int{r.X, r.Y, r.W, r.H} {
			head = binary.BigEndian.AppendUint16(head, uint16(n))
		}
		f.tiles = f.tiler.Append(f.tiles, p, r)
	}
	f.out = head
	if f.z == nil {
		f.z, _ = flate.NewWriter((*sink)(f), flate.BestSpeed) // the level is one
	}
	f.z.Reset((*sink)(f))
	_, _ = f.z.Write(f.tiles) // a sink takes everything
	_ = f.z.Close()
	return f.out
}

// sink is where a framer's compressor writes.
type sink Framer

func (s *sink) Write(p []byte) (int, error) {
	s.out = append(s.out, p...)
	return len(p), nil
}
