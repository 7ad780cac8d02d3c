package store

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/core/estate"
)

// A Picture is what a screen showed.
type Picture struct {
	Device  estate.Key `db:"device"`
	Site    estate.Key `db:"site"`
	At      time.Time  `db:"at"`
	Why     string     `db:"why"` // it is kept
	Bytes   int        `db:"bytes"`
	Content []byte     `db:"content"` // a PNG; nil in a list
}

// SavePicture keeps a picture. One of the same moment stays as it was.
func (s *Store) SavePicture(ctx context.Context, p Picture) error {
	if len(p.Content) > MaxFile {
		return fmt.Errorf("a picture of %s: %d bytes are more than the %d that are kept", p.Device, len(p.Content), MaxFile)
	}
	return s.exec(ctx, `INSERT IGNORE INTO picture (device, at, site, why, content) VALUES (?, ?, ?, ?, ?)`, p.Device, p.At.UTC().Truncate(time.Millisecond), p.Site, p.Why, p.Content)
}

// Pictures lists those of a device in a time, without what they show, the newest first.
func (s *Store) Pictures(ctx context.Context, k estate.Key, from, to time.Time, limit int) (all []Picture, err error) {
	err = s.db.SelectContext(ctx, &all, `
		SELECT device, site, at, why, LENGTH(content) AS bytes FROM picture
		WHERE device = ? AND at >= ? AND at <= ? ORDER BY at DESC LIMIT ?`, k, from.UTC(), to.UTC(), limit)
	return all, sorted(err)
}

// Picture is the last one of a device up to a moment; ErrNotFound when there is none.
func (s *Store) Picture(ctx context.Context, k estate.Key, at time.Time) (Picture, error) {
	var p Picture
	err := s.db.GetContext(ctx, &p, `
		SELECT device, site, at, why, LENGTH(content) AS bytes, content FROM picture
		WHERE device = ? AND at <= ? ORDER BY at DESC LIMIT 1`, k, at.UTC())
	return p, sorted(err)
}

// DropPictures drops of those of a site the oldest that are more than so many bytes.
func (s *Store) DropPictures(ctx context.Context, site estate.Key, most int) error {
	return s.dropAbove(ctx, "picture", "site", "at", site, most)
}
