package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/journal"
)

// An ArchivedPart is a part of the journal that is in a file.
type ArchivedPart struct {
	journal.Ends
	File string    `db:"file"`
	At   time.Time `db:"at"`
}

// Archived returns the newest part that is in a file; its Last is 0 when there is none.
func (s *Store) Archived(ctx context.Context) (ArchivedPart, error) {
	a := ArchivedPart{Ends: journal.Ends{Hash: journal.First}}
	err := s.db.GetContext(ctx, &a, `SELECT first, last, prev, hash, file, at FROM journal_archive ORDER BY last DESC LIMIT 1`)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return a, sorted(err)
}

// Oldest returns the ends of the entries, at most so many, that were recorded before a
// time, are in no file yet, and have gone to every collector. Its Last is 0 when there
// are none.
func (s *Store) Oldest(ctx context.Context, before time.Time, most int) (journal.Ends, error) {
	a, err := s.Archived(ctx)
	if err != nil {
		return journal.Ends{}, err
	}
	var last int64
	err = s.db.GetContext(ctx, &last, `
		SELECT COALESCE(MAX(id), 0) FROM (
			SELECT id, recorded_at FROM journal WHERE id > ? AND id <= (SELECT COALESCE(MIN(id), 1 << 62) FROM journal_copy) ORDER BY id LIMIT ?
		) AS oldest WHERE recorded_at < ?`, a.Last, most, before.UTC())
	if err != nil || last == 0 {
		return journal.Ends{}, sorted(err)
	}
	return journal.Ends{First: a.Last + 1, Last: last, Prev: a.Hash}, nil
}

// Archive records that a part is in a file, with an entry of the journal about it, and
// then drops its entries. A part that is recorded counts as gone, also while it is being
// dropped.
func (s *Store) Archive(ctx context.Context, p ArchivedPart, entry Entry) error {
	err := s.change(ctx, []Entry{entry}, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT INTO journal_archive (first, last, prev, hash, file, at) VALUES (?, ?, ?, ?, ?, ?)`, p.First, p.Last, p.Prev, p.Hash, p.File, p.At.UTC())
		return err
	})
	if err != nil {
		return err
	}
	return s.DropArchived(ctx)
}

// DropArchived drops entries that are in files.
func (s *Store) DropArchived(ctx context.Context) error {
	a, err := s.Archived(ctx)
	if err != nil || a.Last == 0 {
		return err
	}
	for {
		r, err := s.db.ExecContext(ctx, fmt.Sprintf(`DELETE FROM journal WHERE id <= ? ORDER BY id LIMIT %d`, dropBatch), a.Last)
		if err != nil {
			return sorted(err)
		}
		if n, err := r.RowsAffected(); err != nil || n < dropBatch {
			return sorted(err)
		}
	}
}
