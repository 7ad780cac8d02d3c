package lab

import (
	"context"
	"time"

	"plumbbob/internal/core/estate"
)

// The link of the boat, at sea.
const (
	seaLink    = estate.Key("kittlewren-sat")
	seaDelay   = 350 * time.Millisecond // each way
	seaEvery   = 6 * time.Minute        // it drops,
	seaDropFor = 25 * time.Second       // and for so long
)

// sail has the boat's link be as such links are.
func (l *Lab) sail(ctx context.Context) error {
	if l.boxes[seaLink] == nil {
		return nil
	}
	if err := l.Delay(seaLink, seaDelay); err != nil {
		return err
	}
	for {
		for _, phase := range []struct {
			gone bool
			long time.Duration
		}{{false, seaEvery}, {true, seaDropFor}} {
			if err := l.on(seaLink, func(b *box) { b.hung = phase.gone }); err != nil {
				return err
			}
			select {
			case <-ctx.Done():
				return context.Cause(ctx)
			case <-time.After(phase.long):
			}
		}
	}
}
