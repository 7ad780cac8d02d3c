package client

import (
	"bytes"
	"unicode/utf8"

	"plumbbob/internal/core/plain"
)

// Texts come from gear and from other people. What would move the cursor, change the
// colours or the title of a terminal, or turn the direction of writing, is shown as what
// it is: nothing that can be read.

// harmless makes what an answer says safe to be shown to people; programs get it as it
// is, in the forms that have escapes of their own.
func (s *service) harmless(answer []byte) []byte {
	if s.exact {
		return answer
	}
	return harmlessJSON(answer)
}

const unreadable = "\uFFFD"

// harmlessJSON takes control characters, which JSON writes as escapes, out of a
// document.
func harmlessJSON(text []byte) []byte {
	if !bytes.Contains(text, []byte(`\u`)) && !hasTurns(text) {
		return text
	}
	out := make([]byte, 0, len(text))
	for i := 0; i < len(text); {
		if text[i] == '\\' && i+1 < len(text) {
			n := 2
			if text[i+1] == 'u' && i+6 <= len(text) {
				n = 6
				if controls(text[i+2 : i+6]) {
					out = append(out, unreadable...)
					i += n
					continue
				}
			}
			out = append(out, text[i:i+n]...)
			i += n
			continue
		}
		r, n := utf8.DecodeRune(text[i:])
		if turns(r) {
			out = append(out, unreadable...)
		} else {
			out = append(out, text[i:i+n]...)
		}
		i += n
	}
	return out
}

// controls says whether four hexadecimal digits are a control character, or one that
// turns the direction of writing. A new line, or a tab, is none.
func controls(hex []byte) bool {
	var r rune
	for _, c := range bytes.ToLower(hex) {
		switch {
		case c >= '0' && c <= '9':
			r = r<<4 | rune(c-'0')
		case c >= 'a' && c <= 'f':
			r = r<<4 | rune(c-'a'+10)
		}
	}
	return plain.Hurts(r)
}

// turns says whether a character of a document hurts that JSON does not escape.
func turns(r rune) bool { return r >= 0x20 && plain.Hurts(r) }

func hasTurns(text []byte) bool { return bytes.ContainsFunc(text, turns) }
