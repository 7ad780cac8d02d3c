package lab

import (
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/wire/icmp"
)

// request is an IPv4 packet with an echo request from 192.0.2.1 to 198.18.1.2.
func request() []byte {
	b := []byte{0x45, 0, 0, 36, 0, 1, 0, 0, 64, protoICMP, 0, 0, 192, 0, 2, 1, 198, 18, 1, 2}
	putSum(b, ipSum)
	return icmp.Echo{Seq: 7, Token: [8]byte{1, 2, 3}}.AppendRequest(b, false)
}

func TestEchoReply(t *testing.T) {
	reply, to := echoReply(request())
	require.Equal(t, "198.18.1.2", to.String())
	require.Equal(t, []byte{198, 18, 1, 2, 192, 0, 2, 1}, reply[ipSource:ipHeader], "back to where it came from")
	require.Zero(t, icmp.Checksum(reply[:ipHeader]))
	require.Zero(t, icmp.Checksum(reply[ipHeader:]))
	var e icmp.Echo
	require.NoError(t, e.DecodeReply(reply[ipHeader:], false))
	require.Equal(t, icmp.Echo{Seq: 7, Token: [8]byte{1, 2, 3}}, e)
	for n := range ipHeader + 8 {
		none, _ := echoReply(request()[:n])
		require.Nil(t, none, "cut to %d bytes", n)
	}
}

func FuzzEchoReply(f *testing.F) {
	f.Add(request())
	f.Add([]byte{0x46, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		if reply, to := echoReply(b); reply != nil {
			require.True(t, to.Is4())
			require.Zero(t, icmp.Checksum(reply[:ipHeader]))
		}
	})
}

func card(t require.TestingT) *agent {
	e, err := estatefile.Parse("demo", []byte(demo.Estate(demo.Default)))
	require.NoError(t, err)
	w := newWorld(Options{Estate: e, Speed: 1})
	return newAgent(w.outside, e.Device("skarvoe-pdu"), "card")
}

func message(t require.TestingT, kind gosnmp.PDUType, community string, vs ...gosnmp.SnmpPDU) []byte {
	p := &gosnmp.SnmpPacket{Version: gosnmp.Version2c, Community: community, PDUType: kind, RequestID: 9, MaxRepetitions: 5, Variables: vs}
	b, err := p.MarshalMsg()
	require.NoError(t, err)
	return b
}

// FuzzAgent: whatever arrives, a card drops it or answers with a message that
// can be read; without the right community it never switches anything.
func FuzzAgent(f *testing.F) {
	get := gosnmp.SnmpPDU{Name: "." + pduOutlets + ".4.3", Type: gosnmp.Null}
	off := gosnmp.SnmpPDU{Name: "." + pduOutlets + ".5.3", Type: gosnmp.Integer, Value: orderOff}
	f.Add(message(f, gosnmp.GetRequest, ReadSecret.Community, get))
	f.Add(message(f, gosnmp.GetBulkRequest, WriteSecret.Community, get))
	f.Add(message(f, gosnmp.SetRequest, ReadSecret.Community, off))
	f.Add(message(f, gosnmp.GetNextRequest, "guess", get))
	f.Add([]byte{0x30, 0x03, 2, 1, 3})
	a := card(f)
	f.Fuzz(func(t *testing.T, b []byte) {
		reply := a.handle(b)
		if reply == nil {
			return
		}
		_, err := (&gosnmp.GoSNMP{Version: gosnmp.Version2c, Logger: a.codec.Logger}).SnmpDecodePacket(reply)
		if err != nil && !isV3(reply) {
			t.Fatalf("answered %x with %x, which cannot be read: %v", b, reply, err)
		}
	})
}

func TestOrdersAreOvertaken(t *testing.T) {
	a := card(t)
	end := estate.OutletEnd("skarvoe-pdu", 3)
	a.w.mu.Lock()
	a.w.cycle(end)         // off now, on in ten seconds
	a.w.command(end, true) // but somebody wants it on at once
	a.w.mu.Unlock()
	time.Sleep(2 * relayTime)
	closed, orders := a.w.Contact(end)
	require.True(t, closed)
	require.Equal(t, 2, orders)
	require.Equal(t, ".1.3.6.1", formatOID(parseOID("1.3.6.1")))
}
