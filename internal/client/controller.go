package client

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

// consent is how a change to a controller is agreed to.
type consent struct {
	yes bool
	why string
}

func (w *consent) flags(c *cobra.Command) {
	c.Flags().BoolVarP(&w.yes, "yes", "y", false, "make the change without being asked")
	c.Flags().StringVar(&w.why, "why", "", "the reason, for the journal")
}

func (a *app) controllerCommand() *cobra.Command {
	c := &cobra.Command{Use: "controller", Short: "A device's management controller: its settings, read and changed", RunE: needsSubcommand}
	c.AddCommand(a.controllerShow(), a.controllerNetwork(), a.controllerUsers(), a.controllerClock(), a.controllerAlerts(),
		a.controllerWatchdog(), a.controllerBoot(), a.controllerPower(), a.restartCommand("controller", "Start a controller itself anew"))
	return c
}

func (a *app) identifyCommand() *cobra.Command {
	var lit time.Duration
	c := &cobra.Command{
		Use: "identify DEVICE", Short: "Light a device's identify light", Args: args(1, 1, "plumb identify DEVICE [--for 1m]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if lit > 255*time.Second {
				return fail(ExitUsage, "--for: a light can be lit for up to 255 s, and 0 puts it out; not for %s", lit)
			}
			return a.change(c.Context(), s, given[0], contract.ControllerChange{IdentifySeconds: new(int(lit.Seconds()))}, consent{yes: true})
		}),
	}
	spanVar(c.Flags(), &lit, "for", time.Minute, 0, "how long; 0 puts it out")
	return c
}

// change shows what a change does, asks, makes it, and says so.
func (a *app) change(ctx context.Context, s *service, device string, b contract.ControllerChange, w consent) error {
	shown, err := ask[contract.ControllerChanges](s)(s.ChangeController(ctx, device, b))
	if err != nil {
		return err
	}
	for _, x := range shown.Changes {
		fmt.Fprintf(a.out, "%s: %s\n", device, x)
	}
	if len(shown.Changes) == 0 {
		fmt.Fprintf(a.out, "%s is like that already.\n", device)
		return nil
	}
	for _, x := range shown.Warnings {
		fmt.Fprintln(a.out, a.paint("strained", "  ! "+a.wrap(x, 4, "    ")))
	}
	if !w.yes {
		if !a.terminal() {
			return fail(ExitUsage, "nobody is there to agree: add --yes to make the change")
		}
		typed, err := a.line(ctx, "Make this change? Type yes: ")
		if err != nil {
			return err
		}
		if typed != "yes" {
			return fail(ExitFailed, "left as it is")
		}
	}
	b.Apply, b.Why = new(true), &w.why
	if _, err := ask[contract.ControllerChanges](s)(s.ChangeController(ctx, device, b)); err != nil {
		return err
	}
	fmt.Fprintln(a.out, a.paint("done", "Done, and read back."))
	return nil
}

// settings reads how a controller is set up.
func (a *app) settings(ctx context.Context, s *service, device string) (contract.ControllerSettings, error) {
	return ask[contract.ControllerSettings](s)(s.GetController(ctx, device))
}

func (a *app) controllerShow() *cobra.Command {
	return &cobra.Command{
		Use: "show DEVICE", Short: "All settings, read now", Args: args(1, 1, "plumb controller show DEVICE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			x, err := a.settings(c.Context(), s, given[0])
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(x, func() table { return lineTable(settingLines(x)) })
			}
			for _, l := range settingLines(x) {
				fmt.Fprintf(a.out, "%-18s %s\n", l[0], a.wrap(l[1], 19, strings.Repeat(" ", 19)))
			}
			return nil
		}),
	}
}

func lineTable(lines [][2]string) table {
	t := table{columns: []string{"setting", "value"}}
	for _, l := range lines {
		t.rows = append(t.rows, row(l[0], l[1]))
	}
	return t
}

func settingLines(x contract.ControllerSettings) [][2]string {
	n := x.Network
	lines := [][2]string{
		{"name", orDash(x.Name)},
		{"address", fmt.Sprintf("%s (%s)", orDash(deref(n.Address)), deref(n.Source))}, {"mask", orDash(deref(n.Mask))}, {"gateway", orDash(deref(n.Gateway))},
		{"VLAN", orDash(numberOf(deref(n.Vlan), ""))}, {"MAC address", orDash(deref(n.Mac))},
		{"connected with", x.Suite}, {"sessions", fmt.Sprintf("%d of %d taken", x.Sessions, x.SessionSlots)},
		{"when power returns", x.Restore}, {"next start", bootWords(x.Boot)}, {"power limit", orDash(numberOf(x.LimitW, " W"))},
		{"clock", clockWords(x)}, {"watchdog", watchdogWords(x.Watchdog)}, {"alerts", alertWords(x.Alerts)},
	}
	for _, u := range x.Users {
		lines = append(lines, [2]string{fmt.Sprintf("user %d", u.ID), userWords(u)})
	}
	return lines
}

func numberOf(n int, unit string) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf("%d%s", n, unit)
}

func bootWords(b contract.ControllerBoot) string {
	words := b.Device
	if deref(b.Persistent) {
		words += ", and every one after"
	}
	return words
}

func clockWords(x contract.ControllerSettings) string {
	if x.Clock == nil {
		return "not known"
	}
	words := x.Clock.Format("2006-01-02 15:04:05") + " UTC"
	switch d := int(x.DriftSeconds); {
	case d > 1:
		words += fmt.Sprintf(", %s ahead of ours", time.Duration(d)*time.Second)
	case d < -1:
		words += fmt.Sprintf(", %s behind ours", time.Duration(-d)*time.Second)
	default:
		words += ", as ours"
	}
	return words
}

func watchdogWords(w contract.ControllerWatchdog) string {
	words := fmt.Sprintf("%s after %s", w.Action, time.Duration(w.Seconds)*time.Second)
	switch {
	case !deref(w.Running) && w.Seconds == 0:
		return "not running"
	case !deref(w.Running):
		return words + ", not running"
	}
	return fmt.Sprintf("%s, running for the %s, %s left", words, deref(w.Use), time.Duration(deref(w.LeftSeconds))*time.Second)
}

func alertWords(x contract.ControllerAlerts) string {
	var to []string
	for _, d := range x.Destinations {
		if d.Address != "" {
			to = append(to, fmt.Sprintf("%d: %s", d.Number, d.Address))
		}
	}
	switch {
	case !x.Enabled:
		return "off"
	case len(to) == 0:
		return "on, but they go nowhere"
	}
	return "on, to " + strings.Join(to, ", ") + ", community " + x.Community
}

func userWords(u contract.ControllerUser) string {
	words := fmt.Sprintf("%s, %s", cmp.Or(deref(u.Name), "(without a name)"), deref(u.Privilege))
	if !deref(u.Enabled) || !deref(u.LogsIn) {
		words += ", may not log in"
	}
	return words
}

// part prints some of the settings.
func (a *app) part(ctx context.Context, s *service, device string, names ...string) error {
	x, err := a.settings(ctx, s, device)
	if err != nil {
		return err
	}
	var lines [][2]string
	for _, l := range settingLines(x) {
		for _, n := range names {
			if strings.HasPrefix(l[0], n) {
				lines = append(lines, l)
			}
		}
	}
	if a.output != "table" {
		return a.show(x, func() table { return lineTable(lines) })
	}
	for _, l := range lines {
		fmt.Fprintf(a.out, "%-18s %s\n", l[0], l[1])
	}
	return nil
}

// given returns a pointer to what a flag was set to, or nil.
func given[T any](c *cobra.Command, flag string, v *T) *T {
	if c.Flags().Changed(flag) {
		return v
	}
	return nil
}

func (a *app) controllerNetwork() *cobra.Command {
	var address, mask, gateway, source string
	var vlan int
	var w consent
	c := &cobra.Command{
		Use: "network DEVICE", Short: "Where the controller is to be found; shown, or changed", Args: args(1, 1, "plumb controller network DEVICE [--address A --mask M --gateway G --source static|dhcp --vlan N]"),
		RunE: a.loggedIn(func(c *cobra.Command, on []string, s *service) error {
			n := contract.ControllerNetwork{
				Address: given(c, "address", &address), Mask: given(c, "mask", &mask), Gateway: given(c, "gateway", &gateway), Source: given(c, "source", &source), Vlan: given(c, "vlan", &vlan),
			}
			if n == (contract.ControllerNetwork{}) {
				return a.part(c.Context(), s, on[0], "address", "mask", "gateway", "VLAN", "MAC")
			}
			return a.change(c.Context(), s, on[0], contract.ControllerChange{Network: &n}, w)
		}),
	}
	f := c.Flags()
	f.StringVar(&address, "address", "", "IPv4 address")
	f.StringVar(&mask, "mask", "", "subnet mask")
	f.StringVar(&gateway, "gateway", "", "default gateway")
	f.StringVar(&source, "source", "", "static or dhcp")
	f.IntVar(&vlan, "vlan", 0, "VLAN; 0 for none")
	w.flags(c)
	return c
}

func (a *app) controllerUsers() *cobra.Command {
	var id int
	var name, privilege string
	var password, enable, disable bool
	var w consent
	c := &cobra.Command{
		Use: "users DEVICE", Short: "The controller's users; shown, or one changed",
		Args: args(1, 1, "plumb controller users DEVICE [--user N --name NAME --privilege P --password --enable|--disable]"),
		RunE: a.loggedIn(func(c *cobra.Command, on []string, s *service) error {
			u := contract.ControllerUser{ID: id, Name: given(c, "name", &name), Privilege: given(c, "privilege", &privilege)}
			switch {
			case enable && disable:
				return fail(ExitUsage, "--enable and --disable: only one of them")
			case enable:
				u.Enabled = new(true)
			case disable:
				u.Enabled = new(false)
			}
			if password {
				p, err := a.hidden(c.Context(), "New password, up to 20 bytes: ")
				if err != nil {
					return err
				}
				u.Password = &p
			}
			if u == (contract.ControllerUser{}) {
				return a.part(c.Context(), s, on[0], "user")
			}
			if id == 0 {
				return fail(ExitUsage, "say which user: --user NUMBER; plumb controller users %s shows them", on[0])
			}
			return a.change(c.Context(), s, on[0], contract.ControllerChange{User: &u}, w)
		}),
	}
	f := c.Flags()
	f.IntVar(&id, "user", 0, "the number of the user")
	f.StringVar(&name, "name", "", "a new name; empty frees the slot")
	f.StringVar(&privilege, "privilege", "", "callback, user, operator, administrator, or no access")
	f.BoolVar(&password, "password", false, "set a new password, which is asked for")
	f.BoolVar(&enable, "enable", false, "let the user log in")
	f.BoolVar(&disable, "disable", false, "do not let the user log in any more")
	w.flags(c)
	return c
}

func (a *app) controllerClock() *cobra.Command {
	var set bool
	var w consent
	c := &cobra.Command{
		Use: "clock DEVICE", Short: "The controller's clock, and how far it is off", Args: args(1, 1, "plumb controller clock DEVICE [--set]"),
		RunE: a.loggedIn(func(c *cobra.Command, on []string, s *service) error {
			if !set {
				return a.part(c.Context(), s, on[0], "clock")
			}
			return a.change(c.Context(), s, on[0], contract.ControllerChange{SetClock: &set}, w)
		}),
	}
	c.Flags().BoolVar(&set, "set", false, "set it to ours")
	w.flags(c)
	return c
}

func (a *app) controllerAlerts() *cobra.Command {
	var d contract.AlertDestination
	var community string
	var test bool
	var w consent
	c := &cobra.Command{
		Use: "alerts DEVICE", Short: "Whether and where the controller sends traps; shown, or changed",
		Args: args(1, 1, "plumb controller alerts DEVICE [--to ADDRESS [--destination N] [--community C]] [--test]"),
		RunE: a.loggedIn(func(c *cobra.Command, on []string, s *service) error {
			switch {
			case test:
				return a.change(c.Context(), s, on[0], contract.ControllerChange{TestAlert: &d.Number}, consent{yes: true, why: w.why})
			case d.Address == "":
				return a.part(c.Context(), s, on[0], "alerts")
			}
			d.Community = given(c, "community", &community)
			return a.change(c.Context(), s, on[0], contract.ControllerChange{Alert: &d}, w)
		}),
	}
	f := c.Flags()
	f.StringVar(&d.Address, "to", "", "IPv4 address that traps are sent to")
	f.IntVar(&d.Number, "destination", 1, "which of the controller's destinations")
	f.StringVar(&community, "community", "", "SNMP community of the traps")
	f.BoolVar(&test, "test", false, "have a trap sent now")
	w.flags(c)
	return c
}

func (a *app) controllerWatchdog() *cobra.Command {
	var action string
	var after time.Duration
	var w consent
	c := &cobra.Command{
		Use: "watchdog DEVICE", Short: "The watchdog timer, which may restart the host by itself; shown, or set",
		Args: args(1, 1, "plumb controller watchdog DEVICE [--action nothing|reset|power off|power cycle --after 5m]"),
		RunE: a.loggedIn(func(c *cobra.Command, on []string, s *service) error {
			if action == "" && after == 0 {
				return a.part(c.Context(), s, on[0], "watchdog")
			}
			if action == "" || after <= 0 {
				return fail(ExitUsage, "a watchdog needs both --action and --after")
			}
			return a.change(c.Context(), s, on[0], contract.ControllerChange{Watchdog: &contract.ControllerWatchdog{Action: action, Seconds: after.Seconds()}}, w)
		}),
	}
	c.Flags().StringVar(&action, "action", "", "nothing, reset, power off or power cycle")
	spanVar(c.Flags(), &after, "after", 0, 0, "how long nobody may reset it")
	w.flags(c)
	return c
}

func (a *app) controllerBoot() *cobra.Command {
	var next string
	var always, legacy bool
	var w consent
	c := &cobra.Command{
		Use: "boot DEVICE", Short: "What the next start does; --next setup goes into the firmware's set-up",
		Args: args(1, 1, "plumb controller boot DEVICE [--next normal|network|disk|cd|setup|diagnostics|removable]"),
		RunE: a.loggedIn(func(c *cobra.Command, on []string, s *service) error {
			if next == "" {
				return a.part(c.Context(), s, on[0], "next start")
			}
			b := contract.ControllerBoot{Device: next, Persistent: &always, Uefi: new(!legacy)}
			return a.change(c.Context(), s, on[0], contract.ControllerChange{Boot: &b}, w)
		}),
	}
	c.Flags().StringVar(&next, "next", "", "normal, network, disk, disk-safe, cd, setup, diagnostics, removable, remote-cd, remote-disk or remote-media")
	c.Flags().BoolVar(&always, "always", false, "for every start, and not only the next")
	c.Flags().BoolVar(&legacy, "legacy", false, "the old way of starting, and not UEFI")
	w.flags(c)
	return c
}

func (a *app) controllerPower() *cobra.Command {
	var restore string
	var limit int
	var w consent
	c := &cobra.Command{
		Use: "power DEVICE", Short: "What happens when power returns, and the power limit; shown, or set",
		Args: args(1, 1, "plumb controller power DEVICE [--restore \"comes on\"|\"as before\"|\"stays off\"] [--limit W]"),
		RunE: a.loggedIn(func(c *cobra.Command, on []string, s *service) error {
			r, l := given(c, "restore", &restore), given(c, "limit", &limit)
			switch {
			case r == nil && l == nil:
				return a.part(c.Context(), s, on[0], "when power returns", "power limit")
			case r != nil && l != nil:
				return fail(ExitUsage, "--restore and --limit: one change at a time")
			}
			return a.change(c.Context(), s, on[0], contract.ControllerChange{Restore: r, LimitW: l}, w)
		}),
	}
	c.Flags().StringVar(&restore, "restore", "", "comes on, as before, or stays off")
	c.Flags().IntVar(&limit, "limit", 0, "keep the host below so many watts; 0 for no limit")
	w.flags(c)
	return c
}
