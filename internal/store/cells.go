package store

import (
	"context"
	"errors"
	"time"

	"github.com/jmoiron/sqlx"
)

// A TaughtCell is a character as some screen draws it, as somebody has said.
type TaughtCell struct {
	Width  int       `db:"width"`
	Height int       `db:"height"`
	Bits   []byte    `db:"bits"`
	Char   rune      `db:"ch"`
	SetAt  time.Time `db:"set_at"`
	SetBy  string    `db:"set_by"`
}

// Teach adds cells, or replaces what they were said to be.
func (s *Store) Teach(ctx context.Context, all []TaughtCell, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		for _, c := range all {
			if _, err := tx.ExecContext(ctx, `
				INSERT INTO `+"`taught_cell`"+` (width, height, bits, ch, set_at, set_by) VALUES (?, ?, ?, ?, ?, ?)
				ON DUPLICATE KEY UPDATE ch = VALUES(ch), set_at = VALUES(set_at), set_by = VALUES(set_by)`,
				c.Width, c.Height, c.Bits, c.Char, c.SetAt, c.SetBy); err != nil {
				return err
			}
		}
		return nil
	})
}

// Forget forgets all cells of a size. ErrConflict means that there were none.
func (s *Store) Forget(ctx context.Context, width, height int, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, "DELETE FROM `taught_cell` WHERE width = ? AND height = ?", width, height)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return errors.Join(ErrConflict, err)
		}
		return nil
	})
}

// TaughtCells lists all of them.
func (s *Store) TaughtCells(ctx context.Context) ([]TaughtCell, error) {
	var out []TaughtCell
	err := s.db.SelectContext(ctx, &out, "SELECT width, height, bits, ch, set_at, set_by FROM `taught_cell` ORDER BY width, height, ch")
	return out, sorted(err)
}
