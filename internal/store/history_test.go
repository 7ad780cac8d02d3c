package store_test

import (
	"testing"
	"time"

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
