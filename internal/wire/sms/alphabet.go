package sms

import "strings"

// basic is the default alphabet, and extended what stands behind an escape in it: 3GPP TS 23.038,
// sections 6.2.1 and 6.2.1.1.
var basic = []rune("@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞ\x1bÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà")

var extended = map[byte]rune{0x0a: '\f', 0x14: '^', 0x28: '{', 0x29: '}', 0x2f: '\\', 0x3c: '[', 0x3d: '~', 0x3e: ']', 0x40: '|', 0x65: '€'}

const escape = 0x1b

// septetsOf are the values by which a character is written; nil: it cannot be.
var septetsOf = func() map[rune][]byte {
	out := map[rune][]byte{}
	for i, r := range basic {
		if r != escape {
			out[r] = []byte{byte(i)}
		}
	}
	for b, r := range extended {
		out[r] = []byte{escape, b}
	}
	return out
}()

// plainer are characters that have a sign in the alphabet that people take for them.
var plainer = strings.NewReplacer("─", "-", "–", "-", "—", "-", "→", "->", "…", "...", "✗", "x", "’", "'", "“", "\"", "”", "\"", "×", "x", "°", " deg ", " ", " ")

// Plain is a text with what people take for the same, so that more of it fits.
func Plain(text string) string { return plainer.Replace(text) }

// septets writes a text in the default alphabet, if that can be.
func septets(text string) (out []byte, can bool) {
	for _, r := range text {
		s := septetsOf[r]
		if s == nil {
			return nil, false
		}
		out = append(out, s...)
	}
	return out, true
}

// pack puts septets into octets, behind so many bits that are left free: section 6.1.2.1.
func pack(septets []byte, skip int) []byte {
	out := make([]byte, (skip+7*len(septets)+7)/8)
	for i, s := range septets {
		at := skip + 7*i
		v := uint16(s&0x7f) << (at % 8)
		out[at/8] |= byte(v)
		if v>>8 != 0 {
			out[at/8+1] |= byte(v >> 8)
		}
	}
	return out
}

// unpack reads n septets behind so many bits; fewer, where the octets end before.
func unpack(octets []byte, skip, n int) (out []byte) {
	for i := range n {
		at := skip + 7*i
		if at+7 > 8*len(octets) {
			break
		}
		v := uint16(octets[at/8])
		if at/8+1 < len(octets) {
			v |= uint16(octets[at/8+1]) << 8
		}
		out = append(out, byte(v>>(at%8))&0x7f)
	}
	return out
}

// text reads septets of the default alphabet. What is not in it is a blank, as section 6.2.1.1 has it.
func textOf(septets []byte) string {
	var out strings.Builder
	for i := 0; i < len(septets); i++ {
		s := septets[i]
		if s != escape {
			out.WriteRune(basic[s])
			continue
		}
		if i++; i < len(septets) {
			if r, is := extended[septets[i]]; is {
				out.WriteRune(r)
				continue
			}
		}
		out.WriteByte(' ')
	}
	return out.String()
}
