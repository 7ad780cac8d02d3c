package gate

import (
	"context"
	"fmt"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestWhoHoldsConnections: one network does not keep the others out, and what is given back
// is there again, once.
func TestWhoHoldsConnections(t *testing.T) {
	g := New(Parts{})
	at := func(s string) net.Addr { return &net.TCPAddr{IP: net.ParseIP(s), Port: 1} }
	var enter func()
	for range mostOfOne {
		var ok bool
		enter, ok = g.approach(at("2001:db8::1"))
		require.True(t, ok)
	}
	_, ok := g.approach(at("2001:db8::ffff"))
	require.False(t, ok, "whoever has one address has all of them")
	enter()
	enter()
	_, ok = g.approach(at("2001:db8::2"))
	require.True(t, ok)
	_, ok = g.approach(at("2001:db8::3"))
	require.False(t, ok)
	for i := range mostAtDoor - mostOfOne {
		_, ok = g.approach(at(fmt.Sprintf("192.0.2.%d", i)))
		require.True(t, ok)
	}
	_, ok = g.approach(at("198.51.100.1"))
	require.False(t, ok)
	for range MostOfThem {
		_, ok = g.room(g.in, "kari", MostIn, MostOfThem)
		require.True(t, ok)
	}
	_, ok = g.room(g.in, "kari", MostIn, MostOfThem)
	require.False(t, ok)
	_, ok = g.room(g.in, "runa", MostIn, MostOfThem)
	require.True(t, ok)
}

// TestTheHostKeyStays: whoever has seen it once is not asked about another.
func TestTheHostKeyStays(t *testing.T) {
	dir := t.TempDir()
	var prints []string
	for range 2 {
		g := New(Parts{DataDir: dir})
		require.NoError(t, g.Listen("127.0.0.1:0"))
		_, print := g.Address()
		prints = append(prints, print)
		require.NoError(t, g.Close())
	}
	require.Equal(t, prints[0], prints[1])
}

// TestIdle: who types nothing is let go, and who types is not.
func TestIdle(t *testing.T) {
	here, there := net.Pipe()
	defer func() { _ = here.Close(); _ = there.Close() }()
	l := &lastTyped{Reader: here, at: time.Now()}
	gone := make(chan time.Time, 1)
	began := time.Now()
	go l.watch(context.Background(), 200*time.Millisecond, func() { gone <- time.Now() })
	go func() {
		var b [1]byte
		for {
			if _, err := l.Read(b[:]); err != nil {
				return
			}
		}
	}()
	time.Sleep(100 * time.Millisecond)
	_, err := there.Write([]byte("x"))
	require.NoError(t, err)
	require.GreaterOrEqual(t, (<-gone).Sub(began), 300*time.Millisecond)
}
