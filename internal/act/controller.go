package act

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/store"
)

// ControllerSetting is one thing about a management controller.
type ControllerSetting struct {
	Network   *NetworkSetting      `json:"network,omitempty"`
	User      *UserSetting         `json:"user,omitempty"`
	SetClock  bool                 `json:"setClock,omitempty"`
	Alert     *gear.AlertChange    `json:"alert,omitempty"`
	TestAlert *int                 `json:"testAlert,omitempty"`
	Watchdog  *gear.WatchdogChange `json:"watchdog,omitempty"`
	Restore   *reading.Restore     `json:"restore,omitempty"`
	Boot      *gear.Boot           `json:"boot,omitempty"`
	LimitW    *int                 `json:"limitW,omitempty"`
	Name      *string              `json:"name,omitempty"`
	Identify  *time.Duration       `json:"identify,omitempty"`
}

// NetworkSetting is where a controller is to be found; what is empty stays.
type NetworkSetting struct {
	Address string `json:"address,omitempty"`
	Mask    string `json:"mask,omitempty"`
	Gateway string `json:"gateway,omitempty"`
	Source  string `json:"source,omitempty"`
	VLAN    *int   `json:"vlan,omitempty"`
}

// UserSetting is what is to be different about a user; nil leaves it alone. A
// password is never put on record.
type UserSetting struct {
	ID        int     `json:"id"`
	Name      *string `json:"name,omitempty"`
	Privilege *string `json:"privilege,omitempty"`
	Password  *string `json:"-"`
	Enabled   *bool   `json:"enabled,omitempty"`
}

// Light says whether all that would be done is to light something up.
func (s *ControllerSetting) Light() bool { return s.Identify != nil }

// clockOff is how far a clock may be off and count as set.
const clockOff = 2 * time.Second

// planController compares one setting with how the controller is set up.
func (a *Actor) planController(ctx context.Context, d *estate.Device, s *ControllerSetting) (*plan, error) {
	driver, err := garage.Controller[gear.Driver](a.Garage, d.Key)
	if err != nil {
		return nil, err
	}
	ep, _ := d.Controller()
	var was gear.Settings
	if s.TestAlert == nil && s.Identify == nil {
		reader, err := garage.Controller[gear.Configured](a.Garage, d.Key)
		if err != nil {
			return nil, err
		}
		if was, err = reader.ReadSettings(ctx); err != nil {
			return nil, err
		}
	}
	return controllerPlan(driver, was, s, ep, a.Garage.UserOf(ep.Secret))
}

// controllerPlan is planController, once the controller has been read. ours is the
// user as whom we log in.
func controllerPlan(driver gear.Driver, was gear.Settings, s *ControllerSetting, ep estate.Endpoint, ours string) (*plan, error) {
	var found []*plan
	add := func(wanted bool, lay func(p *plan)) {
		if wanted {
			p := &plan{kind: store.EntryController}
			lay(p)
			found = append(found, p)
		}
	}
	if s.User != nil && was.Slots > 0 && (s.User.ID < 1 || s.User.ID > was.Slots) {
		return nil, &operation.UsageError{Text: fmt.Sprintf("user %d: its controller has room for the users 1 to %d", s.User.ID, was.Slots)}
	}
	add(s.Network != nil, func(p *plan) { planNetwork(p, driver, was.Network, *s.Network, ep) })
	add(s.User != nil, func(p *plan) { planUser(p, driver, was, *s.User, ep, ours) })
	add(s.SetClock, func(p *plan) {
		if was.Drift.Abs() > clockOff {
			p.say("clock: set to ours, which it is %s off", was.Drift.Abs())
		}
		sends(p, driver, func(ctx context.Context, to gear.ClockSetter) error { return to.SetClock(ctx, time.Now()) })
	})
	add(s.Alert != nil, func(p *plan) { planAlert(p, driver, was.Alerts, *s.Alert) })
	add(s.TestAlert != nil, func(p *plan) {
		p.blind = true
		p.say("a test alert to destination %d", *s.TestAlert)
		sends(p, driver, func(ctx context.Context, to gear.AlertSetter) error { return to.TestAlert(ctx, *s.TestAlert) })
	})
	add(s.Watchdog != nil, func(p *plan) {
		p.differ("watchdog", fmt.Sprintf("%s after %s", was.Watchdog.Action, was.Watchdog.Initial), fmt.Sprintf("%s after %s", s.Watchdog.Action, s.Watchdog.Initial))
		if was.Watchdog.Running {
			p.warn("it is running now, and is stopped by this: whoever resets it has to start it again")
		}
		sends(p, driver, func(ctx context.Context, to gear.WatchdogSetter) error { return to.SetWatchdog(ctx, *s.Watchdog) })
	})
	add(s.Restore != nil, func(p *plan) {
		p.differ("when power comes back", string(was.Restore), string(*s.Restore))
		if *s.Restore == reading.StaysOff {
			p.warn("with this, a cut of its outlets strands it until its chassis is switched on")
		}
		sends(p, driver, func(ctx context.Context, to gear.RestoreSetter) error { return to.SetRestore(ctx, *s.Restore) })
	})
	add(s.Boot != nil, func(p *plan) { planBoot(p, driver, was.Boot, *s.Boot) })
	add(s.LimitW != nil, func(p *plan) {
		p.differ("power limit", watts(was.Limit), watts(*s.LimitW))
		sends(p, driver, func(ctx context.Context, to gear.LimitSetter) error { return to.SetLimit(ctx, *s.LimitW) })
	})
	add(s.Name != nil, func(p *plan) {
		p.differ("name", was.Name, *s.Name)
		sends(p, driver, func(ctx context.Context, to gear.NameSetter) error { return to.SetName(ctx, *s.Name) })
	})
	add(s.Identify != nil, func(p *plan) {
		p.blind = true
		p.say("identify light: on for %d s", int(s.Identify.Seconds()))
		sends(p, driver, func(ctx context.Context, to gear.Lighter) error { return to.Light(ctx, *s.Identify) })
	})
	if len(found) != 1 {
		return nil, &operation.UsageError{Text: fmt.Sprintf("ask for exactly one change: there are %d", len(found))}
	}
	if found[0].send == nil {
		return nil, &gear.Error{Kind: gear.Unsupported, Outcome: sending.NotSent, Text: "its controller has no way to change that over " + string(ep.Protocol)}
	}
	return found[0], nil
}

// sends has a plan carried out by the part of a driver that can do it; without one
// it stays without a way.
func sends[T any](p *plan, driver gear.Driver, send func(context.Context, T) error) {
	if to, ok := gear.As[T](driver); ok {
		p.send = func(ctx context.Context) error { return send(ctx, to) }
	}
}

func orNone(s string) string { return cmp.Or(s, "none") }

func watts(w int) string {
	if w == 0 {
		return ""
	}
	return fmt.Sprintf("%d W", w)
}

func planAlert(p *plan, driver gear.Driver, was gear.Alerts, s gear.AlertChange) {
	from := ""
	for _, x := range was.Destinations {
		if x.Number == s.Number {
			from = x.Address
		}
	}
	p.differ(fmt.Sprintf("alert destination %d", s.Number), from, s.Address)
	if !was.Enabled {
		p.say("alerts: off → on")
	}
	if s.Community != "" && s.Community != was.Community {
		p.say("alert community: %s → %s", orNone(was.Community), s.Community)
	}
	sends(p, driver, func(ctx context.Context, to gear.AlertSetter) error { return to.SetAlerts(ctx, s) })
}

func planNetwork(p *plan, driver gear.Driver, was gear.Network, s NetworkSetting, ep estate.Endpoint) {
	want := gear.Network{Address: s.Address, Mask: s.Mask, Gateway: s.Gateway, Source: s.Source, VLAN: was.VLAN}
	if s.VLAN != nil {
		want.VLAN = *s.VLAN
	}
	moves := false
	for _, f := range []struct {
		what, from, to string
		given          bool
	}{
		{"address source", was.Source, want.Source, want.Source != ""}, {"address", was.Address, want.Address, want.Address != ""},
		{"mask", was.Mask, want.Mask, want.Mask != ""}, {"gateway", was.Gateway, want.Gateway, want.Gateway != ""},
		{"VLAN", vlan(was.VLAN), vlan(want.VLAN), s.VLAN != nil},
	} {
		if f.given && f.from != f.to {
			p.differ(f.what, f.from, f.to)
			moves = moves || f.what != "gateway" && f.what != "mask"
		}
	}
	if moves {
		p.warn("this moves the controller away from %s, where we reach it: our own way in is cut unless the estate file and the network follow", ep.Addresses[0])
	} else if len(p.words) > 0 {
		p.warn("a wrong mask or gateway cuts our own way to the controller, if we reach it through a router")
	}
	sends(p, driver, func(ctx context.Context, to gear.NetworkSetter) error { return to.SetNetwork(ctx, want) })
}

func vlan(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func planUser(p *plan, driver gear.Driver, was gear.Settings, s UserSetting, ep estate.Endpoint, ours string) {
	var old gear.User
	for _, u := range was.Users {
		if u.ID == s.ID {
			old = u
		}
	}
	who := fmt.Sprintf("user %d", s.ID)
	if old.Name != "" {
		who += " (" + old.Name + ")"
	}
	if s.Name != nil {
		p.differ(who+" name", old.Name, *s.Name)
	}
	if s.Privilege != nil {
		p.differ(who+" privilege", old.Privilege, *s.Privilege)
	}
	if s.Password != nil {
		p.blind = true // nobody can read one
		p.say("%s password: a new one", who)
	}
	if s.Enabled != nil && *s.Enabled != old.Enabled {
		p.say("%s: %s", who, map[bool]string{true: "may log in", false: "may not log in any more"}[*s.Enabled])
	}
	if len(p.words) > 0 && old.Name != "" && old.Name == ours {
		p.warn("we log in as this user ourselves: our own way in is cut unless secret %s follows", ep.Secret)
	}
	sends(p, driver, func(ctx context.Context, to gear.UserSetter) error {
		return to.SetUser(ctx, gear.UserChange{ID: s.ID, Name: s.Name, Privilege: s.Privilege, Password: s.Password, Enabled: s.Enabled})
	})
}

func planBoot(p *plan, driver gear.Driver, was, want gear.Boot) {
	say := func(x gear.Boot) string {
		words := x.Device
		if x.Persistent {
			words += ", every time"
		}
		return words
	}
	if was != want {
		p.say("starts from: %s → %s", say(was), say(want))
	}
	if want.Persistent {
		p.warn("this holds for every start, until it is changed")
	}
	sends(p, driver, func(ctx context.Context, to gear.BootSetter) error { return to.SetBoot(ctx, want) })
}
