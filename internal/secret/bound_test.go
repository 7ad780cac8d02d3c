package secret

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhereASecretMayGo(t *testing.T) {
	v := Value{Kind: SNMPv2c}.BoundTo([]string{"snmp://198.51.100.7:161", "snmp://pdu.example", "ipmi://203.0.113.0/24", "http://[2001:db8::1]:80"})
	for _, c := range []struct {
		protocol, address string
		may               bool
	}{
		{"snmp", "198.51.100.7:161", true},
		{"snmp", "198.51.100.7:1161", false},
		{"snmp", "198.51.100.70:161", false},
		{"http", "198.51.100.7:161", false},
		{"snmp", "pdu.example:1", true},
		{"snmp", "pdu.example.evil.test:161", false},
		{"snmp", "evil.test:161", false},
		{"ipmi", "203.0.113.9:623", true},
		{"ipmi", "203.0.114.9:623", false},
		{"ipmi", "[::ffff:203.0.113.9]:623", true},
		{"snmp", "203.0.113.9:161", false},
		{"http", "[2001:db8::1]:80", true},
		{"http", "127.0.0.1:9001", false},
	} {
		require.Equal(t, c.may, v.MayGoTo(c.protocol, c.address), "%s %s", c.protocol, c.address)
	}
	require.Equal(t, []string{"http://127.0.0.1:9001"}, v.Outside([]string{"snmp://pdu.example:161", "http://127.0.0.1:9001"}))
	require.True(t, Value{}.MayGoTo("snmp", "anywhere:1"), "of before there were bounds")
	require.False(t, Value{}.BoundTo(nil).MayGoTo("snmp", "anywhere:1"))
	require.Empty(t, Value{}.BoundTo(nil).Bounds())
	for bound, sound := range map[string]bool{"snmp://198.51.100.0/24": true, "ipmi://host:623": true, "http://host": true, "host": false, "snmp://": false, "snmp://a b": false, "http://host/path": false} {
		require.Equal(t, sound, CheckBound(bound) == nil, bound)
	}
}
