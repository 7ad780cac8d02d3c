package people

import (
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// clocked are tries whose clock is moved by hand.
func clocked() (*tries, *time.Time) {
	now := time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC)
	return newTries(func() time.Time { return now }), &now
}

func waits(x *tries, account, from string) bool {
	b, err := x.begin(account, from)
	if err == nil {
		b.neither()
	}
	return err != nil
}

func TestGuessingIsSlowedDown(t *testing.T) {
	x, now := clocked()
	for range freeHere {
		_, err := x.begin("admin", "192.0.2.1")
		require.NoError(t, err)
	}
	var wait *WaitError
	_, err := x.begin("admin", "192.0.2.1")
	require.ErrorAs(t, err, &wait)
	require.EqualError(t, err, "too many wrong passwords: wait 30 s")
	require.False(t, waits(x, "other", "192.0.2.1"), "a colleague behind the same address")
	require.False(t, waits(x, "admin", "192.0.2.99"), "the same from elsewhere")
	*now = now.Add(tryWait)
	b, err := x.begin("admin", "192.0.2.1")
	require.NoError(t, err, "after a while once more")
	b.succeeded()
	require.False(t, waits(x, "admin", "192.0.2.1"), "and all is forgotten once it was right")
}

// Strangers from everywhere wait; the owner, who has come in from there before, does not.
func TestStrangersDoNotKeepTheOwnerOut(t *testing.T) {
	x, _ := clocked()
	b, err := x.begin("k.oster", "192.0.2.7")
	require.NoError(t, err)
	b.succeeded()
	refused := 0
	for i := range 200 {
		if _, err := x.begin("k.oster", fmt.Sprintf("198.51.100.%d", i)); err != nil {
			refused++
		}
	}
	require.Equal(t, 200-freeAccount, refused)
	require.False(t, waits(x, "k.oster", "192.0.2.7"))

	for i := range freeNetwork {
		_, err := x.begin(fmt.Sprint("name", i), "2001:db8::1")
		require.NoError(t, err)
	}
	require.True(t, waits(x, "one-more", "2001:db8::ffff"), "one IPv6 network is one")
	require.False(t, waits(x, "one-more", "2001:db8:0:1::1"))
}

// A burst gets no more tries than one after the other, and nothing grows without end.
func TestABurstCountsBeforeItIsChecked(t *testing.T) {
	x, now := clocked()
	var through atomic.Int32
	var work sync.WaitGroup
	for range 50 {
		work.Go(func() {
			if _, err := x.begin("admin", "192.0.2.1"); err == nil {
				through.Add(1)
			}
		})
	}
	work.Wait()
	require.EqualValues(t, freeHere, through.Load())
	for i := range 2 * triesMost {
		_, _ = x.begin(fmt.Sprint("n", i), fmt.Sprint("net", i))
	}
	require.LessOrEqual(t, len(x.count), triesMost+3)
	*now = now.Add(triesLast)
	require.False(t, waits(x, "admin", "192.0.2.1"))
}
