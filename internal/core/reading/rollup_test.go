package reading

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestRollUp(t *testing.T) {
	from := time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)
	at := func(minutes float64) time.Time { return from.Add(time.Duration(minutes * float64(time.Minute))) }
	got := RollUp([]Sample{{at(-1), 10}, {at(2), 20}, {at(12), 30}}, from, at(20), 5*time.Minute)
	require.Equal(t, []Stretch{
		{At: at(0), Min: 10, Mean: 16, Max: 20, Count: 1, Known: 5 * time.Minute},
		{At: at(5), Min: 20, Mean: 20, Max: 20, Count: 0, Known: 3 * time.Minute}, // it holds for six minutes
		{At: at(10), Min: 30, Mean: 30, Max: 30, Count: 1, Known: 3 * time.Minute},
		{At: at(15), Min: 30, Mean: 30, Max: 30, Count: 0, Known: 3 * time.Minute},
	}, got)
	require.Empty(t, RollUp(nil, from, at(20), time.Minute))
	sum := Summarize(got)
	require.InDelta(t, (10*2+20*3+20*3+30*6)/14.0, sum.Mean, 1e-9)
	require.InDelta(t, 30, sum.Peak, 0)
	require.Equal(t, at(10), sum.PeakAt)
	require.InDelta(t, sum.Mean*14/60, sum.Integral, 1e-9, "W for hours are Wh")
}

// TestRollUpKeeps: however it is divided, nothing is invented, and what is
// known adds up to the same.
func TestRollUpKeeps(t *testing.T) {
	from := time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)
	rapid.Check(t, func(t *rapid.T) {
		var samples []Sample
		at := from.Add(-5 * time.Minute)
		for range rapid.IntRange(0, 40).Draw(t, "n") {
			at = at.Add(time.Duration(rapid.IntRange(1, 900).Draw(t, "gap")) * time.Second)
			samples = append(samples, Sample{at, float64(rapid.IntRange(-50, 50).Draw(t, "v"))})
		}
		to := from.Add(3 * time.Hour)
		fine, coarse := RollUp(samples, from, to, time.Minute), RollUp(samples, from, to, time.Hour)
		a, b := Summarize(fine), Summarize(coarse)
		require.Equal(t, a.Known, b.Known)
		require.InDelta(t, a.Integral, b.Integral, 1e-6)
		for _, x := range coarse {
			require.LessOrEqual(t, x.Min, x.Mean)
			require.LessOrEqual(t, x.Mean, x.Max)
			require.LessOrEqual(t, x.Known, time.Hour)
		}
	})
}
