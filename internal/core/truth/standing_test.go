package truth

import (
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/verdict"
)

// TestWhatStandsIsWhatAFullJudgingSays: after each of them, through every kind of fault.
func TestWhatStandsIsWhatAFullJudgingSays(t *testing.T) {
	short := func(v verdict.Verdict) []any { return []any{v.State, v.Severity, v.CutBy, v.By, v.Since} }
	judgings := 0
	y := newTally()
	y.check = func(full, kept map[estate.Key]verdict.Verdict) {
		judgings++
		for k, v := range full {
			require.Equal(t, short(v), short(kept[k]), "%s, %v, %v", k, v.Reasons, kept[k].Reasons)
		}
	}
	for i, f := range faults() {
		y.episode(t, uint64(500+i), f)
	}
	require.Greater(t, judgings, 1000)
}
