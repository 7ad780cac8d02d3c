package store_test

import (
	"context"
	"net"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

// valve stands between a store and its server: shut, it takes everything, and hands
// nothing on, as a server does whose storage hangs.
type valve struct {
	to   *mysql.Config
	shut sync.RWMutex
	full atomic.Bool // who connects now waits, and those who are in do not
}

func (v *valve) serve(t *testing.T) *mysql.Config {
	path := filepath.Join(t.TempDir(), "valve")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			out, err := net.Dial(v.to.Net, v.to.Addr)
			if err != nil {
				_ = in.Close()
				continue
			}
			if v.full.Load() {
				t.Cleanup(func() { _, _ = in.Close(), out.Close() })
				continue
			}
			go v.pass(out, in)
			go v.pass(in, out)
		}
	}()
	c := v.to.Clone()
	c.Net, c.Addr = "unix", path
	return c
}

func (v *valve) pass(to, from net.Conn) {
	defer func() { _ = to.Close() }()
	buf := make([]byte, 4096)
	for {
		n, err := from.Read(buf)
		if err != nil {
			return
		}
		v.shut.RLock()
		_, err = to.Write(buf[:n])
		v.shut.RUnlock()
		if err != nil {
			return
		}
	}
}

// TestAServerThatHangsIsAway: whoever waits for it is let go, long before the driver
// would give up, whoever comes is turned away at once, and it is back by itself.
func TestAServerThatHangsIsAway(t *testing.T) {
	t.Parallel()
	v := &valve{to: storetest.Config(t)}
	s, err := store.Open(t.Context(), v.serve(t))
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	v.shut.Lock()
	patient, cancel := context.WithTimeout(t.Context(), 15*time.Second) // the driver's own is 20 s
	defer cancel()
	_, err = s.Journal(patient, store.JournalFilter{})
	require.ErrorIs(t, err, store.ErrAway)
	require.NoError(t, patient.Err(), "it was let go before")
	for range 50 {
		_, err = s.Journal(patient, store.JournalFilter{})
		require.ErrorIs(t, err, store.ErrAway)
	}
	require.NoError(t, patient.Err(), "each would wait for seconds")
	v.shut.Unlock()
	require.Eventually(t, func() bool { return s.Ping(t.Context()) == nil }, time.Minute, 50*time.Millisecond)
}

// TestAServerThatIsSlowIsNotAway: one statement that takes its time is no reason.
func TestAServerThatIsSlowIsNotAway(t *testing.T) {
	t.Parallel()
	c := storetest.Config(t)
	s, err := store.Open(t.Context(), c)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	require.NoError(t, s.Sleep(t.Context(), 4*time.Second))
}

// TestAServerThatAnswersOthersIsNotAway: a statement that takes its time, and new connections that
// do, are no reason while anybody is answered.
func TestAServerThatAnswersOthersIsNotAway(t *testing.T) {
	t.Parallel()
	v := &valve{to: storetest.Config(t)}
	s, err := store.Open(t.Context(), v.serve(t))
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	var several sync.WaitGroup
	for range 2 { // so many connections
		several.Go(func() { _ = s.Sleep(t.Context(), 300*time.Millisecond) })
	}
	several.Wait()
	v.full.Store(true)
	slow := make(chan error, 1)
	go func() { slow <- s.Sleep(t.Context(), 6*time.Second) }()
	for {
		select {
		case err := <-slow:
			require.NoError(t, err)
			return
		case <-time.After(50 * time.Millisecond):
			require.NoError(t, s.Sleep(t.Context(), 0))
		}
	}
}

// TestClosingWhatHangs is no error: what was written has been acknowledged.
func TestClosingWhatHangs(t *testing.T) {
	t.Parallel()
	v := &valve{to: storetest.Config(t)}
	s, err := store.Open(t.Context(), v.serve(t))
	require.NoError(t, err)
	var several sync.WaitGroup
	for range 4 {
		several.Go(func() { _ = s.Sleep(t.Context(), 300*time.Millisecond) })
	}
	several.Wait()
	v.shut.Lock()
	defer v.shut.Unlock()
	_, err = s.Journal(t.Context(), store.JournalFilter{})
	require.ErrorIs(t, err, store.ErrAway)
	require.NoError(t, s.Close())
}
