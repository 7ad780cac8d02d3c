// Package cursor reads messages from the network field by field. No decoder
// indexes a packet: the first read that runs short sticks, so a decoder is a
// plain list of fields with one question at the end.
package cursor

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
)

// The ways in which a message can have the wrong length.
var (
	ErrShort = errors.New("the message is too short")
	ErrLong  = errors.New("the message is too long")
)

// Reader walks over one message.
type Reader struct {
	rest []byte
	off  int
	err  error
}

// New returns a reader at the beginning of b, which it does not copy.
func New(b []byte) *Reader { return &Reader{rest: b} }

// Of is New for callers that keep the reader on their stack.
func Of(b []byte) Reader { return Reader{rest: b} }

// Bytes returns the next n bytes, or nil once the message has run short.
// They alias the packet: a caller that keeps them copies them.
func (r *Reader) Bytes(n int) []byte {
	if r.err != nil || n < 0 || n > len(r.rest) {
		r.err = cmp.Or(r.err, r.short(n)) // the first one sticks
		return nil
	}
	b := r.rest[:n:n]
	r.rest, r.off = r.rest[n:], r.off+n
	return b
}

func (r *Reader) short(n int) error {
	return fmt.Errorf("%w: %d bytes wanted at %d, %d there", ErrShort, n, r.off, len(r.rest))
}

// U8 reads one byte; zero once the message has run short, like all that follow.
func (r *Reader) U8() uint8 {
	if r.err == nil && len(r.rest) > 0 {
		b := r.rest[0]
		r.rest, r.off = r.rest[1:], r.off+1
		return b
	}
	r.Bytes(1)
	return 0
}

// U16 reads two bytes, the least significant first.
func (r *Reader) U16() uint16 {
	if b := r.Bytes(2); b != nil {
		return binary.LittleEndian.Uint16(b)
	}
	return 0
}

// U24 reads three bytes, the least significant first.
func (r *Reader) U24() uint32 {
	if b := r.Bytes(3); b != nil {
		return uint32(b[0]) | uint32(b[1])<<8 | uint32(b[2])<<16
	}
	return 0
}

// U32 reads four bytes, the least significant first.
func (r *Reader) U32() uint32 {
	if b := r.Bytes(4); b != nil {
		return binary.LittleEndian.Uint32(b)
	}
	return 0
}

// BE32 reads four bytes, the most significant first.
func (r *Reader) BE32() uint32 {
	if b := r.Bytes(4); b != nil {
		return binary.BigEndian.Uint32(b)
	}
	return 0
}

// Copy fills dst with the next bytes; it leaves dst alone when they are missing.
func (r *Reader) Copy(dst []byte) { copy(dst, r.Bytes(len(dst))) }

// Len is how many bytes are left.
func (r *Reader) Len() int {
	if r.err != nil {
		return 0
	}
	return len(r.rest)
}

// Rest returns all that is left: for formats that allow a tail.
func (r *Reader) Rest() []byte { return r.Bytes(r.Len()) }

// Fail makes the message unsound for a reason of the caller's.
func (r *Reader) Fail(err error) { r.err = cmp.Or(r.err, err) }

// Err is the first thing that went wrong.
func (r *Reader) Err() error { return r.err }

// Done reports a message that ran short, and also bytes that nobody asked for.
func (r *Reader) Done() error {
	if r.err == nil && len(r.rest) > 0 {
		r.err = fmt.Errorf("%w: %d bytes left over at %d", ErrLong, len(r.rest), r.off)
	}
	return r.err
}
