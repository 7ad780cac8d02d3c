package store_test

import (
	"fmt"
	"io"
	"io/fs"
	"math"
	"net"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// TestMigrationsCanBeBrokenOff: killed behind any of its statements, a migration is
// begun again at the next start, and comes out as if it had not been. MariaDB commits
// each statement that changes a table by itself.
func TestMigrationsCanBeBrokenOff(t *testing.T) {
	t.Parallel()
	c := storetest.Config(t)
	db := sqlx.MustConnect("mysql", c.FormatDSN())
	t.Cleanup(func() { _ = db.Close() })
	files, err := fs.Glob(store.Migrations, "migrations/*.sql")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		text, err := fs.ReadFile(store.Migrations, file)
		require.NoError(t, err)
		up, _, _ := strings.Cut(string(text), "-- +goose Down")
		var statements []string
		for _, s := range strings.Split(up, ";\n") {
			if strings.TrimSpace(s) != "" {
				statements = append(statements, s)
			}
		}
		for n := range statements {
			for _, s := range statements[:n+1] {
				_, err := db.Exec(s)
				require.NoError(t, err, "%s, begun again behind its statement %d: %s", file, n, s)
			}
		}
	}
	// Whatever was done, goose knows nothing of it: it begins with the first.
	for _, broken := range []string{`SELECT 1`, `DELETE FROM goose_db_version`, `DROP TABLE goose_db_version`} {
		db.MustExec(broken)
		s, err := store.Open(t.Context(), c)
		require.NoError(t, err, broken)
		require.NoError(t, s.Close())
	}
	clean := storetest.Config(t)
	s, err := store.Open(t.Context(), clean)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	require.Equal(t, schema(t, db, clean.DBName), schema(t, db, c.DBName))
}

// schema is every column and key of a database, in words.
func schema(t *testing.T, db *sqlx.DB, name string) (words []string) {
	for _, query := range []string{
		`SELECT CONCAT_WS(' ', table_name, column_name, column_type, is_nullable, IFNULL(column_default, '-'), collation_name) FROM information_schema.columns WHERE table_schema = ? ORDER BY 1`,
		`SELECT CONCAT_WS(' ', table_name, index_name, seq_in_index, column_name, non_unique) FROM information_schema.statistics WHERE table_schema = ? ORDER BY 1`,
	} {
		var some []string
		require.NoError(t, db.Select(&some, query, name))
		require.NotEmpty(t, some, fmt.Sprint(query))
		words = append(words, some...)
	}
	return words
}

// TestMigrationsGoOn: connections that are lost while the tables are made do not end a first start.
func TestMigrationsGoOn(t *testing.T) {
	c := storetest.Config(t)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = ln.Close() }()
	var lost atomic.Int32
	go func() {
		for {
			near, err := ln.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial(c.Net, c.Addr)
			if err != nil {
				_ = near.Close()
				return
			}
			go func() {
				defer func() { _ = near.Close(); _ = far.Close() }()
				most := int64(math.MaxInt64)
				if lost.Load() < 2 {
					most = 8 << 10
				}
				if n, _ := io.CopyN(far, near, most); n == most {
					lost.Add(1)
				}
			}()
			go func() { _, _ = io.Copy(near, far) }()
		}
	}()
	through := c.Clone()
	through.Net, through.Addr = "tcp", ln.Addr().String()
	s, err := store.Open(t.Context(), through)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	require.EqualValues(t, 2, lost.Load())
}
