package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAClockThatIsSet is told apart from one that is only watched late.
func TestAClockThatIsSet(t *testing.T) {
	noon := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	was := moment{noon, time.Minute}
	require.Zero(t, was.set(moment{noon.Add(time.Hour), time.Hour + time.Minute}), "an hour has passed, because nobody looked")
	require.Equal(t, 2*time.Hour, was.set(moment{noon.Add(2*time.Hour + 5*time.Second), time.Minute + 5*time.Second}))
	back := was.set(moment{noon.Add(-30 * time.Minute), time.Minute})
	require.Equal(t, "the clock of this machine jumped back by 30 min, to 2026-03-01 11:30:00 UTC: what was asked for at a time goes by the new one", clockWords(back, noon.Add(-30*time.Minute)))
}
