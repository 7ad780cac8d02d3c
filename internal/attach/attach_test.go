package attach

import (
	"context"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// far is the far end of a line, whose connections come out of a channel.
func far(t *testing.T) (address string, conns <-chan net.Conn) {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, ln.Close()) })
	c := make(chan net.Conn, 8)
	go func() {
		for {
			conn, err := ln.Accept()
			if err != nil {
				return
			}
			c <- conn
		}
	}()
	return ln.Addr().String(), c
}

func say(t *testing.T, c net.Conn, text string) {
	t.Helper()
	_, err := c.Write([]byte(text))
	require.NoError(t, err)
}

// Many call at once and share one connection; each reads along at its own pace, and
// is told what it missed.
func TestManyShareALine(t *testing.T) {
	address, conns := far(t)
	l := New(Options{Addresses: []string{address}, Hide: "driftwood", Timeout: time.Minute})
	var work sync.WaitGroup
	calls := make(chan *Call, 8)
	for range cap(calls) {
		work.Go(func() {
			c, err := l.Call(t.Context())
			if err != nil {
				t.Error(err)
			}
			calls <- c
		})
	}
	work.Wait()
	c := <-calls
	for range cap(calls) - 1 {
		require.Same(t, c, <-calls)
	}
	other := <-conns
	slow, quick := c.Reader(), c.Reader()
	say(t, other, "one\r\n")
	said, missed, err := quick.Next(t.Context())
	require.NoError(t, err)
	require.Equal(t, "one\r\n", string(said))
	require.Zero(t, missed)

	flood := strings.Repeat("0123456789abcdef", 2*keep/16)
	say(t, other, flood+"\r\nsecret: driftwood\r\n")
	for heard := 0; heard < len(flood); heard += len(said) + int(missed) {
		said, missed, err = quick.Next(t.Context())
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool { return strings.Contains(strings.Join(l.LastLines(1), ""), "secret: …") }, time.Minute, 5*time.Millisecond)
	said, missed, err = slow.Next(t.Context())
	require.NoError(t, err)
	require.Positive(t, missed)
	require.LessOrEqual(t, len(said), keep)

	short, cancel := context.WithTimeout(t.Context(), time.Millisecond)
	defer cancel()
	_, _, err = slow.Next(short)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.NoError(t, l.Close())
	_, _, err = slow.Next(t.Context())
	require.Error(t, err, "the call has ended")
	require.Equal(t, []string{"secret: …"}, l.LastLines(1), "what was said outlives it")
	_, err = l.Call(t.Context())
	require.ErrorIs(t, err, net.ErrClosed)
}

// A line that was lost is called again, at the next address where the first is dead.
func TestALostLineIsCalledAgain(t *testing.T) {
	address, conns := far(t)
	dead, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, dead.Close())
	l := New(Options{Addresses: []string{dead.Addr().String(), address}, Timeout: time.Minute})
	defer func() { require.NoError(t, l.Close()) }()
	_, err = l.Call(t.Context())
	var where *CallError
	require.ErrorAs(t, err, &where)
	require.Equal(t, dead.Addr().String(), where.Address)
	first, err := l.Call(t.Context())
	require.NoError(t, err)
	require.NoError(t, first.Alive(t.Context()), "a bare connection cannot be asked")
	require.NoError(t, (<-conns).Close())
	require.Eventually(t, func() bool { return first.Err() != nil }, time.Minute, time.Millisecond)
	second, err := l.Call(t.Context())
	require.NoError(t, err)
	require.NotSame(t, first, second)
	l.Lost(first)
	again, err := l.Call(t.Context())
	require.NoError(t, err)
	require.Same(t, second, again, "what is lost already takes nothing along")
}
