package store

import (
	"context"
	"time"
)

// Sleep has the server take its time.
func (s *Store) Sleep(ctx context.Context, d time.Duration) error {
	var zero int
	return s.db.GetContext(ctx, &zero, `SELECT SLEEP(?)`, d.Seconds())
}

// Migrations are the files that bring the tables up to date.
var Migrations = migrations
