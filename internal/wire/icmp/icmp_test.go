package icmp

import (
	"context"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Worked out by hand from RFC 792: type 8, code 0, the sum of all words
// complemented, the identifier (our token's first bytes), sequence 7.
var request = []byte{8, 0, 0xe6, 0xe2, 1, 2, 0, 7, 1, 2, 3, 4, 5, 6, 7, 8}

var echo = Echo{Seq: 7, Token: [8]byte{1, 2, 3, 4, 5, 6, 7, 8}}

func TestEcho(t *testing.T) {
	got := echo.AppendRequest(nil, false)
	require.Equal(t, request, got)
	require.Equal(t, uint16(0), Checksum(got), "a message with its checksum sums up to nothing")

	reply := append([]byte{0}, got[1:]...)
	var e Echo
	require.NoError(t, e.DecodeReply(reply, false))
	require.Equal(t, echo, e)
	for n := range reply {
		require.ErrorIs(t, e.DecodeReply(reply[:n], false), ErrNotEcho, "cut to %d bytes", n)
	}
	require.ErrorIs(t, e.DecodeReply(got, false), ErrNotEcho, "a request is no reply")
	require.ErrorIs(t, e.DecodeReply(reply, true), ErrNotEcho, "nor is one of the other version")
}

func TestPing(t *testing.T) {
	p, err := Listen()
	if err != nil {
		require.ErrorIs(t, err, ErrNotPermitted)
		return // there is nothing to be pinged with here
	}
	defer func() { require.NoError(t, p.Close()) }()
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	rtt, err := p.Ping(ctx, netip.MustParseAddr("127.0.0.1"))
	require.NoError(t, err)
	require.Less(t, rtt, 2*time.Second)
	short, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err = p.Ping(short, netip.MustParseAddr("240.0.0.1"))
	require.Error(t, err)
}

func TestAnAnswerFromSomebodyElseIsNone(t *testing.T) {
	p := &Pinger{waiting: map[uint16]waiter{}}
	seq, w := p.enter(netip.MustParseAddr("192.0.2.1"))
	p.answered(seq, netip.MustParseAddr("192.0.2.2"), time.Now())
	p.answered(seq+1, netip.MustParseAddr("192.0.2.1"), time.Now())
	require.Empty(t, w.answer)
	p.answered(seq, netip.MustParseAddr("192.0.2.1"), time.Now())
	p.answered(seq, netip.MustParseAddr("192.0.2.1"), time.Now()) // doubled
	require.Len(t, w.answer, 1)
}

func FuzzDecodeReply(f *testing.F) {
	f.Add(append([]byte{0}, request[1:]...), false)
	f.Add([]byte{129, 0, 0, 0, 1, 2, 0, 7, 1, 2, 3, 4, 5, 6, 7, 8}, true)
	f.Fuzz(func(t *testing.T, b []byte, v6 bool) {
		var e, again Echo
		if e.DecodeReply(b, v6) != nil {
			require.Zero(t, e)
			return
		}
		reply := e.AppendRequest(nil, v6)
		reply[0] = b[0]
		require.NoError(t, again.DecodeReply(reply, v6))
		require.Equal(t, e, again)
	})
}
