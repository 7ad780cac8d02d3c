package sequence

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestForAScreen: what is played at one, and what is wrong with it, by its line.
func TestForAScreen(t *testing.T) {
	moves, err := ReadForAScreen("# set-up\nkey ctrl-alt-delete\nwait Press F2 1m\nkey f2 down\n\ntype yes\npause 2s\n", "us")
	require.NoError(t, err)
	require.Len(t, moves, 5)
	require.Equal(t, time.Minute, moves[1].Time)
	require.Equal(t, "Press F2", moves[1].Match.String())
	for i, n := range []int{1, 0, 2, 4, 0} {
		chords, err := moves[i].Chords("us")
		require.NoError(t, err)
		require.Len(t, chords, n)
	}
	for text, want := range map[string]string{
		"# nothing":              "there is nothing in it",
		"type a\nsecret PW":      `line 2: "secret" is not known: type, key, wait and pause are`,
		"key f99":                `line 1: "f99" is no key`,
		"\n\ntype ☂":             "line 3: ",
		"wait a 10m\nwait b 10m": "line 2: up to here it may wait for 20m0s, and 15m0s is the most",
		"wait [":                 `line 1: "[" is no regular expression`,
		"pause 2h":               `line 1: "2h" is no time`,
		"key a\nkey":             "line 2: there are no keys in it",
	} {
		_, err := ReadForAScreen(text, "us")
		require.ErrorContains(t, err, want, text)
		var e *Error
		require.ErrorAs(t, err, &e)
	}
}
