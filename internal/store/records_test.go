package store_test

import (
	"bytes"
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

func TestJournalFilters(t *testing.T) {
	s := storetest.Open(t)
	for i := range 10 {
		e := entry([]string{store.EntryLogIn, store.EntryEstate}[i%2])
		e.Device, e.Who, e.Text = estate.Key(fmt.Sprintf("d%d", i%3)), []string{"ann", "bo"}[i%2], fmt.Sprint(i)
		w := float64(i)
		e.BeforeW = &w
		require.NoError(t, s.Write(t.Context(), e))
	}
	read := func(f store.JournalFilter) (texts string) {
		if f.Limit == 0 {
			f.Limit = 99
		}
		es, err := s.Journal(t.Context(), f)
		require.NoError(t, err)
		for _, e := range es {
			texts += e.Text
		}
		return texts
	}
	require.Equal(t, "9876543210", read(store.JournalFilter{}), "the newest first")
	require.Equal(t, "987", read(store.JournalFilter{Limit: 3}))
	require.Equal(t, "9630", read(store.JournalFilter{Device: "d0"}))
	require.Equal(t, "86420", read(store.JournalFilter{Who: "ann"}))
	require.Equal(t, "97531", read(store.JournalFilter{Kind: store.EntryEstate}))
	es, err := s.Journal(t.Context(), store.JournalFilter{Limit: 4})
	require.NoError(t, err)
	require.Equal(t, 9.0, *es[0].BeforeW)
	require.Nil(t, es[0].AfterW)
	require.Equal(t, "543210", read(store.JournalFilter{Before: es[3].ID}), "page by page")
	require.Equal(t, "987", read(store.JournalFilter{After: es[3].ID}))
}

// TestTheJournalIsAChain: entries that are added at once all find their place,
// and what is done to them behind the service's back shows.
func TestTheJournalIsAChain(t *testing.T) {
	at := storetest.Config(t)
	s, err := store.Open(t.Context(), at)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	var adding errgroup.Group
	for range 8 {
		adding.Go(func() error {
			for range 10 {
				if err := s.Write(t.Context(), entry(store.EntryLogIn)); err != nil {
					return err
				}
			}
			return nil
		})
	}
	require.NoError(t, adding.Wait())
	whole, err := s.VerifyJournal(t.Context())
	require.NoError(t, err)
	require.Equal(t, 80, whole.N)
	require.EqualValues(t, 80, whole.Last, "counted without a gap")
	copied, err := s.Copied(t.Context(), "syslog")
	require.NoError(t, err)
	require.EqualValues(t, 80, copied, "a new copy begins with what comes next")
	require.NoError(t, s.SetCopied(t.Context(), "syslog", 7))
	copied, err = s.Copied(t.Context(), "syslog")
	require.NoError(t, err)
	require.EqualValues(t, 7, copied)

	db := sqlx.MustConnect("mysql", at.FormatDSN())
	t.Cleanup(func() { _ = db.Close() })
	for _, c := range []struct{ harm, undo, want string }{
		{`UPDATE journal SET text = CONCAT(text, '!') WHERE id = 40`, `UPDATE journal SET text = LEFT(text, LENGTH(text)-1) WHERE id = 40`, "entry 40: was altered: its hash is not that of its text"},
		{`UPDATE journal SET id = 1000 WHERE id = 40`, `UPDATE journal SET id = 40 WHERE id = 1000`, "entry 40: is missing, up to 40: it was removed"},
		{`UPDATE journal SET id = -1 WHERE id = 1`, `UPDATE journal SET id = 1 WHERE id = -1`, "entry 1: is missing, up to 1: it was removed"},
		{`UPDATE journal SET id = -1 WHERE id = 80`, `UPDATE journal SET id = 80 WHERE id = -1`, "entry 80: is missing, up to 80: it was removed"},
	} {
		db.MustExec(c.harm)
		p, err := s.VerifyJournal(t.Context())
		require.NoError(t, err)
		require.NotEmpty(t, p.Open, c.harm)
		require.Equal(t, c.want, fmt.Sprintf("entry %d: %s", p.Open[0].ID, p.Open[0].Text), c.harm)
		db.MustExec(c.undo)
	}
	again, err := s.VerifyJournal(t.Context())
	require.NoError(t, err)
	require.Equal(t, whole, again)

	// A journal of before there was a chain is sealed at the next start.
	db.MustExec(`DELETE FROM journal_head`)
	db.MustExec(`DELETE FROM journal WHERE id % 3 = 0`)
	db.MustExec(`UPDATE journal SET hash = '', prev = ''`)
	later, err := store.Open(t.Context(), at)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, later.Close()) })
	sealed, err := later.VerifyJournal(t.Context())
	require.NoError(t, err)
	require.Equal(t, 54, sealed.N)
	require.NoError(t, later.Write(t.Context(), entry(store.EntryLogIn)))
	grown, err := later.VerifyJournal(t.Context())
	require.NoError(t, err)
	require.Equal(t, 55, grown.N)
}

func TestOperationsAreFoundByDeviceAndState(t *testing.T) {
	s := storetest.Open(t)
	for i := range 4 {
		o := newOperation(fmt.Sprint(i))
		o.Device = estate.Key([]string{"router", "switch"}[i%2])
		o.Outlets = []estate.End{estate.OutletEnd("pdu", i+1)}
		o.Asked = o.Asked.Add(time.Duration(i) * time.Minute)
		o.Lay(true)
		require.NoError(t, s.CreateOperation(t.Context(), o, entry(store.EntryOperationAsked)))
		if i < 2 {
			o.State, o.Ended, o.HeardAt = operation.Done, o.Asked.Add(time.Minute), o.Asked.Add(50*time.Second)
			for n := range o.Steps {
				o.Steps[n].State, o.Steps[n].MaySent, o.Steps[n].Sent = operation.StepDone, true, o.Asked.Add(10*time.Second)
			}
			require.NoError(t, s.EndOperation(t.Context(), o, entry(store.EntryOperationEnded)))
		}
	}
	ids := func(f store.OperationFilter) (all string) {
		f.Limit = 9
		ops, err := s.Operations(t.Context(), f)
		require.NoError(t, err)
		for _, o := range ops {
			all += o.ID
		}
		return all
	}
	require.Equal(t, "3210", ids(store.OperationFilter{}))
	require.Equal(t, "20", ids(store.OperationFilter{Device: "router"}))
	require.Equal(t, "32", ids(store.OperationFilter{State: operation.Running}))
	require.Equal(t, "1", ids(store.OperationFilter{Device: "switch", State: operation.Done}))
	u, err := s.Usual(t.Context(), "router")
	require.NoError(t, err)
	require.Equal(t, operation.Usual{Min: 40 * time.Second, Max: 40 * time.Second, N: 1}, u)
	none, err := s.Usual(t.Context(), "nobody")
	require.NoError(t, err)
	require.Zero(t, none.N)

	// A late write does not bring an ended operation back.
	late := newOperation("0")
	require.NoError(t, s.SaveOperation(t.Context(), late))
	o, err := s.Operation(t.Context(), "0")
	require.NoError(t, err)
	require.Equal(t, operation.Done, o.State)
}

func TestSecretsAndParked(t *testing.T) {
	s := storetest.Open(t)
	_, err := s.Secret(t.Context(), "pdu")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.ErrorIs(t, s.RemoveSecret(t.Context(), "pdu"), store.ErrConflict)
	for _, sealed := range []string{"one", "two"} {
		require.NoError(t, s.SetSecret(t.Context(), store.SealedSecret{Name: "pdu", Kind: "snmp-v2c", Sealed: []byte(sealed), SetBy: "admin"}))
	}
	all, err := s.Secrets(t.Context())
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Equal(t, "two", string(all[0].Sealed))
	require.WithinDuration(t, time.Now(), all[0].SetAt, time.Minute)
	require.NoError(t, s.RemoveSecret(t.Context(), "pdu"))

	since := time.Now().UTC().Truncate(time.Millisecond)
	require.NoError(t, s.Park(t.Context(), store.Parked{Device: "kiosk", Site: "pier", Who: "admin", Why: "winter", Since: since}))
	parked, err := s.AllParked(t.Context())
	require.NoError(t, err)
	require.Equal(t, []store.Parked{{Device: "kiosk", Site: "pier", Who: "admin", Why: "winter", Since: since}}, parked)
	require.NoError(t, s.Unpark(t.Context(), "kiosk"))
	require.NoError(t, s.Unpark(t.Context(), "kiosk"), "again changes nothing")
}

func TestRecentReadings(t *testing.T) {
	s := storetest.Open(t)
	now := time.Now().UTC().Truncate(time.Minute)
	var rs []store.Reading
	for _, k := range []estate.Key{"a", "b"} {
		id, err := s.SeriesID(t.Context(), store.Series{Site: "pier", Device: k, Name: "draw", Unit: "W"})
		require.NoError(t, err)
		for i := range 60 {
			rs = append(rs, store.Reading{SeriesID: id, At: now.Add(time.Duration(i-60) * 30 * time.Second), Value: float64(i % 2)})
		}
	}
	require.NoError(t, s.AddReadings(t.Context(), rs))
	got, err := s.RecentReadings(t.Context(), "draw", now.Add(-30*time.Minute), now, time.Minute)
	require.NoError(t, err)
	require.Len(t, got, 60, "thirty for each")
	require.Equal(t, estate.Key("a"), got[0].Device)
	require.Equal(t, 0.5, got[0].Value)
	empty, err := s.SeriesNamed(t.Context(), "nobody", "draw")
	require.NoError(t, err)
	require.Empty(t, empty)
}

func TestErrorsOfTheDatabaseBecomeOurs(t *testing.T) {
	s := storetest.Open(t)
	require.NoError(t, s.Ping(t.Context()))
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, s.Ping(ended), context.Canceled)
	_, err := store.ParseDSN("nonsense")
	require.ErrorContains(t, err, "write user:password@tcp(host:3306)/database")
	c, err := store.ParseDSN("user:pass@tcp(127.0.0.1:1)/plumb")
	require.NoError(t, err)
	_, err = store.Open(t.Context(), c)
	require.ErrorIs(t, err, store.ErrAway)
	require.NotContains(t, err.Error(), "pass@")
}

// A file is kept beside the operation that it belongs to, for nobody else, and for as
// long as records are.
func TestFilesBesideRecords(t *testing.T) {
	s := storetest.Open(t)
	now := time.Now().UTC().Truncate(time.Millisecond)
	f := store.File{ID: "f1", Site: "pier", Of: "op1", Type: "text/plain", At: now, Content: []byte("one\ntwo\n")}
	require.NoError(t, s.SaveFile(t.Context(), f))
	other := f
	other.Content = []byte("another")
	require.NoError(t, s.SaveFile(t.Context(), other), "a repeated write changes nothing")
	got, err := s.File(t.Context(), "op1", "f1")
	require.NoError(t, err)
	require.Equal(t, f, got)
	_, err = s.File(t.Context(), "op2", "f1")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.Error(t, s.SaveFile(t.Context(), store.File{ID: "f2", Content: make([]byte, store.MaxFile+1)}))
	require.NoError(t, s.DropOld(t.Context(), now.Add(2*time.Hour), store.Retention{Records: time.Hour}))
	_, err = s.File(t.Context(), "op1", "f1")
	require.ErrorIs(t, err, store.ErrNotFound)
}

// TestPictures of screens: found by their moment, and bounded by site.
func TestPictures(t *testing.T) {
	s := storetest.Open(t)
	at := time.Date(2026, 11, 28, 2, 0, 0, 0, time.UTC)
	for i := range 4 {
		p := store.Picture{Device: "kiosk", Site: "pier", At: at.Add(time.Duration(i) * time.Second), Why: "it was hung", Content: bytes.Repeat([]byte{byte(i)}, 100)}
		require.NoError(t, s.SavePicture(t.Context(), p))
		require.NoError(t, s.SavePicture(t.Context(), p), "again")
	}
	all, err := s.Pictures(t.Context(), "kiosk", at, at.Add(time.Minute), 3)
	require.NoError(t, err)
	require.Len(t, all, 3)
	require.Equal(t, store.Picture{Device: "kiosk", Site: "pier", At: at.Add(3 * time.Second), Why: "it was hung", Bytes: 100}, all[0])
	p, err := s.Picture(t.Context(), "kiosk", at.Add(1500*time.Millisecond))
	require.NoError(t, err)
	require.Equal(t, byte(1), p.Content[0])
	_, err = s.Picture(t.Context(), "kiosk", at.Add(-time.Second))
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, s.DropPictures(t.Context(), "pier", 250))
	all, err = s.Pictures(t.Context(), "kiosk", at, at.Add(time.Minute), 10)
	require.NoError(t, err)
	require.Len(t, all, 2)
	require.ErrorContains(t, s.SavePicture(t.Context(), store.Picture{Device: "kiosk", Content: make([]byte, store.MaxFile+1)}), "are more than the")
	require.NoError(t, s.DropOld(t.Context(), at.Add(24*time.Hour), store.Retention{Lines: time.Hour}))
	all, err = s.Pictures(t.Context(), "kiosk", at, at.Add(time.Minute), 10)
	require.NoError(t, err)
	require.Empty(t, all)
}

// TestTaughtCells: what is drawn so is one character, which may be said anew.
func TestTaughtCells(t *testing.T) {
	s := storetest.Open(t)
	at := time.Date(2026, 11, 29, 9, 0, 0, 0, time.UTC)
	cells := []store.TaughtCell{{8, 16, []byte("\x00\xff"), 'é', at, "ann"}, {8, 16, []byte("\x01"), '😀', at, "ann"}, {9, 14, []byte("\x01"), 'a', at, "ann"}}
	require.NoError(t, s.Teach(t.Context(), cells))
	cells[0].Char, cells[0].SetBy = 'è', "tom"
	require.NoError(t, s.Teach(t.Context(), cells[:1]))
	got, err := s.TaughtCells(t.Context())
	require.NoError(t, err)
	require.Equal(t, cells, got)
	require.NoError(t, s.Forget(t.Context(), 8, 16))
	require.ErrorIs(t, s.Forget(t.Context(), 8, 16), store.ErrConflict)
	got, err = s.TaughtCells(t.Context())
	require.NoError(t, err)
	require.Equal(t, cells[2:], got)
}
