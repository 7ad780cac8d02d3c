package ipmi

import (
	"context"
	"fmt"
	"net/netip"
)

// Alerting is whether, and to where, a controller sends platform event traps
// (sections 17.4, 23.2 and 30.3).
type Alerting struct {
	Enabled      bool // event filtering is on, and alerts are among its actions
	Filters      int  // event filters that raise an alert
	Policies     []AlertPolicy
	Destinations []Destination
	Community    string
}

// AlertPolicy leads from filters to a destination (section 17.11).
type AlertPolicy struct {
	Number      uint8 // of its set
	Enabled     bool
	Destination uint8
	entry       uint8
}

// Destination is where traps go (section 23.2, parameters 18 and 19).
type Destination struct {
	Number       uint8
	Acknowledged bool
	Address      netip.Addr // invalid when unset
}

// The parameters of event filtering (table 30-6).
const (
	pefInProgress  = 0
	pefControl     = 1
	pefActions     = 2
	pefFilterCount = 5
	pefFilter      = 6
	pefPolicyCount = 8
	pefPolicy      = 9
	pefEnable      = 0x01
	actionAlert    = 0x01
	filterEnable   = 0x80
	policyEnable   = 0x08
	maxEntries     = 64 // of a table that is read
	trapType       = 0  // of a destination: platform event trap
)

func (c *Client) pef(ctx context.Context, p, set uint8) ([]byte, error) {
	return c.parameter(ctx, GetPEFConfig, nil, p, set)
}

func (c *Client) setPEF(ctx context.Context, p uint8, data ...byte) error {
	return c.Do(ctx, SetPEFConfig, append([]byte{p}, data...), nil)
}

func first(b []byte) uint8 {
	if len(b) == 0 {
		return 0
	}
	return b[0]
}

// Alerting reads whether and to where alerts are sent.
func (c *Client) Alerting(ctx context.Context) (Alerting, error) {
	var a Alerting
	control, err := c.pef(ctx, pefControl, 0)
	if err != nil {
		return a, err
	}
	actions, err := c.pef(ctx, pefActions, 0)
	if err != nil {
		return a, err
	}
	a.Enabled = first(control)&pefEnable != 0 && first(actions)&actionAlert != 0
	if a.Filters, err = c.filters(ctx); err != nil {
		return a, err
	}
	if a.Policies, err = c.policies(ctx); err != nil {
		return a, err
	}
	if a.Destinations, err = c.destinations(ctx); err != nil {
		return a, err
	}
	community, err := c.lan(ctx, lanCommunity, 0)
	a.Community = printable(community)
	return a, err
}

func (c *Client) filters(ctx context.Context) (raising int, err error) {
	count, err := c.pef(ctx, pefFilterCount, 0)
	if err != nil {
		return 0, err
	}
	for n := uint8(1); n <= min(first(count)&0x7f, maxEntries); n++ {
		b, err := c.pef(ctx, pefFilter, n)
		if err != nil {
			return raising, err
		}
		if len(b) > 2 && b[1]&filterEnable != 0 && b[2]&actionAlert != 0 {
			raising++
		}
	}
	return raising, nil
}

func (c *Client) policies(ctx context.Context) (out []AlertPolicy, err error) {
	count, err := c.pef(ctx, pefPolicyCount, 0)
	if err != nil {
		return nil, err
	}
	for n := uint8(1); n <= min(first(count)&0x7f, maxEntries); n++ {
		b, err := c.pef(ctx, pefPolicy, n)
		if err != nil {
			return out, err
		}
		if len(b) > 2 {
			out = append(out, AlertPolicy{Number: b[1] >> 4, Enabled: b[1]&policyEnable != 0, Destination: b[2] & 0x0f, entry: n})
		}
	}
	return out, nil
}

func (c *Client) destinations(ctx context.Context) (out []Destination, err error) {
	count, err := c.lan(ctx, lanDestCount, 0)
	if err != nil {
		return nil, err
	}
	for n := uint8(1); n <= first(count)&0x0f; n++ {
		kind, err := c.lan(ctx, lanDestType, n)
		if err != nil {
			return out, err
		}
		where, err := c.lan(ctx, lanDestAddress, n)
		if err != nil {
			return out, err
		}
		d := Destination{Number: n}
		if len(kind) > 1 {
			d.Acknowledged = kind[1]&0x80 != 0
		}
		if len(where) >= 7 && where[1]>>4 == 0 {
			if addr := netip.AddrFrom4([4]byte(where[3:7])); !addr.IsUnspecified() {
				d.Address = addr
			}
		}
		out = append(out, d)
	}
	return out, nil
}

// SendAlerts has platform event traps sent to an address: a destination, a
// policy that leads to it, every event filter raising alerts, and filtering
// switched on, in this order, and read back. The community is left alone when
// it is empty.
func (c *Client) SendAlerts(ctx context.Context, n uint8, to netip.Addr, acknowledged bool, community string) error {
	if !to.Is4() || n == 0 {
		return fmt.Errorf("ipmi: destination %d at %s: traps go to IPv4 addresses, and destinations count from 1", n, to)
	}
	if err := c.setDestination(ctx, n, to, acknowledged, community); err != nil {
		return err
	}
	err := c.guarded(ctx, SetPEFConfig, []byte{pefInProgress}, func() error {
		policies, err := c.policies(ctx)
		if err != nil {
			return err
		}
		if len(policies) == 0 {
			return fmt.Errorf("ipmi: the controller has no alert policies")
		}
		entry := policies[0]
		for _, p := range policies {
			if p.Destination == n || !p.Enabled && entry.Enabled && entry.Destination != n {
				entry = p
			}
		}
		const set = 1
		if err := c.setPEF(ctx, pefPolicy, entry.entry, set<<4|policyEnable, thisChannel<<4|n, 0); err != nil {
			return fmt.Errorf("alert policy %d: %w", entry.entry, err)
		}
		if err := c.raiseAlerts(ctx, set); err != nil {
			return err
		}
		if err := c.setPEF(ctx, pefActions, actionAlert); err != nil {
			return fmt.Errorf("alert action: %w", err)
		}
		return c.setPEF(ctx, pefControl, pefEnable)
	})
	if err != nil {
		return err
	}
	got, err := c.Alerting(ctx)
	if err != nil {
		return err
	}
	for _, d := range got.Destinations {
		if d.Number == n && d.Address == to && got.Enabled && got.Filters > 0 {
			return nil
		}
	}
	return &NotTakenError{"the alert destination", to.String(), fmt.Sprint(got.Destinations)}
}

func (c *Client) setDestination(ctx context.Context, n uint8, to netip.Addr, acknowledged bool, community string) error {
	const timeout, retries = 5, 3
	return c.guarded(ctx, SetLANConfig, append(channel[:1:1], lanInProgress), func() error {
		write := func(p uint8, data ...byte) error {
			return c.Do(ctx, SetLANConfig, append([]byte{thisChannel, p}, data...), nil)
		}
		if community != "" {
			var field [18]byte
			if copy(field[:], community) < len(community) {
				return fmt.Errorf("ipmi: a community string has at most %d bytes", len(field))
			}
			if err := write(lanCommunity, field[:]...); err != nil {
				return fmt.Errorf("community: %w", err)
			}
		}
		if err := write(lanDestType, n, bit(acknowledged, 0x80)|trapType, timeout, retries); err != nil {
			return fmt.Errorf("destination %d: %w", n, err)
		}
		ip := to.As4()
		address := append([]byte{n, 0, 0}, ip[:]...)
		return write(lanDestAddress, append(address, 0, 0, 0, 0, 0, 0)...) // the MAC address is the controller's to find
	})
}

// raiseAlerts switches on every filter that the maker has set up, with the
// policies of one set.
func (c *Client) raiseAlerts(ctx context.Context, set uint8) error {
	count, err := c.pef(ctx, pefFilterCount, 0)
	if err != nil {
		return err
	}
	for n := uint8(1); n <= min(first(count)&0x7f, maxEntries); n++ {
		b, err := c.pef(ctx, pefFilter, n)
		if err != nil {
			return err
		}
		const length = 21 // the number of the filter, and 20 bytes
		if len(b) < length || b[1] == 0 && b[2] == 0 {
			continue
		}
		b[1] |= filterEnable
		b[2] |= actionAlert
		b[3] = b[3]&0xf0 | set
		if err := c.setPEF(ctx, pefFilter, b...); err != nil {
			return fmt.Errorf("event filter %d: %w", n, err)
		}
	}
	return nil
}

// TestAlert has the controller send an alert to a destination now.
func (c *Client) TestAlert(ctx context.Context, n uint8) error {
	const initiate = 0
	return c.Do(ctx, AlertImmediate, []byte{thisChannel, initiate<<6 | n, 0}, nil)
}
