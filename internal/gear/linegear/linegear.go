// Package linegear tells devices things on their own command line over a line of
// characters: a serial port behind a console server, or Telnet. It looks what
// stands at the line before it types, logs in where it has to, and keeps the last
// of what was said.
package linegear

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/secret"
)

// Options say where a line is and who is at its end.
type Options struct {
	Name      string   // the device, for messages
	Addresses []string // host:port, in order of preference
	Secret    secret.Value
	Prompt    string // a regular expression for the end of its prompt; empty: as prompts usually end
	Timeout   time.Duration

	Dial func(ctx context.Context, address string) (attach.Wire, error) // nil: over TCP
}

// Driver is the dialogue at one line. It may be shared between goroutines.
type Driver struct {
	o      Options
	prompt *regexp.Regexp
	line   *attach.Line

	talking gear.Turn // one dialogue at a time; not held while only a sign of life is wanted
}

var (
	_ gear.CommandLine = (*Driver)(nil)
	_ gear.Answerer    = (*Driver)(nil)
	_ gear.Transcript  = (*Driver)(nil)
)

// Open prepares a driver; nothing is sent before the first question.
func Open(o Options) (*Driver, error) {
	if len(o.Addresses) == 0 {
		return nil, &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: o.Name + " has no address"}
	}
	line := attach.New(attach.Options{Addresses: o.Addresses, Hide: o.Secret.Password, Timeout: o.Timeout, Dial: o.Dial})
	d := &Driver{o: o, prompt: usualPrompt, line: line, talking: gear.NewTurn()}
	if o.Prompt != "" {
		p, err := regexp.Compile("(?:" + o.Prompt + `)\s*$`)
		if err != nil {
			return nil, &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: fmt.Sprintf("%s: its prompt %q is no regular expression", o.Name, o.Prompt), Err: err}
		}
		d.prompt = p
	}
	return d, nil
}

// Line is the line that the dialogue borrows.
func (d *Driver) Line() *attach.Line { return d.line }

// Close ends the connection, and a dialogue with it.
func (d *Driver) Close() error { return d.line.Close() }

// LastLines implements gear.Transcript; what was said before a line was lost counts.
func (d *Driver) LastLines(n int) []string { return d.line.LastLines(n) }

// Answer says whether the line is there. It types nothing: somebody else may be
// typing at the same line, and who is at its end is not known by it.
func (d *Driver) Answer(ctx context.Context) error {
	c, err := d.line.Call(ctx)
	if err == nil {
		asked := time.Now()
		err = c.Alive(ctx)
		// Who gives up early takes the line from nobody else who is at it.
		if err != nil && (ctx.Err() == nil || time.Since(asked) > d.o.Timeout/2) {
			d.line.Lost(c)
		}
	}
	if err != nil {
		return d.fail(err, sending.NotSent)
	}
	return nil
}

// fail says what is wrong with the line.
func (d *Driver) fail(err error, oc sending.Outcome) error {
	e := &gear.Error{Kind: gear.Unreachable, Outcome: oc, Err: err}
	address := d.line.Address()
	var called *attach.CallError
	if errors.As(err, &called) {
		address, err = called.Address, called.Err
	}
	e.Text = gear.Unreached(fmt.Sprintf("the line of %s at %s", d.o.Name, address), "answer", err)
	return e
}
