// Package plain keeps texts that come from outside, be it from gear or from people, to
// what can be read: what moves a cursor, turns the direction of writing, parts lines
// where none ends, or cannot be seen is no text.
package plain

import (
	"strings"
	"time"
	"unicode/utf8"
)

// Hurts says whether a character is no text. A new line and a tab are, where a text may
// have several lines.
func Hurts(r rune) bool {
	switch {
	case r == '\n', r == '\t':
		return false
	case r < 0x20, r >= 0x7f && r < 0xa0: // C0 and C1
		return true
	case r == 0x061c, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069: // direction
		return true
	case r >= 0x200b && r <= 0x200f, r == 0x2060, r == 0xfeff: // without a width
		return true
	case r == 0x2028, r == 0x2029: // separators of lines
		return true
	}
	return r >= 0xe0000 && r <= 0xe007f // tags
}

// Find returns the first character of a text that hurts.
func Find(s string) (r rune, found bool) {
	for _, r := range s {
		if Hurts(r) {
			return r, true
		}
	}
	return 0, false
}

// Line makes one line of a text: without what hurts, and without bytes that are no UTF-8.
func Line(s string) string {
	return strings.Map(func(r rune) rune {
		if Hurts(r) || r == '\n' || r == '\t' || r == utf8.RuneError {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, ""))
}

// Span writes a duration as people write it: "5m", "1h30m", "90s" as "1m30s".
func Span(d time.Duration) string {
	s := d.String()
	if d >= time.Minute {
		if strings.HasSuffix(s, "m0s") {
			s = strings.TrimSuffix(s, "0s")
		}
	}
	if d >= time.Hour && strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}
