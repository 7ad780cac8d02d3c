package rfb

import (
	"encoding/binary"
	"io"
	"time"

	"plumbbob/internal/core/picture"
)

// A Cursor is what the pointer looks like, and where in that its tip is. Pixels with a high byte
// of 0xff are shown, others are not.
type Cursor struct {
	*picture.Picture
	TipX, TipY int
}

// A Watcher is told what a viewer sees. Its methods are called by Run, and may read the picture
// while they are; they must not wait.
type Watcher interface {
	// Resized is told of a picture that is another, as a whole.
	Resized(*picture.Picture)
	// Updated is told which parts of it are new.
	Updated(*picture.Picture, []picture.Rect)
	Cursor(Cursor)
	Bell()
}

// Bounds of what is told late, so that an update that never ends is shown all the same.
const mostChanged = 512

// Run takes what the server sends until the connection ends, and returns why.
func (v *Viewer) Run(w Watcher) error {
	w.Resized(v.pic)
	for {
		kind, err := v.r.ReadByte()
		if err != nil {
			return err
		}
		v.mu.Lock()
		v.heard = time.Now()
		v.mu.Unlock()
		switch kind {
		case framebufferUpdate:
			err = v.update(w)
		case setColourMap:
			err = v.colourMap()
		case bell:
			w.Bell()
		case serverCutText:
			err = v.cutText()
		case fenceMessage:
			err = v.fence()
		case pushEnded:
			err = v.pushedEnd()
		default:
			err = wrong("it sends message %d, which was not asked for", kind)
		}
		if err != nil {
			return err
		}
	}
}

// take reads n bytes, which stay until it is called again.
func (v *Viewer) take(n int) ([]byte, error) {
	if cap(v.scratch) < n {
		v.scratch = make([]byte, n)
	}
	_, err := io.ReadFull(v.r, v.scratch[:n])
	return v.scratch[:n], err
}

func (v *Viewer) uint32() (uint32, error) {
	p, err := v.take(4)
	if err != nil {
		return 0, err
	}
	return binary.BigEndian.Uint32(p), nil
}

// colourMap takes what values stand for (section 7.6.2). What is drawn already was of the colours
// of before: the picture is asked for anew.
func (v *Viewer) colourMap() error {
	p, err := v.take(5)
	if err != nil {
		return err
	}
	first, n := int(binary.BigEndian.Uint16(p[1:])), int(binary.BigEndian.Uint16(p[3:]))
	if v.format.mapped == nil {
		_, err = v.r.Discard(6 * n) // true colour was asked for
		return err
	}
	if first+n > len(v.format.mapped) {
		return wrong("it sends colours %d to %d of a map of %d", first, first+n-1, len(v.format.mapped))
	}
	if p, err = v.take(6 * n); err != nil {
		return err
	}
	for i := range n { // 16 bits each, of which the high ones are meant
		v.format.mapped[first+i] = uint32(p[6*i])<<16 | uint32(p[6*i+2])<<8 | uint32(p[6*i+4])
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	if !v.begun || !v.looks {
		return nil
	}
	v.asked = true
	return v.request(false)
}

func (v *Viewer) cutText() error {
	if _, err := v.take(3); err != nil {
		return err
	}
	n, err := v.uint32()
	if err != nil {
		return err
	}
	if n > longestCut {
		return wrong("it sends a text of %d bytes to be pasted", n)
	}
	_, err = v.r.Discard(int(n))
	return err
}

// update takes one message of pictures, and asks for the next.
func (v *Viewer) update(w Watcher) error {
	p, err := v.take(3)
	if err != nil {
		return err
	}
	v.mu.Lock()
	v.asked = false
	v.mu.Unlock()
	was := v.pic
	for n := int(binary.BigEndian.Uint16(p[1:])); n > 0; n-- {
		last, err := v.rect(w, n)
		if err != nil {
			return err
		}
		if last {
			break
		}
		if len(v.changed) >= mostChanged {
			v.told(w)
		}
	}
	v.told(w)
	v.mu.Lock()
	defer v.mu.Unlock()
	if !v.looks || v.asked {
		return nil
	}
	if v.push.on {
		if v.pic == was {
			return nil
		}
		if err := v.pushes(true); err != nil { // of the size that it has now
			return err
		}
	}
	v.asked = true
	return v.request(v.pic == was)
}

func (v *Viewer) told(w Watcher) {
	if len(v.changed) > 0 {
		w.Updated(v.pic, v.changed)
	}
	v.changed = v.changed[:0]
}

// rect takes one rectangle, and says whether it ends the message.
func (v *Viewer) rect(w Watcher, left int) (last bool, err error) {
	p, err := v.take(12)
	if err != nil {
		return false, err
	}
	r := rectOf(p)
	encoding := int32(binary.BigEndian.Uint32(p[8:]))
	switch encoding {
	case encLastRect:
		return true, nil
	case encDesktopSize:
		return false, v.resize(w, r.W, r.H)
	case encExtendedSize:
		return false, v.extendedSize(w, r)
	case encCursor:
		return false, v.cursor(w, r)
	case encExtendedKeys:
		v.mu.Lock()
		v.keys = true
		v.mu.Unlock()
		return false, nil
	case encLights:
		p, err := v.take(1)
		if err != nil {
			return false, err
		}
		v.mu.Lock()
		v.lights, v.lit = p[0], true
		v.mu.Unlock()
		return false, nil
	}
	if !r.Within(v.pic.W, v.pic.H) {
		return false, wrong("it draws %d × %d pixels at %d, %d on a picture of %d × %d", r.W, r.H, r.X, r.Y, v.pic.W, v.pic.H)
	}
	switch encoding {
	case encRaw:
		err = v.raw(r)
	case encCopyRect:
		err = v.copyRect(r)
	case encRRE:
		err = v.rre(r)
	case encHextile:
		err = v.hextile(r)
	case encZRLE:
		err = v.readZRLE(r)
	case encTight:
		err = v.readTight(r)
	default:
		err = wrong("it draws in encoding %d, which was not offered", encoding)
	}
	if err == nil && !r.Empty() {
		v.changed = append(v.changed, r)
	}
	return false, err
}

// resize takes another size of the picture. What was there is kept, as far as it fits: not all
// servers send it again.
func (v *Viewer) resize(w Watcher, width, height int) error {
	if width == v.pic.W && height == v.pic.H {
		return nil
	}
	if err := checkSize(width, height); err != nil {
		return err
	}
	v.told(w)
	next := picture.New(width, height)
	for y := range min(height, v.pic.H) {
		copy(next.Row(0, y, width), v.pic.Row(0, y, min(width, v.pic.W)))
	}
	v.mu.Lock()
	v.pic = next
	v.mu.Unlock()
	w.Resized(next)
	return nil
}

// extendedSize takes the layout of the server's screens. Its rectangle says who has changed
// that, and whether a change failed: then its size is not in force.
func (v *Viewer) extendedSize(w Watcher, r picture.Rect) error {
	p, err := v.take(4)
	if err != nil {
		return err
	}
	if p[0] > mostScreens {
		return wrong("it says that it has %d screens", p[0])
	}
	screens := int(p[0])
	if p, err = v.take(16 * screens); err != nil {
		return err
	}
	displays := make([]picture.Rect, screens)
	for i := range displays {
		displays[i] = rectOf(p[16*i+4:]).Clip(r.W, r.H)
	}
	if r.X == 1 && r.Y != 0 {
		return nil
	}
	v.mu.Lock()
	v.displays = displays
	v.mu.Unlock()
	return v.resize(w, r.W, r.H)
}

// cursor takes what the pointer looks like (section 7.8.1).
func (v *Viewer) cursor(w Watcher, r picture.Rect) error {
	if r.W > mostCursor || r.H > mostCursor {
		return wrong("it sends a pointer of %d × %d pixels", r.W, r.H)
	}
	wide := (r.W + 7) / 8
	n := r.W * r.H * v.format.bytes
	p, err := v.take(n + wide*r.H)
	if err != nil {
		return err
	}
	c := Cursor{picture.New(r.W, r.H), r.X, r.Y}
	v.format.pixels(c.Pix, p[:n])
	for i := range c.Pix {
		if x, y := i%r.W, i/r.W; p[n+y*wide+x/8]&(0x80>>(x%8)) != 0 {
			c.Pix[i] |= 0xff000000
		} else {
			c.Pix[i] = 0
		}
	}
	w.Cursor(c)
	return nil
}
