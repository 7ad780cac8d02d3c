package screen

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAMenuReadsRight that was drawn with the cursor, over what was there before.
func TestAMenuReadsRight(t *testing.T) {
	said := strings.Repeat("[ 1.0] booting, line by line\r\n", 4000) + "\x1b[0m\x1b[2J\x1b[HSet-up\x1b[3;2HOrder\x1b[5;4H 1  Disk \x1b[6;4H\x1b[7m 2  Disc \x1b[0m\x1b[6;4H" +
		"\x1b]0;title\a\x1b[6n\x05" // what asks, or does more than draw
	s, err := Of([]byte(said))
	require.NoError(t, err)
	require.Len(t, s.Rows, Rows)
	require.Equal(t, []string{"Set-up", "", " Order", "", "    1  Disk", "    2  Disc", ""}, s.Rows[:7])
	require.Equal(t, []Span{{5, 3, 12}}, s.Marked)
	require.Equal(t, []int{5, 3}, []int{s.Row, s.Column})
	s, err = Of([]byte("one\r\ntwo \xff\xc3\xa4\r\nlogin: "))
	require.NoError(t, err)
	require.Equal(t, "one", s.Rows[0])
	require.True(t, strings.HasSuffix(s.Rows[1], "ä"), s.Rows[1])
	require.Equal(t, "login:", s.Rows[2])
}

func FuzzScreen(f *testing.F) {
	for _, said := range []string{"login: ", "\x1b[2J\x1b[5;90H\x1b[7mx", "\x1b[?1049h\x1b[999A\x1b[10L\x1b[20M\x1b[3r\r\n", "\x1b(0lqk\x1b#8\x1b[5@\x1b[9999P"} {
		f.Add([]byte(said))
	}
	// What follows a byte of no character was taken for a control, and something repeated
	// a thousand million times.
	f.Add([]byte("\x1b[?x20M\xc7\xc7\xc7\xc7\xc7\xc7\x1b20[\x1b\n\xc7\xc7\xc7\xc7\x9b1049\x1b222222\n\x00\x7fbbbbbbb"))
	f.Fuzz(func(t *testing.T, said []byte) {
		s, err := Of(said)
		if err != nil {
			require.ErrorIs(t, err, ErrScreen)
			return
		}
		require.Len(t, s.Rows, Rows)
		for _, m := range s.Marked {
			require.True(t, m.From >= 0 && m.From < m.To && m.To <= Columns && m.Row < Rows)
		}
	})
}
