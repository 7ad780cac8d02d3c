package httpgear

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// channel is the part that shows one of several ports.
type channel struct{ *Driver }

var _ gear.Channel = (*channel)(nil)

// ShownPort reads which port is seen.
func (d *channel) ShownPort(ctx context.Context) (int, error) {
	page := d.web.visit(ctx)
	n, known := page.lookup(d.o.Profile, nil).Channel(d.o.Profile.Channel)
	if page.err != nil {
		return 0, page.err
	}
	if !known || n < 0 || n > d.o.Profile.Channel.Ports {
		return 0, &gear.Error{Kind: gear.Malformed, Outcome: sending.Refused, Text: fmt.Sprintf("%s does not say which port is seen: does profile %s fit it?", d.o.Name, d.o.Profile.Name)}
	}
	return n, nil
}

// showsSlowest is how long gear may take to say that another port is seen.
const showsSlowest = 3 * time.Second

// ShowPort has a port seen, and waits until its picture is the one that comes.
func (d *channel) ShowPort(ctx context.Context, port int) error {
	p := d.o.Profile.Channel
	if port < 1 || port > p.Ports {
		return &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: fmt.Sprintf("%s has no port %d: it has %d", d.o.Name, port, p.Ports)}
	}
	if n, err := d.ShownPort(ctx); err == nil && n == port {
		return nil
	}
	if err := d.web.send(ctx, p.Show, blanks{"n": strconv.Itoa(port)}); err != nil {
		return err
	}
	if err := d.untilShown(ctx, port); err != nil {
		return err
	}
	// What it says comes before what it shows: until then the picture is that of another host.
	select {
	case <-ctx.Done():
		return d.web.err(context.Cause(ctx), sending.Unclear)
	case <-time.After(time.Duration(p.Takes)):
		return nil
	}
}

func (d *channel) untilShown(ctx context.Context, port int) error {
	ctx, cancel := context.WithTimeout(ctx, showsSlowest)
	defer cancel()
	shows := -1 // not known
	for {
		n, err := d.ShownPort(ctx)
		switch {
		case err == nil && n == port:
			return nil
		case err == nil:
			shows = n
		}
		select {
		case <-ctx.Done():
			if shows < 0 {
				return err
			}
			return &gear.Error{Kind: gear.Malformed, Outcome: sending.Unclear, Text: fmt.Sprintf("%s accepted to show port %d, and shows port %d", d.o.Name, port, shows)}
		case <-time.After(askShownEvery):
		}
	}
}

const askShownEvery = 100 * time.Millisecond
