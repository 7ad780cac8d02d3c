package store

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/core/estate"
)

// A File is kept beside a record: what was on a line, or on a screen.
type File struct {
	ID      string     `db:"id"`
	Site    estate.Key `db:"site"`
	Of      string     `db:"of"`   // the operation that it belongs to
	Type    string     `db:"type"` // its media type
	At      time.Time  `db:"at"`
	Content []byte     `db:"content"`
}

// MaxFile is how long a file may be: a picture of a screen, with room to spare.
const MaxFile = 4 << 20

// SaveFile keeps a file. One that is kept already stays as it was.
func (s *Store) SaveFile(ctx context.Context, f File) error {
	if len(f.Content) > MaxFile {
		return fmt.Errorf("file %s: %d bytes are more than the %d that are kept", f.ID, len(f.Content), MaxFile)
	}
	return s.exec(ctx, `INSERT IGNORE INTO file (id, site, of, type, at, content) VALUES (?, ?, ?, ?, ?, ?)`, f.ID, f.Site, f.Of, f.Type, f.At, f.Content)
}

// File finds a file of an operation; ErrNotFound when it is not kept, or not any more.
func (s *Store) File(ctx context.Context, of, id string) (File, error) {
	var f File
	err := s.db.GetContext(ctx, &f, `SELECT id, site, of, type, at, content FROM file WHERE id = ? AND of = ?`, id, of)
	return f, sorted(err)
}
