package serial

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var t0 = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func after(d time.Duration) time.Time { return t0.Add(d) }

// TestALogCountsOn: who was away gets what was said meanwhile, or is told from where on.
func TestALogCountsOn(t *testing.T) {
	var l Log
	l.Append([]byte("one two"))
	p, at := l.Since(4, 100)
	require.Equal(t, "two", string(p))
	require.EqualValues(t, 4, at)
	require.EqualValues(t, 4, l.Tail(3))
	p, at = l.Since(99, 100)
	require.Empty(t, p, "from another line, or another start")
	require.EqualValues(t, 7, at)
	l.Append([]byte(strings.Repeat("x", Keep)))
	p, at = l.Since(4, 10)
	require.Equal(t, strings.Repeat("x", 10), string(p))
	require.EqualValues(t, 7, at, "what is gone is gone")
	require.EqualValues(t, 7+Keep, l.End())
}

// TestWhatALineMayDoToATerminal: draw, and nothing that answers, writes elsewhere or listens.
func TestWhatALineMayDoToATerminal(t *testing.T) {
	for _, c := range []struct{ said, shown string }{
		{"plain\r\n\ttext\a\b", "plain\r\n\ttext\a\b"},
		{"\x1b[2J\x1b[1;31mMain\x1b[0m\x1b[10;20H\x1b[?25l\x1b7\x1b8", "\x1b[2J\x1b[1;31mMain\x1b[0m\x1b[10;20H\x1b[?25l\x1b7\x1b8"},
		{"\x1b(0lqk\x1b(B", "\x1b(0lqk\x1b(B"},
		{"blåbær Ä ½", "blåbær Ä ½"},
		{"a\x05b", "ab"},                                                                      // who are you
		{"a\x1b[cb\x1b[6nc\x1b[>0cd\x1b[5;6nf\x1bZg", "abcdfg"},                               // what are you, and where
		{"a\x1b]52;c;ZXZpbA==\ab", "ab"},                                                      // the clipboard
		{"a\x1b]0;title\x1b\\b", "ab"},                                                        // the title
		{"a\x1b[21tb\x1b[8;999;999tc", "abc"},                                                 // and what it is
		{"a\x1bP$q\"p\x1b\\b\x1b_x\x1b\\c\x1b^x\x1b\\d", "abcd"},                              // settings
		{"a\x1b[?1000hb\x1b[?2004hc\x1b[?1049hd", "abc\x1b[?1049hd"},                          // the mouse
		{"a\u009b6nb\u009d0;x\ac", "a6nb0;x\ac"},                                              // in eight bits
		{"a\x9b6nb\xc7\x9bc\xc7\xc7\x9b\x9b6n\xe9", "a?6nb\xc7\x9bc\xc7\xc7\x9b?6n\xe9"},      // not even of no character
		{"a\x1b[" + strings.Repeat("1;", 60) + "mb", "a" + strings.Repeat("1;", 28) + "1;mb"}, // never ends
		{"a\x1b[12\nb", "ab"},
		{"a\x1b[99999Bb\x1b[999999999bc\x1b[501bd\x1b[80be", "abcd\x1b[80be"}, // minutes of work
		{"a\x1b]never ends\nb", "ab"},
	} {
		var whole, bytewise Tamer
		got := string(whole.Tame([]byte(c.said)))
		if !strings.Contains(c.said, "1;1;") {
			require.Equal(t, c.shown, got, "%q", c.said)
		}
		var pieces []byte
		for i := range len(c.said) {
			pieces = append(pieces, bytewise.Tame([]byte(c.said[i:i+1]))...)
		}
		require.Equal(t, got, string(pieces), "wherever it is cut")
	}
}

// FuzzTame: whatever comes, nothing is left that a terminal answers or obeys.
func FuzzTame(f *testing.F) {
	for _, s := range []string{"\x1b[2J", "\x1b]0;x\a", "\x1b[6n", "\xc2\x9b6n", "\x1b\x1b[c"} {
		f.Add([]byte(s))
	}
	bad := regexp.MustCompile(`\x05|\x1b[\]PX^_kZc]|\x1b\[[0-9;?>=<]*[cntxyqpR]|\xc2[\x80-\x9f]`)
	f.Fuzz(func(t *testing.T, p []byte) {
		var tamer, again Tamer
		out := tamer.Tame(p)
		require.False(t, bad.Match(out), "%q", out)
		require.LessOrEqual(t, len(out), len(p)+1)
		require.Equal(t, string(out)+"x", string(again.Tame(append(out, 'x'))), "once is enough")
	})
}
