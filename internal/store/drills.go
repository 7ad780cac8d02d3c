package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
)

// A Tried is the last time that a way to rescue a device was tried, by a drill or by an operation.
type Tried struct {
	Device estate.Key      `db:"device"`
	Means  operation.Means `db:"means"`
	At     time.Time       `db:"at"`
	OK     bool            `db:"ok"`
	Why    string          `db:"why"` // it did not work
	Who    string          `db:"who"`
}

const longestDrillWhy = 1000

// SaveDrills records what a drill has found.
func (s *Store) SaveDrills(ctx context.Context, all []Tried, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		for _, d := range all {
			d.Why = cut(d.Why, longestDrillWhy)
			if _, err := tx.NamedExecContext(ctx, `REPLACE INTO drill (device, means, at, ok, why, who) VALUES (:device, :means, :at, :ok, :why, :who)`, d); err != nil {
				return err
			}
		}
		return nil
	})
}

// Drills lists the last drill of each way.
func (s *Store) Drills(ctx context.Context) ([]Tried, error) {
	var out []Tried
	err := s.db.SelectContext(ctx, &out, `SELECT device, means, at, ok, why, who FROM drill`)
	return out, sorted(err)
}

// Used lists the last operation since a moment that was done by each way.
func (s *Store) Used(ctx context.Context, since time.Time) ([]Tried, error) {
	var out []Tried
	err := s.db.SelectContext(ctx, &out, `
		SELECT device, COALESCE(NULLIF(JSON_VALUE(doc, '$.means'), ''), 'outlet') AS means, MAX(ended_at) AS at, TRUE AS ok, '' AS why, '' AS who
		FROM operation WHERE state = ? AND asked_at > ? AND ended_at IS NOT NULL GROUP BY 1, 2`, operation.Done, since)
	return out, sorted(err)
}
