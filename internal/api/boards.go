package api

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"net/http"
	"runtime/debug"
	"sync"
	"time"

	"github.com/labstack/echo/v5"
)

// How old a board may be that is sent out. The stream brings whoever has it up
// to date: each board says from which event on.
const (
	boardNew   = 250 * time.Millisecond // it is not drawn more often than this
	boardUsual = 500 * time.Millisecond // it is still sent, while the next one is drawn
)

// boards draws the board once for all who ask at about the same time. Its zero
// value is ready.
type boards struct {
	mu      sync.Mutex
	changes int // that somebody has made
	newest  board
	drawing *drawing // nil: nobody draws
}

type board struct {
	text   []byte
	zipped []byte // the same, compressed
	at     time.Time
}

type drawing struct {
	done    chan struct{}
	changes int // that it has seen
	board
	err error
}

// get returns a board that is new enough.
func (b *boards) get(ctx context.Context, draw func() ([]byte, error)) (board, error) {
	b.mu.Lock()
	have, age := b.newest, time.Since(b.newest.at)
	if have.text != nil && age < boardNew {
		b.mu.Unlock()
		return have, nil
	}
	d := b.drawing
	if d == nil || d.changes != b.changes {
		d = &drawing{done: make(chan struct{}), changes: b.changes}
		b.drawing = d
		go b.draw(d, draw)
	}
	b.mu.Unlock()
	if have.text != nil && age < boardUsual {
		return have, nil
	}
	select {
	case <-d.done:
		return d.board, d.err
	case <-ctx.Done():
		return board{}, context.Cause(ctx)
	}
}

// changed has the next board drawn anew: whoever changes something sees it.
func (b *boards) changed() {
	b.mu.Lock()
	b.changes++
	b.newest = board{}
	b.mu.Unlock()
}

// afresh calls changed behind what somebody who is in has changed. A stranger has
// changed nothing, and must not have boards drawn.
func (b *boards) afresh(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		err := next(c)
		if c.Request().Method != http.MethodGet && err == nil && whoIs(c.Request().Context()).Account != "" {
			b.changed()
		}
		return err
	}
}

func (b *boards) draw(d *drawing, draw func() ([]byte, error)) {
	d.at = time.Now()
	func() {
		defer func() {
			if p := recover(); p != nil { // nobody above this goroutine would catch it
				d.err = fmt.Errorf("drawing the board: %v\n%s", p, debug.Stack())
			}
		}()
		if d.text, d.err = draw(); d.err == nil {
			d.zipped = zip(d.text)
		}
	}()
	b.mu.Lock()
	if b.drawing == d {
		b.drawing = nil
	}
	if d.err == nil && d.changes == b.changes {
		b.newest = d.board
	}
	b.mu.Unlock()
	close(d.done)
}

// zip compresses quickly: it is done for every board that is drawn, once for all.
func zip(text []byte) []byte {
	var out bytes.Buffer
	gz, _ := gzip.NewWriterLevel(&out, gzip.BestSpeed)
	_, _ = gz.Write(text) // a buffer takes everything
	_ = gz.Close()
	return out.Bytes()
}

// boardText is a board that is written already.
type boardText struct {
	board
	asZip bool
}

// VisitGetBoardResponse implements the contract.
func (t boardText) VisitGetBoardResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Add("Vary", "Accept-Encoding")
	text := t.text
	if t.asZip {
		w.Header().Set("Content-Encoding", "gzip")
		text = t.zipped
	}
	w.Header().Set("Content-Length", fmt.Sprint(len(text)))
	_, err := w.Write(text)
	return err
}
