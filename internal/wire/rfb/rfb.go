// Package rfb is the Remote Framebuffer Protocol (RFC 6143, and extensions that are registered
// with it): pictures one way, keys and a pointer the other.
//
//	rfb.go       versions, messages, encodings, pixel formats
//	security.go  who is let in, for both ends
//	viewer.go    the end that looks: the handshake, and what it sends
//	read.go      what a viewer is sent
//	decode.go    pictures in plain encodings: Raw, CopyRect, RRE, Hextile
//	zrle.go      pictures in ZRLE, and streams that are compressed
//	tight.go     pictures in Tight
//	pushed.go    pictures that are sent unasked, and fences between them, for both ends
//	server.go    the end that is looked at
//	message.go   what that sends of its picture
//	tightly.go   pictures in Tight, as they are written
//
// Nothing that comes from the other end is believed: lengths and sizes are bounded before
// memory is taken, and all that is wrong ends the connection with an *Error.
package rfb

import (
	"encoding/binary"
	"fmt"

	"plumbbob/internal/core/picture"
)

// An Error is what the other end has done that it may not.
type Error struct{ Text string }

func (e *Error) Error() string { return e.Text }

func wrong(format string, args ...any) error { return &Error{fmt.Sprintf(format, args...)} }

// Messages of a viewer (RFC 6143, section 7.5).
const (
	setPixelFormat = 0
	setEncodings   = 2
	updateRequest  = 3
	keyEvent       = 4
	pointerEvent   = 5
	viewerCutText  = 6
	pushMessage    = 150 // registered: continuous updates
	fenceMessage   = 248 // registered: fences, of both ends
	qemuMessage    = 255 // registered: extended key events are its submessage 0
)

// Messages of a server (section 7.6).
const (
	framebufferUpdate = 0
	setColourMap      = 1
	bell              = 2
	serverCutText     = 3
	pushEnded         = 150 // and the first one: they can be asked for
)

// Encodings (section 7.7, and the registry).
const (
	encRaw      int32 = 0
	encCopyRect int32 = 1
	encRRE      int32 = 2
	encHextile  int32 = 5
	encTight    int32 = 7
	encZRLE     int32 = 16

	encDesktopSize  int32 = -223
	encLastRect     int32 = -224
	encCursor       int32 = -239
	encExtendedKeys int32 = -258
	encLights       int32 = -261
	encExtendedSize int32 = -308
	encFence        int32 = -312
	encPushed       int32 = -313
	encCompression2 int32 = -254
	encQuality0     int32 = -32 // of JPEG; up to nine more
)

// Limits of what is taken from the other end.
const (
	longestName   = 1 << 10
	longestReason = 4 << 10
	longestCut    = 1 << 20
	mostScreens   = 64
	mostCursor    = 256 // pixels, either way
)

// A Format is how pixels are written (section 7.4).
type Format struct {
	Bits, Depth                 uint8
	Big, TrueColour             bool
	MaxR, MaxG, MaxB            uint16
	ShiftR, ShiftG, ShiftB      uint8
	bytes, compact, compactFrom int  // of a pixel, of one in ZRLE, and where that begins
	isPlain                     bool // 0x00RRGGBB, the low byte first

	mapped *[256]uint32 // what values stand for, where that is no true colour
}

// Formats that a viewer may ask for.
var (
	Full = Format{Bits: 32, Depth: 24, TrueColour: true, MaxR: 255, MaxG: 255, MaxB: 255, ShiftR: 16, ShiftG: 8}
	High = Format{Bits: 16, Depth: 16, TrueColour: true, MaxR: 31, MaxG: 63, MaxB: 31, ShiftR: 11, ShiftG: 5}
	Few  = Format{Bits: 8, Depth: 8, TrueColour: true, MaxR: 7, MaxG: 7, MaxB: 3, ShiftR: 0, ShiftG: 3, ShiftB: 6}
	// Mapped has each colour be one of up to 256, which the server chooses.
	Mapped = Format{Bits: 8, Depth: 8}
)

const formatBytes = 16

func (f Format) append(out []byte) []byte {
	out = append(out, f.Bits, f.Depth, flag(f.Big), flag(f.TrueColour))
	for _, n := range []uint16{f.MaxR, f.MaxG, f.MaxB} {
		out = binary.BigEndian.AppendUint16(out, n)
	}
	return append(out, f.ShiftR, f.ShiftG, f.ShiftB, 0, 0, 0)
}

func flag(on bool) byte {
	if on {
		return 1
	}
	return 0
}

// parseFormat reads 16 bytes.
func parseFormat(p []byte) Format {
	return Format{
		Bits: p[0], Depth: p[1], Big: p[2] != 0, TrueColour: p[3] != 0,
		MaxR: binary.BigEndian.Uint16(p[4:]), MaxG: binary.BigEndian.Uint16(p[6:]), MaxB: binary.BigEndian.Uint16(p[8:]),
		ShiftR: p[10], ShiftG: p[11], ShiftB: p[12],
	}
}

// ready works out what pixels of a format need, and says what is wrong with it.
func (f Format) ready() (Format, error) {
	if f.Bits != 8 && f.Bits != 16 && f.Bits != 32 {
		return f, wrong("a pixel of %d bits is none: 8, 16 and 32 are", f.Bits)
	}
	if !f.TrueColour {
		if f.Bits != 8 {
			return f, wrong("colours by a map are served in pixels of 8 bits: ask for these, or for true colour")
		}
		f.bytes, f.compact, f.mapped = 1, 1, new([256]uint32)
		return f, nil
	}
	for _, c := range []struct {
		most  uint16
		shift uint8
	}{{f.MaxR, f.ShiftR}, {f.MaxG, f.ShiftG}, {f.MaxB, f.ShiftB}} {
		if c.most&(c.most+1) != 0 || c.most == 0 || c.most > 255 || c.shift >= f.Bits || uint64(c.most)<<c.shift>>f.Bits != 0 {
			return f, wrong("a colour of up to %d at bit %d does not fit into a pixel of %d bits", c.most, c.shift, f.Bits)
		}
	}
	f.bytes = int(f.Bits) / 8
	f.compact, f.compactFrom = f.bytes, 0
	if f.Bits == 32 && f.Depth <= 24 {
		used := uint32(f.MaxR)<<f.ShiftR | uint32(f.MaxG)<<f.ShiftG | uint32(f.MaxB)<<f.ShiftB
		switch { // section 7.7.5, CPIXEL
		case used>>24 == 0:
			f.compact, f.compactFrom = 3, map[bool]int{false: 0, true: 1}[f.Big]
		case used&0xff == 0:
			f.compact, f.compactFrom = 3, map[bool]int{false: 1, true: 0}[f.Big]
		}
	}
	f.isPlain = f.Bits == 32 && !f.Big && f.ShiftR == 16 && f.ShiftG == 8 && f.ShiftB == 0 && f.MaxR == 255 && f.MaxG == 255 && f.MaxB == 255
	return f, nil
}

// appendMap writes what the values of a pixel of eight bits stand for (section 7.6.2).
func (f *Format) appendMap(out []byte) []byte {
	out = append(out, setColourMap, 0, 0, 0, 1, 0)
	for v := range uint32(256) {
		c := f.colour(v)
		for _, part := range []byte{byte(c >> 16), byte(c >> 8), byte(c)} {
			out = append(out, part, part) // of 16 bits
		}
	}
	return out
}

// colour is what a pixel's value stands for.
func (f *Format) colour(v uint32) uint32 {
	if f.isPlain {
		return v & 0xffffff
	}
	if f.mapped != nil {
		return f.mapped[v&255]
	}
	return widen(v>>f.ShiftR, f.MaxR)<<16 | widen(v>>f.ShiftG, f.MaxG)<<8 | widen(v>>f.ShiftB, f.MaxB)
}

func widen(v uint32, most uint16) uint32 {
	v &= uint32(most)
	if most == 255 {
		return v
	}
	return (v*255 + uint32(most)/2) / uint32(most)
}

// value is a colour as a pixel's value.
func (f *Format) value(c uint32) uint32 {
	if f.isPlain {
		return c
	}
	return narrow(c>>16, f.MaxR)<<f.ShiftR | narrow(c>>8, f.MaxG)<<f.ShiftG | narrow(c, f.MaxB)<<f.ShiftB
}

func narrow(v uint32, most uint16) uint32 {
	v &= 255
	if most == 255 {
		return v
	}
	return (v*uint32(most) + 127) / 255
}

// pixel reads one pixel.
func (f *Format) pixel(p []byte) uint32 {
	switch f.bytes {
	case 1:
		return f.colour(uint32(p[0]))
	case 2:
		if f.Big {
			return f.colour(uint32(binary.BigEndian.Uint16(p)))
		}
		return f.colour(uint32(binary.LittleEndian.Uint16(p)))
	}
	if f.Big {
		return f.colour(binary.BigEndian.Uint32(p))
	}
	return f.colour(binary.LittleEndian.Uint32(p))
}

// small reads one pixel as ZRLE has it.
func (f *Format) small(p []byte) uint32 {
	if f.compact != 3 {
		return f.pixel(p)
	}
	if f.isPlain {
		return uint32(p[0]) | uint32(p[1])<<8 | uint32(p[2])<<16
	}
	var four [4]byte
	copy(four[f.compactFrom:], p[:3])
	return f.pixel(four[:])
}

// appendPixel writes one pixel.
func (f *Format) appendPixel(out []byte, c uint32) []byte {
	v := f.value(c)
	switch {
	case f.bytes == 1:
		return append(out, byte(v))
	case f.bytes == 2 && f.Big:
		return binary.BigEndian.AppendUint16(out, uint16(v))
	case f.bytes == 2:
		return binary.LittleEndian.AppendUint16(out, uint16(v))
	case f.Big:
		return binary.BigEndian.AppendUint32(out, v)
	}
	return binary.LittleEndian.AppendUint32(out, v)
}

// appendSmall writes one pixel as ZRLE has it.
func (f *Format) appendSmall(out []byte, c uint32) []byte {
	if f.compact != 3 {
		return f.appendPixel(out, c)
	}
	at := len(out)
	out = f.appendPixel(out, c)
	copy(out[at:], out[at+f.compactFrom:at+f.compactFrom+3])
	return out[:at+3]
}

// pixels reads a run of pixels.
func (f *Format) pixels(to []uint32, p []byte) {
	if f.isPlain { // four at once
		n := len(to) / 4
		for i := range n {
			from, four := (*[16]byte)(p[16*i:]), (*[4]uint32)(to[4*i:])
			one, other := binary.LittleEndian.Uint64(from[:8]), binary.LittleEndian.Uint64(from[8:])
			four[0], four[1] = uint32(one)&0xffffff, uint32(one>>32)&0xffffff
			four[2], four[3] = uint32(other)&0xffffff, uint32(other>>32)&0xffffff
		}
		to, p = to[4*n:], p[16*n:]
	}
	for i := range to {
		to[i] = f.pixel(p[i*f.bytes:])
	}
}

// rectOf reads a rectangle: x, y, width and height.
func rectOf(p []byte) picture.Rect {
	n := func(i int) int { return int(binary.BigEndian.Uint16(p[2*i:])) }
	return picture.Rect{X: n(0), Y: n(1), W: n(2), H: n(3)}
}

// checkSize bounds what is taken of a size that was announced.
func checkSize(w, h int) error {
	if !picture.Fits(w, h) {
		return wrong("a picture of %d × %d is not taken: up to %d pixels, and %d on a side, are", w, h, picture.MostArea, picture.MostSide)
	}
	return nil
}
