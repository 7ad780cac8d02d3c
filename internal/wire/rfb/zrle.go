package rfb

import (
	"bufio"
	"encoding/binary"
	"io"

	"github.com/klauspost/compress/zlib"

	"plumbbob/internal/core/picture"
)

// An inflater is a stream that is compressed, of which each rectangle brings a part.
type inflater struct {
	in  feed
	z   io.ReadCloser
	out *bufio.Reader
}

// feed is what there is of a compressed stream so far.
type feed struct {
	r    *bufio.Reader
	left int // bytes of this part that have not been read
	kept []byte
}

// mostKept is how much of a part may be left when its picture is complete: the end of a block.
const mostKept = 4 << 10

func (f *feed) Read(p []byte) (int, error) {
	if len(f.kept) > 0 {
		n := copy(p, f.kept)
		f.kept = f.kept[n:]
		return n, nil
	}
	if f.left == 0 {
		return 0, errShort
	}
	n, err := f.r.Read(p[:min(len(p), f.left)])
	f.left -= n
	return n, unexpected(err)
}

func (f *feed) ReadByte() (byte, error) {
	if len(f.kept) > 0 {
		b := f.kept[0]
		f.kept = f.kept[1:]
		return b, nil
	}
	if f.left == 0 {
		return 0, errShort
	}
	f.left--
	b, err := f.r.ReadByte()
	return b, unexpected(err)
}

// errShort is a picture of which less was sent than there is of it.
var errShort = wrong("it sends less of a picture than there is of it")

// begin begins a part of n bytes.
func (i *inflater) begin(r *bufio.Reader, n int) error {
	i.in.r, i.in.left = r, n
	if i.z == nil {
		z, err := zlib.NewReader(&i.in)
		if err != nil {
			return badStream(err)
		}
		i.z, i.out = z, bufio.NewReaderSize(z, 16<<10)
	}
	return nil
}

// end ends it. What is left belongs to the end of a block, and is read with what follows.
func (i *inflater) end() error {
	if i.in.left > mostKept {
		return wrong("it sends %d bytes more than its picture has", i.in.left)
	}
	rest := make([]byte, i.in.left)
	if _, err := io.ReadFull(i.in.r, rest); err != nil {
		return err
	}
	i.in.kept, i.in.left = append(i.in.kept, rest...), 0
	if len(i.in.kept) > mostKept {
		return wrong("it sends more than its pictures have")
	}
	return nil
}

// reset begins another stream.
func (i *inflater) reset() { *i = inflater{} }

func badStream(err error) error {
	if err == errShort { //nolint:errorlint // it is ours
		return err
	}
	return wrong("what it sends cannot be decompressed: %s", err)
}

func (v *Viewer) readZRLE(r picture.Rect) error {
	n, err := v.uint32()
	if err != nil {
		return err
	}
	if err := v.zrle.begin(v.r, int(n)); err != nil {
		return err
	}
	for y := r.Y; y < r.Y+r.H; y += picture.Tile {
		for x := r.X; x < r.X+r.W; x += picture.Tile {
			t := picture.Rect{X: x, Y: y, W: min(picture.Tile, r.X+r.W-x), H: min(picture.Tile, r.Y+r.H-y)}
			if err := v.zrleTile(v.zrle.out, t); err != nil {
				return err
			}
		}
	}
	return v.zrle.end()
}

// zrleTile reads one tile (section 7.7.6).
func (v *Viewer) zrleTile(in *bufio.Reader, t picture.Rect) error {
	kind, err := in.ReadByte()
	if err != nil {
		return badStream(err)
	}
	switch {
	case kind == picture.TileRaw:
		return v.zrleRaw(in, t)
	case kind == picture.TileSolid:
		var c [1]uint32
		if err := v.colours(in, c[:]); err != nil {
			return err
		}
		v.pic.Fill(t, c[0])
		return nil
	case kind <= picture.MostPacked:
		return v.zrlePacked(in, t, int(kind))
	case kind == picture.TileRuns:
		return v.zrleRuns(in, t, nil)
	case kind >= picture.TilePaletteRun+2:
		var room [picture.MostPalette]uint32
		palette := room[:kind-picture.TilePaletteRun]
		if err := v.colours(in, palette); err != nil {
			return err
		}
		return v.zrleRuns(in, t, palette)
	}
	return wrong("it sends a tile of kind %d, which there is not", kind)
}

// colours reads pixels as ZRLE has them.
func (v *Viewer) colours(in *bufio.Reader, to []uint32) error {
	b := v.format.compact
	p, err := v.from(in, len(to)*b)
	if err != nil {
		return err
	}
	for i := range to {
		to[i] = v.format.small(p[i*b:])
	}
	return nil
}

// from reads n bytes of a stream.
func (v *Viewer) from(in io.Reader, n int) ([]byte, error) {
	if cap(v.scratch) < n {
		v.scratch = make([]byte, n)
	}
	p := v.scratch[:n]
	if _, err := io.ReadFull(in, p); err != nil {
		return nil, badStream(err)
	}
	return p, nil
}

func (v *Viewer) zrleRaw(in *bufio.Reader, t picture.Rect) error {
	for y := range t.H {
		if err := v.colours(in, v.pic.Row(t.X, t.Y+y, t.W)); err != nil {
			return err
		}
	}
	return nil
}

func (v *Viewer) zrlePacked(in *bufio.Reader, t picture.Rect, n int) error {
	var palette [picture.MostPacked]uint32
	if err := v.colours(in, palette[:n]); err != nil {
		return err
	}
	bits := picture.PerIndex(n)
	wide := (t.W*bits + 7) / 8
	p, err := v.from(in, wide*t.H)
	if err != nil {
		return err
	}
	for y := range t.H {
		if err := unpack(v.pic.Row(t.X, t.Y+y, t.W), p[y*wide:(y+1)*wide], palette[:n], bits); err != nil {
			return err
		}
	}
	return nil
}

// eight draws eight pixels of two colours: one, and by how it is different the other.
func eight(row []uint32, b byte, one, other uint32) {
	_ = row[7]
	bits := uint32(b)
	row[0], row[1] = one^other&-(bits>>7), one^other&-(bits>>6&1)
	row[2], row[3] = one^other&-(bits>>5&1), one^other&-(bits>>4&1)
	row[4], row[5] = one^other&-(bits>>3&1), one^other&-(bits>>2&1)
	row[6], row[7] = one^other&-(bits>>1&1), one^other&-(bits&1)
}

// unpack draws a row of indices into a palette, of so many bits each, the first one highest.
func unpack(row []uint32, p []byte, palette []uint32, bits int) error {
	mask, per := byte(1<<bits-1), 8/bits
	for bits == 1 && len(palette) == 2 && len(row) >= 8 {
		eight(row[:8:8], p[0], palette[0], palette[0]^palette[1])
		row, p = row[8:], p[1:]
	}
	for _, b := range p {
		n := min(per, len(row))
		for i := range row[:n] {
			at := b >> (8 - bits - i*bits) & mask
			if int(at) >= len(palette) {
				return wrong("it draws in colour %d of %d", at, len(palette))
			}
			row[i] = palette[at]
		}
		row = row[n:]
	}
	return nil
}

// zrleRuns reads runs of a colour, or of an index into a palette; they go on over the ends of
// rows.
func (v *Viewer) zrleRuns(in *bufio.Reader, t picture.Rect, palette []uint32) error {
	pix := v.row(t.W * t.H)
	for at := 0; at < len(pix); {
		c, n, err := v.zrleRun(in, palette)
		if err != nil {
			return err
		}
		if n > len(pix)-at {
			return wrong("it draws more than there is of a tile")
		}
		repeat(pix[at:at+n], c)
		at += n
	}
	for y := range t.H {
		copy(v.pic.Row(t.X, t.Y+y, t.W), pix[y*t.W:])
	}
	return nil
}

func (v *Viewer) zrleRun(in *bufio.Reader, palette []uint32) (c uint32, n int, err error) {
	if palette == nil {
		var one [1]uint32
		if err := v.colours(in, one[:]); err != nil {
			return 0, 0, err
		}
		c = one[0]
	} else {
		i, err := in.ReadByte()
		if err != nil {
			return 0, 0, badStream(err)
		}
		if int(i&127) >= len(palette) {
			return 0, 0, wrong("it draws in colour %d of %d", i&127, len(palette))
		}
		if c = palette[i&127]; i < 128 {
			return c, 1, nil
		}
	}
	for n = 1; ; {
		b, err := in.ReadByte()
		if err != nil {
			return 0, 0, badStream(err)
		}
		if n += int(b); b != 255 {
			return c, n, nil
		}
		if n > picture.Tile*picture.Tile {
			return 0, 0, wrong("it draws more than there is of a tile")
		}
	}
}

// appendLength writes how long what follows is.
func appendLength(out []byte, n int) []byte { return binary.BigEndian.AppendUint32(out, uint32(n)) }
