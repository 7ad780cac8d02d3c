package httpgear

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// keyboard is the part that pretends to be one.
type keyboard struct{ *Driver }

var _ gear.Keyboard = (*keyboard)(nil)

// How long a keyboard is out, so that its host takes notice, and how long it is tried to plug it in
// again.
const (
	outFor   = 1500 * time.Millisecond
	inWithin = 20 * time.Second
)

// Replug plugs it out and in again: in, also when whoever asked for it has gone meanwhile.
func (d *keyboard) Replug(ctx context.Context) error {
	p := d.o.Profile.Keyboard
	if err := d.web.send(ctx, p.Plug, blanks{"n": "0"}); err != nil && gear.OutcomeOf(err) != sending.Unclear {
		return err
	}
	select {
	case <-ctx.Done():
	case <-time.After(outFor):
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), inWithin)
	defer cancel()
	for {
		err := d.web.send(ctx, p.Plug, blanks{"n": "1"})
		if err == nil {
			page := d.web.visit(ctx)
			in, known := page.lookup(d.o.Profile, nil).Plugged(p)
			if err = page.err; err == nil && known && in {
				return nil
			}
		}
		select {
		case <-ctx.Done():
			text := fmt.Sprintf("%s: its keyboard may be out: it was plugged out, and is not seen to be in again", d.o.Name)
			return &gear.Error{Kind: gear.KindOf(err), Outcome: sending.Unclear, Text: text, Err: err}
		case <-time.After(askShownEvery):
		}
	}
}
