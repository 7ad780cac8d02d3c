package serial

import (
	"errors"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/operation"
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

// TestWhoTypes tells a whole evening at one line.
func TestWhoTypes(t *testing.T) {
	var s Seats
	sit := func(id string, role operation.Role, watch bool) ([]string, error) {
		return s.Sit(Seat{ID: id, Who: id, Role: role, Watch: watch}, t0)
	}
	said, err := sit("desk", operation.Viewer, true)
	require.ErrorContains(t, err, "a viewer may not see")
	require.Empty(t, said)
	said, err = sit("marsh", operation.Steward, false)
	require.NoError(t, err)
	require.Equal(t, []string{"marsh is on", "marsh has the keyboard"}, said)
	_, err = sit("oduya", operation.Operator, false)
	require.NoError(t, err)
	_, err = sit("kari", operation.Keeper, true)
	require.NoError(t, err)
	require.ErrorContains(t, s.Types("oduya", t0), "marsh has the keyboard: ask for it")
	require.NoError(t, s.Types("marsh", t0))
	said, err = s.Sends("marsh", "the file x", t0)
	require.NoError(t, err)
	require.Equal(t, []string{"marsh sends the file x"}, said)
	_, err = s.Sends("oduya", "the file x", t0)
	require.ErrorContains(t, err, "marsh has the keyboard")

	said, err = s.Ask("oduya", after(time.Second))
	require.NoError(t, err)
	require.Equal(t, []string{"oduya asks marsh for the keyboard, and gets it in 20 s unless that is refused"}, said)
	_, err = s.Ask("kari", after(time.Second))
	require.ErrorContains(t, err, "oduya asks for it already")
	require.Equal(t, after(21*time.Second), s.Next())
	_, err = s.Refuse("marsh")
	require.NoError(t, err)
	_, err = s.Ask("oduya", after(time.Minute))
	require.NoError(t, err)
	said, _ = s.Tick(after(80 * time.Second))
	require.Equal(t, []string{"oduya has the keyboard"}, said, "nobody answered")

	_, err = s.Sends("oduya", "the file x", after(80*time.Second))
	require.ErrorContains(t, err, "an operator may type, and neither send files nor run sequences")
	_, err = s.BeAlone("marsh", time.Minute, t0)
	require.Error(t, err)
	_, err = s.BeAlone("oduya", time.Hour, after(2*time.Minute))
	require.NoError(t, err)
	require.False(t, s.Sees("kari", after(3*time.Minute)))
	require.True(t, s.Sees("oduya", after(3*time.Minute)))
	_, err = s.Take("marsh", after(3*time.Minute))
	require.ErrorContains(t, err, "only a keeper")
	said, err = s.Take("kari", after(3*time.Minute))
	require.NoError(t, err)
	require.Equal(t, []string{"kari has taken the keyboard from oduya"}, said)
	require.True(t, s.Sees("marsh", after(3*time.Minute)), "that ends being alone")

	s.Lost("kari", after(4*time.Minute))
	_, err = s.Sit(Seat{ID: "kari", Who: "marsh", Role: operation.Steward}, after(4*time.Minute))
	require.ErrorContains(t, err, "somebody else's seat")
	_, err = s.Sit(Seat{ID: "kari", Who: "kari", Role: operation.Keeper}, after(4*time.Minute+30*time.Second))
	require.NoError(t, err)
	require.Equal(t, "kari", s.Keyboard, "it comes back to it")
	s.Lost("kari", after(5*time.Minute))
	_, err = s.Sit(Seat{ID: "window", Who: "kari", Role: operation.Keeper}, after(5*time.Minute))
	require.NoError(t, err)
	require.Equal(t, "window", s.Keyboard, "and by another window")
	require.Len(t, s.All, 3)
	s.Lost("window", after(5*time.Minute))
	said, gone := s.Tick(after(6 * time.Minute))
	require.Equal(t, []string{"kari has left", "the keyboard is free"}, said)
	require.Len(t, gone, 1)
	said, err = s.Ask("marsh", after(7*time.Minute))
	require.NoError(t, err)
	require.Equal(t, []string{"marsh has the keyboard"}, said, "it was free")
	said, _ = s.Tick(after(7*time.Minute + IdleAfter))
	require.Equal(t, []string{"marsh has not typed for long", "the keyboard is free"}, said)
	require.Empty(t, s.Leave("nobody", t0))
}

// TestTheKeyboardIsInOnePlace: whatever people do, in whatever order.
func TestTheKeyboardIsInOnePlace(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var s Seats
		now := t0
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.IntRange(0, 40).Draw(t, "s")) * time.Second)
			id := rapid.SampledFrom([]string{"a", "b", "c", "d"}).Draw(t, "who")
			role := map[string]operation.Role{"a": operation.Keeper, "b": operation.Steward, "c": operation.Operator, "d": operation.Operator}[id]
			var err error
			switch rapid.IntRange(0, 9).Draw(t, "what") {
			case 0, 1:
				_, err = s.Sit(Seat{ID: id, Who: id, Role: role, Watch: id == "d"}, now)
			case 2:
				s.Leave(id, now)
			case 3:
				_, err = s.Ask(id, now)
			case 4:
				_, err = s.Give(id, now)
			case 5:
				_, err = s.Refuse(id)
			case 6:
				_, err = s.Take(id, now)
			case 7:
				_, err = s.BeAlone(id, time.Minute, now)
			case 8:
				s.Lost(id, now)
			case 9:
				err = s.Types(id, now)
			}
			var refusal *NoError
			require.True(t, err == nil || errors.As(err, &refusal), "%v", err)
			s.Tick(now)
			require.True(t, s.Keyboard == "" || s.Holder() != nil, "who has left holds nothing")
			require.True(t, s.Asked == nil || s.Keyboard != "" && s.Keyboard != s.Asked.Seat && s.seat(s.Asked.Seat) != nil)
			require.True(t, s.Alone.IsZero() || s.Keyboard != "")
			if at := s.Next(); !at.IsZero() {
				require.True(t, at.After(now), "what is due was done")
			}
		}
	})
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
