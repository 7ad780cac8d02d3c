// Package store keeps the records in MariaDB. All SQL of the product is here.
//
//	store.go      opening, migrations, and what the errors mean
//	accounts.go   accounts and log-ins
//	estates.go    the estate and its versions, secrets, parked devices
//	operations.go operations, and who holds which outlet
//	readings.go   series and readings, by day
//	journal.go    the record of what was done
//	mariadb/      the private server
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

//go:embed migrations/*.sql
var migrations embed.FS

var (
	// ErrNotFound: there is no such record.
	ErrNotFound = errors.New("not found")
	// ErrConflict: somebody else was first.
	ErrConflict = errors.New("somebody else was first")
	// ErrAway: the database does not answer. What was asked may be tried again.
	ErrAway = errors.New("the database does not answer")
)

const (
	maxConns    = 16
	dialTimeout = 3 * time.Second
	ioTimeout   = 20 * time.Second
)

// Store is the records.
type Store struct{ db *sqlx.DB }

// Open connects, and brings the tables up to date.
func Open(ctx context.Context, c *mysql.Config) (*Store, error) {
	s, err := Prepare(c)
	if err != nil {
		return nil, err
	}
	if err := migrate(ctx, s.db.DB); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := s.sealJournal(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("seal the journal: %w", err), s.Close())
	}
	return s, nil
}

// Prepare returns a store that has not connected yet.
func Prepare(c *mysql.Config) (*Store, error) {
	c = c.Clone()
	c.ParseTime, c.Loc = true, time.UTC
	c.Timeout, c.ReadTimeout, c.WriteTimeout = dialTimeout, ioTimeout, ioTimeout
	c.Params = map[string]string{"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION'"}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fmt.Errorf("store: %w", err)
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(maxConns)
	db.SetMaxIdleConns(maxConns)
	db.SetConnMaxIdleTime(5 * time.Minute)
	return &Store{sqlx.NewDb(db, "mysql")}, nil
}

// ParseDSN reads the name of a database server, as --database takes it.
func ParseDSN(dsn string) (*mysql.Config, error) {
	c, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("--database: %w: write user:password@tcp(host:3306)/database", err)
	}
	return c, nil
}

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return fmt.Errorf("store: %w", err)
	}
	p, err := goose.NewProvider(goose.DialectMySQL, db, files)
	if err != nil {
		return fmt.Errorf("store: migrations: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("store: migrations: %w", sort(err))
	}
	return nil
}

// Close closes all connections.
func (s *Store) Close() error { return s.db.Close() }

// Ping says whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return sort(s.db.PingContext(ctx)) }

// Errors of the server by number.
const (
	tooManyConnections = 1040 // ER_CON_COUNT_ERROR
	shuttingDown       = 1053 // ER_SERVER_SHUTDOWN
	duplicateKey       = 1062 // ER_DUP_ENTRY
)

// sort makes the driver's errors ours.
func sort(err error) error {
	var my *mysql.MySQLError
	var op net.Error
	switch {
	case err == nil:
		return nil
	case errors.Is(err, sql.ErrNoRows):
		return ErrNotFound
	case errors.As(err, &my):
		switch my.Number {
		case duplicateKey:
			return ErrConflict
		case tooManyConnections, shuttingDown:
			return fmt.Errorf("%w: %w", ErrAway, err)
		}
		return err
	case errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, mysql.ErrInvalidConn), errors.Is(err, sql.ErrConnDone), errors.As(err, &op), errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("%w: %w", ErrAway, err)
	}
	return err
}

// changedOne is for statements that must change exactly one row.
func changedOne(r sql.Result, err error) error {
	if err != nil {
		return sort(err)
	}
	if n, err := r.RowsAffected(); err != nil || n != 1 {
		return errors.Join(ErrConflict, err)
	}
	return nil
}

// exec runs a statement for which any number of changed rows is fine.
func (s *Store) exec(ctx context.Context, query string, args ...any) error {
	_, err := s.db.ExecContext(ctx, query, args...)
	return sort(err)
}

// within runs f in a transaction.
func (s *Store) within(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return sort(err)
	}
	defer func() { _ = tx.Rollback() }() // does nothing after a commit
	if err := f(tx); err != nil {
		return sort(err)
	}
	return sort(tx.Commit())
}
