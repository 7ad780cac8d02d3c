package store

import (
	"context"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/wiring"
)

// CreateCheck records a wiring check that was asked for.
func (s *Store) CreateCheck(ctx context.Context, c *wiring.Check, entry Entry) error {
	return s.step(ctx, func(tx *sqlx.Tx) error {
		doc, err := checkForm.write(c.ID, c)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO wiring_check (id, site, who, began_at, doc) VALUES (?, ?, ?, ?, ?)`, c.ID, c.Site, c.By.By(), c.Began, doc); err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

// SaveCheck records how far a check has come. An ended one does not change any more.
func (s *Store) SaveCheck(ctx context.Context, c *wiring.Check) error {
	doc, err := checkForm.write(c.ID, c)
	if err != nil {
		return err
	}
	return s.stepBy(ctx, `UPDATE wiring_check SET doc = ? WHERE id = ? AND ended_at IS NULL`, doc, c.ID)
}

// EndCheck records the end of a check. ErrConflict: that has been done before.
func (s *Store) EndCheck(ctx context.Context, c *wiring.Check, entry Entry) error {
	doc, err := checkForm.write(c.ID, c)
	if err != nil {
		return err
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		if err := changedOne(tx.ExecContext(ctx, `UPDATE wiring_check SET doc = ?, ended_at = ? WHERE id = ? AND ended_at IS NULL`, doc, c.Ended, c.ID)); err != nil {
			return err
		}
		return insertEntry(ctx, tx, entry)
	})
}

var checkForm = form[wiring.Check]{"wiring check", wiring.CheckVersion, nil}

// Check finds one wiring check.
func (s *Store) Check(ctx context.Context, id string) (*wiring.Check, error) {
	return one(ctx, s, checkForm, `SELECT id, '' AS device, doc FROM wiring_check WHERE id = ?`, id)
}

// NewestCheck finds the newest check of a site; ErrNotFound when there was none.
func (s *Store) NewestCheck(ctx context.Context, site estate.Key) (*wiring.Check, error) {
	return one(ctx, s, checkForm, `SELECT id, '' AS device, doc FROM wiring_check WHERE site = ? ORDER BY began_at DESC LIMIT 1`, site)
}

// UnendedChecks lists the checks that have not ended.
func (s *Store) UnendedChecks(ctx context.Context) ([]*wiring.Check, error) {
	out, _, err := list(ctx, s, checkForm, `SELECT id, '' AS device, doc FROM wiring_check WHERE ended_at IS NULL ORDER BY began_at, id`)
	return out, err
}
