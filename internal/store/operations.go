package store

import (
	"context"
	"database/sql"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

// CreateOperation records a new operation and claims its outlets. ErrConflict
// means that an operation is running on one of them.
func (s *Store) CreateOperation(ctx context.Context, o *operation.Operation, entry Entry) error {
	doc, err := operationForm.write(o.ID, o)
	if err != nil {
		return err
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		for _, end := range o.Claims() {
			if _, err := tx.ExecContext(ctx, `INSERT INTO claim (outlet, operation_id, site) VALUES (?, ?, ?)`, end.String(), o.ID, o.Site); err != nil {
				return err
			}
		}
		_, err := tx.ExecContext(ctx, `
			INSERT INTO operation (id, site, device, kind, state, who, asked_at, doc)
			VALUES (?, ?, ?, ?, ?, ?, ?, ?)`, o.ID, o.Site, o.Device, o.Kind, o.State, o.By, o.Asked, doc)
		if err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

// SaveOperation records how far an operation has come. An ended one does not
// change any more, so that a late write from a file cannot undo its end.
func (s *Store) SaveOperation(ctx context.Context, o *operation.Operation) error {
	doc, err := operationForm.write(o.ID, o)
	if err != nil {
		return err
	}
	return s.stepBy(ctx, `UPDATE operation SET doc = ? WHERE id = ? AND ended_at IS NULL`, doc, o.ID)
}

// EndOperation records the end of an operation, lets go of its outlets, and
// writes the journal, all at once. ErrConflict: that has been done before.
func (s *Store) EndOperation(ctx context.Context, o *operation.Operation, entry Entry) error {
	doc, err := operationForm.write(o.ID, o)
	if err != nil {
		return err
	}
	var took *int64
	if d := o.CameBackIn(); d > 0 && o.State == operation.Done {
		ms := d.Milliseconds()
		took = &ms
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		err := changedOne(tx.ExecContext(ctx, `
			UPDATE operation SET state = ?, ended_at = ?, took_ms = ?, doc = ?
			WHERE id = ? AND ended_at IS NULL`, o.State, o.Ended, took, doc, o.ID))
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM claim WHERE operation_id = ?`, o.ID); err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

// OperationFilter narrows a list of operations.
type OperationFilter struct {
	Device estate.Key
	State  operation.State
	Before string // only what was asked for before this one
	Limit  int
}

var operationForm = form[operation.Operation]{"operation", operation.Version, func(o *operation.Operation, device estate.Key) { o.Device = device }}

// Operations lists operations, the newest first.
func (s *Store) Operations(ctx context.Context, f OperationFilter) ([]*operation.Operation, error) {
	ops, _, err := list(ctx, s, operationForm, `
		SELECT id, device, doc FROM operation
		WHERE (? = '' OR device = ?) AND (? = '' OR state = ?)
			AND (? = '' OR (asked_at, id) < (SELECT asked_at, id FROM operation WHERE id = ?))
		ORDER BY asked_at DESC, id DESC LIMIT ?`, f.Device, f.Device, f.State, f.State, f.Before, f.Before, f.Limit)
	return ops, err
}

// Unfinished lists the operations that have not ended, and those of which that
// cannot be read.
func (s *Store) Unfinished(ctx context.Context) ([]*operation.Operation, []*UnreadableError, error) {
	return list(ctx, s, operationForm, `SELECT id, device, doc FROM operation WHERE ended_at IS NULL AND state = ? ORDER BY asked_at, id`, operation.Running)
}

// setAsideState is that of an operation that cannot be read any more.
const setAsideState = "set-aside"

// SetAside ends an operation that cannot be read, so that others can switch what it
// held, and says so in the journal. Its document stays as it is.
func (s *Store) SetAside(ctx context.Context, id string, entry Entry) error {
	return s.step(ctx, func(tx *sqlx.Tx) error {
		err := changedOne(tx.ExecContext(ctx, `UPDATE operation SET state = ?, ended_at = UTC_TIMESTAMP(3) WHERE id = ? AND ended_at IS NULL`, setAsideState, id))
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM claim WHERE operation_id = ?`, id); err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

// Operation finds one operation.
func (s *Store) Operation(ctx context.Context, id string) (*operation.Operation, error) {
	return one(ctx, s, operationForm, `SELECT id, device, doc FROM operation WHERE id = ?`, id)
}

// UsualTimes returns how long each device took to come back in the last half year.
func (s *Store) UsualTimes(ctx context.Context) (map[estate.Key]operation.Usual, error) {
	var rows []struct {
		Device estate.Key `db:"device"`
		Min    int64      `db:"lo"`
		Max    int64      `db:"hi"`
		N      int        `db:"n"`
	}
	err := s.db.SelectContext(ctx, &rows, `
		SELECT device, MIN(took_ms) AS lo, MAX(took_ms) AS hi, COUNT(*) AS n FROM operation
		WHERE took_ms IS NOT NULL AND asked_at > UTC_TIMESTAMP() - INTERVAL 180 DAY GROUP BY device`)
	out := make(map[estate.Key]operation.Usual, len(rows))
	for _, r := range rows {
		out[r.Device] = operation.Usual{Min: time.Duration(r.Min) * time.Millisecond, Max: time.Duration(r.Max) * time.Millisecond, N: r.N}
	}
	return out, sorted(err)
}

// Usual returns how long a device took to come back the last times.
func (s *Store) Usual(ctx context.Context, device estate.Key) (operation.Usual, error) {
	var row struct {
		Min sql.NullInt64 `db:"lo"`
		Max sql.NullInt64 `db:"hi"`
		N   int           `db:"n"`
	}
	err := s.db.GetContext(ctx, &row, `
		SELECT MIN(took_ms) AS lo, MAX(took_ms) AS hi, COUNT(*) AS n FROM (
			SELECT took_ms FROM operation
			WHERE device = ? AND took_ms IS NOT NULL ORDER BY asked_at DESC LIMIT 10) AS recent`, device)
	return operation.Usual{
		Min: time.Duration(row.Min.Int64) * time.Millisecond,
		Max: time.Duration(row.Max.Int64) * time.Millisecond,
		N:   row.N,
	}, sorted(err)
}
