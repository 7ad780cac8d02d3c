package linegear

import (
	"context"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// Dialler calls numbers by modems; an address is "NAME NUMBER".
type Dialler interface {
	Dial(ctx context.Context, address string) (attach.Wire, error)
	// Well says whether the modem can be used. It calls nobody.
	Well(ctx context.Context, address string) error
}

// A Phone is a line that is called by telephone, and only for somebody who waits for that:
// nothing is asked there by itself.
type Phone struct {
	address string
	by      Dialler
	line    *attach.Line
}

// dialWithin is how long a call may take, from the modem's being set up on.
const dialWithin = 2 * time.Minute

// OpenPhone prepares one.
func OpenPhone(addresses []string, by Dialler) *Phone {
	return &Phone{addresses[0], by, attach.New(attach.Options{Addresses: addresses, Timeout: dialWithin, Dial: by.Dial, Costs: true})}
}

// Line is what is called.
func (p *Phone) Line() *attach.Line { return p.line }

// Close hangs up.
func (p *Phone) Close() error { return p.line.Close() }

// Answer says whether the modem here answers; who is at the far end is not known by that.
func (p *Phone) Answer(ctx context.Context) error {
	if err := p.by.Well(ctx, p.address); err != nil {
		return &gear.Error{Kind: gear.Unreachable, Outcome: sending.NotSent, Text: err.Error(), Err: err}
	}
	return nil
}
