// Package screen makes a screen of what a serial line has said, as a terminal would show it.
// The terminal is emulated by a library that is given nothing but what only draws, and that
// may fail without taking anybody along.
package screen

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/vt"

	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/serial"
)

// The size of the terminal: a serial line has none of its own.
const (
	Columns = 80
	Rows    = 24
)

// Enough is how many of the last bytes of a line are looked at: several screens, however
// they were drawn.
const Enough = 64 << 10

// What can be said in few bytes may take a terminal long.
const (
	takes = 2 * time.Second
	piece = 256 // bytes after which that is looked at
)

// A Screen is what a terminal shows. Rows and columns count from 0.
type Screen struct {
	Rows        []string // without what is blank at their ends
	Row, Column int      // of the cursor
	Marked      []Span   // is shown inverse, as what is chosen in a menu
}

// A Span is a part of a row.
type Span struct{ Row, From, To int } // To is the first column behind it

// ErrScreen: what was said could not be shown.
var ErrScreen = errors.New("what the line said last cannot be shown as a screen")

// Of is the screen behind the last bytes of what was said. Its error is ErrScreen.
func Of(said []byte) (s Screen, err error) {
	defer func() {
		if r := recover(); r != nil {
			s, err = Screen{}, fmt.Errorf("%w: %v", ErrScreen, r)
		}
	}()
	said = said[max(0, len(said)-Enough):]
	e := vt.NewEmulator(Columns, Rows)
	e.SetScrollbackSize(1)
	drained := make(chan struct{})
	go func() { // what it would answer, if it were asked anything
		defer close(drained)
		_, _ = io.Copy(io.Discard, e)
	}()
	defer func() {
		_ = e.Close()
		<-drained
	}()
	var tamer serial.Tamer
	// The library takes what follows a byte that is of no character for a control.
	said = bytes.ToValidUTF8(tamer.Tame(said), []byte("\uFFFD"))
	for began := time.Now(); len(said) > 0; {
		n := min(piece, len(said))
		if _, err := e.Write(said[:n]); err != nil {
			return s, fmt.Errorf("%w: %w", ErrScreen, err)
		}
		if said = said[n:]; time.Since(began) > takes {
			return s, fmt.Errorf("%w: it takes too long", ErrScreen)
		}
	}
	at := e.CursorPosition()
	s.Row, s.Column = min(max(0, at.Y), Rows-1), min(max(0, at.X), Columns-1)
	for y := range Rows {
		s.Rows = append(s.Rows, s.row(e, y))
	}
	return s, nil
}

// row reads one row, and notes what of it is marked.
func (s *Screen) row(e *vt.Emulator, y int) string {
	var b strings.Builder
	from := -1
	end := func(x int) {
		if from >= 0 {
			s.Marked = append(s.Marked, Span{y, from, x})
			from = -1
		}
	}
	for x := 0; x < Columns; x++ {
		c := e.CellAt(x, y)
		text := " "
		if c != nil && c.Content != "" {
			text = c.Content
		} else if c != nil && c.Width == 0 {
			text = "" // the right half of a wide character
		}
		b.WriteString(text)
		switch marked := c != nil && c.Style.Attrs&uv.AttrReverse != 0; {
		case marked && from < 0:
			from = x
		case !marked:
			end(x)
		}
	}
	end(Columns)
	return strings.TrimRight(plain.Line(b.String()), " ")
}
