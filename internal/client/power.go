package client

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/verdict"
)

func (a *app) powerCommand() *cobra.Command {
	var site string
	c := &cobra.Command{
		Use: "power", Short: "What carries how much at each site, what hangs on it, and what if it were lost",
		Args: func(c *cobra.Command, given []string) error {
			if len(given) > 0 && slices.Contains([]string{"on", "off", "cycle", "reset"}, given[0]) {
				return fail(ExitUsage, "plumb power shows what carries how much; switching is plumb %s", strings.Join(given, " "))
			}
			return args(0, 0, "plumb power [--site SITE]")(c, given)
		},
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			p := contract.GetPowerParams{}
			if site != "" {
				p.Site = &site
			}
			all, err := ask[[]contract.SitePower](s)(s.GetPower(c.Context(), &p))
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(all, func() table { return powerTable(all) })
			}
			for i, x := range all {
				if i > 0 {
					fmt.Fprintln(a.out)
				}
				a.sitePower(x, site != "")
			}
			return nil
		}),
	}
	c.Flags().StringVar(&site, "site", "", "only this site, with all that hangs on each outlet")
	return c
}

func powerTable(all []contract.SitePower) table {
	t := table{columns: []string{"site", "device", "kind", "name", "w", "a", "rating_w", "rating_a", "share"}}
	number := func(v *float64) string {
		if v == nil {
			return ""
		}
		return verdict.Figure(*v)
	}
	for _, s := range all {
		for _, x := range s.Elements {
			t.rows = append(t.rows, row(s.Site, x.Device, string(x.Kind), x.Name, number(x.W), number(x.A), number(x.RatingW), number(x.RatingA), number(x.Share)))
		}
	}
	return t
}

func (a *app) sitePower(x contract.SitePower, whole bool) {
	head := x.Name + ": " + orDash(watts(x.W))
	switch {
	case x.Utility != nil && *x.Utility == contract.Gone:
		head += ", the utility is gone"
	case x.UtilityV != nil:
		head += fmt.Sprintf(", utility %.0f V", *x.UtilityV)
	}
	for _, f := range x.Balance {
		head += fmt.Sprintf(", feed %s %.0f W", f.Feed, f.W)
	}
	fmt.Fprintln(a.out, a.paint("bold", head))
	for _, u := range x.Supplies {
		fmt.Fprintln(a.out, a.paint(levelStyle[u.Level], "  "+a.wrap(u.Device+": "+supplyWords(u), 2, "    ")))
	}
	t := table{columns: []string{"", "CARRIES", "OF", "", "LEFT"}}
	for _, e := range x.Elements {
		name := e.Device
		if e.Name != "" {
			name = "  " + string(e.Kind) + " " + e.Name
		}
		rating := watts(e.RatingW)
		if e.RatingA != nil {
			rating = fmt.Sprintf("%.0f A", *e.RatingA)
		}
		t.rows = append(t.rows, row("  "+name, carries(e), orDash(rating), gauge(e.Share), orDash(watts(e.HeadroomW))))
		style := ""
		if e.Share != nil && *e.Share > 1 {
			style = "hung"
		} else if e.Share != nil && *e.Share > nearlyFull {
			style = "strained"
		}
		t.styles = append(t.styles, style)
	}
	if len(t.rows) > 0 {
		a.table(t)
	}
	if whole {
		a.hangers(x)
	}
	a.failovers(x)
	for _, w := range x.Weaknesses {
		fmt.Fprintln(a.out, a.paint("strained", "  weak: "+a.wrap(w.Text+": "+w.Remedy, 8, "        ")))
	}
}

// nearlyFull is the share from which on a load is pointed out.
const nearlyFull = 0.8

func carries(e contract.PowerElement) string {
	if e.A != nil && e.RatingA != nil {
		return fmt.Sprintf("%.2f A", *e.A)
	}
	return orDash(watts(e.W))
}

const gaugeWidth = 12

// gauge draws a share: "████░░░░░░░░  31 %".
func gauge(share *float64) string {
	if share == nil {
		return ""
	}
	n := max(0, min(gaugeWidth, int(*share*gaugeWidth+0.5)))
	return strings.Repeat("█", n) + strings.Repeat("░", gaugeWidth-n) + fmt.Sprintf(" %3.0f %%", 100**share)
}

func (a *app) hangers(x contract.SitePower) {
	a.section("What hangs on it")
	t := table{columns: []string{"  FROM", "FEED", "TAKES", "DEVICE"}}
	for _, h := range x.Hangers {
		what := h.Device
		if !h.Essential {
			what += ", not essential"
		}
		if h.On != nil && !*h.On {
			what += ", off"
		}
		t.rows = append(t.rows, row("  "+h.From, h.Feed, orDash(watts(h.W)), what))
	}
	a.table(t)
}

func (a *app) failovers(x contract.SitePower) {
	for _, f := range x.Failovers {
		switch {
		case len(f.Alone) == 0 && len(f.Dark) == 0:
			continue
		case len(f.Alone) == 0:
			if len(x.Failovers) > 1 {
				fmt.Fprintf(a.out, "  %s\n", a.wrap(fmt.Sprintf("without %s: dark %s", f.Lost, strings.Join(f.Dark, ", ")), 2, "    "))
			}
			continue
		}
		text := fmt.Sprintf("without %s: %d run on fewer feeds", f.Lost, len(f.Alone))
		if len(f.Dark) > 0 {
			text += ", dark " + strings.Join(f.Dark, ", ")
		}
		for _, s := range f.Shifts {
			if s.Over {
				text += fmt.Sprintf("; %s %s would carry %.0f W, too much", s.Device, s.Name, s.AfterW)
			}
		}
		style := ""
		if f.Holds {
			text += "; the rest holds"
		} else if len(f.Dark) == 0 {
			style = "hung"
		}
		fmt.Fprintln(a.out, a.paint(style, "  "+a.wrap(text, 2, "    ")))
	}
}

func (a *app) outletCommand() *cobra.Command {
	c := &cobra.Command{Use: "outlet", Short: "Outlets: list them, name them, and say what they do after a power loss", RunE: needsSubcommand}
	list := &cobra.Command{
		Use: "list DEVICE", Short: "What a PDU, a PoE switch or a strip gives power through", Args: args(1, 1, "plumb outlet list DEVICE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			d, err := ask[contract.Device](s)(s.GetDevice(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if len(d.Outlets) == 0 && a.output == "table" {
				fmt.Fprintf(a.out, "%s gives power to nothing, as far as the estate says.\n", given[0])
				return nil
			}
			return a.show(d.Outlets, func() table { return outletTable(d.Outlets) })
		}),
	}
	c.AddCommand(list,
		a.outletChange("name DEVICE/OUTLET NAME", "Name an outlet on the gear itself", 2, func(given []string, o *contract.OutletChange) error {
			o.Name = &given[1]
			return nil
		}),
		a.outletChange("after-loss DEVICE/OUTLET off|on|as-before", "Say what an outlet does when power comes back", 2, func(given []string, o *contract.OutletChange) error {
			w := contract.OutletChangeAfterLoss(strings.ReplaceAll(given[1], "-", " "))
			if w != "on" && w != "off" && w != "as before" {
				return fail(ExitUsage, "%q is not off, on or as-before", given[1])
			}
			o.AfterLoss = &w
			return nil
		}), a.outletDelay())
	return c
}

func (a *app) outletDelay() *cobra.Command {
	var on, off int
	c := a.outletChange("delay DEVICE/OUTLET", "Say how long an outlet waits before it moves", 1, func(_ []string, o *contract.OutletChange) error {
		if on < 0 && off < 0 {
			return fail(ExitUsage, "say which: --on SECONDS, --off SECONDS")
		}
		if on >= 0 {
			o.OnDelay = &on
		}
		if off >= 0 {
			o.OffDelay = &off
		}
		return nil
	})
	c.Flags().IntVar(&on, "on", -1, "s, before it is switched on")
	c.Flags().IntVar(&off, "off", -1, "s, before it is switched off")
	return c
}

// outletChange is a command that writes something to one outlet of gear.
func (a *app) outletChange(use, short string, n int, fill func([]string, *contract.OutletChange) error) *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: use, Short: short, Args: args(n, n, "plumb outlet "+use),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			device, port, ok := strings.Cut(given[0], "/")
			if !ok {
				return fail(ExitUsage, "%q names no outlet: write DEVICE/OUTLET, such as skarvoe-pdu/3", given[0])
			}
			o := contract.OutletChange{}
			if why != "" {
				o.Why = &why
			}
			if err := fill(given, &o); err != nil {
				return err
			}
			if _, err := ask[nothing](s)(s.SetOutlet(c.Context(), device, port, o)); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s has kept it.\n", device)
			return nil
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for the journal")
	return c
}

func outletTable(list []contract.Outlet) table {
	t := table{columns: []string{"OUTLET", "STATE", "DRAW", "A", "ENERGY", "AFTER LOSS", "FEEDS"}}
	for _, o := range list {
		state := "not known"
		if o.On != nil {
			state = map[bool]string{true: "on", false: "off"}[*o.On]
			switch {
			case o.Giving == nil || !*o.On || *o.Giving:
			case o.Trouble != nil:
				state += ", gives none: " + *o.Trouble
			default:
				state += ", not taken"
			}
			if !o.Fresh {
				state += ", stale"
			}
		}
		if !o.Switched {
			state += ", always"
		}
		kwh := o.Wh
		if kwh != nil {
			kwh = new(*o.Wh / 1000)
		}
		feeds := strings.Join(o.Feeds, ", ")
		if o.Name != "" && o.Name != feeds {
			feeds = strings.TrimPrefix(feeds+fmt.Sprintf(" (named %s)", o.Name), " ")
		}
		t.rows = append(t.rows, row(o.Port, state, inWatts(o.W), amount(o.A, 2, "", "a"), amount(kwh, 1, "kWh", "kwh"), deref(o.AfterLoss), feeds))
	}
	return t
}

func (a *app) portsCommand() *cobra.Command {
	return &cobra.Command{
		Use: "ports DEVICE", Short: "The ports of a switch, and who is on them", Args: args(1, 1, "plumb ports DEVICE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			p, err := ask[contract.Ports](s)(s.GetPorts(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if a.output == "table" && len(p.Ports) == 0 {
				fmt.Fprintf(a.out, "No ports were read from %s: only a switch has them, and only when the profile of its card maps them.\n", given[0])
				return nil
			}
			err = a.show(p, func() table {
				t := table{columns: []string{"PORT", "LINK", "NEIGHBOUR", "ITS PORT", "IN THE ESTATE"}}
				for _, x := range p.Ports {
					t.rows = append(t.rows, row(x.Port, map[bool]string{true: "up", false: "down"}[x.Up], deref(x.Neighbour), deref(x.Remote), deref(x.Device)))
				}
				return t
			})
			if a.output == "table" {
				for _, m := range p.Mismatches {
					fmt.Fprintln(a.out, a.paint("strained", a.wrap(m, 0, "  ")))
				}
			}
			return err
		}),
	}
}

func (a *app) cardCommand() *cobra.Command {
	c := &cobra.Command{Use: "card", Short: "The card of a PDU, a UPS or a switch: its clock, its log, and its restart", RunE: needsSubcommand}
	show := &cobra.Command{
		Use: "show DEVICE", Short: "Its clock and its log", Args: args(1, 1, "plumb card show DEVICE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			card, err := ask[contract.Card](s)(s.GetCard(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if a.output == "table" {
				if card.Clock != nil {
					fmt.Fprintf(a.out, "Clock %s, %+.0f s against ours\n", card.Clock.UTC().Format("2006-01-02 15:04:05 UTC"), deref(card.DriftSeconds))
				} else {
					fmt.Fprintln(a.out, "It has no clock that could be read.")
				}
			}
			return a.show(card, func() table {
				t := table{columns: []string{inZone("AT"), "ITS LOG"}}
				for _, e := range card.Entries {
					t.rows = append(t.rows, row(logged(e.At), e.Text))
				}
				return t
			})
		}),
	}
	c.AddCommand(a.restartCommand("card", "Start a card itself anew"), show)
	return c
}
