package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
)

// AddDischarges keeps what became of UPSes on their batteries.
func (s *Store) AddDischarges(ctx context.Context, ds []power.Discharge, site func(estate.Key) estate.Key) error {
	for _, d := range ds {
		err := s.exec(ctx, `
			INSERT IGNORE INTO discharge (site, device, began_at, ended_at, watts, from_pc, to_pc)
			VALUES (?, ?, ?, ?, ?, ?, ?)`, site(d.Device), d.Device, d.Began, d.Ended, d.W, d.From, d.To)
		if err != nil {
			return fmt.Errorf("store a discharge of %s: %w", d.Device, err)
		}
	}
	return nil
}

// Discharges returns the newest of each UPS, oldest first.
func (s *Store) Discharges(ctx context.Context, most int) ([]power.Discharge, error) {
	var rows []struct {
		Device estate.Key `db:"device"`
		Began  time.Time  `db:"began_at"`
		Ended  time.Time  `db:"ended_at"`
		Watts  float64    `db:"watts"`
		From   float64    `db:"from_pc"`
		To     float64    `db:"to_pc"`
	}
	err := s.db.SelectContext(ctx, &rows, `
		SELECT device, began_at, ended_at, watts, from_pc, to_pc FROM (
			SELECT *, ROW_NUMBER() OVER (PARTITION BY device ORDER BY began_at DESC) AS n FROM discharge
		) AS numbered WHERE n <= ? ORDER BY began_at`, most)
	out := make([]power.Discharge, len(rows))
	for i, r := range rows {
		out[i] = power.Discharge{Device: r.Device, Began: r.Began, Ended: r.Ended, W: r.Watts, From: r.From, To: r.To}
	}
	return out, sorted(err)
}

// Profile is a profile that somebody has added.
type Profile struct {
	Name  string    `db:"name"`
	Text  string    `db:"text"`
	SetAt time.Time `db:"set_at"`
	SetBy string    `db:"set_by"`
}

// Profiles returns all that have been added.
func (s *Store) Profiles(ctx context.Context) ([]Profile, error) {
	var out []Profile
	err := s.db.SelectContext(ctx, &out, `SELECT name, text, set_at, set_by FROM profile ORDER BY name`)
	return out, sorted(err)
}

// SetProfile adds a profile, or replaces one.
func (s *Store) SetProfile(ctx context.Context, p Profile, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			INSERT INTO profile (name, text, set_at, set_by) VALUES (?, ?, UTC_TIMESTAMP(3), ?)
			ON DUPLICATE KEY UPDATE text = VALUES(text), set_at = VALUES(set_at), set_by = VALUES(set_by)`, p.Name, p.Text, p.SetBy)
		return err
	})
}

// RemoveProfile forgets a profile; ErrConflict when there is none.
func (s *Store) RemoveProfile(ctx context.Context, name string, entries ...Entry) error {
	return s.changeBy(ctx, entries, `DELETE FROM profile WHERE name = ?`, name)
}
