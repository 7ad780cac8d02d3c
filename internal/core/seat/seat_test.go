package seat

import (
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/core/operation"
)

var t0 = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func after(d time.Duration) time.Time { return t0.Add(d) }

// TestWhoTypes tells a whole evening at one line.
func TestWhoTypes(t *testing.T) {
	var s Table
	sit := func(id string, role operation.Role, watch bool) ([]string, error) {
		return s.Sit(Seat{ID: id, Who: id, Role: role, Watch: watch}, t0)
	}
	said, err := sit("desk", operation.Viewer, true)
	require.ErrorContains(t, err, "a viewer may see neither")
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
		var s Table
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
