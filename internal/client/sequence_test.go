package client

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestReadMoves: what a sequence says, and what is wrong with one, by its line.
func TestReadMoves(t *testing.T) {
	env := func(name string) (string, bool) { return "drift wood", name == "PW" }
	moves, err := readMoves("# log in\n type plumb \nwait (?i)pass word: 20s\nwait login:\nsecret PW\nkey f10\nbreak\npause 2s\n", env)
	require.NoError(t, err)
	require.Len(t, moves, 7)
	require.Equal(t, []any{"plumb\r", 20 * time.Second, "(?i)pass word:", 30 * time.Second, "drift wood\r", "\x1b[21~", 2 * time.Second, 8},
		[]any{string(moves[0].keys), moves[1].Time, moves[1].Match.String(), moves[2].Time, string(moves[3].keys), string(moves[4].keys), moves[6].Time, moves[6].Line})
	for text, want := range map[string]string{
		"": "there is nothing in it", "# only a remark": "there is nothing in it", "type a\nshout b": `--run: line 2: "shout" is not known: type, secret`,
		"wait (": `line 1: "(" is no regular expression`, "wait": "is no regular expression", "key enter\nkey f99": `line 2: there is no key "f99"`,
		"secret NOBODY": "NOBODY is not in the environment", "pause long": `"long" is no time`,
	} {
		_, err := readMoves(text, env)
		require.ErrorContains(t, err, want, text)
	}
	_, err = readMoves("secret HOME", os.LookupEnv)
	require.NoError(t, err)
}
