package client

import (
	"bytes"
	"context"
	"time"
)

// A pager waits for a key before what nobody has read yet goes off the top of a terminal.
// What comes bit by bit, as an operation does that is followed, is not held up.
type pager struct {
	*Far
	ctx   context.Context // of the command; it ends it
	end   func()          // ends the command when nobody wants more
	shown int             // lines since somebody last had a look
	wrote time.Time
}

// atOnce is how close together belongs what is one page.
const atOnce = 500 * time.Millisecond

const (
	moreWords = "-- more: space, or q for no more --"
	wipe      = "\r\x1b[K"
)

// Write implements io.Writer.
func (p *pager) Write(b []byte) (int, error) {
	if p.isRaw() {
		p.shown = 0
		return p.Far.Write(b)
	}
	if time.Since(p.wrote) > atOnce {
		p.shown = 0
	}
	defer func() { p.wrote = time.Now() }()
	columns, rows := p.Size()
	done := 0
	for len(b[done:]) > 0 {
		line := b[done:]
		if at := bytes.IndexByte(line, '\n'); at >= 0 {
			line = line[:at+1]
		}
		if p.shown >= rows-1 && !p.more() {
			return done, p.ctx.Err()
		}
		n, err := p.Far.Write(line)
		done += n
		if err != nil {
			return done, err
		}
		p.shown += (len([]rune(string(line))) - 1) / columns // what goes over the edge
		if line[len(line)-1] == '\n' {
			p.shown++
		}
	}
	return done, nil
}

// more asks whether somebody wants more.
func (p *pager) more() bool {
	cooked, err := p.Raw()
	if err != nil {
		return true
	}
	defer cooked()
	_, _ = p.Far.Write([]byte(moreWords))
	var key [1]byte
	_, err = p.Keys(p.ctx, key[:])
	_, _ = p.Far.Write([]byte(wipe))
	p.shown = 0
	if err != nil || key[0] == 'q' || key[0] == 'n' || key[0] == ctrlC {
		p.end()
		return false
	}
	if key[0] == '\r' || key[0] == '\n' {
		_, rows := p.Size()
		p.shown = rows - 2 // one line more
	}
	return true
}
