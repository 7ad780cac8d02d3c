// Package linegear tells devices things on their own command line over a line of
// characters: a serial port behind a console server, or Telnet. It looks what
// stands at the line before it types, logs in where it has to, and keeps the last
// of what was said.
package linegear

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"slices"
	"sync"
	"syscall"
	"time"

	"plumbbob/internal/core/operation"
	"plumbbob/internal/gear"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/names"
	"plumbbob/internal/wire/telnet"
)

// Options say where a line is and who is at its end.
type Options struct {
	Name      string   // the device, for messages
	Addresses []string // host:port, in order of preference
	Secret    secret.Value
	Prompt    string // a regular expression for the end of its prompt; empty: as prompts usually end
	Timeout   time.Duration
}

// Driver is one line. It may be shared between goroutines, and keeps one
// connection.
type Driver struct {
	o      Options
	prompt *regexp.Regexp

	talking gear.Turn // one dialogue at a time; not held while only a sign of life is wanted
	dialing gear.Turn // one call at a time; what was heard can be read meanwhile

	mu    sync.Mutex
	line  *line
	tail  []string // of the line before this one
	at    int      // which address is used
	close bool
}

var (
	_ gear.CommandLine = (*Driver)(nil)
	_ gear.Answerer    = (*Driver)(nil)
	_ gear.Transcript  = (*Driver)(nil)
)

// Open prepares a driver; nothing is sent before the first question.
func Open(o Options) (*Driver, error) {
	if len(o.Addresses) == 0 {
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: operation.NotSent, Text: o.Name + " has no address"}
	}
	d := &Driver{o: o, prompt: usualPrompt, talking: gear.NewTurn(), dialing: gear.NewTurn()}
	if o.Prompt != "" {
		p, err := regexp.Compile("(?:" + o.Prompt + `)\s*$`)
		if err != nil {
			return nil, &gear.Error{Kind: gear.Unsupported, Outcome: operation.NotSent, Text: fmt.Sprintf("%s: its prompt %q is no regular expression", o.Name, o.Prompt), Err: err}
		}
		d.prompt = p
	}
	return d, nil
}

// Close ends the connection, and a dialogue with it.
func (d *Driver) Close() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.close = true
	return d.drop()
}

func (d *Driver) drop() error {
	if d.line == nil {
		return nil
	}
	d.tail = append(d.tail, d.line.tail()...)
	d.tail = d.tail[max(0, len(d.tail)-maxTail):]
	err := d.line.conn.Close()
	d.line = nil
	if errors.Is(err, net.ErrClosed) {
		return nil
	}
	return err
}

// Answer says whether the line is there. It types nothing: somebody else may be
// typing at the same line, and who is at its end is not known by it.
func (d *Driver) Answer(ctx context.Context) error {
	l, err := d.connect(ctx)
	if err != nil {
		return err
	}
	came, err := l.conn.Mark()
	if err == nil && came != nil {
		select {
		case <-came:
		case <-ctx.Done():
			err = context.Cause(ctx)
		case <-time.After(d.o.Timeout):
			err = context.DeadlineExceeded
		}
	}
	if err == nil {
		return nil
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.line == l {
		_ = d.drop()
	}
	return l.fail(d.o.Name, err, operation.NotSent)
}

// alive has the system notice a dead far end that does not speak Telnet.
var alive = net.KeepAliveConfig{Enable: true, Idle: 10 * time.Second, Interval: 5 * time.Second, Count: 3}

// LastLines implements gear.Transcript; what was said before a line was lost counts.
func (d *Driver) LastLines(n int) []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	all := d.tail
	if d.line != nil {
		all = slices.Concat(all, d.line.tail())
	}
	return slices.Clone(all[max(0, len(all)-n):])
}

// connect returns the line, and calls it where it is not up.
func (d *Driver) connect(ctx context.Context) (*line, error) {
	turn := d.dialing.Take(ctx)
	if turn == nil {
		defer d.dialing.Give()
	}
	d.mu.Lock()
	if d.line != nil && d.line.err() == nil {
		defer d.mu.Unlock()
		return d.line, nil
	}
	_ = d.drop()
	l := &line{address: d.o.Addresses[d.at%len(d.o.Addresses)], hide: d.o.Secret.Password}
	closed := d.close
	d.mu.Unlock()
	if closed {
		turn = net.ErrClosed
	}
	if turn != nil {
		return nil, l.fail(d.o.Name, turn, operation.NotSent)
	}
	conn, err := d.dial(ctx, l.address)
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case err != nil:
		d.at++ // try the next address another time
		return nil, l.fail(d.o.Name, err, operation.NotSent)
	case d.close:
		_ = conn.Close()
		return nil, l.fail(d.o.Name, net.ErrClosed, operation.NotSent)
	}
	l.listen(telnet.Client(conn))
	d.line = l
	return l, nil
}

func (d *Driver) dial(ctx context.Context, address string) (net.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, d.o.Timeout)
	defer cancel()
	conn, err := names.Default.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	if c, ok := conn.(*net.TCPConn); ok {
		_ = c.SetKeepAliveConfig(alive)
	}
	return conn, nil
}

// fail says what is wrong with a line.
func (l *line) fail(name string, err error, oc operation.Outcome) error {
	e := &gear.Error{Kind: gear.Unreachable, Outcome: oc, Err: err}
	where := fmt.Sprintf("the line of %s at %s", name, l.address)
	var timeout net.Error
	switch {
	case errors.Is(err, syscall.ECONNREFUSED):
		e.Text = where + ": nothing listens there"
	case errors.Is(err, io.EOF), errors.Is(err, net.ErrClosed), errors.Is(err, syscall.ECONNRESET):
		e.Text = where + " was ended"
	case errors.Is(err, context.Canceled):
		e.Text = where + ": given up before it answered"
	case errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		e.Text = where + " does not answer"
	default:
		e.Text = fmt.Sprintf("%s does not answer: %s", where, err)
	}
	return e
}
