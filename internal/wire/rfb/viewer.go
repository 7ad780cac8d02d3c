package rfb

import (
	"bufio"
	"context"
	"encoding/binary"
	"net"
	"slices"
	"sync"
	"time"

	"plumbbob/internal/core/picture"
)

const readerBytes = 64 << 10

// writesWithin is how long a message to a server may take to be sent.
const writesWithin = 10 * time.Second

// Options say how a viewer looks.
type Options struct {
	Login
	Format Format        // of pixels; zero: Full
	Within time.Duration // the handshake has to be over by then
	Cursor bool          // the pointer is sent by itself, and not drawn into the picture
	Only   string        // the one encoding to have pictures in, beside raw: for tests; empty: the best
}

// A Viewer is a connection to a server. One goroutine runs Run; all else may be called from
// others.
type Viewer struct {
	Name string

	conn   net.Conn
	r      *bufio.Reader
	format Format

	// Owned by Run.
	pic     *picture.Picture
	changed []picture.Rect
	scratch []byte
	peeked  int // bytes that are read ahead
	zrle    inflater
	tiles   picture.Untiler
	tight   [4]inflater
	packed  picture.Packed

	mu    sync.Mutex
	heard time.Time // when the server sent something last
	looks bool      // pictures are wanted
	asked bool      // and one has been asked for
	begun bool      // the whole of it was asked for once
	push  pushing
	keys  bool // it takes keys by where they are

	displays []picture.Rect // of the picture

	lights uint8 // of the keyboard
	lit    bool  // these have been told
}

// Connect shakes hands over a connection, which it closes when that fails. Besides what goes
// wrong with a connection, errors are an *Error, ErrRefused, ErrTurnedAway,
// ErrNoAgreement and ErrPin.
func Connect(ctx context.Context, conn net.Conn, o Options) (*Viewer, error) {
	v, err := connect(ctx, conn, o)
	if err != nil {
		_ = conn.Close()
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, err
	}
	return v, nil
}

func connect(ctx context.Context, conn net.Conn, o Options) (*Viewer, error) {
	if o.Format == (Format{}) {
		o.Format = Full
	}
	format, err := o.Format.ready()
	if err != nil {
		return nil, err
	}
	_ = conn.SetDeadline(time.Now().Add(o.Within))
	defer context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) })()
	h := &handshake{conn: conn, r: bufio.NewReaderSize(conn, readerBytes), login: o.Login}
	if err := h.version(); err != nil {
		return nil, err
	}
	if err := h.security(); err != nil {
		return nil, err
	}
	if _, err := h.conn.Write([]byte{1}); err != nil { // others may look as well
		return nil, err
	}
	p, err := h.read(4 + formatBytes)
	if err != nil {
		return nil, err
	}
	w, height := int(binary.BigEndian.Uint16(p)), int(binary.BigEndian.Uint16(p[2:]))
	if err := checkSize(w, height); err != nil {
		return nil, err
	}
	n, err := h.uint32()
	if err != nil {
		return nil, err
	}
	if n > longestName {
		return nil, wrong("its name is %d bytes long", n)
	}
	name, err := h.read(int(n))
	if err != nil {
		return nil, err
	}
	v := &Viewer{Name: string(name), conn: h.conn, r: h.r, format: format, pic: picture.New(w, height), heard: time.Now()}
	if err := v.begin(o); err != nil {
		return nil, err
	}
	return v, conn.SetDeadline(time.Time{})
}

// encodings are those that a viewer takes, the best first. A quality of JPEG is not among them:
// pictures are to be as they are.
var encodings = []int32{
	encCopyRect, encTight, encZRLE, encHextile, encRRE, encRaw,
	encDesktopSize, encExtendedSize, encLastRect, encExtendedKeys, encLights, encFence, encPushed, encCompression2,
}

// pictures are the encodings of pictures, by name.
var pictures = map[string]int32{"raw": encRaw, "rre": encRRE, "hextile": encHextile, "zrle": encZRLE, "tight": encTight}

// begin says how pictures are wanted.
func (v *Viewer) begin(o Options) error {
	list := slices.Clone(encodings)
	if only, known := pictures[o.Only]; known {
		list = slices.DeleteFunc(list, func(e int32) bool { return e >= 0 && e != only })
	}
	if o.Cursor {
		list = append(list, encCursor)
	}
	p := v.format.append([]byte{setPixelFormat, 0, 0, 0})
	p = append(p, setEncodings, 0)
	p = binary.BigEndian.AppendUint16(p, uint16(len(list)))
	for _, e := range list {
		p = binary.BigEndian.AppendUint32(p, uint32(e))
	}
	_, err := v.conn.Write(p)
	return err
}

// Close ends the connection; Run returns then.
func (v *Viewer) Close() error { return v.conn.Close() }

// send writes a message. v.mu is held.
func (v *Viewer) send(p []byte) error {
	_ = v.conn.SetWriteDeadline(time.Now().Add(writesWithin))
	_, err := v.conn.Write(p)
	return err
}

// Look begins to have pictures sent, or ends it.
func (v *Viewer) Look(on bool) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.looks = on
	if v.push.can && v.push.on != on {
		if err := v.pushes(on); err != nil {
			return err
		}
	}
	if v.push.can && v.begun {
		return nil
	}
	if !on || v.asked {
		return nil
	}
	v.asked = true
	return v.request(v.begun)
}

// Again asks for the whole picture.
func (v *Viewer) Again() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.asked = true
	return v.request(false)
}

// request asks for what has changed, or for all of it: that only once for each size, since a
// server may answer with its size alone, as often as it is asked. v.mu is held.
func (v *Viewer) request(changes bool) error {
	v.begun = true
	p := []byte{updateRequest, flag(changes), 0, 0, 0, 0}
	p = binary.BigEndian.AppendUint16(p, uint16(v.pic.W))
	return v.send(binary.BigEndian.AppendUint16(p, uint16(v.pic.H)))
}

// The lights of a keyboard (QEMU LED State Pseudo-encoding).
const (
	ScrollLight uint8 = 1 << iota
	NumLight
	CapsLight
)

// Lights are those of the keyboard, where the server tells of them: while pictures are asked for.
func (v *Viewer) Lights() (lights uint8, known bool) {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.lights, v.lit
}

// Displays are the parts of the picture that are displays by themselves, where the server tells of
// them (ExtendedDesktopSize).
func (v *Viewer) Displays() []picture.Rect {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.displays
}

// Heard is when the server sent something last.
func (v *Viewer) Heard() time.Time {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.heard
}

// Probe asks for one pixel, so that a server that is there sends something.
func (v *Viewer) Probe() error {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.send([]byte{updateRequest, 0, 0, 0, 0, 0, 0, 1, 0, 1})
}

// ByPosition says whether the server takes keys by where they are on a keyboard.
func (v *Viewer) ByPosition() bool {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.keys
}

// Key presses a key, or lets it go: its meaning as a keysym of X, and where it is on a keyboard
// as a scan code of set 1, with the prefix E0 as the high bit of a byte;
// 0 where that is not known. A server that takes keys by position is told both.
func (v *Viewer) Key(down bool, sym uint32, code uint16) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.keys && code != 0 {
		p := []byte{qemuMessage, 0, 0, flag(down)}
		p = binary.BigEndian.AppendUint32(p, sym)
		return v.send(binary.BigEndian.AppendUint32(p, uint32(code)))
	}
	if sym == 0 {
		return nil
	}
	return v.send(binary.BigEndian.AppendUint32([]byte{keyEvent, flag(down), 0, 0}, sym))
}

// Point moves the pointer. Buttons are a bit each: left, middle, right, and the wheel up, down,
// left and right.
func (v *Viewer) Point(x, y int, buttons uint8) error {
	v.mu.Lock()
	defer v.mu.Unlock()
	p := binary.BigEndian.AppendUint16([]byte{pointerEvent, buttons}, uint16(min(max(0, x), v.pic.W-1)))
	return v.send(binary.BigEndian.AppendUint16(p, uint16(min(max(0, y), v.pic.H-1))))
}
