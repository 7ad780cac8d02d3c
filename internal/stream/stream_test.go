package stream

import (
	"context"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

func next(t *testing.T, r *Reader) (said []string) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Second)
	defer cancel()
	events, err := r.Next(ctx)
	require.NoError(t, err)
	for _, e := range events {
		said = append(said, fmt.Sprintf("%s %s %s", e.Kind, e.Key, e.Data))
	}
	return said
}

func TestResume(t *testing.T) {
	h := NewHub()
	r := h.From("")
	require.NoError(t, h.Publish(Device, "a", 1))
	require.NoError(t, h.Publish(Device, "b", 2))
	require.Equal(t, []string{"device a 1", "device b 2"}, next(t, r))
	seen := h.Newest()
	require.NoError(t, h.Publish(Device, "a", 3))
	require.NoError(t, h.Publish(Device, "a", 4))
	require.NoError(t, h.Publish(Journal, "newest", 5))
	require.Equal(t, []string{"device a 4", "journal newest 5"}, next(t, h.From(seen)), "without a gap, and only the newest of each")
}

func TestWhatCannotBeResumedStartsAnew(t *testing.T) {
	h := NewHub()
	require.NoError(t, h.Publish(Device, "a", 1))
	old := h.Newest()
	for _, id := range []string{"other-1", h.id(999), "nonsense", h.epoch + "-x"} {
		require.Equal(t, []string{"reset  {}"}, next(t, h.From(id)), id)
	}
	slow := h.From("")
	for i := range mostThings + 1 {
		require.NoError(t, h.Publish(Operation, fmt.Sprint(i), i))
	}
	require.Equal(t, []string{"reset  {}"}, next(t, slow), "too slow")
	require.Equal(t, []string{"reset  {}"}, next(t, h.From(old)), "too old")
	require.LessOrEqual(t, len(h.order), 2*mostThings+64)
}

type row struct {
	Key   string  `json:"key"`
	State string  `json:"state"`
	W     float64 `json:"w,omitempty"`
	Last  int     `json:"last"`
}

// TestOnlyWhatIsDifferent is told, to each reader since they read last.
func TestOnlyWhatIsDifferent(t *testing.T) {
	h := NewHub()
	publish := func(x row) { require.NoError(t, h.PublishMembers(Device, x.Key, x, "last")) }
	quick, slow, other := h.From(""), h.From(""), h.From("")
	other.Wants = func(kind, key string) bool { return kind != Device || key == "b" }
	publish(row{"a", "steady", 5, 1})
	require.Equal(t, []string{`device a {"key":"a","last":1,"state":"steady","w":5}`}, next(t, quick))
	before := h.Newest()
	publish(row{"a", "steady", 5, 2})
	require.Equal(t, before, h.Newest(), "what only comes along is no reason")
	publish(row{"a", "hung", 5, 3})
	require.Equal(t, []string{`device a {"key":"a","last":3,"state":"hung"}`}, next(t, quick))
	publish(row{"a", "hung", 0, 4})
	require.Equal(t, []string{`device a {"key":"a","last":4,"w":null}`}, next(t, quick), "a member that is gone")
	require.Equal(t, []string{`device a {"key":"a","last":4,"state":"hung","w":null}`}, next(t, slow))
	require.Equal(t, []string{`device a {"key":"a","last":4,"state":"hung","w":null}`}, next(t, h.From(before)))
	publish(row{"b", "steady", 1, 1})
	publish(row{"a", "steady", 1, 1})
	require.Equal(t, []string{`device b {"key":"b","last":1,"state":"steady","w":1}`}, next(t, other), "what nobody looks at is not sent")

	require.NoError(t, h.Publish(Trouble, "all", []int{}))
	seen := h.Newest()
	require.NoError(t, h.Publish(Trouble, "all", []int{}))
	require.Equal(t, seen, h.Newest(), "the same again is nothing new")
	for i := range 1000 {
		publish(row{"a", fmt.Sprint(i), 1, i})
	}
	require.Less(t, len(h.order), 100, "it does not grow")
}

func TestNextWaits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h := NewHub()
		r := h.From("")
		go func() {
			time.Sleep(time.Minute)
			_ = h.Publish(Device, "a", 1)
		}()
		began := time.Now()
		_, err := r.Next(t.Context())
		require.NoError(t, err)
		require.Equal(t, time.Minute, time.Since(began))
		ctx, cancel := context.WithTimeout(t.Context(), time.Second)
		defer cancel()
		_, err = r.Next(ctx)
		require.ErrorIs(t, err, context.DeadlineExceeded)
	})
}
