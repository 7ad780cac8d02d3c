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
	for i := range 2*ringSize + 1 {
		require.NoError(t, h.Publish(Device, fmt.Sprint(i), i))
	}
	require.Equal(t, []string{"reset  {}"}, next(t, slow), "too slow")
	require.Equal(t, []string{"reset  {}"}, next(t, h.From(old)), "too old")
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
