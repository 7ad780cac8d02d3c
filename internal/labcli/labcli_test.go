package labcli

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

func TestUsage(t *testing.T) {
	const done, failed, usage = 0, 1, 2
	for _, args := range [][]string{{"explode"}, {"--colour"}, {"demo", "--log", "loud"}, {"fault", "--control", "/nowhere"}} {
		require.Equal(t, usage, Main(args), "%v", args)
	}
	require.Equal(t, failed, Main([]string{"state", "--control", "/nowhere"}))
	require.Equal(t, failed, Main([]string{"fault", "hang", "x", "--control", "/nowhere"}))
	require.Equal(t, done, Main([]string{"--help"}))
}

// TestThePastIsPlausible: what the demo has been through passes for the record
// of a real service.
func TestThePastIsPlausible(t *testing.T) {
	s := storetest.Open(t)
	e, err := estatefile.Parse("demo", []byte(demo.Estate(demo.Default)))
	require.NoError(t, err)
	now := time.Now().UTC()
	require.NoError(t, writeHistory(t.Context(), s, e, now))

	ops, err := s.Operations(t.Context(), store.OperationFilter{Limit: 100})
	require.NoError(t, err)
	require.Len(t, ops, len(pastCycles))
	for _, o := range ops {
		require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
		require.Regexp(t, `^Cycled outlet \d of skarvoe-pdu: [\d.]+ W → 0\.0 W at .*, back to [\d.]+ W at .*, first answer after \d+ s$`, o.Outcome(time.UTC))
		require.True(t, o.Ended.Before(now))
	}
	usual, err := s.Usual(t.Context(), "skarvoe-router")
	require.NoError(t, err)
	require.Equal(t, "38–47 s", usual.String())

	journal, err := s.Journal(t.Context(), store.JournalFilter{Limit: 100})
	require.NoError(t, err)
	require.Len(t, journal, 2*len(pastCycles))
	for i := range journal[1:] {
		require.False(t, journal[i].At.Before(journal[i+1].At), "in the order of time")
	}
	series, err := s.SeriesNamed(t.Context(), "skarvoe-router", "draw")
	require.NoError(t, err)
	draws, _, _, err := s.History(t.Context(), series, now.Add(-2*time.Hour), now, 600, now, store.DefaultRetention)
	require.NoError(t, err)
	lo, hi := 99.0, 0.0
	for _, r := range draws[series[0].ID] {
		lo, hi = min(lo, r.Min), max(hi, r.Max)
	}
	month, res, _, err := s.History(t.Context(), series, now.AddDate(0, 0, -30), now, 300, now, store.DefaultRetention)
	require.NoError(t, err)
	require.Equal(t, store.EachHour, res)
	require.Greater(t, len(month[series[0].ID]), 200)
	require.Zero(t, lo, "it was cycled within this time")
	require.Greater(t, hi, 13.0, "with an inrush")
	standing, err := s.Verdicts(t.Context())
	require.NoError(t, err)
	require.Len(t, standing, len(e.Devices))
}
