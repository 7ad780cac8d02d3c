package serial

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestTypedAhead: on a slow line that echoes, what has not come back is shown, and wiped
// when it does; on a quick one, and of a password, nothing is.
func TestTypedAhead(t *testing.T) {
	now := time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC)
	late := func() time.Time { now = now.Add(700 * time.Millisecond); return now }
	var a Ahead
	require.Empty(t, a.Typed([]byte("l"), now), "whether it echoes is not known yet")
	before, behind := a.Said([]byte("l"), late())
	require.Empty(t, string(before)+string(behind))
	require.Equal(t, "\x1b7\x1b[2;4ms\x1b[0m\x1b8", string(a.Typed([]byte("s"), now)))
	require.Equal(t, "\x1b7 \x1b8\x1b7\x1b[2;4ms -\x1b[0m\x1b8", string(a.Typed([]byte(" -"), now)))
	before, behind = a.Said([]byte("s "), late())
	require.Equal(t, "\x1b7   \x1b8", string(before))
	require.Equal(t, "\x1b7\x1b[2;4m-\x1b[0m\x1b8", string(behind))
	require.Equal(t, "\x1b7 \x1b8", string(a.Typed([]byte("\r"), now)), "Enter: what comes of it is for the far end")
	before, behind = a.Said([]byte("-\r\nPassword: "), late())
	require.Empty(t, string(before)+string(behind))
	require.Empty(t, a.Typed([]byte("secret"), now))
	require.Empty(t, a.Typed([]byte("s"), now.Add(5*time.Second)))
	_, behind = a.Said([]byte("\r\n$ "), late())
	require.Empty(t, behind)

	a = Ahead{}
	require.Empty(t, a.Typed([]byte("a"), now))
	a.Said([]byte("a"), now.Add(time.Millisecond))
	require.Empty(t, a.Typed([]byte("b"), now), "a quick line needs none")
	a.Typed([]byte("\x1b[A"), now)
	_, behind = a.Said([]byte("\x1b[2;3Hx"), late())
	require.Empty(t, behind)
}
