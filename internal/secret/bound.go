package secret

import (
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
)

// Nowhere is the bound of a secret that may not be sent anywhere yet.
const Nowhere = "nowhere"

// Target is where a secret would be sent: "snmp://198.51.100.7:161".
func Target(protocol, address string) string { return protocol + "://" + address }

// MayGoTo says whether a secret may be sent to an address, HOST:PORT, in a protocol. One
// that has no bounds, which is of before there were any, may.
func (v Value) MayGoTo(protocol, address string) bool {
	return v.Bound == "" || slices.ContainsFunc(v.Bounds(), func(b string) bool { return covers(b, protocol, address) })
}

// Bounds lists where a secret may be sent: addresses, hosts and networks.
func (v Value) Bounds() []string {
	if v.Bound == Nowhere {
		return nil
	}
	return strings.Fields(v.Bound)
}

// BoundTo is the secret with these bounds alone.
func (v Value) BoundTo(bounds []string) Value {
	bounds = slices.Compact(slices.Sorted(slices.Values(bounds)))
	if v.Bound = strings.Join(bounds, " "); v.Bound == "" {
		v.Bound = Nowhere
	}
	return v
}

// Outside lists those of some targets to which a secret may not go.
func (v Value) Outside(targets []string) (out []string) {
	for _, t := range targets {
		if protocol, address, ok := strings.Cut(t, "://"); !ok || !v.MayGoTo(protocol, address) {
			out = append(out, t)
		}
	}
	return out
}

// CheckBound says what is wrong with a bound.
func CheckBound(b string) error {
	protocol, where, ok := strings.Cut(b, "://")
	if ok && protocol != "" && where != "" && !strings.ContainsAny(b, " \t\n") {
		if _, err := netip.ParsePrefix(where); err == nil || !strings.Contains(where, "/") {
			return nil
		}
	}
	return fmt.Errorf("%q is not where a secret can be sent: write PROTOCOL://HOST:PORT, PROTOCOL://HOST or PROTOCOL://NETWORK/LENGTH, as in snmp://198.51.100.0/24", b)
}

func covers(bound, protocol, address string) bool {
	p, where, ok := strings.Cut(bound, "://")
	if !ok || p != protocol {
		return false
	}
	if where == address {
		return true
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		host = address
	}
	if network, err := netip.ParsePrefix(where); err == nil {
		ip, err := netip.ParseAddr(host)
		return err == nil && network.Contains(ip.Unmap())
	}
	return strings.Trim(where, "[]") == host
}
