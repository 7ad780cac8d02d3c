package api

import (
	"net"
	"net/netip"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"
)

// answersTo turns away requests that were meant for somebody else's name: a page
// elsewhere may have its own name stand for this address, and ask as if it were ours.
// An address in numbers cannot be made to stand for another.
func (s *Server) answersTo(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		host := c.Request().Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
		if _, err := netip.ParseAddr(host); err != nil && host != "localhost" && !slices.Contains(s.Hosts, host) {
			return &notOursError{host}
		}
		return next(c)
	}
}

type notOursError struct{ host string }

func (e *notOursError) Error() string {
	return "this service does not answer to the name " + e.host + ": plumbd serve --host NAME says which are its own"
}

// from says whose address a request comes from: the peer's, or, where that is a proxy
// which is trusted, what that says.
func (s *Server) from() echo.IPExtractor {
	if len(s.Proxies) == 0 {
		return echo.ExtractIPDirect() // a header could say anything
	}
	trusted := []echo.TrustOption{echo.TrustLoopback(false), echo.TrustLinkLocal(false), echo.TrustPrivateNet(false)}
	for _, p := range s.Proxies {
		trusted = append(trusted, echo.TrustIPRange(&net.IPNet{IP: p.Addr().AsSlice(), Mask: net.CIDRMask(p.Bits(), p.Addr().BitLen())}))
	}
	return echo.ExtractIPFromXFFHeader(trusted...)
}
