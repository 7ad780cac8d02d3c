package client

import (
	"context"
	"fmt"
	"io"
	"time"
)

// keyboard has what is typed sent to the line. restore gives the terminal back.
func (l *lineDesk) keyboard(ctx context.Context, stop context.CancelCauseFunc) (restore func(), err error) {
	if !l.terminal() {
		go l.piped(ctx, stop)
		return func() {}, nil
	}
	if l.cooked, err = l.term.Raw(); err != nil {
		return nil, err
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		l.keys(ctx, stop)
	}()
	settled := l.term.Resized(func() {
		columns, rows := l.term.Size()
		l.wish(ctx, lineWish{do: map[string]any{"do": "size", "columns": columns, "rows": rows}})
	})
	return func() {
		settled()
		stop(nil)
		<-done
		fmt.Fprint(l.err, "\r\n")
		l.cooked()
	}, nil
}

func (l *lineDesk) wish(ctx context.Context, w lineWish) {
	select {
	case l.wishes <- w:
	case <-ctx.Done():
	}
}

func (l *lineDesk) do(ctx context.Context, what string) {
	l.wish(ctx, lineWish{do: map[string]any{"do": what}})
}

// piped sends what comes from a pipe, and ends when the line is quiet behind it.
func (l *lineDesk) piped(ctx context.Context, stop context.CancelCauseFunc) {
	l.untilUp(ctx)
	var b [1024]byte
	for {
		n, err := l.in.Read(b[:])
		keys := append([]byte(nil), b[:n]...)
		for i, k := range keys {
			if k == '\n' {
				keys[i] = '\r' // as the key Enter is
			}
		}
		if n > 0 {
			l.wish(ctx, lineWish{keys: keys})
		}
		if err != nil {
			break
		}
	}
	l.mu.Lock()
	l.heard = time.Now()
	l.mu.Unlock()
	for ctx.Err() == nil {
		l.mu.Lock()
		quiet := time.Since(l.heard)
		l.mu.Unlock()
		if quiet >= quietFor {
			stop(io.EOF)
			return
		}
		time.Sleep(quietFor - quiet)
	}
}

// untilUp waits until the line can be typed on, for as long as that is likely.
func (l *lineDesk) untilUp(ctx context.Context) {
	for began := time.Now(); ctx.Err() == nil && time.Since(began) < upWithin; time.Sleep(keyPoll * time.Millisecond) {
		l.mu.Lock()
		up := l.last.Up != nil && *l.last.Up
		l.mu.Unlock()
		if up {
			return
		}
	}
}

const upWithin = 15 * time.Second

// keys takes keys until ctx ends.
func (l *lineDesk) keys(ctx context.Context, stop context.CancelCauseFunc) {
	var b [1024]byte
	waits := false // the escape key was the last one
	for ctx.Err() == nil {
		n, err := l.term.Keys(ctx, b[:])
		if err != nil {
			stop(io.EOF)
			return
		}
		plain := make([]byte, 0, n)
		for _, k := range b[:n] {
			switch {
			case waits && k == l.escape:
				plain = append(plain, k)
				waits = false
			case waits:
				waits = false
				l.typed(ctx, plain)
				plain = nil
				l.command(ctx, stop, k)
			case k == l.escape:
				waits = true
			default:
				plain = append(plain, k)
			}
		}
		l.typed(ctx, plain)
	}
}

// typed sends keys, and shows on a slow line that they are on their way.
func (l *lineDesk) typed(ctx context.Context, keys []byte) {
	if len(keys) == 0 {
		return
	}
	l.mu.Lock()
	if l.holds() && !l.paused {
		_, _ = l.out.Write(l.ahead.Typed(keys, time.Now()))
	}
	l.mu.Unlock()
	l.wish(ctx, lineWish{keys: keys})
}

const aloneMinutes = 10

// command does what the key behind the escape key says.
func (l *lineDesk) command(ctx context.Context, stop context.CancelCauseFunc, key byte) {
	switch key {
	case '.', 'q':
		stop(errLeft)
	case 'b':
		l.do(ctx, "break")
	case 'k':
		l.do(ctx, "ask")
	case 'g':
		l.do(ctx, "give")
	case 'n':
		l.do(ctx, "refuse")
	case 't':
		l.do(ctx, "take")
	case 'a':
		l.mu.Lock()
		alone := l.last.Alone != nil
		l.mu.Unlock()
		minutes := aloneMinutes
		if alone {
			minutes = 0
		}
		l.wish(ctx, lineWish{do: map[string]any{"do": "alone", "minutes": minutes}})
	case 'w':
		l.whoIsOn()
	case 'l':
		l.toggleLog()
	case 'r':
		l.beside(ctx, "reset")
	case 'c':
		l.beside(ctx, "cycle")
	default:
		l.mu.Lock()
		fmt.Fprintf(l.err, "\r\n%s", crlf(lineHelp(l.escape)))
		l.mu.Unlock()
	}
}

func (l *lineDesk) toggleLog() {
	l.mu.Lock()
	on := l.log != nil
	l.mu.Unlock()
	if on {
		l.endLog()
		l.say("nothing is logged any more")
		return
	}
	name := fmt.Sprintf("%s-%s.log", l.device, time.Now().Format("20060102-150405"))
	if err := l.logTo(name); err != nil {
		l.say("%s", err)
		return
	}
	l.say("what the line says is logged to %s", name)
}

// beside runs a command of plumb on the device while the seat is kept. What the line says
// meanwhile is shown afterwards.
func (l *lineDesk) beside(ctx context.Context, kind string) {
	l.mu.Lock()
	l.paused = true
	l.mu.Unlock()
	l.cooked()
	fmt.Fprintf(l.err, "\nplumb %s %s\n", kind, l.device)
	given := []string{kind, l.device}
	if l.config != "" {
		given = append(given, "--config", l.config)
	}
	if far, ok := l.term.(*Far); ok { // Ctrl-C ends the command alone
		var cancel context.CancelFunc
		ctx, cancel = context.WithCancel(ctx)
		defer cancel()
		defer far.stops(cancel)()
	}
	l.run(ctx, given)
	if again, err := l.term.Raw(); err == nil {
		l.cooked = again
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.paused = false
	_, _ = l.out.Write(l.held)
	l.held = nil
	l.sayNow("back at the line of %s", l.device)
}

// crlf writes the ends of lines as a raw terminal wants them.
func crlf(s string) string {
	var out []byte
	for _, b := range []byte(s) {
		if b == '\n' {
			out = append(out, '\r')
		}
		out = append(out, b)
	}
	return string(out)
}
