package serial

import (
	"bytes"
	"strconv"
	"strings"
)

// A Tamer takes out of what a line says whatever would make a terminal do more than draw:
// answer a question into the line as if it had been typed, set its title or the clipboard,
// report the mouse. What moves the cursor, colours and clears goes through, so that a menu
// looks as it should (ECMA-48). It works on pieces, wherever they are cut.
type Tamer struct {
	state tameState
	held  []byte // a sequence that is not over yet
	more  int    // bytes of a character that may follow
}

type tameState uint8

const (
	drawing  tameState = iota
	escaped            // after ESC
	sequence           // after CSI
	message            // in a string for the terminal: all of it is dropped, to its end
	closing            // in one, after ESC
	wide               // after C2h, which begins the controls 80h to 9Fh in UTF-8
)

const (
	esc      = 0x1b
	enquiry  = 0x05 // asks the terminal who it is
	longest  = 64   // bytes of a sequence; what is longer is none
	cancel   = 0x18
	substute = 0x1a
)

// Tame returns what is left of a piece.
func (t *Tamer) Tame(p []byte) []byte {
	out := make([]byte, 0, len(p))
	for _, b := range p {
		out = t.next(out, b)
	}
	return out
}

func (t *Tamer) next(out []byte, b byte) []byte {
	switch t.state {
	case drawing:
		switch {
		case b == esc:
			t.state, t.held = escaped, append(t.held[:0], b)
		case b == 0xc2:
			t.state = wide
		case b == enquiry:
		case b >= 0x80 && b < 0xa0 && t.more == 0: // a control of eight bits, or no character
			return append(out, unknown)
		default:
			t.more = following(b, t.more)
			return append(out, b)
		}
		t.more = 0
		return out
	case wide:
		switch t.state = drawing; {
		case b >= 0xa0 && b < 0xc0:
			return append(out, 0xc2, b)
		case b >= 0x80 && b < 0xa0:
			return out // no control of eight bits, however it is written
		}
		return t.next(out, b) // no character
	case escaped:
		return t.afterEscape(out, b)
	case sequence:
		return t.inSequence(out, b)
	case message:
		switch b {
		case esc:
			t.state = closing
		case '\a', cancel, substute, '\n':
			t.state = drawing
		}
	case closing:
		if t.state = message; b == '\\' {
			t.state = drawing
		}
	}
	return out
}

// unknown is what a byte is shown as that is of no character: it takes its place on the
// screen.
const unknown = '?'

// following is how many bytes of a character may follow a byte, where more could have before
// it (RFC 3629, section 3).
func following(b byte, more int) int {
	switch {
	case b >= 0xf0:
		return 3
	case b >= 0xe0:
		return 2
	case b >= 0xc3:
		return 1
	case b >= 0x80:
		return max(0, more-1)
	}
	return 0
}

// simple are the sequences of two bytes that only draw: save and restore the cursor, index,
// next line, reverse index, keypad modes, tab stop.
const simple = "78DEMH=>"

func (t *Tamer) afterEscape(out []byte, b byte) []byte {
	t.state = drawing
	switch {
	case b == '[':
		t.state, t.held = sequence, append(t.held, b)
	case strings.IndexByte("]PX^_k", b) >= 0:
		t.state = message
	case strings.IndexByte("()*+#%", b) >= 0: // a character set, or a size: one more byte
		t.state, t.held = sequence, append(t.held, b)
	case strings.IndexByte(simple, b) >= 0:
		return append(append(out, t.held...), b)
	case b == esc:
		t.state = escaped
	case b < ' ':
		return t.next(out, b)
	}
	return out
}

// finals are the ends of sequences that only draw.
const finals = "@ABCDEFGHIJKLMPSTXZ`abdefghlmrsu"

func (t *Tamer) inSequence(out []byte, b byte) []byte {
	if t.held[1] != '[' { // of a character set
		t.state = drawing
		if b >= '0' && b <= 'Z' {
			return append(append(out, t.held...), b)
		}
		return out
	}
	switch {
	case b == esc:
		t.state, t.held = escaped, append(t.held[:0], b)
	case b < ' ' || b > '~':
		t.state = drawing // broken off
	case b < '@':
		if t.held = append(t.held, b); len(t.held) > longest {
			t.state = drawing
		}
	default:
		t.state = drawing
		if strings.IndexByte(finals, b) >= 0 && t.draws(b) {
			return append(append(out, t.held...), b)
		}
	}
	return out
}

// modes that may be set: cursor keys, wrapping, origin, the cursor seen or not, and the
// other screen.
var modes = map[int]bool{1: true, 6: true, 7: true, 12: true, 25: true, 47: true, 1047: true, 1048: true, 1049: true}

// The largest parameters of a sequence: of any, and of one that has something done so often.
// No terminal is larger, and some work for minutes on what they are told here.
const mostParameter, mostTimes = 9999, 500

// modest says whether a sequence asks for no more than any terminal has.
func modest(body []byte, final byte) bool {
	for _, p := range bytes.FieldsFunc(body, func(r rune) bool { return r < '0' || r > '9' }) {
		if n, err := strconv.Atoi(string(p)); err != nil || n > mostParameter || n > mostTimes && strings.IndexByte("@LMPSTXbI", final) >= 0 {
			return false
		}
	}
	return true
}

// draws says whether a sequence with that end only draws.
func (t *Tamer) draws(final byte) bool {
	body := t.held[2:]
	if !modest(body, final) {
		return false
	}
	if bytes.ContainsAny(body, " !\"$'*>=<") {
		return false // with an intermediate byte, or of somebody's own
	}
	private := bytes.HasPrefix(body, []byte("?"))
	switch {
	case final == 'h' || final == 'l':
		for _, m := range strings.Split(strings.TrimPrefix(string(body), "?"), ";") {
			n, err := strconv.Atoi(m)
			if err != nil || private && !modes[n] || !private && n != 4 && n != 20 {
				return false
			}
		}
		return true
	case private:
		return final == 'J' || final == 'K'
	}
	return true
}
