package httpgear

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// panel is the part that presses buttons and sees lights.
type panel struct{ *Driver }

var _ gear.Panel = (*panel)(nil)

// ReadPanel reads the lights of every lead.
func (d *panel) ReadPanel(ctx context.Context) ([]reading.Front, error) {
	page := d.web.visit(ctx)
	find := page.lookup(d.o.Profile, nil)
	var out []reading.Front
	for n := 1; n <= d.o.Profile.Panel.Leads; n++ {
		if r, ok := find.Panel(d.o.Profile.Panel, n); ok {
			out = append(out, r)
		}
	}
	if page.err == nil && len(out) == 0 {
		return nil, &gear.Error{Kind: gear.Malformed, Outcome: sending.Refused, Text: fmt.Sprintf("%s shows no lights: does profile %s fit it?", d.o.Name, d.o.Profile.Name)}
	}
	return out, page.err
}

// PressButton presses one button of one lead.
func (d *panel) PressButton(ctx context.Context, lead int, b sending.Button, hold time.Duration) error {
	p := d.o.Profile.Panel
	name := p.Buttons[string(b)]
	if name == "" {
		return d.unsupported(fmt.Sprintf("press the %s button", b))
	}
	if lead < 1 || lead > p.Leads {
		return &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: fmt.Sprintf("%s has no lead %d: it has %d", d.o.Name, lead, p.Leads)}
	}
	return d.web.send(ctx, p.Press, blanks{"n": strconv.Itoa(lead), "button": name, "ms": strconv.FormatInt(hold.Milliseconds(), 10)})
}
