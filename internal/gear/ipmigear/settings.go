package ipmigear

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// ReadSettings reads how the controller is set up. What it does not have, or
// does not let us see, stays empty.
func (d *Driver) ReadSettings(ctx context.Context) (gear.Settings, error) {
	var s gear.Settings
	err := d.use("read the settings", func(c *ipmi.Client) error {
		status, err := c.ChassisStatus(ctx)
		if err != nil {
			return err
		}
		s.Restore = restores[status.Restore]
		for _, read := range []func() error{
			func() error { return readNetwork(ctx, c, &s.Network) },
			func() error { return readUsers(ctx, c, &s) },
			func() (err error) { s.Clock, s.Drift, err = drift(ctx, c); return err },
			func() error { return readAlerts(ctx, c, &s.Alerts) },
			func() error { return readWatchdog(ctx, c, &s.Watchdog) },
			func() (err error) { s.Boot, err = bootOf(ctx, c); return err },
			func() error {
				l, err := c.Limit(ctx)
				if l.Active {
					s.Limit = int(l.Watts)
				}
				return err
			},
			func() (err error) { s.Name, err = c.Name(ctx); return err },
			func() error {
				n, err := c.Sessions(ctx)
				s.Sessions = [2]int{int(n.Active), int(n.Slots)}
				return err
			},
		} {
			if err := read(); lost(err) {
				return err
			}
		}
		s.Suite = sessionWords(c)
		return nil
	})
	return s, err
}

func sessionWords(c *ipmi.Client) string {
	info, _ := c.Session()
	if info.Legacy {
		return "IPMI 1.5, MD5, not encrypted"
	}
	return info.Suite.String()
}

func readNetwork(ctx context.Context, c *ipmi.Client, n *gear.Network) error {
	l, err := c.LAN(ctx)
	if err != nil {
		return err
	}
	*n = gear.Network{Address: text(l.Address), Mask: text(l.Mask), Gateway: text(l.Gateway), Source: l.Source.String(), MAC: l.MAC.String(), VLAN: int(l.VLAN)}
	return nil
}

func text(a netip.Addr) string {
	if !a.IsValid() || a.IsUnspecified() {
		return ""
	}
	return a.String()
}

func readUsers(ctx context.Context, c *ipmi.Client, s *gear.Settings) error {
	t, err := c.Users(ctx)
	s.Slots = t.Slots
	for _, u := range t.Entries {
		s.Users = append(s.Users, gear.User{ID: int(u.ID), Name: u.Name, Privilege: u.Privilege.String(), Enabled: u.Enabled, LogsIn: u.Messaging})
	}
	return err
}

// drift reads the controller's clock, and how far it is ahead of ours.
func drift(ctx context.Context, c *ipmi.Client) (time.Time, time.Duration, error) {
	asked := time.Now()
	at, err := c.Clock(ctx)
	if err != nil {
		return at, 0, err
	}
	took := time.Since(asked)
	return at, at.Sub(asked.Add(took / 2)).Round(time.Second), nil
}

func readAlerts(ctx context.Context, c *ipmi.Client, to *gear.Alerts) error {
	a, err := c.Alerting(ctx)
	if err != nil {
		return err
	}
	*to = gear.Alerts{Enabled: a.Enabled && a.Filters > 0, Community: a.Community}
	for _, x := range a.Destinations {
		to.Destinations = append(to.Destinations, gear.AlertDestination{Number: int(x.Number), Address: text(x.Address)})
	}
	return nil
}

func readWatchdog(ctx context.Context, c *ipmi.Client, to *gear.Watchdog) error {
	w, err := c.Watchdog(ctx)
	if err != nil {
		return err
	}
	*to = gear.Watchdog{Running: w.Running, Action: w.Action.String(), Use: w.UseWords(), Initial: w.Initial, Left: w.Present}
	return nil
}

// wrong is a setting that makes no sense; nothing is sent.
func (d *Driver) wrong(format string, args ...any) error {
	return &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: fmt.Sprintf("%s: %s", d.o.Name, fmt.Sprintf(format, args...))}
}

// SetNetwork writes where the controller is to be found. Fields that are empty
// are left alone.
func (d *Driver) SetNetwork(ctx context.Context, n gear.Network) error {
	return d.use("set the network", func(c *ipmi.Client) error {
		was, err := c.LAN(ctx)
		if err != nil {
			return err
		}
		want := was
		for _, f := range []struct {
			text string
			to   *netip.Addr
			what string
		}{{n.Address, &want.Address, "address"}, {n.Mask, &want.Mask, "mask"}, {n.Gateway, &want.Gateway, "gateway"}} {
			if f.text == "" {
				continue
			}
			a, err := netip.ParseAddr(f.text)
			if err != nil || !a.Is4() {
				return d.wrong("%s %q is not an IPv4 address such as 192.0.2.7", f.what, f.text)
			}
			*f.to = a
		}
		switch n.Source {
		case "":
		case "static":
			want.Source = ipmi.SourceStatic
		case "dhcp":
			want.Source = ipmi.SourceDHCP
		default:
			return d.wrong("address source %q is not static or dhcp", n.Source)
		}
		if n.VLAN < 0 || n.VLAN > 4094 {
			return d.wrong("VLAN %d is not between 1 and 4094, or 0 for none", n.VLAN)
		}
		want.VLAN = uint16(n.VLAN)
		return c.SetLAN(ctx, was, want)
	})
}

// byName is the inverse of String for some values.
func byName[T fmt.Stringer](values ...T) map[string]T {
	names := map[string]T{}
	for _, v := range values {
		names[v.String()] = v
	}
	return names
}

var privileges = byName(ipmi.Callback, ipmi.User, ipmi.Operator, ipmi.Administrator, ipmi.NoAccess)

// SetUser changes one user, the password before the right to use it.
func (d *Driver) SetUser(ctx context.Context, u gear.UserChange) error {
	if u.ID < 1 || u.ID > 63 {
		return d.wrong("user %d is not between 1 and 63", u.ID)
	}
	if u.Password != nil && (len(*u.Password) == 0 || len(*u.Password) > rmcp.MaxPassword) {
		return d.wrong("a password has 1 to %d bytes", rmcp.MaxPassword)
	}
	id := uint8(u.ID)
	return d.use("change a user", func(c *ipmi.Client) error {
		if u.Name != nil {
			if err := c.SetUserName(ctx, id, *u.Name); err != nil {
				return err
			}
		}
		if u.Password != nil {
			if err := c.SetPassword(ctx, id, ipmi.Secret(*u.Password)); err != nil {
				return err
			}
		}
		if u.Privilege != nil {
			p, ok := privileges[*u.Privilege]
			if !ok {
				return d.wrong("privilege %q is not callback, user, operator, administrator or no access", *u.Privilege)
			}
			if err := c.SetUserAccess(ctx, ipmi.UserEntry{ID: id, Privilege: p, Messaging: p != ipmi.NoAccess}); err != nil {
				return err
			}
		}
		if u.Enabled != nil {
			if err := c.EnableUser(ctx, id, *u.Enabled); err != nil {
				return err
			}
		}
		return d.readBackUser(ctx, c, u)
	})
}

func (d *Driver) readBackUser(ctx context.Context, c *ipmi.Client, u gear.UserChange) error {
	t, err := c.Users(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(t.Entries, func(e ipmi.UserEntry) bool { return int(e.ID) == u.ID })
	var got ipmi.UserEntry
	if i >= 0 {
		got = t.Entries[i]
	}
	switch {
	case u.Name != nil && got.Name != *u.Name:
		return &ipmi.NotTakenError{What: "the user's name", Want: *u.Name, Got: got.Name}
	case u.Privilege != nil && i >= 0 && got.Privilege != privileges[*u.Privilege]:
		return &ipmi.NotTakenError{What: "the user's privilege", Want: *u.Privilege, Got: got.Privilege.String()}
	case u.Enabled != nil && got.Known && got.Enabled != *u.Enabled:
		return &ipmi.NotTakenError{What: "whether the user is enabled", Want: fmt.Sprint(*u.Enabled), Got: fmt.Sprint(got.Enabled)}
	}
	return nil
}

// SetClock sets the clock and reads it back.
func (d *Driver) SetClock(ctx context.Context, at time.Time) error {
	return d.use("set the clock", func(c *ipmi.Client) error {
		began := time.Now()
		if err := c.SetClock(ctx, at); err != nil {
			return err
		}
		got, err := c.Clock(ctx)
		if err != nil {
			return err
		}
		const near = 3 * time.Second
		if off := got.Sub(at.Add(time.Since(began))).Abs(); off > near {
			return &ipmi.NotTakenError{What: "the clock", Want: at.UTC().Format(time.DateTime), Got: got.Format(time.DateTime)}
		}
		return nil
	})
}

// SetAlerts has traps sent to one more receiver.
func (d *Driver) SetAlerts(ctx context.Context, a gear.AlertChange) error {
	to, err := netip.ParseAddr(a.Address)
	if err != nil || !to.Is4() {
		return d.wrong("%q is not an IPv4 address to send alerts to", a.Address)
	}
	if a.Number < 1 || a.Number > 15 {
		return d.wrong("alert destination %d is not between 1 and 15", a.Number)
	}
	return d.use("set the alerts", func(c *ipmi.Client) error {
		return c.SendAlerts(ctx, uint8(a.Number), to, false, a.Community)
	})
}

// TestAlert has a trap sent now.
func (d *Driver) TestAlert(ctx context.Context, n int) error {
	return d.use("send a test alert", func(c *ipmi.Client) error { return c.TestAlert(ctx, uint8(n)) })
}

var watchdogActions = byName(ipmi.WatchdogNothing, ipmi.WatchdogReset, ipmi.WatchdogOff, ipmi.WatchdogCycle)

// SetWatchdog sets the timer, stopped.
func (d *Driver) SetWatchdog(ctx context.Context, w gear.WatchdogChange) error {
	action, ok := watchdogActions[w.Action]
	if !ok {
		return d.wrong("a watchdog cannot do %q: it can do nothing, reset, power off or power cycle", w.Action)
	}
	return d.use("set the watchdog", func(c *ipmi.Client) error {
		const operatingSystem = 4
		return c.SetWatchdog(ctx, ipmi.Watchdog{Use: operatingSystem, Action: action, Initial: w.Initial})
	})
}

// SetRestore sets what happens when mains power comes back, and reads it back.
func (d *Driver) SetRestore(ctx context.Context, r reading.Restore) error {
	for p, name := range restores {
		if name != r || p == ipmi.RestoreUnknown {
			continue
		}
		return d.use("set the restore policy", func(c *ipmi.Client) error {
			if err := c.SetRestore(ctx, p); err != nil {
				return err
			}
			s, err := c.ChassisStatus(ctx)
			if err == nil && s.Restore != p {
				err = &ipmi.NotTakenError{What: "the restore policy", Want: string(r), Got: string(restores[s.Restore])}
			}
			return err
		})
	}
	return d.wrong("restore policy %q is not %q, %q or %q", r, reading.ComesOn, reading.AsBefore, reading.StaysOff)
}

// ReadBoot reads what the next start does.
func (d *Driver) ReadBoot(ctx context.Context) (b gear.Boot, err error) {
	err = d.use("read what it starts from", func(c *ipmi.Client) (err error) {
		b, err = bootOf(ctx, c)
		return err
	})
	return b, err
}

func bootOf(ctx context.Context, c *ipmi.Client) (gear.Boot, error) {
	b, err := c.Boot(ctx)
	if err != nil || !b.Valid {
		return gear.Boot{Device: ipmi.BootNormal.String()}, err
	}
	return gear.Boot{Device: b.Device.String(), Persistent: b.Persistent, UEFI: b.UEFI}, nil
}

// SetBoot sets what the next start does.
func (d *Driver) SetBoot(ctx context.Context, b gear.Boot) error {
	device, ok := ipmi.ParseBootDevice(b.Device)
	if !ok {
		return d.wrong("%q is not something to start from: write normal, network, disk, cd, setup, diagnostics or removable", b.Device)
	}
	return d.use("set what it starts from", func(c *ipmi.Client) error {
		return c.SetBoot(ctx, ipmi.BootFlags{Device: device, Persistent: b.Persistent, UEFI: b.UEFI})
	})
}

// SetLimit keeps the host's draw below a number of watts; 0 lifts that.
func (d *Driver) SetLimit(ctx context.Context, watts int) error {
	if watts < 0 || watts > 65535 {
		return d.wrong("%d W is not a limit", watts)
	}
	return d.use("set the power limit", func(c *ipmi.Client) error {
		return c.SetLimit(ctx, ipmi.PowerLimit{Active: watts > 0, Watts: uint16(watts)})
	})
}

// SetName names the controller.
func (d *Driver) SetName(ctx context.Context, name string) error {
	return d.use("name the controller", func(c *ipmi.Client) error { return c.SetName(ctx, name) })
}

// Identify lights the light for a while; zero puts it out.
func (d *Driver) Light(ctx context.Context, t time.Duration) error {
	if t < 0 || t > 255*time.Second {
		return d.wrong("the light cannot be lit for %s: at most 255 s", t)
	}
	return d.use("identify", func(c *ipmi.Client) error { return c.Identify(ctx, t) })
}

// Restart restarts the controller itself. That no reply comes is as expected:
// it may be gone before it could send one.
func (d *Driver) Restart(ctx context.Context, cold bool) error {
	err := d.use("restart the controller", func(c *ipmi.Client) error { return c.Restart(ctx, cold) })
	if !cold && gear.KindOf(err) == gear.Unsupported {
		return &gear.Error{Kind: gear.Unsupported, Outcome: sending.Refused, Text: "its controller cannot restart warm: --cold restarts it cold", Err: err}
	}
	return err
}
