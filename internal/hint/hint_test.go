package hint

import (
	"context"
	"log/slog"
	"net/netip"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/wire/ipmi"
)

// TestPlatformEventTraps: a controller is told where to send alerts, and what
// it sends has it asked at once.
func TestPlatformEventTraps(t *testing.T) {
	t.Parallel()
	heard := make(chan estate.Key, 9)
	l, err := Listen("127.0.0.1:0", slog.New(slog.DiscardHandler), func(_ context.Context, k estate.Key) { heard <- k })
	require.NoError(t, err)
	world := labtest.Start(t, labtest.Options{TrapPort: l.Address().Port()})
	l.SetEstate(world.Estate)
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- l.Run(ctx) }()
	defer func() { cancel(); require.ErrorIs(t, <-done, context.Canceled) }()

	ep, _ := world.Estate.Device("ostrel-store").Controller()
	client, err := ipmi.Dial(ipmi.Options{Address: ep.Addresses[0], User: lab.ControllerSecret.User, Password: ipmi.Secret(lab.ControllerSecret.Password)})
	require.NoError(t, err)
	defer func() { require.NoError(t, client.Close()) }()
	require.NoError(t, client.SendAlerts(t.Context(), 1, netip.MustParseAddr("127.0.0.1"), false, "tern"))
	require.NoError(t, client.TestAlert(t.Context(), 1))
	require.Equal(t, estate.Key("ostrel-store"), <-heard)
	time.Sleep(quiet)
	require.NoError(t, world.Lid("ostrel-store"))
	require.Equal(t, estate.Key("ostrel-store"), <-heard, "and an event sends one by itself")
}

func TestHintsWithoutEnd(t *testing.T) {
	l, err := Listen("127.0.0.1:0", slog.New(slog.DiscardHandler), nil)
	require.NoError(t, err)
	defer func() { require.NoError(t, l.Close()) }()
	a := netip.MustParseAddr("192.0.2.1")
	l.owners[a] = []estate.Key{"x"}
	now := time.Now()
	require.Equal(t, []estate.Key{"x"}, l.from(a, a, now))
	require.Empty(t, l.from(a, a, now.Add(time.Second)))
	require.Equal(t, []estate.Key{"x"}, l.from(netip.Addr{}, a, now.Add(quiet)))
	require.Empty(t, l.from(a.Next(), a.Next(), now), "of a stranger nobody is asked")
}

// TestTrapsSayTheirName: in v2c it stands among the variables (RFC 3416, section 4.2.6).
func TestTrapsSayTheirName(t *testing.T) {
	p := gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: "tern", PDUType: gosnmp.SNMPv2Trap, Variables: []gosnmp.SnmpPDU{
		{Name: ".1.3.6.1.2.1.1.3.0", Type: gosnmp.TimeTicks, Value: uint32(7)},
		{Name: ".1.3.6.1.6.3.1.1.4.1.0", Type: gosnmp.ObjectIdentifier, Value: ".1.3.6.1.2.1.33.2.3"},
	}}
	b, err := p.MarshalMsg()
	require.NoError(t, err)
	_, words, err := Parse(b)
	require.NoError(t, err)
	require.Equal(t, "trap 1.3.6.1.2.1.33.2.3", words)
	p.Variables = p.Variables[:1]
	b, err = p.MarshalMsg()
	require.NoError(t, err)
	_, words, err = Parse(b)
	require.NoError(t, err)
	require.Equal(t, "trap that does not say its name", words)
}

func FuzzParse(f *testing.F) {
	f.Add([]byte{0x30, 0x03, 0x02, 0x01, 0x00})
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) > maxTrap {
			return
		}
		_, _, _ = Parse(b)
	})
}
