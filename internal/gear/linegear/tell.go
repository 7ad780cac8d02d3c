package linegear

import (
	"context"
	"fmt"
	"regexp"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

const (
	enter    = "\r"
	wipe     = "\x15"           // whatever somebody has left half typed
	knocks   = 3                // how often Enter is pressed before a line counts as silent
	tellsFor = 10 * time.Second // what takes longer is under way, and not waited for
	leave    = "exit" + enter
)

// refusal is how command lines usually begin to say that they do not understand,
// or do not want to.
var refusal = regexp.MustCompile(`(?i)^\s*[%^?]|\b(unknown|invalid|unrecogni[sz]ed|ambiguous|incomplete|not (known|found|permitted|allowed)|denied|syntax error|bad command)\b`)

// Tell types one command at a prompt, and waits until the prompt stands there
// again, the line is lost, or the command has had its time. A line says no result:
// what it says is taken for a refusal when it reads like one, and what came of a
// command shows by what the device does.
func (d *Driver) Tell(ctx context.Context, text string) error {
	if err := d.talking.Take(ctx); err != nil {
		return d.fail(err, sending.NotSent)
	}
	defer d.talking.Give()
	l, err := d.line.Call(ctx)
	if err != nil {
		return d.fail(err, sending.NotSent)
	}
	entered, err := d.reach(ctx, l)
	if err != nil {
		return err
	}
	from := l.Now()
	if _, err := l.Write([]byte(text + enter)); err != nil {
		return d.fail(err, sending.Unclear)
	}
	s, answer, err := until(ctx, l, from, tellsFor, d.prompt)
	if ctx.Err() != nil {
		return d.fail(context.Cause(ctx), sending.Unclear)
	}
	if err != nil || s != ready {
		return nil // it went before the prompt came back: that is what was asked for
	}
	if entered {
		_, _ = l.Write([]byte(leave)) // whoever comes next has to log in
	}
	for _, x := range said(l, answer, text) {
		if refusal.MatchString(x) {
			return &gear.Error{Kind: gear.NotPermitted, Outcome: sending.Refused, Text: fmt.Sprintf("%s refused the command: %s", d.o.Name, x)}
		}
	}
	return nil
}

// reach gets to a prompt, whatever stands at the line, and says whether it has
// logged in to get there.
func (d *Driver) reach(ctx context.Context, l *attach.Call) (entered bool, err error) {
	from := l.Now()
	var s stands
	var text string
	for range knocks {
		if s, text, err = d.keyIn(ctx, l, wipe+enter); err != nil || s == logIn || s == ready {
			break
		}
	}
	if heard, _, _, _ := l.Since(from); err == nil && s == nothing {
		return false, d.unready(l, heard)
	}
	if err != nil || s == ready {
		return false, err
	}
	if s == passwordAsked { // somebody has left it in the middle of a log-in, and it asks for nothing else
		return false, d.unready(l, text)
	}
	if s, _, err = d.keyIn(ctx, l, d.o.Secret.User+enter); err == nil && s == passwordAsked {
		s, text, err = d.keyIn(ctx, l, d.o.Secret.Password+enter)
	}
	switch {
	case err != nil:
		return false, err
	case s == ready:
		return true, nil
	case s == nothing:
		return false, d.unready(l, text)
	}
	return false, &gear.Error{Kind: gear.BadSecret, Outcome: sending.NotSent, Text: d.o.Name + " refuses the credential on its line: set it again with plumb secret set"}
}

// keyIn types something, and says what stands at the line then.
func (d *Driver) keyIn(ctx context.Context, l *attach.Call, keys string) (stands, string, error) {
	from := l.Now()
	if _, err := l.Write([]byte(keys)); err != nil {
		return nothing, "", d.fail(err, sending.NotSent)
	}
	s, text, err := until(ctx, l, from, d.o.Timeout, d.prompt)
	if err != nil {
		return s, text, d.fail(err, sending.NotSent)
	}
	return s, text, nil
}

// unready is a line at which nothing can be typed.
func (d *Driver) unready(l *attach.Call, heard string) error {
	all := l.Lines(heard)
	if len(all) == 0 {
		return &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: "the line of " + d.o.Name + " is silent: nobody reads what is typed there"}
	}
	return &gear.Error{
		Kind: gear.Malformed, Outcome: sending.NotSent,
		Text: fmt.Sprintf("the line of %s says %q, which is no prompt that is known here: state its prompt in the estate, or look what is going on there", d.o.Name, all[len(all)-1]),
	}
}
