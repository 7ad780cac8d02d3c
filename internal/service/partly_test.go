package service_test

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/service"
	"plumbbob/internal/store"
)

// TestOneBadRowSpoilsOnlyItself: with something on record in every table that cannot
// be read, the service starts, power that is owed comes back, and each is named.
func TestOneBadRowSpoilsOnlyItself(t *testing.T) {
	was, l := restore(t)
	c, err := store.ParseDSN(was.Database)
	require.NoError(t, err)
	migrated, err := store.Open(t.Context(), c)
	require.NoError(t, err)
	require.NoError(t, migrated.Close())
	db := sqlx.MustConnect("mysql", was.Database)
	defer func() { _ = db.Close() }()
	kiosk := estate.OutletEnd("skarvoe-pdu", 6)
	require.NoError(t, l.Flip(kiosk, false))
	require.Eventually(t, func() bool { closed, _ := l.Contact(kiosk); return !closed }, 30*time.Second, 10*time.Millisecond)
	// An operation under way that cannot be read, and a claim that it holds.
	db.MustExec(`INSERT INTO operation (id, site, device, kind, state, who, asked_at, doc)
		VALUES ('unreadable', 'quill-ness', 'quill-kiosk', 'cycle', 'running', 'admin', UTC_TIMESTAMP(3), '{"hold":"many"}')`)
	db.MustExec(`INSERT INTO claim (outlet, operation_id) VALUES ('quill-pdu/4', 'unreadable')`)
	for _, change := range []string{
		`UPDATE operation SET doc = '{"hold":"many"}' WHERE id = 'past000097'`,
		`UPDATE operation SET doc = JSON_SET(doc, '$.v', 99) WHERE id = 'past001560'`,
		`UPDATE op_group SET doc = '{"order":"many"}' WHERE id = '` + forLater + `'`,
		`UPDATE incident SET doc = '{"again":"many"}' ORDER BY opened_at LIMIT 1`,
		`UPDATE document SET text = '{"Maker":7}' WHERE kind = 'sheet' LIMIT 1`,
		`UPDATE profile SET text = 'no profile any more'`,
		`UPDATE secret SET sealed = 0x00 WHERE name = 'strips'`,
		`UPDATE estate_version SET text = REPLACE(text, 'profile: lab-board', 'profile: gone')`,
	} {
		r := db.MustExec(change)
		n, err := r.RowsAffected()
		require.NoError(t, err)
		require.NotZero(t, n, change)
	}
	db.MustExec(`INSERT INTO estate_version (at, who, text) VALUES (UTC_TIMESTAMP(3), 'admin', 'of no estate')`)
	db.MustExec(`INSERT INTO setting (id, site, device, state, who, asked_at, doc) VALUES ('badsetting', 'x', 'y', 'sending', 'admin', UTC_TIMESTAMP(3), '[]')`)

	s := start(t, func(o *service.Options) { o.DataDir, o.Database = was.DataDir, was.Database })
	s.logIn("admin", firstPassword)
	require.Eventually(t, func() bool {
		closed, _ := l.Contact(kiosk)
		return closed
	}, 2*time.Minute, 20*time.Millisecond, "power that is owed comes back first")
	var board contract.Board
	named := func(what string) {
		t.Helper()
		require.Eventually(t, func() bool {
			s.get("/board", &board)
			for _, a := range board.Service {
				if strings.Contains(a.Name+" "+a.Text, what) {
					return true
				}
			}
			return false
		}, time.Minute, 50*time.Millisecond, what)
	}
	var incidents []contract.Incident
	s.get("/incidents?all=true&limit=500", &incidents)
	for _, what := range []string{
		"Operation unreadable on quill-kiosk was under way", "group " + forLater, "incident", "sheet", "profile old-strip", "secret strips", "estate version 2", `"gone" is not known`, "setting badsetting",
	} {
		named(what)
	}
	var ops []contract.Operation
	s.get("/operations?limit=500", &ops)
	require.Equal(t, 17, len(ops), "all but the three")
	named("past000097")
	named("newer version of this program (99, and 1 is known)")
	require.Equal(t, 52, len(board.Devices), "the estate is there, without what follows the lost profile")
	res, text := s.asks("GET", "/healthz", "")
	require.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
	require.Contains(t, text, "not well")
	require.NotContains(t, text, "quill-kiosk", "who has not logged in hears no more than that")
	var claims int
	require.NoError(t, db.Get(&claims, `SELECT COUNT(*) FROM claim WHERE operation_id = 'unreadable'`))
	require.Zero(t, claims, "somebody may switch it again")
	_, text = s.asks("GET", "/api/v1/journal?kind=service", "")
	require.Contains(t, text, "see whether what it switched is on")
}
