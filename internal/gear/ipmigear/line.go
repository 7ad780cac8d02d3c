package ipmigear

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/attach"
	"plumbbob/internal/wire/ipmi"
)

// lineWithin is how long it may take until a controller has given the line: its session is
// opened first.
const lineWithin = 30 * time.Second

// Line is the serial port of the host, over LAN. It has a session of its own, for as long as
// somebody is at it.
func (d *Driver) Line() *attach.Line { return d.line }

func (d *Driver) serial(ctx context.Context, address string) (attach.Wire, error) {
	if d.o.Legacy {
		return nil, fmt.Errorf("%s speaks IPMI 1.5 only, which has no serial over LAN", d.o.Name)
	}
	s, err := ipmi.OpenSerial(ctx, d.options(address))
	if err != nil {
		return nil, err
	}
	return s, nil
}
