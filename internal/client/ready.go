package client

import (
	"cmp"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/plain"
)

func (a *app) readyCommand() *cobra.Command {
	var check bool
	c := &cobra.Command{
		Use: "ready [DEVICE|SITE]", Short: "Which devices could be rescued now if they hung, and what single failure would leave none",
		Long: `A way to rescue a device works when its gear answers, lets us in with what switching takes, and is not
reached or fed through the device itself. plumb drill asks all of that anew.`,
		Args: args(0, 1, "plumb ready [DEVICE|SITE]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			r, err := ask[contract.Readiness](s)(s.ListReadiness(c.Context(), &contract.ListReadinessParams{Of: first(given)}))
			if err != nil {
				return err
			}
			if err := a.readiness(r); err != nil || !check {
				return err
			}
			for _, d := range r.Devices {
				if d.State == contract.ReadyDeviceStateLost {
					return fail(ExitFailed, "not every device could be rescued")
				}
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&check, "check", false, "for monitoring: exit status 1 while a device could not be rescued")
	return c
}

func (a *app) drillCommand() *cobra.Command {
	return &cobra.Command{
		Use: "drill [DEVICE|SITE]", Short: "Try the ways to rescue devices without harm: log in, and read back what would be switched",
		Long: `All gear is asked anew that would have to act, and what came of it is recorded. No contact moves: whether a
cable is where the estate says is for plumb wiring check, and plumb cycle proves all of it.`,
		Args: args(0, 1, "plumb drill [DEVICE|SITE]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			r, err := ask[contract.Readiness](s)(s.RunDrill(c.Context(), contract.RunDrillJSONRequestBody{Of: first(given)}))
			if err != nil {
				return err
			}
			return a.readiness(r)
		}),
	}
}

func first(given []string) *string {
	if len(given) == 0 {
		return nil
	}
	return &given[0]
}

func (a *app) readiness(r contract.Readiness) error {
	if a.output != "table" {
		return a.show(r, func() table { return readyTable(r.Devices) })
	}
	if len(r.Devices) == 1 {
		a.readyDevice(r.Devices[0])
		return nil
	}
	if err := a.show(r, func() table { return readyTable(r.Devices) }); err != nil {
		return err
	}
	fmt.Fprintln(a.out, plain.Line(r.Words))
	return nil
}

func readyTable(all []contract.ReadyDevice) table {
	t := table{columns: []string{"STATE", "DEVICE", "SITE", "WAYS", inZone("DRILLED"), "NONE IF ONE OF THESE FAILS", "WHY NOT"}}
	for _, d := range all {
		var ways []string
		var drilled *contract.WayTried
		for _, w := range d.Ways {
			ways = append(ways, string(w.Means)+map[bool]string{true: "", false: " (not now)"}[w.Works])
			if w.Drilled != nil && (drilled == nil || w.Drilled.At.After(drilled.At)) {
				drilled = w.Drilled
			}
		}
		at := stamp(nil)
		if drilled != nil {
			at = stamp(&drilled.At)
		}
		t.rows = append(t.rows, row(string(d.State), d.Device, d.Site, strings.Join(ways, ", "), at, strings.Join(d.Single, ", "), d.Why))
	}
	return t
}

// readyDevice says all of one device.
func (a *app) readyDevice(d contract.ReadyDevice) {
	say := func(format string, args ...any) { fmt.Fprintln(a.out, plain.Line(fmt.Sprintf(format, args...))) }
	say("%s: %s", d.Device, cmp.Or(d.Why, "it could be rescued now"))
	for _, w := range d.Ways {
		say("  by %s, through %s: %s", w.Means, strings.Join(w.By, " and "), map[bool]string{true: "works", false: w.Why}[w.Works])
		for _, x := range w.Weak {
			say("    but %s", x)
		}
		if len(w.Needs) > 0 {
			say("    it stands and falls with %s", strings.Join(w.Needs, ", "))
		}
		for _, x := range []struct {
			what  string
			tried *contract.WayTried
		}{{"used", w.Used}, {"drilled", w.Drilled}} {
			switch t := x.tried; {
			case t == nil:
				say("    not %s, as far as is on record", x.what)
			case t.Ok:
				say("    %s %s", x.what, datedZone(t.At))
			default:
				say("    %s %s, in vain: %s", x.what, datedZone(t.At), t.Why)
			}
		}
	}
	if len(d.Single) > 0 {
		say("  No way is left when one of these fails: %s", strings.Join(d.Single, ", "))
	}
}
