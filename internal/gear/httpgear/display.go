package httpgear

import (
	"context"
	"fmt"
	"slices"

	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// display is the part that pretends to be one.
type display struct{ *Driver }

var _ gear.Pretending = (*display)(nil)

// What is taken of a list of displays.
const (
	mostOffers  = 40
	longestName = 60
)

// Pretends reads which it is, and which it could be.
func (d *display) Pretends(ctx context.Context) (gear.Pretence, error) {
	p := d.o.Profile.Display
	visit := d.web.visit(ctx)
	is, known := visit.lookup(d.o.Profile, nil)(p.Is, 0)
	out := gear.Pretence{Is: is}
	if pg := visit.page(p.Offers.Page); pg != nil {
		found, _ := pointer(pg.doc, p.Offers.At)
		list, _ := found.([]any)
		for _, x := range list[:min(len(list), mostOffers)] {
			if name := text(x); name != "" && len(name) <= longestName {
				out.Offers = append(out.Offers, name)
			}
		}
	}
	switch {
	case visit.err != nil:
		return gear.Pretence{}, visit.err
	case !known || len(out.Offers) == 0:
		return gear.Pretence{}, &gear.Error{Kind: gear.Malformed, Outcome: sending.Refused, Text: fmt.Sprintf("%s does not say which display it pretends to be, or could: does profile %s fit it?", d.o.Name, d.o.Profile.Name)}
	}
	return out, nil
}

// Pretend has it be another one, of those that it offers.
func (d *display) Pretend(ctx context.Context, name string) error {
	now, err := d.Pretends(ctx)
	switch {
	case err != nil:
		return err
	case now.Is == name:
		return nil
	case !slices.Contains(now.Offers, name):
		return &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: fmt.Sprintf("%s does not offer %q: it can be %v", d.o.Name, name, now.Offers)}
	}
	if err := d.web.send(ctx, d.o.Profile.Display.Is.Set, blanks{"value": name}); err != nil {
		return err
	}
	if now, err = d.Pretends(ctx); err == nil && now.Is != name {
		return &gear.Error{Kind: gear.Malformed, Outcome: sending.Unclear, Text: fmt.Sprintf("%s accepted to pretend to be %s, and is %s", d.o.Name, name, now.Is)}
	}
	return err
}
