package ipmigear

import (
	"context"
	"fmt"
	"time"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// driftLimit is how wrong a controller's clock may be before its log cannot be
// compared with anything any more.
const driftLimit = time.Minute

// guesses are passwords that anybody tries first; the user's own name is one more.
var guesses = []ipmi.Secret{"", "admin", "password", "root", "changeme", "12345678"}

// Weaknesses looks for standing faults in the controller's set-up.
func (d *Driver) Weaknesses(ctx context.Context) ([]reading.Weakness, error) {
	var out []reading.Weakness
	err := d.use("look for weaknesses", func(c *ipmi.Client) error {
		status, err := c.ChassisStatus(ctx)
		if err != nil {
			return err
		}
		w := finder{name: d.o.Name}
		if status.Restore == ipmi.StayOff {
			w.add("stays-off", "it stays off when power comes back, so a cut of its outlet strands it", "plumb controller power %s --restore \"comes on\"", d.o.Name)
		}
		if d.o.Shared {
			w.add("shared-port", "its controller shares the host's network port, so it is lost with the production network", "connect the controller's own port, or add another way in")
		}
		w.session(c)
		if _, off, err := drift(ctx, c); lost(err) {
			return err
		} else if err == nil && off.Abs() > driftLimit {
			w.add("clock", fmt.Sprintf("its controller's clock is %s %s", off.Abs(), direction(off)), "plumb controller clock %s --set", d.o.Name)
		}
		if err := w.users(ctx, c); lost(err) {
			return err
		}
		if err := w.suites(ctx, c); lost(err) {
			return err
		}
		out = w.found
		return nil
	})
	return out, err
}

func direction(off time.Duration) string {
	if off < 0 {
		return "behind"
	}
	return "ahead"
}

type finder struct {
	name  string
	found []reading.Weakness
}

func (w *finder) add(name, text, remedy string, args ...any) {
	w.found = append(w.found, reading.Weakness{Name: name, Text: text, Remedy: fmt.Sprintf(remedy, args...)})
}

func (w *finder) session(c *ipmi.Client) {
	info, _ := c.Session()
	switch {
	case info.Legacy:
		w.add("old-protocol", "its controller is spoken to over IPMI 1.5, which encrypts nothing", "update its firmware, or replace it")
	case !info.Suite.Sound():
		w.add("weak-suite", "its controller is spoken to with "+info.Suite.String(), "have the controller offer cipher suite 17 or 3, and take cipher-suites off its endpoint")
	}
	if info.Anonymous {
		w.add("anonymous", "its controller lets in anybody, without a name and a password", "plumb controller users %s --user 1 --disable", w.name)
	}
	if info.NullUser {
		w.add("nameless", "its controller has a user without a name", "plumb controller users %s --user 1 --disable", w.name)
	}
}

// users tries passwords that anybody would, on every user that may log in. The
// controller compares them: nobody logs in, and nothing is locked.
func (w *finder) users(ctx context.Context, c *ipmi.Client) error {
	t, err := c.Users(ctx)
	if err != nil {
		return err
	}
	for _, u := range t.Entries {
		if !u.Enabled || !u.Messaging || u.Privilege == ipmi.NoAccess {
			continue
		}
		for _, p := range append(guesses[:len(guesses):len(guesses)], ipmi.Secret(u.Name)) {
			is, err := c.TestPassword(ctx, u.ID, p)
			if err != nil {
				return err
			}
			if !is {
				continue
			}
			text := fmt.Sprintf("user %q on its controller has a password that anybody would try first", u.Name)
			if p == "" {
				text = fmt.Sprintf("user %q on its controller has no password", u.Name)
			}
			w.add("password", text, "plumb controller users %s --user %d --password", w.name, u.ID)
			break
		}
	}
	return nil
}

// suites that let somebody in without encryption, or check nothing at all.
func (w *finder) suites(ctx context.Context, c *ipmi.Client) error {
	l, err := c.LAN(ctx)
	if err != nil {
		return err
	}
	for s, p := range l.Suites {
		if s == 0 && p > ipmi.Callback {
			w.add("suite-0", fmt.Sprintf("its controller offers cipher suite 0: anybody may act as any user, up to %s, without a password", p), "switch cipher suite 0 off in the controller's settings, at once")
		}
	}
	for _, s := range []rmcp.Suite{rmcp.Suite1, rmcp.Suite15} {
		if p := l.Suites[s]; p > ipmi.User {
			w.add("plain-suite", fmt.Sprintf("its controller offers %s to %ss", s, p), "limit that cipher suite to the privilege user, or switch it off")
		}
	}
	return nil
}
