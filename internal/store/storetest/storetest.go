// Package storetest gives tests a real MariaDB: one server for the tests of a
// package, and a database of its own for each test.
package storetest

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"sync"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/store"
	"plumbbob/internal/store/mariadb"
)

var shared struct {
	sync.Mutex
	server *mariadb.Server
	dir    string
}

// Main runs the tests of a package and stops the server afterwards. Call it
// from TestMain.
func Main(m *testing.M) {
	code := m.Run()
	if shared.server != nil {
		if err := shared.server.Close(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			code = 1
		}
		_ = os.RemoveAll(shared.dir)
	}
	os.Exit(code)
}

// Server returns the server that the tests of this package share.
func Server(t testing.TB) *mariadb.Server {
	t.Helper()
	shared.Lock()
	defer shared.Unlock()
	if shared.server == nil {
		var err error
		shared.dir, err = os.MkdirTemp("", "plumb-test-")
		require.NoError(t, err)
		shared.server, err = mariadb.Start(context.Background(), shared.dir, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
	}
	return shared.server
}

// Config returns the way to a new, empty database.
func Config(t testing.TB) *mysql.Config {
	t.Helper()
	admin := Server(t).Config()
	root := admin.Clone()
	root.User, root.DBName = "root", ""
	db, err := sqlx.Open("mysql", root.FormatDSN())
	require.NoError(t, err)
	defer func() { require.NoError(t, db.Close()) }()
	c := admin.Clone()
	c.DBName = fmt.Sprintf("test_%d", rand.Uint64())
	_, err = db.Exec(`CREATE DATABASE ` + c.DBName)
	require.NoError(t, err)
	_, err = db.Exec(`GRANT ALL ON ` + c.DBName + `.* TO ` + c.User + `@localhost`)
	require.NoError(t, err)
	return c
}

// Open returns a store on a new, empty database.
func Open(t testing.TB) *store.Store {
	t.Helper()
	s, err := store.Open(t.Context(), Config(t))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	return s
}
