package client

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"plumbbob/internal/core/sequence"
	"regexp"
	"strings"
	"time"

	"github.com/spf13/pflag"
)

// sendings is what is sent to a line without anybody at the keyboard: a file, or a sequence.
type sendings struct {
	file, run string
}

func (s *sendings) flags(f *pflag.FlagSet) {
	f.StringVar(&s.file, "send", "", "send a file, as it is, at the pace of the line, and show what is answered")
	f.StringVar(&s.run, "run", "", "run a sequence from a file: see below")
}

func (s *sendings) wanted() bool { return s.file != "" || s.run != "" }

func (s *sendings) check(past bool) error {
	if s.file != "" && s.run != "" || s.wanted() && past {
		return fail(ExitUsage, "--send, --run and what is about the past exclude each other: choose one")
	}
	return nil
}

const sequenceHelp = `A sequence is a file of lines such as

  type plumb             these characters, and Enter
  wait Password: 20s     until the line has said this, a regular expression; 30 s by default
  secret PLUMB_PASSWORD  what this variable of the environment holds, and Enter
  key escape             one of enter, escape, tab, up, down, left, right, delete, f2, f10, f12
  break                  the Break key
  pause 2s
  # a remark

What does not come in time ends it, with status 1 and the line of the file that waited.`

// A move is one line of a sequence, as keys of a serial line.
type move struct {
	sequence.Move
	keys []byte
}

const (
	longestFile = 4 << 20
	longestTail = 64 << 10 // of what the line said that is looked through
)

var lineKeyBytes = map[string]string{
	"enter": "\r", "escape": "\x1b", "tab": "\t", "up": "\x1b[A", "down": "\x1b[B", "right": "\x1b[C", "left": "\x1b[D",
	"delete": "\x1b[3~", "f2": "\x1bOQ", "f10": "\x1b[21~", "f12": "\x1b[24~",
}

// atALine is what can be done there.
var atALine = []string{sequence.Type, sequence.Secret, sequence.Key, sequence.Wait, sequence.Pause, sequence.Break}

// readMoves reads a sequence. All that is wrong with it is said before anything is sent.
func readMoves(text string, env func(string) (string, bool)) (moves []move, err error) {
	all, err := sequence.Read(text, atALine)
	if err != nil {
		return nil, fail(ExitUsage, "--run: %s", err)
	}
	for _, one := range all {
		m := move{Move: one}
		switch m.Do {
		case sequence.Type:
			m.keys = []byte(m.Text + "\r")
		case sequence.Secret:
			value, set := env(m.Text)
			if !set {
				return nil, fail(ExitUsage, "--run: line %d: %s is not in the environment", m.Line, m.Text)
			}
			m.keys = []byte(value + "\r")
		case sequence.Key:
			if m.keys = []byte(lineKeyBytes[m.Text]); len(m.keys) == 0 {
				return nil, fail(ExitUsage, "--run: line %d: there is no key %q here: plumb serial --help lists them", m.Line, m.Text)
			}
		}
		moves = append(moves, m)
	}
	return moves, nil
}

// sendAll sends what is wanted, and leaves.
func (l *lineDesk) sendAll(ctx context.Context, s sendings) error {
	file := s.file + s.run
	content, err := l.read(file, longestFile)
	if err != nil {
		return err
	}
	what := fmt.Sprintf("the file %s, %d bytes", filepath.Base(file), len(content))
	moves := []move{{Move: sequence.Move{Line: 1, Do: sequence.Type}, keys: content}}
	if s.run != "" {
		if moves, err = readMoves(string(content), l.variable); err != nil {
			return err
		}
		what = "the sequence " + filepath.Base(file)
	}
	run := &running{l: l, heard: make(chan []byte, 256), told: make(chan lineMessage, 64)}
	l.hears = func(p []byte) { run.pass(p) }
	l.tells = func(m lineMessage) {
		select {
		case run.told <- m:
		default: // it was enough to begin with
		}
	}
	l.instead = func(ctx context.Context, stop context.CancelCauseFunc) (func(), error) {
		go func() {
			l.untilUp(ctx)
			err := run.all(ctx, what, moves)
			if err == nil {
				err = io.EOF
			}
			stop(err)
		}()
		return func() {}, nil
	}
	return l.sit(ctx)
}

// running is what is being sent.
type running struct {
	l     *lineDesk
	heard chan []byte
	told  chan lineMessage
	tail  []byte
}

// pass hands on what the line says; who is slow misses the oldest of it.
func (r *running) pass(p []byte) {
	p = bytes.Clone(p)
	for {
		select {
		case r.heard <- p:
			return
		default:
		}
		select {
		case <-r.heard:
		default:
		}
	}
}

func (r *running) all(ctx context.Context, what string, moves []move) error {
	if err := r.announce(ctx, what); err != nil {
		return err
	}
	for _, m := range moves {
		if err := r.one(ctx, m); err != nil {
			return err
		}
	}
	return r.until(ctx, nil, quietFor)
}

// announce asks whether something may be sent. It may when everybody is told.
func (r *running) announce(ctx context.Context, what string) error {
	r.l.wish(ctx, lineWish{do: map[string]any{"do": "send", "what": what}})
	for over := time.After(upWithin); ; {
		select {
		case m := <-r.told:
			if m.Error != "" {
				return fail(ExitNotPermitted, "%s", m.Error)
			}
			for _, n := range m.Notice {
				if strings.HasSuffix(n, " sends "+what) {
					return nil
				}
			}
		case <-over:
			return fail(ExitUnreachable, "the line cannot be typed on")
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// What is sent in one message, and how long the service takes for a byte of that: it goes at
// the pace of a line.
const (
	sendPiece = 512
	sendPace  = 2500 * time.Microsecond
)

// rest waits, and hears meanwhile.
func (r *running) rest(ctx context.Context, d time.Duration) error {
	for over := time.After(d); ; {
		select {
		case p := <-r.heard:
			r.hear(p)
		case <-over:
			return nil
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

func (r *running) hear(p []byte) {
	r.tail = append(r.tail, p...)
	r.tail = r.tail[max(0, len(r.tail)-longestTail):]
}

func (r *running) one(ctx context.Context, m move) error {
	switch m.Do {
	case sequence.Break:
		r.l.do(ctx, "break")
	case sequence.Pause:
		return r.rest(ctx, m.Time)
	case sequence.Wait:
		if err := r.until(ctx, m.Match, m.Time); err != nil {
			return fmt.Errorf("line %d: %w", m.Line, err)
		}
	default:
		for p := m.keys; len(p) > 0; p = p[min(len(p), sendPiece):] {
			n := min(len(p), sendPiece)
			r.l.wish(ctx, lineWish{keys: p[:n]})
			if err := r.rest(ctx, time.Duration(n)*sendPace); err != nil { // the service sends no faster
				return err
			}
		}
	}
	return nil
}

// until waits for a pattern, or, without one, until the line has been quiet for so long.
func (r *running) until(ctx context.Context, match *regexp.Regexp, within time.Duration) error {
	over := time.NewTimer(within)
	defer over.Stop()
	for {
		if match != nil {
			if at := match.FindIndex(r.tail); at != nil {
				r.tail = r.tail[at[1]:] // the next one waits for what comes behind it
				return nil
			}
		}
		select {
		case p := <-r.heard:
			r.hear(p)
			if match == nil {
				over.Reset(within)
			}
		case <-over.C:
			if match == nil {
				return nil
			}
			return fail(ExitFailed, "nothing like %q came within %s", match, within)
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}
