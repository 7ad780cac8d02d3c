// Package sms writes and reads text messages as mobile networks carry them (3GPP TS 23.040), for
// modems that take them whole (3GPP TS 27.005, PDU mode).
//
//	alphabet.go  characters of seven bits
//	sms.go       messages, in as many parts as they need
package sms

import (
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// A PDU is one part as a modem takes it: its hexadecimal digits, and how many octets of them are
// the TPDU, which is what is said in AT+CMGS.
type PDU struct {
	Hex    string
	Octets int
}

// How much fits into a part, alone and as one of several (section 9.2.3.24.1).
const (
	septetsAlone, septetsEach = 160, 153
	octetsAlone, octetsEach   = 140, 134

	headerOctets = 6 // of a part of several: 05 00 03 REF OF THIS
	headerBits   = 1 // that fill it up to whole septets

	// MostParts is how long a message may be.
	MostParts = 8
)

// The bits and values of the fields that are used (section 9.2.3).
const (
	submit, deliver = 0x01, 0x00
	kindMask        = 0x03
	hasValidity     = 0x10 // relative
	hasHeader       = 0x40
	aDay            = 0xa7 // section 9.2.3.12.1

	international, national = 0x91, 0x81

	sevenBits, ucs2 = 0x00, 0x08
)

// ErrNumber is what is no number.
var ErrNumber = errors.New("that is no telephone number: write it as +298123456")

// ErrTooLong is a text that needs more parts than are sent.
var ErrTooLong = fmt.Errorf("the text needs more than %d messages", MostParts)

// Submit writes a text to a number, in the default alphabet where all of it is in that, and else in
// UCS-2. ref tells messages of several parts apart.
func Submit(number, text string, ref byte) ([]PDU, error) {
	to, err := address(number)
	if err != nil {
		return nil, err
	}
	if !utf8.ValidString(text) {
		text = strings.ToValidUTF8(text, "?")
	}
	parts, coding := split(text)
	if len(parts) > MostParts {
		return nil, ErrTooLong
	}
	out := make([]PDU, len(parts))
	for i, p := range parts {
		first := byte(submit | hasValidity)
		var user []byte
		length := len(p)
		header := []byte{}
		if len(parts) > 1 {
			first |= hasHeader
			header = []byte{headerOctets - 1, 0x00, 0x03, ref, byte(len(parts)), byte(i + 1)}
		}
		if coding == sevenBits {
			skip := 0
			if len(header) > 0 {
				skip = headerBits
				length += (8*len(header) + headerBits) / 7
			}
			user = append(header, pack(p, skip)...)
		} else {
			length += len(header)
			user = append(header, p...)
		}
		tpdu := append([]byte{first, 0x00}, to...)
		tpdu = append(tpdu, 0x00, coding, aDay, byte(length))
		tpdu = append(tpdu, user...)
		out[i] = PDU{strings.ToUpper("00" + hex.EncodeToString(tpdu)), len(tpdu)} // 00: by the centre that the modem knows
	}
	return out, nil
}

// Deliver writes a short text as one that was received, as stand-ins need it: a time of no meaning,
// and no centre.
func Deliver(number, text string) (string, error) {
	from, err := address(number)
	if err != nil {
		return "", err
	}
	parts, coding := split(text)
	if len(parts) > 1 {
		return "", ErrTooLong
	}
	body, n := parts[0], len(parts[0])
	if coding == sevenBits {
		body = pack(body, 0)
	}
	tpdu := append([]byte{deliver | 0x04}, from...) // no more messages
	tpdu = append(tpdu, 0x00, coding, 0x62, 0x11, 0x92, 0x90, 0x00, 0x00, 0x00, byte(n))
	return strings.ToUpper("00" + hex.EncodeToString(append(tpdu, body...))), nil
}

// split is a text in parts, each in the units of its coding.
func split(text string) (parts [][]byte, coding byte) {
	if _, can := septets(text); can {
		return cut(text, septetsAlone, septetsEach, func(r rune) []byte { return septetsOf[r] }), sevenBits
	}
	return cut(text, octetsAlone, octetsEach, func(r rune) (out []byte) {
		for _, u := range utf16.AppendRune(nil, r) {
			out = append(out, byte(u>>8), byte(u))
		}
		return out
	}), ucs2
}

// cut leaves no character in two parts.
func cut(text string, alone, each int, of func(rune) []byte) [][]byte {
	var whole []byte
	for _, r := range text {
		whole = append(whole, of(r)...)
	}
	if len(whole) <= alone {
		return [][]byte{whole}
	}
	var parts [][]byte
	var part []byte
	for _, r := range text {
		u := of(r)
		if len(part)+len(u) > each {
			parts, part = append(parts, part), nil
		}
		part = append(part, u...)
	}
	return append(parts, part)
}

const longestNumber = 20 // digits; section 9.1.2.5

// address writes a number: how many digits, of what type, and two digits an octet, the first one low.
func address(number string) ([]byte, error) {
	kind := byte(national)
	digits, is := strings.CutPrefix(strings.NewReplacer(" ", "", "-", "", "(", "", ")", "").Replace(number), "+")
	if is {
		kind = international
	}
	if digits == "" || len(digits) > longestNumber || strings.Trim(digits, "0123456789") != "" {
		return nil, ErrNumber
	}
	out := []byte{byte(len(digits)), kind}
	for i := 0; i < len(digits); i += 2 {
		low, high := digits[i]-'0', byte(0x0f)
		if i+1 < len(digits) {
			high = digits[i+1] - '0'
		}
		out = append(out, high<<4|low)
	}
	return out, nil
}

// A Message is one that was read. Part and Parts are 0 of one that is whole.
type Message struct {
	Number      string // whose it is, or of one that is sent, to whom
	Text        string
	Ref         byte
	Part, Parts int
}

// ErrPDU is what cannot be read.
var ErrPDU = errors.New("sms: not a message that can be read")

// Parse reads a message as a modem gives it, with what it says of the centre before it: one that was
// received (SMS-DELIVER), or one that is sent (SMS-SUBMIT).
func Parse(text string) (m Message, err error) {
	raw, err := hex.DecodeString(strings.TrimSpace(text))
	if err != nil || len(raw) == 0 {
		return m, ErrPDU
	}
	r := &reader{b: raw}
	r.skip(int(r.next())) // the centre
	first := r.next()
	if first&kindMask == submit {
		r.next() // its reference
	} else if first&kindMask != deliver {
		return m, ErrPDU
	}
	m.Number = r.number()
	r.next() // the protocol
	coding := r.next()
	switch {
	case first&kindMask == deliver:
		r.skip(7) // when the centre had it
	case first&0x18 == hasValidity:
		r.next()
	case first&0x18 != 0:
		r.skip(7)
	}
	n := int(r.next())
	if r.failed {
		return m, ErrPDU
	}
	return m, m.user(r.b[r.at:], n, first&hasHeader != 0, coding)
}

// user reads what a message says.
func (m *Message) user(data []byte, n int, header bool, coding byte) error {
	octets := 0 // of the header
	if header {
		if len(data) == 0 || int(data[0])+1 > len(data) {
			return ErrPDU
		}
		octets = int(data[0]) + 1
		m.header(data[1:octets])
	}
	switch coding & 0x0c {
	case sevenBits:
		skip := 0
		if octets > 0 {
			skip = (7 - 8*octets%7) % 7
			n -= (8*octets + skip) / 7
		}
		m.Text = textOf(unpack(data[octets:], skip, max(0, n)))
	case ucs2:
		body := data[octets:min(len(data), max(octets, n))]
		units := make([]uint16, len(body)/2)
		for i := range units {
			units[i] = uint16(body[2*i])<<8 | uint16(body[2*i+1])
		}
		m.Text = string(utf16.Decode(units))
	default:
		return ErrPDU // of octets, which say nothing to people
	}
	return nil
}

// header reads which part of several it is, with a reference of 8 bits or of 16 (section 9.2.3.24).
func (m *Message) header(h []byte) {
	for len(h) >= 2 && len(h) >= 2+int(h[1]) {
		v := h[2 : 2+int(h[1])]
		switch {
		case h[0] == 0x00 && len(v) == 3:
			m.Ref, m.Parts, m.Part = v[0], int(v[1]), int(v[2])
		case h[0] == 0x08 && len(v) == 4:
			m.Ref, m.Parts, m.Part = v[1], int(v[2]), int(v[3])
		}
		h = h[2+len(v):]
	}
}

type reader struct {
	b      []byte
	at     int
	failed bool
}

func (r *reader) next() byte {
	if r.at >= len(r.b) {
		r.failed = true
		return 0
	}
	r.at++
	return r.b[r.at-1]
}

func (r *reader) skip(n int) {
	if r.at += n; r.at > len(r.b) {
		r.at, r.failed = len(r.b), true
	}
}

// alphanumeric is the type of an address that is a name: section 9.1.2.5.
const alphanumeric = 0x50

func (r *reader) number() string {
	n := int(r.next())
	kind := r.next()
	octets := (n + 1) / 2
	if r.at+octets > len(r.b) {
		r.failed = true
		return ""
	}
	raw := r.b[r.at : r.at+octets]
	r.at += octets
	if kind&0x70 == alphanumeric {
		return textOf(unpack(raw, 0, n*4/7))
	}
	var out strings.Builder
	if kind&0x70 == international&0x70 {
		out.WriteByte('+')
	}
	for i := range n {
		d := raw[i/2] >> (4 * (i % 2)) & 0x0f
		if d > 9 {
			break
		}
		out.WriteByte('0' + d)
	}
	return out.String()
}
