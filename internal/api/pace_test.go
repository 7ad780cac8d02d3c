package api

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/picture"
)

// TestPace: who is slow has little on the way, and fewer colours, until the link is quick again.
func TestPace(t *testing.T) {
	now := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	var p pace
	n := uint32(0)
	looks := func(bytes int, took time.Duration) {
		n++
		p.sent(n, bytes, bytes > 20<<10, now)
		now = now.Add(took)
		p.drawn(n, now)
	}
	_, form, _ := p.now()
	require.Equal(t, picture.InFew, form, "something is seen soon")
	looks(3<<10, 250*time.Millisecond)
	_, form, _ = p.now()
	require.Equal(t, picture.InFull, form, "the page has only been loaded")
	looks(100, 10*time.Millisecond)
	looks(3<<10, 60*time.Millisecond)
	for range 5 {
		looks(100<<10, 30*time.Millisecond)
	}
	ready, form, link := p.now()
	require.True(t, ready)
	require.Equal(t, picture.InFull, form)
	require.Equal(t, linkView{Form: "full"}, link)
	few := 0
	for range 11 {
		looks(30<<10, 1700*time.Millisecond)
		if _, form, link = p.now(); form == picture.InFew {
			few++
		}
	}
	require.GreaterOrEqual(t, few, 4)
	require.Equal(t, picture.InFew, form)
	require.Equal(t, "few", link.Form)
	require.InDelta(t, 20000, link.Rate, 5000)
	require.Equal(t, roomLeast, p.roomFor(), "of what is new there is room for little")
	for range 30 {
		looks(30<<10, 50*time.Millisecond)
	}
	_, form, _ = p.now()
	require.Equal(t, picture.InFull, form)
	require.Zero(t, p.roomFor())
	looks(300, 900*time.Millisecond) // a hiccup is none of the link
	_, form, _ = p.now()
	require.Equal(t, picture.InFull, form)
	p.choose(picture.InFew, true)
	looks(30<<10, 10*time.Millisecond)
	_, form, _ = p.now()
	require.Equal(t, picture.InFew, form, "chosen is chosen")

	for range mostUndrawn {
		ready, _, _ = p.now()
		require.True(t, ready)
		n++
		p.sent(n, 100, false, now)
	}
	ready, _, _ = p.now()
	require.False(t, ready, "so many are on their way")
	p.drawn(n, now)
	ready, _, _ = p.now()
	require.True(t, ready, "the newest was drawn, so all were")
	p.sent(n+1, 100<<10, false, now)
	ready, _, _ = p.now()
	require.False(t, ready, "a large one goes alone")

	p, n = pace{}, 0
	looks(30<<10, 1700*time.Millisecond)
	_, form, _ = p.now()
	require.Equal(t, picture.InFew, form, "nor is the second one large")

	// Where little changes nothing tells how the link is: all colours are tried again, ever later.
	last := triesFirst / 2
	for range 3 {
		in := p.retries(now)
		require.InDelta(t, 2*last, in, float64(time.Second))
		last = in
		now = now.Add(in)
		p.again(now)
		_, form, _ = p.now()
		require.Equal(t, picture.InFull, form)
		looks(10<<10, 4*time.Second) // and it is as slow as it was
		_, form, _ = p.now()
		require.Equal(t, picture.InFew, form)
	}
}
