// Package store keeps the records in MariaDB. All SQL of the product is here.
//
//	store.go      opening, and migrations
//	breaker.go    a server that hangs counts as away
//	late.go       a server that is away when the service starts
//	errors.go     what the errors mean, and which are tried again
//	lease.go      which of several services acts
//	rows.go       documents, one by one: a bad one spoils only itself
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
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"

	"plumbbob/internal/health"
)

//go:embed migrations/*.sql
var migrations embed.FS

const (
	maxConns    = 16
	dialTimeout = 3 * time.Second
	ioTimeout   = 20 * time.Second
)

// Store is the records.
type Store struct {
	db      *sqlx.DB
	breaker *breaker

	// Misfit is why a database that is in use already is not as ours has to be, or nil.
	Misfit error

	// Health is told of what on record cannot be read; nil: nobody.
	Health *health.Book

	epoch atomic.Int64 // of the lease, when there is one
}

// Open connects, and brings the tables up to date.
func Open(ctx context.Context, c *mysql.Config) (*Store, error) {
	s, err := Prepare(c)
	if err != nil {
		return nil, err
	}
	if err := s.fits(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := s.upToDate(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	if err := s.sealJournal(ctx); err != nil {
		return nil, errors.Join(fmt.Errorf("seal the journal: %w", err), s.Close())
	}
	return s, nil
}

// What a database has to be for texts to be kept, and compared, as they are.
const (
	charset   = "utf8mb4"
	collation = "utf8mb4_bin"
)

// A MisfitError says that a database compares texts in another way: names of accounts
// that differ would be the same, or texts could not be kept at all.
type MisfitError struct{ Name, Has string }

func (e *MisfitError) Error() string {
	return fmt.Sprintf("the database %[1]s has the collation %[2]s: make it anew with CREATE DATABASE %[1]s CHARACTER SET %[3]s COLLATE %[4]s, or, while it is empty, ALTER DATABASE %[1]s CHARACTER SET %[3]s COLLATE %[4]s", e.Name, e.Has, charset, collation)
}

// fits refuses a database that is not as ours has to be, unless it is in use already.
func (s *Store) fits(ctx context.Context) error {
	var is struct {
		Name      string `db:"name"`
		Collation string `db:"collation"`
	}
	err := s.db.GetContext(ctx, &is, `SELECT DATABASE() AS name, @@collation_database AS collation`)
	if err != nil {
		return sorted(err)
	}
	if is.Collation == collation {
		return nil
	}
	misfit := &MisfitError{is.Name, is.Collation}
	var used int
	if err := s.db.GetContext(ctx, &used, `SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = 'account'`); err != nil {
		return sorted(err)
	}
	if used == 0 {
		return misfit
	}
	s.Misfit = misfit
	return nil
}

// Prepare returns a store that has not connected yet.
func Prepare(c *mysql.Config) (*Store, error) {
	c = c.Clone()
	c.ParseTime, c.Loc = true, time.UTC
	c.Logger = silence{} // whatever it complains about is returned as an error as well
	c.Timeout, c.ReadTimeout, c.WriteTimeout = dialTimeout, ioTimeout, ioTimeout
	c.Params = map[string]string{"time_zone": "'+00:00'", "sql_mode": "'STRICT_ALL_TABLES,NO_ENGINE_SUBSTITUTION'"}
	watched, err := newBreaker(c)
	if err != nil {
		return nil, fmt.Errorf("store: %w", err)
	}
	connector, err := mysql.NewConnector(c)
	if err != nil {
		watched.close()
		return nil, fmt.Errorf("store: %w", err)
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(maxConns)
	db.SetMaxIdleConns(maxConns)
	db.SetConnMaxIdleTime(5 * time.Minute)
	return &Store{db: sqlx.NewDb(db, "mysql"), breaker: watched}, nil
}

type silence struct{}

func (silence) Print(...any) {}

// ParseDSN reads the name of a database server, as --database takes it.
func ParseDSN(dsn string) (*mysql.Config, error) {
	c, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("--database: %w: write user:password@tcp(host:3306)/database", err)
	}
	return c, nil
}

// How often the tables are brought up to date when the database goes away meanwhile, and how long is
// waited in between.
const (
	migrateTries = 5
	migrateAgain = time.Second
)

// upToDate brings the tables up to date. Each change of them can be made again, so one in which the
// connection was lost is: a server that is only slow must not keep a service from its first start.
func (s *Store) upToDate(ctx context.Context) error {
	for try := 1; ; try++ {
		err := migrate(ctx, s.db.DB)
		if !errors.Is(err, ErrAway) || try == migrateTries {
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(migrateAgain):
		}
	}
}

func migrate(ctx context.Context, db *sql.DB) error {
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return fmt.Errorf("store: %w", err)
	}
	if err := unbegin(ctx, db); err != nil {
		return fmt.Errorf("store: migrations: %w", sorted(err))
	}
	p, err := goose.NewProvider(goose.DialectMySQL, db, files)
	if err != nil {
		return fmt.Errorf("store: migrations: %w", err)
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("store: migrations: %w", sorted(err))
	}
	return nil
}

const noSuchTable = 1146 // ER_NO_SUCH_TABLE

// unbegin drops goose's table when a first start was killed between making it and
// writing its first row.
func unbegin(ctx context.Context, db *sql.DB) error {
	var rows int
	err := db.QueryRowContext(ctx, `SELECT COUNT(*) FROM goose_db_version`).Scan(&rows)
	if my := (*mysql.MySQLError)(nil); errors.As(err, &my) && my.Number == noSuchTable {
		return nil
	}
	if err == nil && rows == 0 {
		_, err = db.ExecContext(ctx, `DROP TABLE goose_db_version`)
	}
	return err
}

// Close closes all connections. That some have ended already, or do not take leave, is no
// error: what was written has been acknowledged.
func (s *Store) Close() error {
	s.breaker.close()
	_ = s.db.Close()
	return nil
}

// Ping says whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return sorted(s.db.PingContext(ctx)) }
