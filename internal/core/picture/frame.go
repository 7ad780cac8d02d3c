package picture

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"image/jpeg"
)

// A Form is how a picture is written for somebody who looks.
type Form uint8

// The forms.
const (
	InFull Form = iota // every pixel as it is
	InFew              // 256 colours; or, of what has many, a photograph
)

// asPhoto is how a frame says that it has a photograph. Nobody asks for that.
const asPhoto = 2

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
// pixels of three bytes, red, green and blue, or of one, 3-3-2 bits. Of few colours it may be
// a photograph instead: then there is one part, and behind it a JPEG.
func (f *Framer) Frame(p *Picture, parts []Rect, form Form) []byte {
	if len(parts) > mostParts {
		parts = []Rect{p.All()}
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
	if form == InFew && likePhoto(p, parts) {
		if photo := photograph(p, parts); len(photo) < max(photoMost*len(f.out), photoFree) {
			return photo
		}
	}
	return f.out
}

// How much larger than few colours a photograph may be, since it says so much more; up to which
// size that does not matter; and how good it is.
const (
	photoMost    = 2
	photoFree    = 4 << 10
	photoQuality = 45
)

// likePhoto says whether parts of a picture are of a photograph: the picture has as many colours
// as no drawing has, and the parts more than text.
func likePhoto(p *Picture, parts []Rect) bool {
	const text, drawing = 40, 250
	return coloursReach(p, parts, text) && coloursReach(p, []Rect{p.All()}, drawing)
}

// coloursReach says whether parts of a picture have so many colours: of each fifth pixel.
func coloursReach(p *Picture, parts []Rect, many int) bool {
	const step = 5
	var seen [4096]bool
	n := 0
	for _, r := range parts {
		for y := r.Y; y < r.Y+r.H; y++ {
			row := p.Row(r.X, y, r.W)
			for x := y % step; x < len(row); x += step {
				if at := row[x] * 0x9e3779b1 >> 20; !seen[at] {
					seen[at] = true
					if n++; n == many {
						return true
					}
				}
			}
		}
	}
	return false
}

// photograph is a frame with one part, in which all parts are, as JPEG.
func photograph(p *Picture, parts []Rect) []byte {
	all := parts[0]
	for _, r := range parts[1:] {
		x, y := min(all.X, r.X), min(all.Y, r.Y)
		all = Rect{x, y, max(all.X+all.W, r.X+r.W) - x, max(all.Y+all.H, r.Y+r.H) - y}
	}
	var out bytes.Buffer
	head := binary.BigEndian.AppendUint16(nil, uint16(p.W))
	head = append(binary.BigEndian.AppendUint16(head, uint16(p.H)), asPhoto)
	for _, n := range []int{1, all.X, all.Y, all.W, all.H} {
		head = binary.BigEndian.AppendUint16(head, uint16(n))
	}
	out.Write(head)
	_ = jpeg.Encode(&out, p.Image(all), &jpeg.Options{Quality: photoQuality}) // a buffer takes everything
	return out.Bytes()
}

// sink is where a framer's compressor writes.
type sink Framer

func (s *sink) Write(p []byte) (int, error) {
	s.out = append(s.out, p...)
	return len(p), nil
}
