package keep

import (
	"context"
	"errors"
	"time"

	"plumbbob/internal/store"
)

// What is usual at an hour is worked out from so many days, and looked up again within the
// hour.
const (
	usualOver  = 21 * 24 * time.Hour
	usualEvery = 10 * time.Minute
)

// keepUsual keeps what devices usually draw at this hour, beside whatever else goes on.
func (k *Keeper) keepUsual(ctx context.Context) {
	known := -1
	for {
		now := time.Now().UTC()
		if now.Hour() != known {
			usual, err := k.store.UsualAt(ctx, DrawSeries, now.Hour(), now.Add(-usualOver))
			switch {
			case err == nil:
				known = now.Hour()
				k.mu.Lock()
				k.evidence.TakeUsual(usual)
				k.mu.Unlock()
			case ctx.Err() == nil && !errors.Is(err, store.ErrAway):
				k.log.Warn("what devices usually draw at this hour cannot be read", "because", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(usualEvery):
		}
	}
}
