package store_test

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/power"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// TestHistory: what is read is kept, rolled up, and found again at the
// resolution that fits the time that is asked for.
func TestHistory(t *testing.T) {
	s := storetest.Open(t)
	now := time.Now().UTC().Truncate(time.Hour)
	keep := store.DefaultRetention
	require.NoError(t, s.Partition(t.Context(), now.AddDate(0, 0, -5), keep))
	require.NoError(t, s.Partition(t.Context(), now, keep))
	require.NoError(t, s.Partition(t.Context(), now, keep), "again changes nothing")
	x := store.Series{Device: "d", Name: "draw", Unit: "W"}
	var err error
	x.ID, err = s.SeriesID(t.Context(), x)
	require.NoError(t, err)
	var rs []store.Reading
	for i := range 4 * 60 { // four hours, one a minute, with a dip, and an hour of which nothing is known
		at := now.Add(time.Duration(i-4*60) * time.Minute)
		if i >= 60 && i < 120 {
			continue
		}
		v := 100.0
		if i == 200 {
			v = 0
		}
		rs = append(rs, store.Reading{SeriesID: x.ID, At: at, Value: v})
	}
	require.NoError(t, s.AddReadings(t.Context(), rs))
	require.NoError(t, s.AddReadings(t.Context(), rs[:10]), "again changes nothing")

	history := func(span time.Duration, points int) ([]reading.Stretch, store.Resolution) {
		t.Helper()
		got, res, _, err := s.History(t.Context(), []store.Series{x}, now.Add(-span), now, points, now, keep)
		require.NoError(t, err)
		return got[x.ID], res
	}
	got, res := history(time.Hour, 60)
	require.Equal(t, store.EachReading, res)
	require.Len(t, got, 60)
	require.Zero(t, got[20].Min)

	for range 2 { // it can be repeated
		require.NoError(t, s.RollUp(t.Context(), now.Add(-4*time.Hour), now))
	}
	until, err := s.RolledUntil(t.Context())
	require.NoError(t, err)
	require.Equal(t, now, until)
	got, res = history(4*time.Hour, 48)
	require.Equal(t, store.Each5Min, res)
	require.InDelta(t, 36+2, len(got), 1, "the hour of which nothing is known is a gap, once the last reading has ceased to hold")
	dip := got[len(got)-8]
	require.Zero(t, dip.Min)
	require.InDelta(t, 80, dip.Mean, 0.1, "a minute of five")
	require.InDelta(t, 100, dip.Max, 0)
	require.Equal(t, 5*time.Minute, dip.Known)

	got, res = history(4*time.Hour, 4)
	require.Equal(t, store.EachHour, res)
	require.InDelta(t, 100-100.0/60, got[len(got)-1].Mean, 0.2)
	uses, err := s.Uses(t.Context(), "draw", now.Add(-4*time.Hour), now)
	require.NoError(t, err)
	require.InDelta(t, 300+100*5.0/60-100.0/60, uses["d"].Integral, 1, "Wh")
	require.InDelta(t, 100, uses["d"].Peak, 0)

	list, err := s.ListSeries(t.Context(), "d")
	require.NoError(t, err)
	require.Len(t, list, 1)
	none, _, _, err := s.History(t.Context(), nil, now.Add(-time.Hour), now, 10, now, keep)
	require.NoError(t, err)
	require.Empty(t, none)
}

// both is a store, and a way past it.
func both(t *testing.T) (*store.Store, *sqlx.DB) {
	c := storetest.Config(t)
	s, err := store.Open(t.Context(), c)
	require.NoError(t, err)
	db := sqlx.MustConnect("mysql", c.FormatDSN())
	t.Cleanup(func() { require.NoError(t, errors.Join(s.Close(), db.Close())) })
	return s, db
}

// TestARollUpReadsWhatIsNew: and not the whole day, or month, for five minutes.
func TestARollUpReadsWhatIsNew(t *testing.T) {
	s, db := both(t)
	const series, each = 600, 50
	to := time.Date(2026, 1, 2, 20, 0, 0, 0, time.UTC)
	var rs []store.Reading
	for i := range series {
		id, err := s.SeriesID(t.Context(), store.Series{Device: estate.Key(fmt.Sprint("d", i)), Name: "draw", Unit: "W"})
		require.NoError(t, err)
		for n := range each {
			rs = append(rs, store.Reading{SeriesID: id, At: to.Add(-time.Duration(n) * 20 * time.Minute), Value: float64(n)})
		}
		rs = append(rs, store.Reading{SeriesID: id, At: to.Add(-time.Minute), Value: 100})
	}
	require.NoError(t, s.AddReadings(t.Context(), rs))
	read := func() (n int) {
		require.NoError(t, db.QueryRow(`SELECT SUM(variable_value) FROM information_schema.global_status WHERE variable_name IN ('HANDLER_READ_NEXT', 'HANDLER_READ_RND_NEXT', 'HANDLER_READ_PREV')`).Scan(&n))
		return n
	}
	before := read()
	require.NoError(t, s.RollUp(t.Context(), to.Add(-5*time.Minute), to))
	require.Less(t, read()-before, len(rs)/3)
	var rolled int
	require.NoError(t, db.Get(&rolled, `SELECT COUNT(*) FROM rollup_1h`))
	require.Equal(t, series, rolled, "of each")
}

// TestWhatIsUsualAtAnHour: of the days before, and of this hour alone.
func TestWhatIsUsualAtAnHour(t *testing.T) {
	s, db := both(t)
	id, err := s.SeriesID(t.Context(), store.Series{Device: "host", Name: "draw", Unit: "W"})
	require.NoError(t, err)
	now := time.Date(2026, 6, 20, 14, 30, 0, 0, time.UTC)
	for day := range 10 {
		for hour := range 24 {
			at := now.Truncate(24*time.Hour).AddDate(0, 0, -day-1).Add(time.Duration(hour) * time.Hour)
			known := 3600
			if day == 9 {
				known = 60
			}
			db.MustExec(`INSERT INTO rollup_1h (series_id, at, least, mean, greatest, count, known) VALUES (?, ?, 10, ?, 200, 60, ?)`, id, at, 100+hour+10*(day%2), known)
		}
	}
	usual, err := s.UsualAt(t.Context(), "draw", now.Hour(), now.AddDate(0, 0, -21))
	require.NoError(t, err)
	require.InDelta(t, 118.4, usual["host"].W, 0.1)
	require.InDelta(t, 5, usual["host"].Spread, 0.1)
	require.Equal(t, 9, usual["host"].Days)
	require.True(t, usual["host"].Far(160))
	require.False(t, usual["host"].Far(130))
}

// TestWhatHasEndedIsDropped: after its time, and nothing else.
func TestWhatHasEndedIsDropped(t *testing.T) {
	s, db := both(t)
	now := time.Date(2026, 6, 1, 0, 0, 0, 0, time.UTC)
	old, young := now.AddDate(-4, 0, 0), now.AddDate(-1, 0, 0)
	for i, ended := range []any{old, young, nil} {
		asked := old
		db.MustExec(`INSERT INTO operation (id, site, device, kind, state, who, asked_at, ended_at, doc) VALUES (?, '', 'd', 'cycle', 'x', 'w', ?, ?, '{}')`, fmt.Sprint("o", i), asked, ended)
		db.MustExec(`INSERT INTO op_group (id, kind, state, who, asked_at, ended_at, doc) VALUES (?, 'cycle', 'x', 'w', ?, ?, '{}')`, fmt.Sprint("g", i), asked, ended)
		db.MustExec(`INSERT INTO incident (id, site, device, kind, opened_at, ended_at, doc) VALUES (?, '', 'd', 'hung', ?, ?, '{}')`, fmt.Sprint("i", i), asked, ended)
		db.MustExec(`INSERT INTO setting (id, site, device, state, who, asked_at, ended_at, doc) VALUES (?, '', 'd', 'x', 'w', ?, ?, '{}')`, fmt.Sprint("s", i), asked, ended)
	}
	for i := range 700 {
		db.MustExec(`INSERT INTO estate_version (at, who, text) VALUES (?, 'w', 'x')`, old.Add(time.Duration(i)*time.Second))
	}
	db.MustExec(`INSERT INTO document (device, kind, site, at, text) VALUES ('d', 'ev-1', '', ?, '[]'), ('d', 'events', '', ?, '[]')`, old, old)
	require.NoError(t, s.DropOld(t.Context(), now, store.Retention{}), "nothing is said about how long records are kept")
	require.NoError(t, s.DropOld(t.Context(), now, store.DefaultRetention))
	left := func(table string) (n int) {
		require.NoError(t, db.Get(&n, `SELECT COUNT(*) FROM `+table))
		return n
	}
	for _, table := range []string{"operation", "op_group", "incident", "setting"} {
		require.Equal(t, 2, left(table), "%s: what ended lately, and what has not ended", table)
	}
	require.Equal(t, 100, left("estate_version"), "the newest stay, however old")
	require.Equal(t, 1, left("document"), "what the gear says now is no archive")
}

// TestOldPartitionsAreDropped: whole, and at each resolution after its time.
func TestOldPartitionsAreDropped(t *testing.T) {
	s := storetest.Open(t)
	now := time.Now().UTC().Truncate(time.Hour)
	keep := store.Retention{Readings: 24 * time.Hour, Each5Min: 40 * 24 * time.Hour, EachHour: 400 * 24 * time.Hour}
	old := now.AddDate(0, 0, -20)
	require.NoError(t, s.Partition(t.Context(), old, keep))
	id, err := s.SeriesID(t.Context(), store.Series{Device: "d", Name: "draw", Unit: "W"})
	require.NoError(t, err)
	require.NoError(t, s.AddReadings(t.Context(), []store.Reading{{SeriesID: id, At: old, Value: 1}}))
	require.NoError(t, s.AddStretches(t.Context(), store.Each5Min, id, []reading.Stretch{{At: old, Min: 1, Mean: 1, Max: 1, Count: 1, Known: time.Minute}}))
	for at := old; !at.After(now); at = at.Add(24 * time.Hour) {
		require.NoError(t, s.Partition(t.Context(), at, keep))
	}
	series := []store.Series{{ID: id}}
	got, _, _, err := s.History(t.Context(), series, old.Add(-time.Minute), old.Add(time.Minute), 10, old, keep)
	require.NoError(t, err)
	require.Empty(t, got[id], "the reading has gone with its day")
	got, res, _, err := s.History(t.Context(), series, old.Add(-5*time.Minute), old.Add(5*time.Minute), 1, now, keep)
	require.NoError(t, err)
	require.Equal(t, store.Each5Min, res)
	require.Len(t, got[id], 1, "what was rolled up stays for longer")
}

func TestDischargesAndProfiles(t *testing.T) {
	s := storetest.Open(t)
	began := time.Now().UTC().Truncate(time.Millisecond)
	var list []power.Discharge
	for i := range 5 {
		at := began.Add(time.Duration(i) * time.Hour)
		list = append(list, power.Discharge{Device: "ups", Began: at, Ended: at.Add(time.Minute), W: 100, From: 100, To: 90})
	}
	site := func(estate.Key) estate.Key { return "pier" }
	require.NoError(t, s.AddDischarges(t.Context(), list, site))
	require.NoError(t, s.AddDischarges(t.Context(), list, site), "again changes nothing")
	got, err := s.Discharges(t.Context(), 3)
	require.NoError(t, err)
	require.Equal(t, list[2:], got, "the newest, oldest first")

	require.NoError(t, s.SetProfile(t.Context(), store.Profile{Name: "mine", Text: "a", SetBy: "admin"}))
	require.NoError(t, s.SetProfile(t.Context(), store.Profile{Name: "mine", Text: "b", SetBy: "admin"}))
	ps, err := s.Profiles(t.Context())
	require.NoError(t, err)
	require.Len(t, ps, 1)
	require.Equal(t, "b", ps[0].Text)
	require.NoError(t, s.RemoveProfile(t.Context(), "mine"))
	require.ErrorIs(t, s.RemoveProfile(t.Context(), "mine"), store.ErrConflict)
}
