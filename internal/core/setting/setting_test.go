package setting

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/sending"
)

var at = time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)

func TestStep(t *testing.T) {
	for _, x := range []struct {
		name  string
		from  State
		blind bool
		in    Event
		to    State
		want  []Command
	}{
		{"the record comes before what is sent", Looked, false, Started{at}, Sending, []Command{Save{}, Send{}}},
		{"after a crash it is read back and not sent again", Sending, false, Started{at}, Checking, []Command{Save{}, Check{}}},
		{"after a crash, what cannot be read back is not claimed", Sending, true, Started{at}, Failed, []Command{Save{}, Finish{}}},
		{"what is accepted has been read back", Sending, false, Answered{at, sending.Accepted, ""}, Done, []Command{Save{}, Finish{}}},
		{"a refusal is the end", Sending, false, Answered{at, sending.Refused, "no"}, Failed, []Command{Save{}, Finish{}}},
		{"a lost answer is no failure", Sending, false, Answered{at, sending.Unclear, "lost"}, Checking, []Command{Save{}, Check{}}},
		{"found as wanted", Checking, false, Found{At: at}, Done, []Command{Save{}, Finish{}}},
		{"found otherwise", Checking, false, Found{At: at, Left: []string{"name"}}, Failed, []Command{Save{}, Finish{}}},
		{"what cannot be read is read again", Checking, false, Found{At: at, Why: "silent"}, Checking, []Command{Save{}, Check{checkAgain}}},
		{"a crash while it is read back", Checking, false, Started{at}, Checking, []Command{Check{}}},
		{"what has ended stays so", Done, false, Answered{at, sending.Refused, "late"}, Done, nil},
	} {
		c := Change{State: x.from, Blind: x.blind, Words: []string{"name: a → b"}}
		require.Equal(t, x.want, c.Step(x.in), x.name)
		require.Equal(t, x.to, c.State, x.name)
		require.Equal(t, c.Ends(), !c.Ended.IsZero() || x.from == Done, x.name)
	}
}

// TestSentOnce: whatever happens in whatever order, it leaves once at the most,
// and never before it is on record.
func TestSentOnce(t *testing.T) {
	events := []Event{Started{at}, Answered{at, sending.Unclear, "lost"}, Answered{at, sending.Refused, "no"}, Answered{at, sending.Accepted, ""}, Found{At: at, Why: "silent"}, Found{At: at, Left: []string{"x"}}, Found{At: at}}
	rapid.Check(t, func(t *rapid.T) {
		c, sent := Change{State: Looked, Blind: rapid.Bool().Draw(t, "blind")}, 0
		for _, in := range rapid.SliceOf(rapid.SampledFrom(events)).Draw(t, "events") {
			saved := false
			for _, out := range c.Step(in) {
				switch out.(type) {
				case Save:
					saved = true
				case Send:
					sent++
					require.True(t, saved && c.State == Sending)
				}
			}
		}
		require.LessOrEqual(t, sent, 1)
	})
}
