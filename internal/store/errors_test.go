package store_test

import (
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// TestWhatErrorsMean: a value that is wrong will always be; a server that takes
// nothing now may take it later.
func TestWhatErrorsMean(t *testing.T) {
	c := storetest.Config(t)
	s, err := store.Open(t.Context(), c)
	require.NoError(t, err)
	defer func() { _ = s.Close() }()
	require.ErrorIs(t, s.SetCalendar(t.Context(), store.CalendarText{Name: strings.Repeat("n", 70), SetAt: time.Now()}), store.ErrRow)
	root := c.Clone()
	root.User = "root"
	db := sqlx.MustConnect("mysql", root.FormatDSN())
	defer func() { _ = db.Close() }()
	db.MustExec(`SET GLOBAL read_only = 1`)
	err = s.SetCalendar(t.Context(), store.CalendarText{Name: "n", SetAt: time.Now()})
	db.MustExec(`SET GLOBAL read_only = 0`)
	require.ErrorIs(t, err, store.ErrAway, "a server that is read-only for the moment")
	var my *mysql.MySQLError
	require.ErrorAs(t, err, &my)
}

// TestCollisionsAreTriedAgain: many write at once, each with an entry of the
// journal, whose head they all need; none is lost to a deadlock.
func TestCollisionsAreTriedAgain(t *testing.T) {
	s := storetest.Open(t)
	require.NoError(t, s.CreateAccount(t.Context(), "a", "keeper", "x"))
	require.NoError(t, s.CreateAccount(t.Context(), "b", "keeper", "x"))
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			for range 5 {
				role := []string{"viewer", "keeper"}[i%2]
				if err := s.SetRole(t.Context(), []string{"a", "b"}[i/4], role, "keeper", entry(store.EntryAccount)); err != nil {
					assert.ErrorIs(t, err, store.ErrConflict) // it would have been the last keeper
				}
			}
		})
	}
	wg.Wait()
	p, err := s.VerifyJournal(t.Context())
	require.NoError(t, err)
	require.Empty(t, p.Breaks, "the chain holds")
}

// TestADatabaseOfAnotherKind is refused with words while it is empty, and told of when it
// is in use: in it names of accounts that differ would be the same.
func TestADatabaseOfAnotherKind(t *testing.T) {
	t.Parallel()
	c := storetest.Config(t)
	db := sqlx.MustConnect("mysql", c.FormatDSN())
	t.Cleanup(func() { _ = db.Close() })
	db.MustExec(`ALTER DATABASE ` + c.DBName + ` CHARACTER SET latin1 COLLATE latin1_swedish_ci`)
	_, err := store.Open(t.Context(), c)
	var misfit *store.MisfitError
	require.ErrorAs(t, err, &misfit)
	require.ErrorContains(t, err, "COLLATE utf8mb4_bin")
	db.MustExec(`ALTER DATABASE ` + c.DBName + ` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin`)
	s, err := store.Open(t.Context(), c)
	require.NoError(t, err)
	require.NoError(t, s.Misfit)
	require.NoError(t, s.Close())
	db.MustExec(`ALTER DATABASE ` + c.DBName + ` CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci`)
	s, err = store.Open(t.Context(), c)
	require.NoError(t, err)
	require.ErrorAs(t, s.Misfit, &misfit)
	require.NoError(t, s.Close())
}

// TestAChangeAndItsEntryAreOne: neither stands without the other.
func TestAChangeAndItsEntryAreOne(t *testing.T) {
	s := storetest.Open(t)
	ctx := t.Context()
	entries := func() int {
		j, err := s.Journal(ctx, store.JournalFilter{Limit: 99})
		require.NoError(t, err)
		return len(j)
	}
	require.NoError(t, s.CreateAccount(ctx, "ada", "keeper", "x", entry(store.EntryAccount)))
	require.ErrorIs(t, s.CreateAccount(ctx, "ada", "keeper", "x", entry(store.EntryAccount)), store.ErrConflict)
	require.ErrorIs(t, s.RemoveAccount(ctx, "ada", "keeper", entry(store.EntryAccount)), store.ErrConflict, "the last one stays")
	require.ErrorIs(t, s.RemoveSecret(ctx, "none", entry(store.EntrySecret)), store.ErrConflict)
	require.ErrorIs(t, s.SetCalendar(ctx, store.CalendarText{Name: strings.Repeat("n", 70), SetAt: time.Now()}, entry(store.EntryCalendar)), store.ErrRow)
	require.Equal(t, 1, entries(), "what was not done is not said")
	require.NoError(t, s.SetPassword(ctx, "ada", "y", "", entry(store.EntryAccount)))
	require.NoError(t, s.SetProfile(ctx, store.Profile{Name: "p", Text: "t"}, entry(store.EntryProfile)))
	require.NoError(t, s.RemoveProfile(ctx, "p", entry(store.EntryProfile)))
	require.Equal(t, 4, entries())
}

// TestNoTextBreaksTheChain: what is stored is what was sealed, whatever it was.
func TestNoTextBreaksTheChain(t *testing.T) {
	s := storetest.Open(t)
	for _, text := range []string{"admin" + strings.Repeat(" ", 70), strings.Repeat("x", 3000), "blank ", "\xff\xfe", strings.Repeat("µ", 600), ""} {
		e := entry(store.EntryLogInRefused)
		e.Who, e.Why, e.Text, e.Result = text, text, text, text
		require.NoError(t, s.Write(t.Context(), e))
	}
	p, err := s.VerifyJournal(t.Context())
	require.NoError(t, err)
	require.Empty(t, p.Breaks)
	require.Equal(t, 6, p.N)
}

// TestARenamedDeviceTakesAllAlong, its past on the battery and its windows too.
func TestARenamedDeviceTakesAllAlong(t *testing.T) {
	s := storetest.Open(t)
	ctx := t.Context()
	now := time.Now().UTC().Truncate(time.Millisecond)
	require.NoError(t, s.AddDischarges(ctx, []power.Discharge{{Device: "old", Began: now.Add(-time.Hour), Ended: now, W: 300, From: 100, To: 80}}, func(estate.Key) estate.Key { return "s" }))
	o := newOperation("op-renamed")
	o.Device = "old"
	require.NoError(t, s.CreateOperation(ctx, o, entry(store.EntryOperationAsked)))
	require.NoError(t, s.SaveEstate(ctx, 0, "ada", "text", map[estate.Key]estate.Key{"old": "new"}, entry(store.EntryEstate)))
	ds, err := s.Discharges(ctx, 9)
	require.NoError(t, err)
	require.Equal(t, estate.Key("new"), ds[0].Device)
	got, err := s.Operation(ctx, o.ID)
	require.NoError(t, err)
	require.Equal(t, estate.Key("new"), got.Device, "and the document follows its column")
}
