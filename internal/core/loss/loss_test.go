package loss

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestHowManyIsMoreThanBadLuck: by what is lost, and forgotten after a while.
func TestHowManyIsMoreThanBadLuck(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 1))
	for _, x := range []struct {
		share float64
		need  [2]int // between
	}{{0, [2]int{3, 3}}, {0.1, [2]int{6, 14}}, {0.36, [2]int{14, 30}}} {
		var m Meter
		missed := 0
		for range 400 {
			if rng.Float64() < x.share {
				missed++
				continue
			}
			m, missed = m.Answered(missed), 0
		}
		require.InDelta(t, x.share, m.Share(), 0.12)
		require.GreaterOrEqual(t, m.Need(), x.need[0])
		require.LessOrEqual(t, m.Need(), x.need[1])
		for range 100 {
			m = m.Answered(0)
		}
		require.Equal(t, Least, m.Need(), "it is well again")
	}
	require.Equal(t, suspect, Meter{Lost: 1, Won: 500}.Need())
}
