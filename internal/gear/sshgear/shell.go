package sshgear

import (
	"context"
	"io"
	"sync"

	"golang.org/x/crypto/ssh"

	"plumbbob/internal/attach"
	"plumbbob/internal/core/sending"
)

// How large a terminal is before anybody says otherwise, and what it is taken for.
const (
	columns, rows = 80, 24
	terminal      = "xterm"
)

// Line is a shell of its own at the far end, that many may share: the device's command
// line, or the serial port that a console server leads to.
func (d *Driver) Line() *attach.Line { return d.line }

func (d *Driver) shell(ctx context.Context, _ string) (attach.Wire, error) {
	c, err := d.connect(ctx)
	if err != nil {
		return nil, err
	}
	defer d.follow(ctx, c)()
	s, err := c.NewSession()
	if err != nil { // the connection may have died long ago
		_ = d.drop(c)
		return nil, d.err(err, sending.NotSent)
	}
	w := &session{s: s}
	if w.in, err = s.StdinPipe(); err == nil {
		w.out, err = s.StdoutPipe()
	}
	if err == nil {
		err = s.RequestPty(terminal, rows, columns, ssh.TerminalModes{})
	}
	if err == nil {
		err = s.Shell()
	}
	if err != nil {
		_ = s.Close()
		return nil, d.err(err, sending.NotSent)
	}
	return w, nil
}

// session is a terminal at the far end.
type session struct {
	s   *ssh.Session
	in  io.WriteCloser
	out io.Reader

	closing sync.Once
	err     error
}

func (w *session) Read(p []byte) (int, error)  { return w.out.Read(p) }
func (w *session) Write(p []byte) (int, error) { return w.in.Write(p) }

// Break sends a break (RFC 4335) of half a second.
func (w *session) Break() error {
	_, err := w.s.SendRequest("break", true, ssh.Marshal(struct{ Milliseconds uint32 }{500}))
	return err
}

// Resize tells the size of the terminal (RFC 4254, section 6.7).
func (w *session) Resize(columns, rows int) error { return w.s.WindowChange(rows, columns) }

// Mark asks nothing: the connection has its own sign of life.
func (w *session) Mark() (<-chan struct{}, error) {
	return nil, nil //nolint:nilnil // there is nothing to wait for
}

// Close ends the shell, and leaves the connection to whoever else uses it.
func (w *session) Close() error {
	w.closing.Do(func() {
		if w.err = w.s.Close(); w.err == io.EOF { //nolint:errorlint // it is bare: the far end has closed it already
			w.err = nil
		}
	})
	return w.err
}
