package serial

import (
	"strings"
	"time"
	"unicode/utf8"

	"plumbbob/internal/core/plain"
)

// A TextLine is one line of what was said, as plain text.
type TextLine struct {
	At   time.Time // when it began
	Text string
}

// A Reader makes lines of text of what is said, in whatever pieces it comes: colours are
// dropped, and what moves the cursor elsewhere ends a line, so that a menu that was drawn
// can be read and searched. The zero Reader is at the beginning of a line.
type Reader struct {
	began time.Time
	line  []byte
	state readState
	body  []byte // of a sequence
}

type readState uint8

const (
	inText readState = iota
	afterEsc
	inCSI
	inString // for the terminal, to its end
	leaving  // one, after ESC
	oneMore  // of a character set
)

// longestLine is how many bytes of a line are read; the rest is another line.
const longestLine = 1000

// Read takes a piece, and returns the lines that have ended in it.
func (r *Reader) Read(p []byte, at time.Time) (lines []TextLine) {
	for _, b := range p {
		if r.next(b, at) {
			if l, some := r.end(); some {
				lines = append(lines, l)
			}
		}
	}
	return lines
}

// Rest is the line that has not ended, as far as it has come.
func (r *Reader) Rest() TextLine { return TextLine{r.began, clean(r.line)} }

// end ends the line that has not ended, where there is one.
func (r *Reader) end() (l TextLine, some bool) {
	l = r.Rest()
	r.line = r.line[:0]
	return l, l.Text != ""
}

func clean(b []byte) string {
	return strings.TrimRight(plain.Line(strings.ReplaceAll(strings.ToValidUTF8(string(b), "?"), "\t", "    ")), " ")
}

// next takes one byte, and says whether a line has ended before it, or with it.
func (r *Reader) next(b byte, at time.Time) (ended bool) {
	switch r.state {
	case inText:
		return r.text(b, at)
	case afterEsc:
		r.state = inText
		switch {
		case b == '[':
			r.state, r.body = inCSI, r.body[:0]
		case strings.IndexByte("]PX^_k", b) >= 0:
			r.state = inString
		case strings.IndexByte("()*+#%", b) >= 0:
			r.state = oneMore
		case b == 'E' || b == 'D' || b == 'M' || b == '8' || b == 'c':
			return true
		}
	case inCSI:
		switch {
		case b == esc:
			r.state = afterEsc
		case b >= '@' && b <= '~' || b < ' ' || len(r.body) >= longest:
			r.state = inText
			return strings.IndexByte("ABEFHJdf", b) >= 0 || b == 'K' && len(r.body) > 0 || b == '\n'
		default:
			r.body = append(r.body, b)
		}
	case inString:
		switch b {
		case esc:
			r.state = leaving
		case '\a', '\n', cancel, substute:
			r.state = inText
		}
	case leaving:
		if r.state = inString; b == '\\' {
			r.state = inText
		}
	case oneMore:
		r.state = inText
	}
	return false
}

func (r *Reader) text(b byte, at time.Time) (ended bool) {
	switch {
	case b == esc:
		r.state = afterEsc
	case b == '\n' || b == '\r' || b == '\f' || b == '\v':
		return true
	case b == '\b':
		_, n := utf8.DecodeLastRune(r.line)
		r.line = r.line[:len(r.line)-n]
	case b == '\t' || b >= ' ' && b != 0x7f:
		if len(r.line) == 0 {
			r.began = at
		}
		r.line = append(r.line, b)
		return len(r.line) >= longestLine && b < utf8.RuneSelf
	}
	return false
}

// Lines are what was said as lines of text, with what has not ended as the last.
func Lines(said []Saying) (lines []TextLine) {
	var r Reader
	for _, s := range said {
		lines = append(lines, r.Read(s.Text, s.At)...)
	}
	if l, some := r.end(); some {
		lines = append(lines, l)
	}
	return lines
}
