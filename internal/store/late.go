package store

import (
	"context"
	"errors"
	"time"

	"github.com/go-sql-driver/mysql"
)

// lateError: the database has not been seen yet.
type lateError struct{}

func (lateError) Error() string   { return "the database has not answered since the service started" }
func (lateError) Timeout() bool   { return false }
func (lateError) Temporary() bool { return true }

// Late returns a store for a database that is away. Whatever is asked of it is ErrAway
// until Bring has found the database, and brought its tables up to date.
func Late(c *mysql.Config) (*Store, error) {
	s, err := Prepare(c)
	if err == nil {
		s.breaker.late.Store(true)
	}
	return s, err
}

const bringAgain = time.Second

// Bring tries until the database has answered, and its tables are up to date, or ctx
// ends. failed is told why it is tried again, which may be more than its being away.
func (s *Store) Bring(ctx context.Context, c *mysql.Config, failed func(error)) error {
	for {
		beside, err := Open(ctx, c)
		if err == nil {
			err = errors.Join(beside.Misfit, beside.Close())
		}
		if misfit := (*MisfitError)(nil); err == nil || errors.As(err, &misfit) && beside != nil {
			s.breaker.late.Store(false)
			return err
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		failed(err)
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(bringAgain):
		}
	}
}

// A KnownLogIn is a log-in as it is kept outside the database.
type KnownLogIn struct {
	Token TokenHash `db:"token_hash"`
	Session
}

// LogIns are those that last, the newest used first.
func (s *Store) LogIns(ctx context.Context, most int) ([]KnownLogIn, error) {
	var out []KnownLogIn
	err := s.db.SelectContext(ctx, &out, `
		SELECT session.token_hash, session.account_id, account.name AS account, account.role, session.kind, session.name, session.expires_at
		FROM session JOIN account ON account.id = session.account_id
		WHERE `+alive+` ORDER BY session.used_at DESC LIMIT ?`, most)
	return out, sorted(err)
}
