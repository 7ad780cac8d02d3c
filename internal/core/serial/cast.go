package serial

import (
	"encoding/json"
	"fmt"
	"io"
	"time"
	"unicode/utf8"
)

// A Cast writes what a line said in the asciicast form, version 2: one JSON document a
// line, a header and then [seconds, "o", text]. What would make a terminal do more than
// draw is left out.
type Cast struct {
	w     io.Writer
	began time.Time
	tamer Tamer
	rest  []byte // of a character that goes on in the next saying
}

// Size of the terminal of a recording: a serial line has none.
const castColumns, castRows = 80, 24

// NewCast writes the header. Times count from began.
func NewCast(w io.Writer, title string, began time.Time) (*Cast, error) {
	head, err := json.Marshal(map[string]any{"version": 2, "width": castColumns, "height": castRows, "timestamp": began.Unix(), "title": title})
	if err != nil {
		return nil, err
	}
	_, err = fmt.Fprintf(w, "%s\n", head)
	return &Cast{w: w, began: began}, err
}

// Write writes one saying.
func (c *Cast) Write(s Saying) error {
	text := append(c.rest, c.tamer.Tame(s.Text)...)
	whole := len(text)
	for i := 1; i <= min(utf8.UTFMax-1, len(text)); i++ {
		if b := text[len(text)-i]; utf8.RuneStart(b) {
			if !utf8.FullRune(text[len(text)-i:]) {
				whole -= i
			}
			break
		}
	}
	c.rest = append([]byte(nil), text[whole:]...)
	if whole == 0 {
		return nil
	}
	out, err := json.Marshal([]any{s.At.Sub(c.began).Seconds(), "o", string(text[:whole])}) // what is no UTF-8 becomes U+FFFD
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(c.w, "%s\n", out)
	return err
}
