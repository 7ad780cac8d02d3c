package store

import (
	"context"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
)

// EstateVersion is one state of the estate file.
type EstateVersion struct {
	ID   int       `db:"id"`
	At   time.Time `db:"at"`
	Who  string    `db:"who"`
	Text string    `db:"text"`
}

// Estate returns the newest version; ErrNotFound when there is none yet.
func (s *Store) Estate(ctx context.Context) (EstateVersion, error) {
	var v EstateVersion
	err := s.db.GetContext(ctx, &v, `SELECT id, at, who, text FROM estate_version ORDER BY id DESC LIMIT 1`)
	return v, sorted(err)
}

// EstateVersions returns the newest versions, the newest first.
func (s *Store) EstateVersions(ctx context.Context, most int) ([]EstateVersion, error) {
	var vs []EstateVersion
	err := s.db.SelectContext(ctx, &vs, `SELECT id, at, who, text FROM estate_version ORDER BY id DESC LIMIT ?`, most)
	return vs, sorted(err)
}

// SaveEstate adds a version in place of version from (0: there was none), with
// the journal entry about it, and moves the history of renamed devices (from
// old key to new) along. ErrConflict means that another import came between.
func (s *Store) SaveEstate(ctx context.Context, from int, who, text string, renamed map[estate.Key]estate.Key, entry Entry) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		var newest int
		if err := tx.GetContext(ctx, &newest, `SELECT COALESCE(MAX(id), 0) FROM estate_version FOR UPDATE`); err != nil {
			return err
		}
		if newest != from {
			return ErrConflict
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO estate_version (at, who, text) VALUES (UTC_TIMESTAMP(3), ?, ?)`, who, text); err != nil {
			return err
		}
		for old, now := range renamed {
			for _, move := range []string{
				`UPDATE series SET device = ? WHERE device = ?`,
				`UPDATE operation SET device = ? WHERE device = ?`,
				`UPDATE incident SET device = ? WHERE device = ?`,
				`UPDATE parked SET device = ? WHERE device = ?`,
				`UPDATE verdict SET device = ? WHERE device = ?`,
				`UPDATE document SET device = ? WHERE device = ?`,
				`UPDATE discharge SET device = ? WHERE device = ?`,
				`UPDATE work_window SET device = ? WHERE device = ?`,
				`UPDATE setting SET device = ? WHERE device = ?`,
				`UPDATE line_part SET device = ? WHERE device = ?`,
				`UPDATE IGNORE lead_check SET device = ? WHERE device = ?`,
				`UPDATE line_event SET device = ? WHERE device = ?`,
				`UPDATE gear_message SET device = ? WHERE device = ?`,
				`UPDATE picture SET device = ? WHERE device = ?`,
			} {
				if _, err := tx.ExecContext(ctx, move, now, old); err != nil {
					return err
				}
			}
		}
		return insertEntry(ctx, tx, entry)
	})
}

// SealedSecret is a secret as it is kept.
type SealedSecret struct {
	Name   string    `db:"name"`
	Kind   string    `db:"kind"`
	Sealed []byte    `db:"sealed"`
	SetAt  time.Time `db:"set_at"`
	SetBy  string    `db:"set_by"`
}

// Secrets lists all secrets, sealed.
func (s *Store) Secrets(ctx context.Context) ([]SealedSecret, error) {
	var all []SealedSecret
	err := s.db.SelectContext(ctx, &all, `SELECT name, kind, sealed, set_at, set_by FROM secret ORDER BY name`)
	return all, sorted(err)
}

// Secret finds a sealed secret.
func (s *Store) Secret(ctx context.Context, name string) (SealedSecret, error) {
	var x SealedSecret
	err := s.db.GetContext(ctx, &x, `SELECT name, kind, sealed, set_at, set_by FROM secret WHERE name = ?`, name)
	return x, sorted(err)
}

// SetSecret adds or replaces a sealed secret.
func (s *Store) SetSecret(ctx context.Context, x SealedSecret, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `
			REPLACE INTO secret (name, kind, sealed, set_at, set_by)
			VALUES (?, ?, ?, UTC_TIMESTAMP(3), ?)`, x.Name, x.Kind, x.Sealed, x.SetBy)
		return err
	})
}

// RemoveSecret deletes a secret; ErrConflict when there is none.
func (s *Store) RemoveSecret(ctx context.Context, name string, entries ...Entry) error {
	return s.changeBy(ctx, entries, `DELETE FROM secret WHERE name = ?`, name)
}

// Parked is a device that somebody has switched off and wants off.
type Parked struct {
	Device estate.Key `db:"device"`
	Site   estate.Key `db:"site"`
	Who    string     `db:"who"`
	Why    string     `db:"why"`
	Since  time.Time  `db:"since"`
}

// AllParked lists the parked devices.
func (s *Store) AllParked(ctx context.Context) ([]Parked, error) {
	var all []Parked
	err := s.db.SelectContext(ctx, &all, `SELECT device, site, who, why, since FROM parked`)
	return all, sorted(err)
}

// Park records that a device is meant to be off.
func (s *Store) Park(ctx context.Context, p Parked) error {
	return s.exec(ctx, `REPLACE INTO parked (device, site, who, why, since) VALUES (?, ?, ?, ?, ?)`, p.Device, p.Site, p.Who, p.Why, p.Since)
}

// Unpark records that it is not, any more.
func (s *Store) Unpark(ctx context.Context, device estate.Key) error {
	return s.exec(ctx, `DELETE FROM parked WHERE device = ?`, device)
}

// StandingVerdict is how a device was, and since when.
type StandingVerdict struct {
	Device estate.Key `db:"device"`
	Site   estate.Key `db:"site"`
	State  string     `db:"state"`
	Since  time.Time  `db:"since"`
}

// Verdicts lists how the devices were when the service last knew.
func (s *Store) Verdicts(ctx context.Context) ([]StandingVerdict, error) {
	var all []StandingVerdict
	err := s.db.SelectContext(ctx, &all, `SELECT device, site, state, since FROM verdict`)
	return all, sorted(err)
}

// SetVerdicts records how devices are now.
func (s *Store) SetVerdicts(ctx context.Context, vs []StandingVerdict) error {
	if len(vs) == 0 {
		return nil
	}
	_, err := s.db.NamedExecContext(ctx, `REPLACE INTO verdict (device, site, state, since) VALUES (:device, :site, :state, :since)`, vs)
	return sorted(err)
}
