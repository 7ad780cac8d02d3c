package hint

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/wire/syslog"
)

// TestMessagesOfGear: over UDP and TCP, by the address that they come from; what is not of
// the estate is nothing, what is too much is left out and said, and what cannot be stored
// now waits.
func TestMessagesOfGear(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	var kept []reading.Message
	fails := true
	asked := make(chan estate.Key, 10)
	said := Said{
		Log: slog.New(slog.DiscardHandler), Soon: func(_ context.Context, k estate.Key) { asked <- k },
		Store: func(_ context.Context, all []reading.Message) error {
			mu.Lock()
			defer mu.Unlock()
			if fails {
				fails = false
				return errors.New("away")
			}
			kept = append(kept, all...)
			return nil
		},
	}
	var m *Messages
	var err error
	for range 50 { // a port that is free for the one may not be for the other
		if m, err = ListenMessages("127.0.0.1:0", "", nil, said); err == nil {
			break
		}
	}
	require.NoError(t, err)
	m.owners = map[netip.Addr][]owner{netip.MustParseAddr("127.0.0.1"): {{"console", "pier"}, {"firewall", "pier"}}}
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- m.Run(ctx) }()
	say := func(network, from string, lines ...string) {
		t.Helper()
		var local net.Addr = &net.UDPAddr{IP: net.ParseIP(from)}
		if network == "tcp" {
			local = &net.TCPAddr{IP: net.ParseIP(from)}
		}
		c, err := (&net.Dialer{LocalAddr: local}).DialContext(ctx, network, m.Address().String())
		require.NoError(t, err)
		for _, l := range lines {
			_, err = fmt.Fprint(c, l)
			require.NoError(t, err)
		}
		require.NoError(t, c.Close())
	}
	say("udp", "127.0.0.1", "<11>1 - firewall kernel - - - link down")
	require.Equal(t, estate.Key("firewall"), <-asked, "by the name, where several are at an address")
	say("tcp", "127.0.0.1", "<14>app: fine\n<9>worse\n")
	say("udp", "127.0.0.2", "<11>1 - firewall kernel - - - forged")
	say("udp", "127.0.0.1", "no message")
	have := func() []reading.Message { mu.Lock(); defer mu.Unlock(); return kept }
	require.Eventually(t, func() bool { return len(have()) == 3 }, 20*time.Second, 10*time.Millisecond)
	levels := map[string]reading.Level{}
	for _, x := range have() {
		levels[x.Text] = x.Level
		require.Equal(t, estate.Key("pier"), x.Site)
	}
	require.Equal(t, map[string]reading.Level{"link down": reading.Warning, "fine": reading.Fine, "worse": reading.Critical}, levels)

	for range 3 * burst {
		m.heard(ctx, netip.MustParseAddr("127.0.0.1"), syslog.Heard{Severity: 6, Text: "noise"})
	}
	require.Eventually(t, func() bool { return len(have()) >= burst }, 20*time.Second, 10*time.Millisecond)
	require.Less(t, len(have()), 2*burst)
	require.Eventually(t, func() bool {
		m.heard(ctx, netip.MustParseAddr("127.0.0.1"), syslog.Heard{Severity: 6, Text: "noise"})
		for _, x := range have() {
			if x.App == "plumbd" {
				return true
			}
		}
		return false
	}, 20*time.Second, 100*time.Millisecond, "what was left out is said")
	cancel()
	require.ErrorIs(t, <-done, context.Canceled)
}
