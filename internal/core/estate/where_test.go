package estate

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEachHost(t *testing.T) {
	for address, host := range map[string]string{
		"198.51.100.7:161": "198.51.100.7", "pdu.example:80": "pdu.example", "[2001:db8::1]:623": "2001:db8::1", "2001:db8::1": "2001:db8::1",
		"http://198.51.100.7:8080/x:y": "198.51.100.7", "https://[2001:db8::1]/": "2001:db8::1", "http://pdu.example/": "pdu.example", "http://a@b/": "b",
	} {
		require.Equal(t, host, HostOf(address), address)
	}
	e := &Estate{Devices: []Device{{Key: "a", Endpoints: []Endpoint{{Protocol: "snmp", Secret: "s", Addresses: []string{"one:1", "two:2"}}}, Probes: []Probe{{Target: "http://three/"}}, Wake: &Wake{Secret: "w", Broadcast: "four:9"}}}}
	var all []string
	require.NoError(t, e.EachHost(func(h string) error { all = append(all, h); return nil }))
	require.Equal(t, []string{"one", "two", "three"}, all)
	require.EqualError(t, e.EachHost(func(string) error { return errors.New("no") }), "a: no")
	require.Equal(t, map[string][]string{"s": {"snmp://one:1", "snmp://two:2"}, "w": {"wake://four:9"}}, e.SecretUses())
}
