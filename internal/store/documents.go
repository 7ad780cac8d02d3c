package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
)

// A Document is the newest of one kind of thing that is known about a device.
type Document struct {
	Device estate.Key `db:"device"`
	Kind   string     `db:"kind"`
	Site   estate.Key `db:"site"`
	At     time.Time  `db:"at"`
	Text   []byte     `db:"text"`
}

// SetDocuments replaces documents by newer ones.
func (s *Store) SetDocuments(ctx context.Context, docs []Document) error {
	for _, d := range docs {
		err := s.exec(ctx, `
			INSERT INTO document (device, kind, site, at, text) VALUES (?, ?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE site = VALUES(site), at = VALUES(at), text = VALUES(text)`, d.Device, d.Kind, d.Site, d.At, d.Text)
		if err != nil {
			return err
		}
	}
	return nil
}

// Documents returns those of some kinds, or all of them when none is named.
func (s *Store) Documents(ctx context.Context, kinds ...string) ([]Document, error) {
	query, args := `SELECT device, kind, site, at, text FROM document`, []any(nil)
	if len(kinds) > 0 {
		var err error
		if query, args, err = sqlx.In(query+` WHERE kind IN (?)`, kinds); err != nil {
			return nil, err
		}
	}
	var docs []Document
	err := s.db.SelectContext(ctx, &docs, query, args...)
	return docs, sorted(err)
}
