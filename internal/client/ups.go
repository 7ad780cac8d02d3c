package client

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/verdict"
)

func (a *app) upsCommand() *cobra.Command {
	var watch bool
	c := &cobra.Command{
		Use: "ups [DEVICE]", Short: "UPSes: all of them in a list, or one whole", Args: args(0, 1, "plumb ups [DEVICE] [--watch]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			for {
				b, err := ask[contract.Board](s)(s.GetBoard(c.Context())) // for where the stream goes on
				if err != nil {
					return err
				}
				if watch {
					a.home()
				}
				if len(given) == 0 {
					err = a.supplies(c, s)
				} else {
					err = a.supply(c, s, given[0])
				}
				if err != nil || !watch {
					return err
				}
				err = s.follow(c.Context(), b.Event, func(e event) (bool, error) {
					var d contract.DeviceSummary
					about := e.kind == "device" && json.Unmarshal(e.data, &d) == nil && d.Role == "ups"
					return about || e.kind == "reset", nil
				})
				if err != nil || c.Context().Err() != nil {
					return err
				}
			}
		}),
	}
	c.Flags().BoolVar(&watch, "watch", false, "stay, and show changes as they happen")
	c.AddCommand(a.upsTell("test", "Run its self-test: a short discharge", "test", "quick-test", "deep-test"),
		a.upsTell("abort-test", "Stop a self-test", "abort-test"), a.upsOutput("shutdown", "Switch its output off", contract.OperationKindOff),
		a.upsOutput("startup", "Switch its output on", contract.OperationKindOn), a.upsOutput("reboot", "Switch its output off for a time", contract.OperationKindCycle),
		a.upsTell("cancel", "Take back a shutdown that counts down", "cancel"), a.upsAuto())
	return c
}

func (a *app) supplies(c *cobra.Command, s *service) error {
	all, err := ask[[]contract.SitePower](s)(s.GetPower(c.Context(), &contract.GetPowerParams{}))
	if err != nil {
		return err
	}
	list := []contract.SupplyBrief{}
	for _, x := range all {
		list = append(list, x.Supplies...)
	}
	return a.show(list, func() table {
		t := table{columns: []string{"UPS", "STATE", "LOAD", "CHARGE", "MINUTES", "BY ITS PAST", "SITE"}}
		for _, u := range list {
			state := u.State
			if !u.Fresh {
				state += ", stale"
			}
			t.rows = append(t.rows, row(u.Device, state, inPercent(u.Load), inPercent(u.Charge), dashed(amount(u.Minutes, 0, "", "minutes")), dashed(amount(u.MinutesByPast, 0, "", "minutes")), u.Site))
			t.styles = append(t.styles, levelStyle[u.Level])
		}
		return t
	})
}

// supplyWords says in a line how a UPS is.
func supplyWords(u contract.SupplyBrief) string {
	words := []string{u.State}
	if !u.Fresh && u.At != nil {
		words[0] += fmt.Sprintf(" %s ago, stale", age(*u.At))
	}
	if u.LoadW != nil && u.Load != nil {
		words = append(words, fmt.Sprintf("load %.0f W (%.0f %%)", *u.LoadW, *u.Load))
	}
	if u.Charge != nil {
		words = append(words, fmt.Sprintf("charge %.0f %%", *u.Charge))
	}
	if u.Minutes != nil {
		left := fmt.Sprintf("%.0f min left by its own reckoning", *u.Minutes)
		if u.MinutesByPast != nil {
			left += fmt.Sprintf(", %.0f by its past", *u.MinutesByPast)
		}
		words = append(words, left)
	}
	if u.MinutesAfterShed != nil {
		words = append(words, fmt.Sprintf("%.0f without what is not essential", *u.MinutesAfterShed))
	}
	if u.MinutesToDo != nil {
		words = append(words, fmt.Sprintf("shutting down in order takes about %.0f min", math.Ceil(*u.MinutesToDo)))
	}
	return strings.Join(words, ", ")
}

func (a *app) supply(c *cobra.Command, s *service, device string) error {
	u, err := ask[contract.Supply](s)(s.GetSupply(c.Context(), device))
	if err != nil {
		return err
	}
	if a.output != "table" {
		return a.show(u, func() table { return supplyTable(u) })
	}
	fmt.Fprintln(a.out, a.paint(levelStyle[u.Brief.Level], a.paint("bold", device)+" "+a.wrap(supplyWords(u.Brief), len(device)+1, "  ")))
	if u.Brief.Disagree != nil && *u.Brief.Disagree {
		fmt.Fprintln(a.out, a.wrap(fmt.Sprintf("Its own reckoning and its %d past discharges tell of different batteries: trust the past.", deref(u.Brief.Discharges)), 0, "  "))
	}
	for _, x := range u.Alarms {
		fmt.Fprintln(a.out, a.paint(levelStyle[x.Level], "  alarm: "+x.Text))
	}
	a.table(supplyTable(u))
	if len(u.Discharges) > 0 {
		a.section("Discharges")
		t := table{columns: []string{"  BEGAN", "LASTED", "LOAD", "CHARGE"}}
		for _, d := range u.Discharges[:min(8, len(u.Discharges))] {
			t.rows = append(t.rows, row("  "+d.Began.Local().Format("2 Jan 15:04"), d.Ended.Sub(d.Began).Round(time.Second).String(), watts(&d.W), fmt.Sprintf("%.0f → %.0f %%", d.From, d.To)))
		}
		a.table(t)
	}
	return nil
}

func supplyTable(u contract.Supply) table {
	t := table{columns: []string{"  WHAT", "IS"}}
	add := func(name, text string) {
		if text != "" {
			t.rows = append(t.rows, row("  "+name, text))
		}
	}
	for _, x := range u.Sheet {
		add(x.Name, x.Text)
	}
	battery := deref(u.BatteryStatus)
	for _, x := range []struct {
		v    *float64
		unit string
	}{{u.Brief.BatteryV, "V"}, {u.BatteryA, "A"}, {u.Brief.Temperature, "°C"}} {
		if x.v != nil {
			battery += ", " + verdict.Figure(*x.v) + " " + x.unit
		}
	}
	add("battery", battery)
	if u.SecondsOnBattery != nil {
		add("on battery for", (time.Duration(*u.SecondsOnBattery) * time.Second).String())
	}
	phases(add, "input", u.Inputs)
	phases(add, "output", u.Outputs)
	phases(add, "bypass", u.Bypasses)
	for _, list := range [][]contract.NamedText{u.Test, u.Control, u.Config} {
		for _, x := range list {
			add(x.Name, x.Text)
		}
	}
	return t
}

func phases(add func(string, string), name string, list []contract.PhaseReading) {
	for i, p := range list {
		var words []string
		for _, x := range []struct {
			v    *float64
			unit string
		}{{p.V, "V"}, {p.Hz, "Hz"}, {p.A, "A"}, {p.W, "W"}, {p.Load, "% load"}} {
			if x.v != nil {
				words = append(words, verdict.Figure(*x.v)+" "+x.unit)
			}
		}
		label := name
		if len(list) > 1 {
			label += " " + strconv.Itoa(i+1)
		}
		add(label, strings.Join(words, ", "))
	}
}

// tell sends a command to a UPS, and prints how it is afterwards.
func (a *app) tell(c *cobra.Command, s *service, device string, cmd contract.SupplyCommand) error {
	u, err := ask[contract.Supply](s)(s.CommandSupply(c.Context(), device, cmd))
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "%s: told. It is %s.\n", device, supplyWords(u.Brief))
	for _, x := range append(u.Control, u.Test...) {
		fmt.Fprintf(a.out, "  %s: %s\n", x.Name, x.Text)
	}
	return nil
}

// upsTell is a command without a time; more than one kind is chosen by a flag.
func (a *app) upsTell(name, short string, kinds ...contract.SupplyCommandDo) *cobra.Command {
	var quick, deep bool
	var why string
	c := &cobra.Command{
		Use: name + " DEVICE", Short: short, Args: args(1, 1, "plumb ups "+name+" DEVICE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			do := kinds[0]
			switch {
			case quick && deep:
				return fail(ExitUsage, "--quick and --deep: only one of them")
			case quick:
				do = kinds[1]
			case deep:
				do = kinds[2]
			}
			return a.tell(c, s, given[0], contract.SupplyCommand{Do: do, Why: &why})
		}),
	}
	if len(kinds) > 1 {
		c.Flags().BoolVar(&quick, "quick", false, "only a few seconds")
		c.Flags().BoolVar(&deep, "deep", false, "until the battery is nearly empty, so that it learns what it holds")
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for the journal")
	return c
}

// upsOutput is an operation on the output of a UPS, with all that hangs on it.
func (a *app) upsOutput(name, short string, kind contract.OperationKind) *cobra.Command {
	w := &wish{kind: kind, means: string(contract.MeansOutput)}
	c := &cobra.Command{
		Use: name + " DEVICE", Short: short, Args: args(1, 1, "plumb ups "+name+" DEVICE"),
		Long: short + ".\n\nThe same as plumb " + string(kind) + " --means output: what hangs on it is shown first, and has to be\nagreed to.",
		RunE: func(c *cobra.Command, given []string) error { return a.operate(c.Context(), given, *w) },
	}
	consentFlags(c.Flags(), w)
	if kind == contract.OperationKindCycle {
		spanVar(c.Flags(), &w.hold, "hold", 30*time.Second, positive, "how long the output stays off")
	}
	c.Flags().StringVar(&w.at, "at", "", "once, at a time: 22:30, or 2026-03-01 22:30, here")
	return c
}

func (a *app) upsAuto() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use: "auto-restart DEVICE on|off", Short: "Say whether its output comes on when the utility returns", Args: args(2, 2, "plumb ups auto-restart DEVICE on|off"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if given[1] != "on" && given[1] != "off" {
				return fail(ExitUsage, "%q is not on or off", given[1])
			}
			return a.tell(c, s, given[0], contract.SupplyCommand{Do: "auto-restart", On: new(given[1] == "on"), Why: &why})
		}),
	}
	c.Flags().StringVar(&why, "why", "", "the reason, for the journal")
	return c
}
