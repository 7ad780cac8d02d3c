package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// A ChannelRow is a way by which people are told, as somebody has set it.
type ChannelRow struct {
	Name  string    `db:"name"`
	Kind  string    `db:"kind"`
	Doc   string    `db:"doc"` // its settings, in JSON
	SetAt time.Time `db:"set_at"`
	SetBy string    `db:"set_by"`
}

// SetChannel adds or replaces a channel.
func (s *Store) SetChannel(ctx context.Context, c ChannelRow, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			INSERT INTO channel (name, kind, doc, set_at, set_by) VALUES (?, ?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE kind = VALUES(kind), doc = VALUES(doc), set_at = VALUES(set_at), set_by = VALUES(set_by)`,
			c.Name, c.Kind, c.Doc, c.SetAt, c.SetBy)
		return err
	})
}

// RemoveChannel forgets a channel. ErrConflict means that there was none.
func (s *Store) RemoveChannel(ctx context.Context, name string, entries ...Entry) error {
	return s.changeBy(ctx, entries, `DELETE FROM channel WHERE name = ?`, name)
}

// Channels lists all of them.
func (s *Store) Channels(ctx context.Context) ([]ChannelRow, error) {
	var out []ChannelRow
	err := s.db.SelectContext(ctx, &out, `SELECT name, kind, doc, set_at, set_by FROM channel ORDER BY name`)
	return out, sorted(err)
}

// A TellingVersion is who is told of what, as somebody has written it.
type TellingVersion struct {
	ID   int64     `db:"id"`
	At   time.Time `db:"at"`
	Who  string    `db:"who"`
	Text string    `db:"text"`
}

// SetTelling adds a version, which counts from then on.
func (s *Store) SetTelling(ctx context.Context, v TellingVersion, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO telling (at, who, text) VALUES (?, ?, ?)`, v.At, v.Who, v.Text)
		return err
	})
}

// Telling is the newest version. ErrNotFound means that there is none.
func (s *Store) Telling(ctx context.Context) (v TellingVersion, err error) {
	err = s.db.GetContext(ctx, &v, `SELECT id, at, who, text FROM telling ORDER BY id DESC LIMIT 1`)
	return v, sorted(err)
}
