package rfb

import (
	"bytes"
	"image/jpeg"
	"io"

	"plumbbob/internal/core/picture"
)

// Tight, as it is registered: a control byte says which of four streams begin anew, and how the
// rectangle is written.
const (
	tightFill     = 8
	tightJPEG     = 9
	tightExplicit = 4 // a filter is named

	filterCopy     = 0
	filterPalette  = 1
	filterGradient = 2

	tightShort = 12      // what is shorter is not compressed
	tightWide  = 2048    // pixels: no rectangle is wider
	tightLong  = 1 << 22 // bytes: no length is longer
)

func (v *Viewer) readTight(r picture.Rect) error {
	control, err := v.r.ReadByte()
	if err != nil {
		return err
	}
	for i := range v.tight {
		if control&(1<<i) != 0 {
			v.tight[i].reset()
		}
	}
	if r.W > tightWide {
		return wrong("it draws %d pixels wide in Tight, where %d are the most", r.W, tightWide)
	}
	switch kind := control >> 4; {
	case kind == tightFill:
		var c [1]uint32
		if err := v.tightColours(v.r, c[:]); err != nil {
			return err
		}
		v.pic.Fill(r, c[0])
		return nil
	case kind == tightJPEG:
		return v.tightPicture(r)
	case kind > tightJPEG:
		return wrong("it draws in a way of Tight that was not offered (%d)", kind)
	default:
		return v.tightBasic(r, kind)
	}
}

// small says whether a pixel is three bytes: red, green, blue.
func (f *Format) threeBytes() bool {
	return f.Bits == 32 && f.Depth == 24 && f.MaxR == 255 && f.MaxG == 255 && f.MaxB == 255
}

func (f *Format) tightBytes() int {
	if f.threeBytes() {
		return 3
	}
	return f.bytes
}

// tightColours reads pixels as Tight has them.
func (v *Viewer) tightColours(in io.Reader, to []uint32) error {
	b := v.format.tightBytes()
	p, err := v.from(in, len(to)*b)
	if err != nil {
		return err
	}
	if !v.format.threeBytes() {
		v.format.pixels(to, p)
		return nil
	}
	for i := range to {
		to[i] = uint32(p[3*i])<<16 | uint32(p[3*i+1])<<8 | uint32(p[3*i+2])
	}
	return nil
}

// tightLength reads a length of up to 22 bits.
func (v *Viewer) tightLength() (n int, err error) {
	for shift := 0; ; shift += 7 {
		b, err := v.r.ReadByte()
		if err != nil {
			return 0, err
		}
		if shift == 14 {
			return n | int(b)<<14, nil
		}
		n |= int(b&127) << shift
		if b < 128 {
			return n, nil
		}
	}
}

// tightPicture reads a JPEG.
func (v *Viewer) tightPicture(r picture.Rect) error {
	n, err := v.tightLength()
	if err != nil {
		return err
	}
	if n > tightLong {
		return wrong("it sends a picture of %d bytes", n)
	}
	text, err := v.take(n)
	if err != nil {
		return err
	}
	return drawJPEG(v.pic, r, text)
}

// drawJPEG draws a JPEG that is as large as its rectangle.
func drawJPEG(p *picture.Picture, r picture.Rect, text []byte) error {
	c, err := jpeg.DecodeConfig(bytes.NewReader(text))
	if err != nil {
		return wrong("it sends a JPEG that is none: %s", err)
	}
	if c.Width != r.W || c.Height != r.H {
		return wrong("it sends a JPEG of %d × %d pixels for %d × %d", c.Width, c.Height, r.W, r.H)
	}
	m, err := jpeg.Decode(bytes.NewReader(text))
	if err != nil {
		return wrong("it sends a JPEG that is none: %s", err)
	}
	p.Draw(r, m)
	return nil
}

// tightBasic reads pixels through a filter, of one of the streams where they are not few.
func (v *Viewer) tightBasic(r picture.Rect, kind byte) error {
	filter := byte(filterCopy)
	if kind&tightExplicit != 0 {
		var err error
		if filter, err = v.r.ReadByte(); err != nil {
			return err
		}
	}
	var room [256]uint32
	var palette []uint32
	per := r.W * v.format.tightBytes() // bytes of a row
	switch filter {
	case filterCopy:
	case filterGradient:
		if !v.format.threeBytes() {
			return wrong("it draws gradients in pixels of %d bits", v.format.Bits)
		}
	case filterPalette:
		n, err := v.r.ReadByte()
		if err != nil {
			return err
		}
		if n == 0 {
			return wrong("it draws with a palette of one colour")
		}
		palette = room[:int(n)+1]
		if err := v.tightColours(v.r, palette); err != nil {
			return err
		}
		if per = r.W; len(palette) == 2 {
			per = (r.W + 7) / 8
			v.packed.Begin(palette)
		}
	default:
		return wrong("it draws through filter %d of Tight, which there is not", filter)
	}
	return v.tightRows(r, kind&3, filter, palette, per)
}

func (v *Viewer) tightRows(r picture.Rect, stream, filter byte, palette []uint32, per int) error {
	in := io.Reader(v.r)
	end := func() error { return nil }
	if per*r.H >= tightShort {
		n, err := v.tightLength()
		if err != nil {
			return err
		}
		z := &v.tight[stream]
		if err := z.begin(v.r, n); err != nil {
			return err
		}
		in, end = z.out, z.end
	}
	above := make([]byte, 0)
	if filter == filterGradient {
		above = make([]byte, per)
	}
	for y := range r.H {
		row := v.pic.Row(r.X, r.Y+y, r.W)
		if filter == filterCopy {
			if err := v.tightColours(in, row); err != nil {
				return err
			}
			continue
		}
		p, err := v.from(in, per)
		if err != nil {
			return err
		}
		if filter == filterGradient {
			gradient(row, p, above)
			copy(above, p)
			continue
		}
		if err := v.indexed(row, p, palette); err != nil {
			return err
		}
	}
	return end()
}

// indexed draws a row by a palette: a bit for each pixel where it has two colours, else a byte.
func (v *Viewer) indexed(row []uint32, p []byte, palette []uint32) error {
	if len(palette) == 2 {
		if err := v.packed.Draw(row, p); err != nil {
			return badTile(err)
		}
		return nil
	}
	for x := range row {
		i := int(p[x])
		if i >= len(palette) {
			return wrong("it draws in colour %d of %d", i, len(palette))
		}
		row[x] = palette[i]
	}
	return nil
}

// gradient draws a row of differences to what left, above and above left let expect. It leaves
// the row itself in p.
func gradient(row []uint32, p, above []byte) {
	for i := range p {
		left, corner := 0, 0
		if i >= 3 {
			left, corner = int(p[i-3]), int(above[i-3])
		}
		p[i] += byte(min(max(0, left+int(above[i])-corner), 255))
	}
	for x := range row {
		row[x] = uint32(p[3*x])<<16 | uint32(p[3*x+1])<<8 | uint32(p[3*x+2])
	}
}
