package rfb

import (
	"bufio"
	"encoding/binary"
	"errors"
	"io"

	"github.com/klauspost/compress/zlib"

	"plumbbob/internal/core/picture"
)

// An inflater is a stream that is compressed, of which each rectangle brings a part.
type inflater struct {
	part feed
	in   *bufio.Reader // of the parts: what decompresses reads that by more than a byte at a time
	z    io.ReadCloser
	out  *bufio.Reader
}

// feed is what has come of a compressed stream so far.
type feed struct {
	r    *bufio.Reader
	left int // bytes of this part that have not been read
}

// mostKept is how much of a part may be left when its picture is complete: the end of a block.
const mostKept = 4 << 10

func (f *feed) Read(p []byte) (int, error) {
	if f.left == 0 {
		return 0, errShort
	}
	n, err := f.r.Read(p[:min(len(p), f.left)])
	f.left -= n
	return n, unexpected(err)
}

// errShort is a picture of which less was sent than there is of it.
var errShort = wrong("it sends less of a picture than there is of it")

// begin begins a part of n bytes.
func (i *inflater) begin(r *bufio.Reader, n int) error {
	i.part = feed{r, n}
	if i.z == nil {
		i.in = bufio.NewReaderSize(&i.part, mostKept)
		z, err := zlib.NewReader(i.in)
		if err != nil {
			return badStream(err)
		}
		i.z, i.out = z, bufio.NewReaderSize(z, 16<<10)
	}
	return nil
}

// end ends it. What is left belongs to the end of a block, and is read with what follows.
func (i *inflater) end() error {
	rest := i.in.Buffered() + i.part.left
	if rest > mostKept {
		return wrong("it sends %d bytes more than its picture has", rest)
	}
	_, err := i.in.Peek(rest) // it is kept there
	return err
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
	v.tiles.Bytes, v.tiles.Pixel = v.format.compact, v.format.small
	if err := v.tiles.Draw(v.pic, r, v.zrle.out); err != nil {
		return badTile(err)
	}
	return v.zrle.end()
}

// badTile says what is wrong with tiles, or with the stream that they come in.
func badTile(err error) error {
	var bad *picture.TileError
	if errors.As(err, &bad) {
		return wrong("%s", bad.Text)
	}
	return badStream(err)
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

// appendLength writes how long what follows is.
func appendLength(out []byte, n int) []byte { return binary.BigEndian.AppendUint32(out, uint32(n)) }
