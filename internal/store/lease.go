package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/jmoiron/sqlx"
)

// leaseName is the lease of the whole estate. A site that has a service of its own
// has a lease of its own.
const leaseName = "estate"

// ErrFenced: another service has taken over, and this one may not go on.
var ErrFenced = errors.New("another service has taken over on this database")

// A HeldError says who holds the lease.
type HeldError struct {
	By    string
	Until time.Time // by the clock of the database
}

func (e *HeldError) Error() string {
	return fmt.Sprintf("%s acts on this database, until %s at the least", e.By, e.Until.Format("15:04:05"))
}

// TakeLease takes the lease for a time, or renews it, and returns its epoch, which
// counts the holders. Until it has run out by its own time nobody else takes it:
// then the error is a *HeldError. From then on every durable step has the epoch in
// its condition. dead begins the name of those that are known to have ended; empty: of none.
// vacant is for how long nobody held it before.
func (s *Store) TakeLease(ctx context.Context, holder, dead string, lasts time.Duration) (epoch int64, vacant time.Duration, err error) {
	err = s.within(ctx, func(tx *sqlx.Tx) error {
		var now struct {
			Holder string    `db:"holder"`
			Epoch  int64     `db:"epoch"`
			Until  time.Time `db:"until_at"`
			Over   bool      `db:"is_over"`
			Vacant int64     `db:"vacant"` // µs
		}
		err := tx.GetContext(ctx, &now, `SELECT holder, epoch, until_at, until_at < UTC_TIMESTAMP(3) AS is_over, TIMESTAMPDIFF(MICROSECOND, until_at, UTC_TIMESTAMP(3)) AS vacant FROM lease WHERE name = ? FOR UPDATE`, leaseName)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			epoch = 1
		case err != nil:
			return err
		case now.Holder == holder:
			epoch = now.Epoch
		case !now.Over && (dead == "" || !strings.HasPrefix(now.Holder, dead)):
			return &HeldError{now.Holder, now.Until}
		default:
			epoch, vacant = now.Epoch+1, max(0, time.Duration(now.Vacant)*time.Microsecond)
		}
		_, err = tx.ExecContext(ctx, `
			INSERT INTO lease (name, holder, epoch, until_at, renewals) VALUES (?, ?, ?, UTC_TIMESTAMP(3) + INTERVAL ? MICROSECOND, 1)
			ON DUPLICATE KEY UPDATE holder = VALUES(holder), epoch = VALUES(epoch), until_at = VALUES(until_at), renewals = renewals + 1`,
			leaseName, holder, epoch, lasts.Microseconds())
		return err
	})
	if err == nil {
		s.epoch.Store(epoch)
	}
	return epoch, vacant, err
}

// GiveLease lets go of the lease, so that another need not wait for its end.
func (s *Store) GiveLease(ctx context.Context, holder string) error {
	return s.exec(ctx, `UPDATE lease SET until_at = UTC_TIMESTAMP(3) - INTERVAL 1 SECOND WHERE name = ? AND holder = ?`, leaseName, holder)
}

// step is a transaction of a durable step: it fails with ErrFenced when another
// service holds the lease. With a database of its own a service has no epoch, and
// the lock on its data directory does the same.
func (s *Store) step(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	return s.within(ctx, func(tx *sqlx.Tx) error {
		if mine := s.epoch.Load(); mine != 0 {
			var epoch int64
			if err := tx.GetContext(ctx, &epoch, `SELECT epoch FROM lease WHERE name = ? LOCK IN SHARE MODE`, leaseName); err != nil {
				return err
			}
			if epoch != mine {
				return ErrFenced
			}
		}
		return f(tx)
	})
}

// stepBy is step by one statement, for which any number of changed rows is fine.
func (s *Store) stepBy(ctx context.Context, query string, args ...any) error {
	if s.epoch.Load() == 0 {
		return s.exec(ctx, query, args...)
	}
	return s.step(ctx, func(tx *sqlx.Tx) error {
		_, err := tx.ExecContext(ctx, query, args...)
		return err
	})
}
