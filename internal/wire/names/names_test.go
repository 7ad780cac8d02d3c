package names

import (
	"context"
	"errors"
	"net/netip"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"
)

func TestADeadResolverCostsNothingForWhatWasFound(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var dead atomic.Bool
		var asked atomic.Int32
		good := netip.MustParseAddr("192.0.2.7")
		b := &Book{Lookup: func(ctx context.Context, host string) ([]netip.Addr, error) {
			asked.Add(1)
			if dead.Load() {
				<-ctx.Done()
				return nil, ctx.Err()
			}
			if host != "bmc.example" {
				return nil, errors.New("no such host")
			}
			return []netip.Addr{good}, nil
		}}
		addr := func(host string) (netip.Addr, time.Duration, error) {
			began := time.Now()
			a, err := b.Addr(t.Context(), host)
			return a, time.Since(began), err
		}
		a, _, err := addr("bmc.example")
		require.NoError(t, err)
		require.Equal(t, good, a)
		dead.Store(true)
		for range 5 {
			time.Sleep(2 * time.Minute)
			a, took, err := addr("bmc.example")
			require.NoError(t, err)
			require.Equal(t, good, a, "the last good address counts")
			require.Zero(t, took)
			a, took, err = addr("192.0.2.9")
			require.NoError(t, err)
			require.Equal(t, "192.0.2.9", a.String())
			require.Zero(t, took)
		}
		_, took, err := addr("other.example")
		var missing *Error
		require.ErrorAs(t, err, &missing)
		require.Equal(t, within, took, "a name that was never found costs one time-out")
		_, took, err = addr("other.example")
		require.Error(t, err)
		require.Zero(t, took, "and is not asked for again at once")
		ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
		defer cancel()
		began := time.Now()
		_, err = b.Addr(ctx, "third.example")
		require.ErrorIs(t, err, context.DeadlineExceeded)
		require.Equal(t, 100*time.Millisecond, time.Since(began), "who has no time does not wait")
		dead.Store(false)
		before := asked.Load()
		time.Sleep(2 * time.Minute)
		_, _, err = addr("bmc.example")
		require.NoError(t, err)
		b.asking.Wait()
		require.Equal(t, before+1, asked.Load())
	})
}

func TestWhereConnectionsMayGo(t *testing.T) {
	for address, may := range map[string]bool{
		"198.51.100.7": true, "10.0.0.1": true, "2001:db8::1": true, "fd12::1": true,
		"169.254.169.254": false, "::ffff:169.254.169.254": false, "fe80::1": false, "fd00:ec2::254": false, "100.100.100.200": false,
		"127.0.0.1": false, "127.9.9.9": false, "::1": false, "::ffff:127.0.0.1": false, "0.0.0.0": false, "::": false, "224.0.0.1": false,
	} {
		require.Equal(t, may, Policy{}.Check(netip.MustParseAddr(address)) == nil, address)
	}
	require.NoError(t, Policy{Loopback: true}.Check(netip.MustParseAddr("127.77.2.2")))
	require.Error(t, Policy{Loopback: true}.Check(netip.MustParseAddr("169.254.169.254")))
	b := Book{Lookup: func(context.Context, string) ([]netip.Addr, error) {
		return []netip.Addr{netip.MustParseAddr("169.254.169.254")}, nil
	}}
	b.Allow(Policy{})
	var forbidden *ForbiddenError
	_, err := b.Addr(t.Context(), "harmless.example.test")
	require.ErrorAs(t, err, &forbidden, "whatever it is called")
	_, err = b.DialContext(t.Context(), "tcp", "127.0.0.1:9001")
	require.ErrorAs(t, err, &forbidden)
}
