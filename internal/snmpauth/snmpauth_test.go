package snmpauth

import (
	"encoding/asn1"
	"testing"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/secret"
)

// TestEverySessionIsBER: an agent that takes nothing but what X.690 allows understands all of them.
func TestEverySessionIsBER(t *testing.T) {
	for range 3000 {
		g := &gosnmp.GoSNMP{Target: "127.0.0.1", Port: 9, Transport: "udp"}
		Set(g, secret.Value{Kind: secret.SNMPv3, User: "u", AuthProtocol: "sha256", AuthPass: "a made-up phrase", PrivProtocol: "aes128", PrivPass: "another made-up phrase"})
		g.MsgFlags = gosnmp.NoAuthNoPriv // as the first message, which asks for the engine
		require.NoError(t, Connect(g))
		b, err := g.SnmpEncodePacket(gosnmp.GetRequest, nil, 0, 0)
		require.NoError(t, err)
		require.NoError(t, g.Close())
		var message struct {
			Version int
			Global  struct {
				ID, MaxSize int
				Flags       []byte
				Model       int
			}
			Security []byte
			Data     asn1.RawValue
		}
		_, err = asn1.Unmarshal(b, &message)
		require.NoError(t, err)
	}
}
