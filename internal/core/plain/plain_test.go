package plain

import (
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestPlain(t *testing.T) {
	for _, bad := range []string{"\x1b[2J", "\u009b2J", "a\u202eb", "a\u2028b", "a\u2066b", "a\u200bb", "\x7f", "\x00", "\r", "\U000e0041", "\ufeff"} {
		_, found := Find(bad)
		require.True(t, found, "%q", bad)
	}
	for _, good := range []string{"", "Skarvoe, köld pumpa", "two\nlines\tand a tab", "21 °C – ok", "日本", "🛟"} {
		_, found := Find(good)
		require.False(t, found, "%q", good)
	}
	require.Equal(t, "twolines", Line("two\nlines"))
	rapid.Check(t, func(t *rapid.T) {
		s := Line(rapid.String().Draw(t, "s"))
		_, found := Find(s)
		require.False(t, found || strings.ContainsAny(s, "\n\t") || !utf8.ValidString(s))
		require.Equal(t, s, Line(s))
	})
}

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{5 * time.Minute: "5m", 90 * time.Second: "1m30s", time.Hour: "1h", 90 * time.Minute: "1h30m", 10 * time.Minute: "10m", 30 * time.Second: "30s", 0: "0s"} {
		require.Equal(t, want, Span(d))
	}
}
