package names

import (
	"errors"
	"fmt"
	"net/netip"
)

// Policy says where connections may go. Whoever may write an estate, or try a profile,
// must not have this host ask its own services, or those that only it is trusted by.
type Policy struct {
	Loopback bool // this host itself
}

// metadata are the addresses, beside link-local ones, at which clouds tell a host about
// itself.
var metadata = []netip.Addr{netip.MustParseAddr("fd00:ec2::254"), netip.MustParseAddr("168.63.129.16"), netip.MustParseAddr("100.100.100.200")}

var (
	errLoopback  = errors.New("it is this host itself, and nothing here is asked unless plumbd is started with --loopback")
	errLinkLocal = errors.New("it is a link-local address, or one at which a host is told about itself: nothing there is ever asked")
	errNoHost    = errors.New("it is not the address of one host")
)

// Check says why an address may not be connected to.
func (p Policy) Check(a netip.Addr) error {
	a = a.Unmap()
	for _, m := range metadata {
		if a == m {
			return fmt.Errorf("%s: %w", a, errLinkLocal)
		}
	}
	switch {
	case a.IsLinkLocalUnicast():
		return fmt.Errorf("%s: %w", a, errLinkLocal)
	case a.IsUnspecified(), a.IsMulticast():
		return fmt.Errorf("%s: %w", a, errNoHost)
	case a.IsLoopback() && !p.Loopback:
		return fmt.Errorf("%s: %w", a, errLoopback)
	}
	return nil
}
