package schedule

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var t0 = time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)

func middle() float64 { return 0.5 }

var ample = Room{10, 10}

// ask lets a subject be asked and answer for a while, and returns when it was asked.
func ask(p *Plan[string], k string, ok bool, from time.Time, times int) []time.Duration {
	var at []time.Duration
	now := from
	for range times {
		next, _ := p.Next(ample)
		if next.After(now) {
			now = next
		}
		for _, due := range p.Due(now, ample) {
			p.Answered(due, ok, now)
		}
		at = append(at, now.Sub(t0))
	}
	_ = k
	return at
}

func TestIntervals(t *testing.T) {
	p := New[string](middle)
	p.Set("a", 10*time.Second, false, t0)
	require.Equal(t, []time.Duration{time.Second, 11 * time.Second, 21 * time.Second}, ask(p, "a", true, t0, 3), "spread at first, then every interval")

	p = New[string](middle)
	p.Set("a", 10*time.Second, false, t0)
	at := ask(p, "a", false, t0, 4)
	require.Equal(t, time.Second, at[2]-at[1], "a silence is confirmed quickly")
	ask(p, "a", false, t0.Add(at[3]), 60)
	far := ask(p, "a", false, t0, 2)
	require.Equal(t, 40*time.Second, far[1]-far[0], "and then asked about less often")
}

func TestCloseWatch(t *testing.T) {
	p := New[string](middle)
	p.Set("a", time.Minute, false, t0)
	ask(p, "a", true, t0, 1)
	p.Close("a", true, t0.Add(2*time.Second))
	p.Close("a", true, t0.Add(2*time.Second)) // by two operations
	at := ask(p, "a", true, t0.Add(2*time.Second), 3)
	require.Equal(t, []time.Duration{2 * time.Second, 2500 * time.Millisecond, 3 * time.Second}, at)
	p.Close("a", false, t0)
	require.True(t, p.Watched("a"), "the other still wants it")
	p.Close("a", false, t0)
	require.False(t, p.Watched("a"))
}

// TestTheSilentDoNotTakeTheRoomOfOthers: with hundreds that never answer, and far
// less room than they would fill, everybody else is asked as if they were not there.
func TestTheSilentDoNotTakeTheRoomOfOthers(t *testing.T) {
	asked := func(silent int) map[bool]int {
		p := New[int](middle)
		room := Room{60, 60}
		for i := range 20 {
			p.Set(i, 10*time.Second, i < 5, t0)
		}
		for i := range silent {
			p.Set(-1-i, 10*time.Second, false, t0)
		}
		pending := map[int]time.Time{} // who is being asked, and when that ends
		count := map[bool]int{}
		for ms := 0; ms < 120_000; ms += 50 {
			now := t0.Add(time.Duration(ms) * time.Millisecond)
			for k, until := range pending {
				if !until.After(now) {
					delete(pending, k)
					p.Answered(k, k >= 0, now)
				}
			}
			for _, k := range p.Due(now, room) {
				count[k >= 0]++
				pending[k] = now.Add(map[bool]time.Duration{true: 20 * time.Millisecond, false: 3 * time.Second}[k >= 0])
			}
		}
		return count
	}
	alone, among := asked(0), asked(300)
	require.InDelta(t, alone[true], among[true], 20, "but for the first round, which is everybody's")
	require.Greater(t, among[false], 300)
}

func TestNobodyIsAskedTwiceAtATime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := New[string](middle)
		asking, known := map[string]bool{}, map[string]bool{}
		now := t0
		names := []string{"a", "b", "c"}
		for range 60 {
			now = now.Add(time.Duration(rapid.IntRange(0, 5000).Draw(t, "ms")) * time.Millisecond)
			k := rapid.SampledFrom(names).Draw(t, "who")
			switch rapid.IntRange(0, 4).Draw(t, "what") {
			case 0:
				if !asking[k] {
					p.Set(k, time.Second, k == "c", now)
					known[k] = true
				}
			case 1:
				if known[k] {
					p.Answered(k, rapid.Bool().Draw(t, "ok"), now)
					asking[k] = false
				}
			case 2:
				p.Close(k, rapid.Bool().Draw(t, "on"), now)
			default:
				for _, d := range p.Due(now, Room{2, 2}) {
					require.False(t, asking[d], "%s is being asked", d)
					asking[d] = true
				}
			}
		}
	})
}

// TestALossyWayIsAskedAboutUntilItIsCertain: as often as the way needs, and no longer.
func TestALossyWayIsAskedAboutUntilItIsCertain(t *testing.T) {
	now := time.Unix(0, 0)
	p := New[string](func() float64 { return 0.5 })
	p.Set("host", 10*time.Second, true, now)
	room := Room{10, 10, 10}
	miss := func() time.Duration {
		for len(p.Due(now, room)) == 0 {
			now, _ = p.Next(room)
		}
		p.Answered("host", false, now)
		p.Doubt("host", 6, now)
		next, _ := p.Next(room)
		return next.Sub(now)
	}
	for range 5 {
		require.InDelta(t, 1, miss().Seconds(), 0.2)
	}
	require.InDelta(t, 10, miss().Seconds(), 1, "it is silent now")
}
