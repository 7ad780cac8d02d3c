package service_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/service"
	"plumbbob/internal/store/storetest"
)

// firstVersion is a data directory of the first version, as kill -9 left it: the
// records as the database had them, an operation on record and another in the
// ledger that both owe power, and the key of the secrets.
const firstVersion = "testdata/first"

// The password of its first account, and what it had in hand.
const (
	firstPassword = "ep6o4o-ktdtls-7x2qgt-3ylt5r"
	owedOnRecord  = "oiytcc4tid"
	owedInLedger  = "7dfvjszfrm"
	forLater      = "6fi24y6let"
)

// restore puts the records of the first version into a new database, and the
// files into a new data directory. The gear that it leads to is the lab's.
func restore(t *testing.T) (o service.Options, l *labtest.Lab) {
	c := storetest.Config(t)
	c.MultiStatements = true
	db := sqlx.MustConnect("mysql", c.FormatDSN())
	defer func() { require.NoError(t, db.Close()) }()
	records, err := os.ReadFile(filepath.Join(firstVersion, "records.sql"))
	require.NoError(t, err)
	_, err = db.Exec("SET FOREIGN_KEY_CHECKS=0;\n" + string(records))
	require.NoError(t, err)
	var text string
	require.NoError(t, db.Get(&text, `SELECT text FROM estate_version`))
	l = labtest.Start(t, labtest.Options{Text: text, Speed: 60})
	db.MustExec(`UPDATE estate_version SET text = ?`, l.File)
	// What was for later still is.
	then := time.Now().UTC().AddDate(0, 0, 30).Truncate(time.Second)
	db.MustExec(`UPDATE op_group SET doc = JSON_REPLACE(doc, '$.at', ?) WHERE id = ?`, then.Format(time.RFC3339), forLater)

	o.DataDir = t.TempDir()
	for _, name := range []string{"operations.ledger", "secrets.key"} {
		text, err := os.ReadFile(filepath.Join(firstVersion, name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(o.DataDir, name), text, 0o600))
	}
	o.Database = c.FormatDSN()
	return o, l
}

func (s *site) get(path string, into any) {
	s.Helper()
	res, text := s.asks("GET", "/api/v1"+path, "")
	require.Equal(s, http.StatusOK, res.StatusCode, text)
	require.NoError(s, json.Unmarshal([]byte(text), into), text)
}

// says holds operations of every kind, done and failed, to what the first version
// itself said of them.
func (s *site) says(file string, ops []contract.Operation) {
	want, err := os.ReadFile(filepath.Join(firstVersion, file))
	require.NoError(s, err)
	var got strings.Builder
	for _, o := range ops {
		if o.ID != owedOnRecord && o.ID != owedInLedger {
			fmt.Fprintf(&got, "%s %d %s\n", o.ID, len(o.Steps), o.Outcome)
		}
	}
	require.Equal(s, string(want), got.String())
}

func TestADataDirectoryOfTheFirstVersionIsTakenOver(t *testing.T) {
	was, l := restore(t)
	kiosk, workshop := estate.OutletEnd("skarvoe-pdu", 6), estate.OutletEnd("tamsin-pdu", 5)
	for _, end := range []estate.End{kiosk, workshop, estate.OutletEnd("skarvoe-pdu", 8), estate.OutletEnd("tamsin-pdu", 7)} {
		require.NoError(t, l.Flip(end, false), "the first version had switched it off when it died")
		require.Eventually(t, func() bool { closed, _ := l.Contact(end); return !closed }, 30*time.Second, 10*time.Millisecond)
	}
	s := start(t, func(o *service.Options) { o.DataDir, o.Database = was.DataDir, was.Database })
	require.Empty(t, s.FirstPassword, "it is no first start")
	s.logIn("admin", firstPassword)

	for _, id := range []string{owedOnRecord, owedInLedger} {
		require.Eventually(t, func() bool {
			var o contract.Operation
			res, text := s.asks("GET", "/api/v1/operations/"+id, "")
			return res.StatusCode == http.StatusOK && json.Unmarshal([]byte(text), &o) == nil && o.State == contract.OperationStateDone
		}, 2*time.Minute, 50*time.Millisecond, "%s is taken up, and gives power back", id)
	}
	for _, end := range []estate.End{kiosk, workshop} {
		closed, _ := l.Contact(end)
		require.True(t, closed, end)
	}

	var seal contract.JournalSeal
	s.get("/journal/verify", &seal)
	require.True(t, seal.Holds)
	require.Greater(t, seal.Entries, 51)
	var accounts []contract.Account
	s.get("/accounts", &accounts)
	require.Len(t, accounts, 4)
	var profiles []contract.Profile
	s.get("/profiles", &profiles)
	names := make([]string, len(profiles))
	for i, p := range profiles {
		names[i] = p.Name
	}
	require.Contains(t, names, "old-strip")
	var calendars []contract.Calendar
	s.get("/calendars", &calendars)
	require.Len(t, calendars, 1)
	var ops []contract.Operation
	s.get("/operations?limit=500", &ops)
	s.says("outcomes.txt", ops)
	var groups []contract.Group
	s.get("/groups", &groups)
	require.Equal(t, 2, len(groups))
	require.Equal(t, []string{forLater, "scheduled"}, []string{groups[1].ID, string(groups[1].State)})
	var incidents []contract.Incident
	s.get("/incidents?all=true", &incidents)
	require.GreaterOrEqual(t, len(incidents), 8)
	var windows []contract.Window
	s.get("/windows", &windows)
	require.Eventually(t, func() bool {
		_, text := s.asks("GET", "/api/v1/board", "")
		return strings.Count(text, `"parked"`) == 2
	}, time.Minute, 50*time.Millisecond, "two heaters are meant to be off")
	var sheets []contract.Sheet
	s.get("/sheets", &sheets)
	require.Equal(t, 52, len(sheets))
}
