package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
)

var (
	// ErrNotFound: there is no such record.
	ErrNotFound = errors.New("not found")
	// ErrConflict: somebody else was first.
	ErrConflict = errors.New("somebody else was first")
	// ErrAway: the database does not answer, or takes nothing now. What was asked
	// may be tried again.
	ErrAway = errors.New("the database does not answer")
	// ErrRow: the database will not have one of the values: it is too long, out of
	// range, or not of its kind.
	ErrRow = errors.New("the database does not take a value")
)

// duplicateKey is ER_DUP_ENTRY.
const duplicateKey = 1062

// collided are errors after which the same transaction can be begun again at once:
// it was rolled back, because another came in between. On a Galera cluster a
// conflict of certification shows as a deadlock.
var collided = map[uint16]bool{
	1205: true, // ER_LOCK_WAIT_TIMEOUT
	1213: true, // ER_LOCK_DEADLOCK
	1020: true, // ER_CHECKREAD: the record has changed since it was read
	1412: true, // ER_TABLE_DEF_CHANGED
	1615: true, // ER_NEED_REPREPARE
}

// forNow are errors of a server that takes nothing at the moment: it is starting or
// stopping, not in sync with its cluster, full, or read-only because it is not the
// one to write to any more.
var forNow = map[uint16]bool{
	3:    true, // EE_WRITE: error writing a file
	28:   true, // ENOSPC, as the storage engine says it
	1021: true, // ER_DISK_FULL
	1026: true, // ER_ERROR_ON_WRITE
	1030: true, // ER_GET_ERRNO: got an error from the storage engine
	1040: true, // ER_CON_COUNT_ERROR
	1047: true, // ER_UNKNOWN_COM_ERROR: WSREP has not yet prepared this node
	1053: true, // ER_SERVER_SHUTDOWN
	1114: true, // ER_RECORD_FILE_FULL
	1129: true, // ER_HOST_IS_BLOCKED
	1203: true, // ER_TOO_MANY_USER_CONNECTIONS
	1226: true, // ER_USER_LIMIT_REACHED
	1290: true, // ER_OPTION_PREVENTS_STATEMENT: --read-only
	1317: true, // ER_QUERY_INTERRUPTED
	1792: true, // ER_CANT_EXECUTE_IN_READ_ONLY_TRANSACTION
	1836: true, // ER_READ_ONLY_MODE
	1927: true, // ER_CONNECTION_KILLED
	1969: true, // ER_STATEMENT_TIMEOUT
}

// sort makes the driver's errors ours.
func sorted(err error) error {
	var my *mysql.MySQLError
	var op net.Error
	switch {
	case err == nil:
		return nil
	case errors.Is(err, sql.ErrNoRows):
		return ErrNotFound
	case errors.As(err, &my):
		switch {
		case my.Number == duplicateKey:
			return ErrConflict
		case forNow[my.Number], collided[my.Number]:
			return fmt.Errorf("%w: %w", ErrAway, err)
		case my.SQLState[0] == '2' && (my.SQLState[1] == '2' || my.SQLState[1] == '3'): // data exception, integrity constraint
			return fmt.Errorf("%w: %w", ErrRow, err)
		}
		return err
	case errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, driver.ErrBadConn), errors.Is(err, sql.ErrConnDone), errors.Is(err, sql.ErrTxDone), errors.As(err, &op), errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%w: %w", ErrAway, err)
	}
	return err
}

// changedOne is for statements that must change exactly one row.
func changedOne(r sql.Result, err error) error {
	if err != nil {
		return sorted(err)
	}
	if n, err := r.RowsAffected(); err != nil || n != 1 {
		return errors.Join(ErrConflict, err)
	}
	return nil
}

// How often what has collided is tried again, and after how long at first.
const (
	tries    = 5
	tryAgain = 5 * time.Millisecond
)

// again runs f until it does not collide with somebody else's work.
func again(ctx context.Context, f func() error) error {
	for n, wait := 1, tryAgain; ; n, wait = n+1, 2*wait {
		err := f()
		var my *mysql.MySQLError
		if n == tries || !errors.As(err, &my) || !collided[my.Number] {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(wait):
		}
	}
}

// exec runs a statement for which any number of changed rows is fine.
func (s *Store) exec(ctx context.Context, query string, args ...any) error {
	return again(ctx, func() error {
		_, err := s.db.ExecContext(ctx, query, args...)
		return sorted(err)
	})
}

// within runs f in a transaction. It may run f several times.
func (s *Store) within(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	return again(ctx, func() error {
		tx, err := s.db.BeginTxx(ctx, nil)
		if err != nil {
			return sorted(err)
		}
		defer func() { _ = tx.Rollback() }() // does nothing after a commit
		if err := f(tx); err != nil {
			return sorted(err)
		}
		return sorted(tx.Commit())
	})
}
