package store

import (
	"context"
	"database/sql"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/ladder"
	"plumbbob/internal/core/routine"
)

// A LadderRow is a ladder as somebody has written it. Unless it is armed it only says what it would do.
type LadderRow struct {
	Name    string       `db:"name"`
	Text    string       `db:"text"`
	SetAt   time.Time    `db:"set_at"`
	SetBy   string       `db:"set_by"`
	ArmedAt sql.NullTime `db:"armed_at"`
	ArmedBy string       `db:"armed_by"`
	ResetAt sql.NullTime `db:"reset_at"` // when somebody has had it go on
}

// SetLadders adds ladders, or replaces those of the same names: none of them is armed after that.
func (s *Store) SetLadders(ctx context.Context, all []LadderRow, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		for _, r := range all {
			if _, err := tx.ExecContext(ctx, `
				INSERT INTO ladder (name, text, set_at, set_by) VALUES (?, ?, ?, ?)
				ON DUPLICATE KEY UPDATE text = VALUES(text), set_at = VALUES(set_at), set_by = VALUES(set_by), armed_at = NULL, armed_by = ''`,
				r.Name, r.Text, r.SetAt, r.SetBy); err != nil {
				return err
			}
		}
		return nil
	})
}

// ArmLadder has a ladder act from a moment on, or, at zero, only say what it would do. ErrConflict:
// there is none.
func (s *Store) ArmLadder(ctx context.Context, name string, at time.Time, by string, entries ...Entry) error {
	when := sql.NullTime{Time: at, Valid: !at.IsZero()}
	return s.changeBy(ctx, entries, `UPDATE ladder SET armed_at = ?, armed_by = ? WHERE name = ?`, when, by, name)
}

// RemoveLadder forgets one; what it did stays on record, and counts. ErrConflict: there is none.
func (s *Store) RemoveLadder(ctx context.Context, name string, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM ladder_hold WHERE ladder = ?`, name); err != nil {
			return err
		}
		return changedOne(tx.ExecContext(ctx, `DELETE FROM ladder WHERE name = ?`, name))
	})
}

// Ladders lists all of them.
func (s *Store) Ladders(ctx context.Context) ([]LadderRow, error) {
	var out []LadderRow
	err := s.db.SelectContext(ctx, &out, `SELECT name, text, set_at, set_by, armed_at, armed_by, reset_at FROM ladder ORDER BY name`)
	return out, sorted(err)
}

// AddAct records that a ladder may act, before it does. One that is there already stays.
func (s *Store) AddAct(ctx context.Context, id string, a ladder.Act) error {
	feeds := make([]string, len(a.Feeds))
	for i, f := range a.Feeds {
		feeds[i] = string(f)
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, `INSERT IGNORE INTO ladder_act (id, ladder, device, site, at, climb, feeds) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			id, a.Ladder, a.Device, a.Site, a.At, a.Climb, cut(strings.Join(feeds, " "), longestFeeds))
		return err
	})
}

const longestFeeds = 1000

// Acts lists what ladders were let do since a moment, but for one of them by its id.
func (s *Store) Acts(ctx context.Context, since time.Time, but string) ([]ladder.Act, error) {
	var rows []struct {
		Ladder string    `db:"ladder"`
		Device string    `db:"device"`
		Site   string    `db:"site"`
		At     time.Time `db:"at"`
		Climb  string    `db:"climb"`
		Feeds  string    `db:"feeds"`
	}
	if err := s.db.SelectContext(ctx, &rows, `SELECT ladder, device, site, at, climb, feeds FROM ladder_act WHERE at >= ? AND id <> ? ORDER BY at`, since, but); err != nil {
		return nil, sorted(err)
	}
	out := make([]ladder.Act, len(rows))
	for i, r := range rows {
		out[i] = ladder.Act{Ladder: r.Ladder, Device: estate.Key(r.Device), Site: estate.Key(r.Site), At: r.At, Climb: r.Climb}
		for f := range strings.FieldsSeq(r.Feeds) {
			out[i].Feeds = append(out[i].Feeds, estate.Key(f))
		}
	}
	return out, nil
}

// A Hold is a device at which a ladder is at its end.
type Hold struct {
	Ladder string     `db:"ladder"`
	Device estate.Key `db:"device"`
	At     time.Time  `db:"at"`
	Why    string     `db:"why"`
}

// Holds lists all of them.
func (s *Store) Holds(ctx context.Context) ([]Hold, error) {
	var out []Hold
	err := s.db.SelectContext(ctx, &out, `SELECT ladder, device, at, why FROM ladder_hold ORDER BY ladder, device`)
	return out, sorted(err)
}

// ResetHold has a ladder help a device again, also one that has hung all the time, or, without a device,
// has it wake. ErrConflict: it was not at its end there.
func (s *Store) ResetHold(ctx context.Context, name string, device estate.Key, now time.Time, entries ...Entry) error {
	return s.change(ctx, entries, func(tx *sqlx.Tx) error {
		if err := changedOne(tx.ExecContext(ctx, `DELETE FROM ladder_hold WHERE ladder = ? AND device = ?`, name, device)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `UPDATE ladder SET reset_at = ? WHERE name = ?`, now, name)
		return err
	})
}

// EndClimb records the end of a climb, and, with why, that its ladder is at its end at a device.
func (s *Store) EndClimb(ctx context.Context, r *routine.Run, device estate.Key, why string, entry Entry) error {
	return s.endRun(ctx, r, func(tx *sqlx.Tx) error {
		if why == "" {
			return nil
		}
		_, err := tx.ExecContext(ctx, `REPLACE INTO ladder_hold (ladder, device, at, why) VALUES (?, ?, ?, ?)`, r.Routine, device, r.Ended, cut(why, longestWhy))
		return err
	}, entry)
}

const longestWhy = 1000
