package loss

import (
	"math/rand/v2"
	"testing"
	"time"

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

// TestHowQuestionsFare: shares, means and jitter of a span, and the next begins anew.
func TestHowQuestionsFare(t *testing.T) {
	var trip Trip
	at := time.Unix(0, 0)
	for i := range 200 {
		rtt := 20 * time.Millisecond
		if i%2 == 1 {
			rtt = 30 * time.Millisecond
		}
		trip.Answered(at.Add(time.Duration(i)*time.Second), rtt, i%4/3)
	}
	lost, rtt, jitter := trip.Figures()
	require.InDelta(t, 20, lost, 0.1, "50 of 250")
	require.InDelta(t, 25, rtt, 0.1)
	require.InDelta(t, 10, jitter, 0.1)
	trip.Next(at.Add(Span))
	trip.Answered(at.Add(Span), 30*time.Millisecond, 0)
	lost, rtt, jitter = trip.Figures()
	require.Zero(t, lost)
	require.InDelta(t, 30, rtt, 0.1)
	require.InDelta(t, 9.4, jitter, 0.1)
}
