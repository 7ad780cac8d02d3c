package api

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
)

// settingsWithin is how long reading or changing settings may take: the whole
// of them is some forty questions to a slow box.
const settingsWithin = 40 * time.Second

// GetController implements the contract.
func (s *Server) GetController(ctx context.Context, req contract.GetControllerRequestObject) (contract.GetControllerResponseObject, error) {
	_, _, c, err := driven[gear.Controller](s, req.Key)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, settingsWithin)
	defer cancel()
	got, err := c.ReadSettings(ctx)
	if err != nil {
		return nil, err
	}
	return contract.GetController200JSONResponse(settingsView(got)), nil
}

func settingsView(g gear.Settings) contract.ControllerSettings {
	out := contract.ControllerSettings{
		Network: contract.ControllerNetwork{
			Address: &g.Network.Address, Mask: &g.Network.Mask, Gateway: &g.Network.Gateway, Source: &g.Network.Source, Mac: &g.Network.MAC, Vlan: &g.Network.VLAN,
		},
		Users: []contract.ControllerUser{}, Slots: g.Slots, DriftSeconds: g.Drift.Seconds(), Clock: timeOf(g.Clock),
		Alerts:   contract.ControllerAlerts{Enabled: g.Alerts.Enabled, Community: g.Alerts.Community, Destinations: []contract.AlertDestination{}},
		Watchdog: contract.ControllerWatchdog{Running: &g.Watchdog.Running, Action: g.Watchdog.Action, Use: &g.Watchdog.Use, Seconds: g.Watchdog.Initial.Seconds(), LeftSeconds: ptr(g.Watchdog.Left.Seconds())},
		Restore:  string(g.Restore), Boot: contract.ControllerBoot{Device: g.Boot.Device, Persistent: &g.Boot.Persistent, Uefi: &g.Boot.UEFI},
		LimitW: g.Limit, Name: g.Name, Sessions: g.Sessions[0], SessionSlots: g.Sessions[1], Suite: g.Suite,
	}
	for _, u := range g.Users {
		out.Users = append(out.Users, contract.ControllerUser{ID: u.ID, Name: &u.Name, Privilege: &u.Privilege, Enabled: &u.Enabled, LogsIn: &u.LogsIn})
	}
	for _, a := range g.Alerts.Destinations {
		out.Alerts.Destinations = append(out.Alerts.Destinations, contract.AlertDestination{Number: a.Number, Address: a.Address})
	}
	return out
}

// A change is one thing to be changed about a controller: what it is, in
// words, what to be warned of, and how it is done.
type change struct {
	texts    []string
	warnings []string
	apply    func(context.Context) error
}

func (c *change) say(format string, args ...any) {
	c.texts = append(c.texts, fmt.Sprintf(format, args...))
}
func (c *change) warn(format string, args ...any) {
	c.warnings = append(c.warnings, fmt.Sprintf(format, args...))
}

// ChangeController implements the contract.
func (s *Server) ChangeController(ctx context.Context, req contract.ChangeControllerRequestObject) (contract.ChangeControllerResponseObject, error) {
	d, ep, driver, err := driven[gear.Controller](s, req.Key)
	if err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, settingsWithin)
	defer cancel()
	was := gear.Settings{}
	if needsSettings(req.Body) {
		if was, err = driver.ReadSettings(ctx); err != nil {
			return nil, err
		}
	}
	c, err := s.changeOf(d, ep, driver, was, req.Body)
	if err != nil {
		return nil, err
	}
	out := contract.ChangeController200JSONResponse{Changes: append([]string{}, c.texts...), Warnings: append([]string{}, c.warnings...)}
	if req.Body.Apply == nil || !*req.Body.Apply || len(c.texts) == 0 {
		return out, nil
	}
	// The light harms nobody; everything else is for who looks after the gear.
	if req.Body.IdentifySeconds == nil {
		if err := atLeast(ctx, operation.Steward); err != nil {
			return nil, err
		}
	}
	if err := s.done(ctx, d, req.Body.Why, "Controller: "+strings.Join(c.texts, "; "), c.apply(ctx)); err != nil {
		return nil, err
	}
	out.Applied = true
	return out, nil
}

// needsSettings: what is changed has to be compared with what there is.
func needsSettings(b *contract.ControllerChange) bool {
	return b.Network != nil || b.User != nil || b.SetClock != nil || b.Alert != nil || b.Watchdog != nil || b.Restore != nil || b.Boot != nil || b.LimitW != nil || b.Name != nil
}

// changeOf works out the one change that is asked for.
func (s *Server) changeOf(d *estate.Device, ep estate.Endpoint, driver gear.Controller, was gear.Settings, b *contract.ControllerChange) (*change, error) {
	var found []*change
	add := func(wanted bool, make func(c *change)) {
		if wanted {
			c := &change{}
			make(c)
			found = append(found, c)
		}
	}
	differs := func(c *change, what, from, to string) {
		if from != to {
			c.say("%s: %s → %s", what, orNone(from), orNone(to))
		}
	}
	add(b.Network != nil, func(c *change) { networkChange(c, driver, was.Network, *b.Network, ep) })
	add(b.User != nil, func(c *change) { s.userChange(c, driver, was, *b.User, ep) })
	add(b.SetClock != nil && *b.SetClock, func(c *change) {
		c.say("clock: set to ours, which it is %s off", was.Drift.Abs())
		c.apply = func(ctx context.Context) error { return driver.SetClock(ctx, time.Now()) }
	})
	add(b.Alert != nil, func(c *change) {
		from := ""
		for _, a := range was.Alerts.Destinations {
			if a.Number == b.Alert.Number {
				from = a.Address
			}
		}
		differs(c, fmt.Sprintf("alert destination %d", b.Alert.Number), from, b.Alert.Address)
		if !was.Alerts.Enabled {
			c.say("alerts: off → on")
		}
		c.apply = func(ctx context.Context) error {
			return driver.SetAlerts(ctx, gear.AlertChange{Number: b.Alert.Number, Address: b.Alert.Address, Community: text(b.Alert.Community)})
		}
	})
	add(b.TestAlert != nil, func(c *change) {
		c.say("a test alert to destination %d", *b.TestAlert)
		c.apply = func(ctx context.Context) error { return driver.TestAlert(ctx, *b.TestAlert) }
	})
	add(b.Watchdog != nil, func(c *change) {
		initial := time.Duration(b.Watchdog.Seconds * float64(time.Second))
		differs(c, "watchdog", fmt.Sprintf("%s after %s", was.Watchdog.Action, was.Watchdog.Initial), fmt.Sprintf("%s after %s", b.Watchdog.Action, initial))
		if was.Watchdog.Running {
			c.warn("it is running now, and is stopped by this: whoever resets it has to start it again")
		}
		c.apply = func(ctx context.Context) error {
			return driver.SetWatchdog(ctx, gear.WatchdogChange{Action: b.Watchdog.Action, Initial: initial})
		}
	})
	add(b.Restore != nil, func(c *change) {
		differs(c, "when power comes back", string(was.Restore), *b.Restore)
		if *b.Restore == string(reading.StaysOff) {
			c.warn("with this, a cut of its outlets strands it until its chassis is switched on")
		}
		c.apply = func(ctx context.Context) error { return driver.SetRestore(ctx, reading.Restore(*b.Restore)) }
	})
	add(b.Boot != nil, func(c *change) { bootChange(c, driver, was.Boot, *b.Boot) })
	add(b.LimitW != nil, func(c *change) {
		differs(c, "power limit", watts(was.Limit), watts(*b.LimitW))
		c.apply = func(ctx context.Context) error { return driver.SetLimit(ctx, *b.LimitW) }
	})
	add(b.Name != nil, func(c *change) {
		differs(c, "name", was.Name, *b.Name)
		c.apply = func(ctx context.Context) error { return driver.SetName(ctx, *b.Name) }
	})
	add(b.IdentifySeconds != nil, func(c *change) {
		c.say("identify light: on for %d s", *b.IdentifySeconds)
		c.apply = func(ctx context.Context) error {
			return driver.Identify(ctx, time.Duration(*b.IdentifySeconds)*time.Second)
		}
	})
	if len(found) != 1 {
		return nil, usage("ask for exactly one change: there are %d", len(found))
	}
	return found[0], nil
}

func orNone(s string) string { return cmp.Or(s, "none") }

func watts(w int) string {
	if w == 0 {
		return ""
	}
	return fmt.Sprintf("%d W", w)
}

func networkChange(c *change, driver gear.Controller, was gear.Network, b contract.ControllerNetwork, ep estate.Endpoint) {
	want := gear.Network{Address: text(b.Address), Mask: text(b.Mask), Gateway: text(b.Gateway), Source: text(b.Source), VLAN: was.VLAN}
	if b.Vlan != nil {
		want.VLAN = *b.Vlan
	}
	moves := false
	for _, f := range []struct {
		what, from, to string
		given          bool
	}{
		{"address source", was.Source, want.Source, want.Source != ""}, {"address", was.Address, want.Address, want.Address != ""},
		{"mask", was.Mask, want.Mask, want.Mask != ""}, {"gateway", was.Gateway, want.Gateway, want.Gateway != ""},
		{"VLAN", vlan(was.VLAN), vlan(want.VLAN), b.Vlan != nil},
	} {
		if f.given && f.from != f.to {
			c.say("%s: %s → %s", f.what, orNone(f.from), orNone(f.to))
			moves = moves || f.what != "gateway" && f.what != "mask"
		}
	}
	if moves {
		c.warn("this moves the controller away from %s, where we reach it: our own way in is cut unless the estate file and the network follow", ep.Addresses[0])
	} else if len(c.texts) > 0 {
		c.warn("a wrong mask or gateway cuts our own way to the controller, if we reach it through a router")
	}
	c.apply = func(ctx context.Context) error { return driver.SetNetwork(ctx, want) }
}

func vlan(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func (s *Server) userChange(c *change, driver gear.Controller, was gear.Settings, b contract.ControllerUser, ep estate.Endpoint) {
	var old gear.User
	for _, u := range was.Users {
		if u.ID == b.ID {
			old = u
		}
	}
	who := fmt.Sprintf("user %d", b.ID)
	if old.Name != "" {
		who += " (" + old.Name + ")"
	}
	if b.Name != nil && *b.Name != old.Name {
		c.say("%s name: %s → %s", who, orNone(old.Name), orNone(*b.Name))
	}
	if b.Privilege != nil && *b.Privilege != old.Privilege {
		c.say("%s privilege: %s → %s", who, orNone(old.Privilege), *b.Privilege)
	}
	if b.Password != nil {
		c.say("%s password: a new one", who)
	}
	if b.Enabled != nil && *b.Enabled != old.Enabled {
		c.say("%s: %s", who, map[bool]string{true: "may log in", false: "may not log in any more"}[*b.Enabled])
	}
	if len(c.texts) > 0 && old.Name != "" && old.Name == s.Garage.UserOf(ep.Secret) {
		c.warn("we log in as this user ourselves: our own way in is cut unless secret %s follows", ep.Secret)
	}
	c.apply = func(ctx context.Context) error {
		return driver.SetUser(ctx, gear.UserChange{ID: b.ID, Name: b.Name, Privilege: b.Privilege, Password: b.Password, Enabled: b.Enabled})
	}
}

func bootChange(c *change, driver gear.Controller, was gear.Boot, b contract.ControllerBoot) {
	want := gear.Boot{Device: b.Device, Persistent: b.Persistent != nil && *b.Persistent, UEFI: b.Uefi == nil || *b.Uefi}
	say := func(x gear.Boot) string {
		words := x.Device
		if x.Persistent {
			words += ", every time"
		}
		return words
	}
	if was != want {
		c.say("starts from: %s → %s", say(was), say(want))
	}
	if want.Persistent {
		c.warn("this holds for every start, until it is changed")
	}
	c.apply = func(ctx context.Context) error { return driver.SetBoot(ctx, want) }
}
