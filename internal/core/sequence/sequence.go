// Package sequence is what is typed, pressed and waited for in a row, written down line by line: at
// a serial line, or at a screen.
package sequence

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/keyboard"
)

// What a line of a sequence may do.
const (
	Type   = "type"   // a text, and Enter
	Secret = "secret" // what a variable of the environment holds, and Enter
	Key    = "key"    // one key, or several together
	Wait   = "wait"   // until a regular expression is found
	Pause  = "pause"
	Break  = "break" // the Break key of a serial line
)

// AtAScreen is what can be done there by a service, which has nobody's environment.
var AtAScreen = []string{Type, Key, Wait, Pause}

// A Move is one line of a sequence.
type Move struct {
	Line  int // of the text, from 1
	Do    string
	Text  string // what is typed, the variable, or the key
	Match *regexp.Regexp
	Time  time.Duration // a pause, or how long is waited at most
}

// Bounds of what is taken.
const (
	waitUsually  = 30 * time.Second
	longestPause = time.Hour
	mostMoves    = 2000
)

// An Error says what is wrong with a line.
type Error struct {
	Line int // 0: with all of it
	Text string
}

func (e *Error) Error() string {
	if e.Line == 0 {
		return e.Text
	}
	return fmt.Sprintf("line %d: %s", e.Line, e.Text)
}

// Read reads a sequence of which each line does something that can be done. Its error is an
// *Error.
func Read(text string, can []string) (moves []Move, err error) {
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		m, err := read(line, can)
		if err != nil {
			return nil, &Error{i + 1, err.Error()}
		}
		m.Line = i + 1
		moves = append(moves, m)
	}
	switch {
	case len(moves) == 0:
		return nil, &Error{0, "there is nothing in it"}
	case len(moves) > mostMoves:
		return nil, &Error{0, fmt.Sprintf("it has %d lines that do something, and %d are the most", len(moves), mostMoves)}
	}
	return moves, nil
}

func read(line string, can []string) (m Move, err error) {
	word, rest, _ := strings.Cut(line, " ")
	rest = strings.TrimSpace(rest)
	m = Move{Do: word, Text: rest}
	if !slices.Contains(can, word) {
		return m, fmt.Errorf("%q is not known: %s and %s are", word, strings.Join(can[:len(can)-1], ", "), can[len(can)-1])
	}
	switch word {
	case Wait:
		m.Time = waitUsually
		if at := strings.LastIndex(rest, " "); at > 0 {
			if d, err := time.ParseDuration(rest[at+1:]); err == nil && d > 0 {
				m.Time, rest = d, strings.TrimSpace(rest[:at])
			}
		}
		if m.Match, err = regexp.Compile(rest); err != nil || rest == "" {
			return m, fmt.Errorf("%q is no regular expression: write wait login: 20s", rest)
		}
	case Pause:
		if m.Time, err = time.ParseDuration(rest); err != nil || m.Time <= 0 || m.Time > longestPause {
			return m, fmt.Errorf("%q is no time: write pause 2s", rest)
		}
	}
	return m, nil
}

// longestAtAScreen is how long a sequence may take at a screen, with all that it waits for.
const longestAtAScreen = 15 * time.Minute

// ReadForAScreen reads one that is to be played there, on a keyboard of some layout.
func ReadForAScreen(text, layout string) ([]Move, error) {
	moves, err := Read(text, AtAScreen)
	if err != nil {
		return nil, err
	}
	var all time.Duration
	for _, m := range moves {
		if _, err := m.Chords(layout); err != nil {
			return nil, &Error{m.Line, err.Error()}
		}
		if all += m.Time; all > longestAtAScreen {
			return nil, &Error{m.Line, fmt.Sprintf("up to here it may wait for %s, and %s is the most", all, longestAtAScreen)}
		}
	}
	return moves, nil
}

// Chords are the keys that a move presses on a keyboard.
func (m Move) Chords(layout string) ([]keyboard.Chord, error) {
	switch m.Do {
	case Key:
		return keyboard.Row(m.Text)
	case Type:
		return keyboard.Strokes(m.Text+"\n", layout)
	}
	return nil, nil
}
