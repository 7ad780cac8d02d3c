package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"
)

// A SequenceText is a sequence as somebody has given it.
type SequenceText struct {
	Name   string    `db:"name"`
	Text   string    `db:"text"`
	Layout string    `db:"layout"` // of the keyboard that it is typed on
	SetAt  time.Time `db:"set_at"`
	SetBy  string    `db:"set_by"`
}

// SetSequence adds or replaces a sequence.
func (s *Store) SetSequence(ctx context.Context, q SequenceText, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			INSERT INTO `+"`sequence`"+` (name, text, layout, set_at, set_by) VALUES (?, ?, ?, ?, ?)
			ON DUPLICATE KEY UPDATE text = VALUES(text), layout = VALUES(layout), set_at = VALUES(set_at), set_by = VALUES(set_by)`,
			q.Name, q.Text, q.Layout, q.SetAt, q.SetBy)
		return err
	})
}

// RemoveSequence forgets a sequence. ErrConflict means that there was none.
func (s *Store) RemoveSequence(ctx context.Context, name string, entries ...Entry) error {
	return s.changeBy(ctx, entries, "DELETE FROM `sequence` WHERE name = ?", name)
}

// Sequences lists all of them.
func (s *Store) Sequences(ctx context.Context) ([]SequenceText, error) {
	var out []SequenceText
	err := s.db.SelectContext(ctx, &out, "SELECT name, text, layout, set_at, set_by FROM `sequence` ORDER BY name")
	return out, sorted(err)
}
