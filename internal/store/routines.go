package store

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/routine"
)

// A RoutineRow is a routine as somebody has written it, and how far it was dealt with.
type RoutineRow struct {
	Name  string       `db:"name"`
	Text  string       `db:"text"`
	Off   bool         `db:"off"`
	SetAt time.Time    `db:"set_at"`
	SetBy string       `db:"set_by"`
	Dealt time.Time    `db:"dealt_at"` // up to then its times were dealt with
	Held  sql.NullBool `db:"held"`     // whether its condition held when it was last acted upon
}

// SetRoutines adds routines, or replaces those of the same names: from now on their times count, and
// their conditions are seen anew.
func (s *Store) SetRoutines(ctx context.Context, all []RoutineRow, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		for _, r := range all {
			if _, err := tx.ExecContext(ctx, `
				INSERT INTO routine (name, text, off, set_at, set_by, dealt_at) VALUES (?, ?, ?, ?, ?, ?)
				ON DUPLICATE KEY UPDATE text = VALUES(text), off = VALUES(off), set_at = VALUES(set_at), set_by = VALUES(set_by), dealt_at = VALUES(dealt_at), held = NULL`,
				r.Name, r.Text, r.Off, r.SetAt, r.SetBy, r.SetAt); err != nil {
				return err
			}
		}
		return nil
	})
}

// SwitchRoutine has one begin by itself, or by people alone. ErrConflict: there is none.
func (s *Store) SwitchRoutine(ctx context.Context, name string, off bool, now time.Time, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		// What came while it was off is not made up for.
		return changedOne(tx.ExecContext(ctx, `UPDATE routine SET off = ?, dealt_at = ?, held = NULL WHERE name = ?`, off, now, name))
	})
}

// RemoveRoutine forgets one; what it did stays on record. ErrConflict: there is none.
func (s *Store) RemoveRoutine(ctx context.Context, name string, entries ...Entry) error {
	return s.changeBy(ctx, entries, `DELETE FROM routine WHERE name = ?`, name)
}

// Routines lists all of them.
func (s *Store) Routines(ctx context.Context) ([]RoutineRow, error) {
	var out []RoutineRow
	err := s.db.SelectContext(ctx, &out, `SELECT name, text, off, set_at, set_by, dealt_at, held FROM routine ORDER BY name`)
	return out, sorted(err)
}

// Dealt is how far a routine has been dealt with. What is nil stays as it was.
type Dealt struct {
	Name string
	At   *time.Time
	Held *bool
}

func (d Dealt) record(ctx context.Context, tx *sqlx.Tx) error {
	if d.At == nil && d.Held == nil {
		return nil
	}
	_, err := tx.ExecContext(ctx, `UPDATE routine SET dealt_at = COALESCE(?, dealt_at), held = COALESCE(?, held) WHERE name = ?`, d.At, d.Held, d.Name)
	return err
}

// Deal records how far a routine was dealt with when nothing was begun.
func (s *Store) Deal(ctx context.Context, d Dealt, entries ...Entry) error {
	return s.step(ctx, func(tx *sqlx.Tx) error {
		if err := d.record(ctx, tx); err != nil {
			return err
		}
		for _, e := range entries {
			if err := insertEntry(ctx, tx, e); err != nil {
				return err
			}
		}
		return nil
	})
}

var runForm = form[routine.Run]{"run of a routine", routine.Version, nil}

// CreateRun records that a routine begins, or that it was missed, and what that deals with. ErrConflict: it has begun before.
func (s *Store) CreateRun(ctx context.Context, r *routine.Run, d Dealt, entry Entry) error {
	doc, err := runForm.write(r.ID, r)
	if err != nil {
		return err
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		ended := sql.NullTime{Time: r.Ended, Valid: r.Over()}
		if _, err := tx.ExecContext(ctx, `INSERT INTO routine_run (id, routine, state, began_at, ended_at, doc) VALUES (?, ?, ?, ?, ?, ?)`, r.ID, r.Routine, r.State, r.Began, ended, doc); err != nil {
			return err
		}
		if err := d.record(ctx, tx); err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

// SaveRun records how far a run has come. An ended one does not change any more.
func (s *Store) SaveRun(ctx context.Context, r *routine.Run) error {
	doc, err := runForm.write(r.ID, r)
	if err != nil {
		return err
	}
	return s.stepBy(ctx, `UPDATE routine_run SET doc = ?, state = ? WHERE id = ? AND ended_at IS NULL`, doc, r.State, r.ID)
}

// EndRun records the end of a run. ErrConflict: that has been done before.
func (s *Store) EndRun(ctx context.Context, r *routine.Run, entry Entry) error {
	return s.endRun(ctx, r, func(*sqlx.Tx) error { return nil }, entry)
}

func (s *Store) endRun(ctx context.Context, r *routine.Run, also func(*sqlx.Tx) error, entry Entry) error {
	doc, err := runForm.write(r.ID, r)
	if err != nil {
		return err
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		if err := changedOne(tx.ExecContext(ctx, `UPDATE routine_run SET doc = ?, state = ?, ended_at = ? WHERE id = ? AND ended_at IS NULL`, doc, r.State, r.Ended, r.ID)); err != nil {
			return err
		}
		if err := also(tx); err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

// RunFilter narrows a list of runs.
type RunFilter struct {
	Routine string
	Unended bool
	Limit   int
}

// Runs lists runs, the newest first.
func (s *Store) Runs(ctx context.Context, f RunFilter) ([]*routine.Run, error) {
	out, _, err := list(ctx, s, runForm, `
		SELECT id, '' AS device, doc FROM routine_run
		WHERE (? = '' OR routine = ?) AND (? = 0 OR ended_at IS NULL)
		ORDER BY began_at DESC, id DESC LIMIT ?`, f.Routine, f.Routine, f.Unended, f.Limit)
	return out, err
}

// Run finds one run.
func (s *Store) Run(ctx context.Context, id string) (*routine.Run, error) {
	return one(ctx, s, runForm, `SELECT id, '' AS device, doc FROM routine_run WHERE id = ?`, id)
}
