package ipmi

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"

	"plumbbob/internal/wire/cursor"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// AddressSource is where a controller has its address from (table 23-4, parameter 4).
type AddressSource uint8

// The sources.
const (
	SourceUnspecified AddressSource = 0
	SourceStatic      AddressSource = 1
	SourceDHCP        AddressSource = 2
	SourceFirmware    AddressSource = 3
	SourceOther       AddressSource = 4
)

func (s AddressSource) String() string {
	words := [...]string{"unspecified", "static", "dhcp", "firmware", "other"}
	if int(s) < len(words) {
		return words[s]
	}
	return words[0]
}

// LAN is the settings of a controller's network channel (section 23.2).
type LAN struct {
	Address netip.Addr
	Source  AddressSource
	MAC     net.HardwareAddr
	Mask    netip.Addr
	Gateway netip.Addr
	VLAN    uint16 // 0 for none
	// Suites that the channel offers, each with the highest privilege that
	// may use it; what is not offered has none.
	Suites map[rmcp.Suite]Privilege
}

// The parameters (table 23-4).
const (
	lanInProgress  = 0
	lanAddress     = 3
	lanSource      = 4
	lanMAC         = 5
	lanMask        = 6
	lanGateway     = 12
	lanCommunity   = 16
	lanDestCount   = 17
	lanDestType    = 18
	lanDestAddress = 19
	lanVLAN        = 20
	lanSuites      = 23
	lanSuitePriv   = 24
	vlanEnable     = 0x8000
	vlanMask       = 0x0fff
)

// parameter reads one parameter; nil when the controller does not have it.
func (c *Client) parameter(ctx context.Context, cmd Command, lead []byte, p, set uint8) ([]byte, error) {
	var b tail
	err := c.Do(ctx, cmd, append(lead[:len(lead):len(lead)], p, set, 0), &b)
	if optional(err) == nil && (err != nil || len(b) < 1) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return b[1:], nil
}

var channel = []byte{thisChannel}

func (c *Client) lan(ctx context.Context, p, set uint8) ([]byte, error) {
	return c.parameter(ctx, GetLANConfig, channel, p, set)
}

// LAN reads the settings of the channel that we came in by.
func (c *Client) LAN(ctx context.Context) (LAN, error) {
	var l LAN
	var errs []error
	read := func(p uint8, n int, take func(*cursor.Reader)) {
		b, err := c.lan(ctx, p, 0)
		if err != nil || len(b) < n {
			errs = append(errs, err)
			return
		}
		take(cursor.New(b))
	}
	addr := func(to *netip.Addr) func(*cursor.Reader) {
		return func(r *cursor.Reader) { *to = netip.AddrFrom4([4]byte(r.Bytes(4))) }
	}
	read(lanAddress, 4, addr(&l.Address))
	read(lanSource, 1, func(r *cursor.Reader) { l.Source = AddressSource(r.U8() & 0x0f) })
	read(lanMAC, 6, func(r *cursor.Reader) { l.MAC = append(net.HardwareAddr(nil), r.Bytes(6)...) })
	read(lanMask, 4, addr(&l.Mask))
	read(lanGateway, 4, addr(&l.Gateway))
	read(lanVLAN, 2, func(r *cursor.Reader) {
		if v := r.U16(); v&vlanEnable != 0 {
			l.VLAN = v & vlanMask
		}
	})
	var ids []byte
	read(lanSuites, 1, func(r *cursor.Reader) { r.U8(); ids = r.Rest() })
	read(lanSuitePriv, 1, func(r *cursor.Reader) { r.U8(); l.Suites = suitePrivileges(ids, r.Rest()) })
	return l, errors.Join(errs...)
}

// suitePrivileges reads two privileges a byte, in the order of the ids
// (table 23-4, parameter 24).
func suitePrivileges(ids, levels []byte) map[rmcp.Suite]Privilege {
	out := map[rmcp.Suite]Privilege{}
	for i, id := range ids {
		if i/2 >= len(levels) || id == 0 && i > 0 {
			break
		}
		if level := levels[i/2] >> (i % 2 * 4) & 0x0f; level != 0 {
			out[rmcp.Suite(id)] = Privilege(level)
		}
	}
	return out
}

// SetLAN writes what differs between the settings that were read and those
// wanted, within the guard, the address last, and reads it back. A controller
// whose address changes may not be reachable any more where it was: then the
// error is a *SilentError, and reading back is for the caller, at the new one.
func (c *Client) SetLAN(ctx context.Context, was, want LAN) error {
	err := c.guarded(ctx, SetLANConfig, append(channel[:1:1], lanInProgress), func() error {
		write := func(p uint8, data ...byte) error {
			return c.Do(ctx, SetLANConfig, append([]byte{thisChannel, p}, data...), nil)
		}
		if want.Source != was.Source {
			if err := write(lanSource, byte(want.Source)); err != nil {
				return fmt.Errorf("address source: %w", err)
			}
		}
		if want.VLAN != was.VLAN {
			v := want.VLAN & vlanMask
			if v != 0 {
				v |= vlanEnable
			}
			if err := write(lanVLAN, byte(v), byte(v>>8)); err != nil {
				return fmt.Errorf("VLAN: %w", err)
			}
		}
		for _, a := range []struct {
			p         uint8
			was, want netip.Addr
			what      string
		}{{lanMask, was.Mask, want.Mask, "mask"}, {lanGateway, was.Gateway, want.Gateway, "gateway"}, {lanAddress, was.Address, want.Address, "address"}} {
			if a.want == a.was || !a.want.Is4() {
				continue
			}
			b := a.want.As4()
			if err := write(a.p, b[:]...); err != nil {
				return fmt.Errorf("%s: %w", a.what, err)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	return c.readBackLAN(ctx, want)
}

func (c *Client) readBackLAN(ctx context.Context, want LAN) error {
	got, err := c.LAN(ctx)
	if err != nil {
		return err
	}
	for _, a := range []struct{ what, want, got string }{
		{"the address source", want.Source.String(), got.Source.String()},
		{"the mask", want.Mask.String(), got.Mask.String()},
		{"the gateway", want.Gateway.String(), got.Gateway.String()},
		{"the VLAN", fmt.Sprint(want.VLAN), fmt.Sprint(got.VLAN)},
		{"the address", want.Address.String(), got.Address.String()},
	} {
		if want.Source == SourceDHCP && a.what != "the address source" && a.what != "the VLAN" {
			continue // from the server
		}
		if a.want != a.got {
			return &NotTakenError{a.what, a.want, a.got}
		}
	}
	return nil
}
