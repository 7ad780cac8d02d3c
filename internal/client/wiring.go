package client

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

func (a *app) wiringCommand() *cobra.Command {
	c := &cobra.Command{Use: "wiring", Short: "Whether cables are where the estate says", RunE: needsSubcommand}
	var outlets, names []string
	var all, yes, leads bool
	var look leadsWanted
	var why string
	check := &cobra.Command{
		Use: "check SITE|DEVICE", Short: "Compare loads, or switch outlet after outlet and see who falls silent; or look at the leads of a device",
		Long: `Without flags nothing is switched: what outlets carry is compared with what
controllers say that their hosts draw.

With --outlet or --all, outlet after outlet is cycled by an ordinary operation,
with all its interlocks, and it is seen who falls silent and whose watts change.
The next one waits until everybody is back. What is guarded is skipped unless
its name is given with --name.

With --leads it is about one device: whether the power light on its front agrees
with its draw, whether a press has moved it and nobody else, and whose name its
serial line says. --ask sends a newline to that, unless somebody types there;
--press resets the device by its front, after a preview.`,
		Args: args(1, 1, "plumb wiring check SITE [--outlet PDU/N ... | --all] [--why TEXT], or DEVICE --leads [--ask] [--press]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if leads || look.ask || look.press {
				if look.press && why == "" {
					return fail(ExitUsage, "--press has the device start anew: add --why TEXT")
				}
				look.why, look.yes = why, yes
				return a.leads(c.Context(), s, given[0], look)
			}
			w, err := ask[contract.Wiring](s)(s.GetWiring(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if all {
				for _, o := range w.Outlets {
					outlets = append(outlets, o.Outlet)
				}
			}
			if len(outlets) == 0 {
				return a.wiring(w)
			}
			if why == "" {
				return fail(ExitUsage, "this switches things off: add --why TEXT")
			}
			if err := a.agreeToSwitch(c.Context(), w, outlets, names, yes); err != nil {
				return err
			}
			w, err = ask[contract.Wiring](s)(s.CheckWiring(c.Context(), given[0], contract.WiringCheck{Outlets: outlets, Names: &names, Why: why}))
			if err != nil {
				return err
			}
			return a.followWiring(c.Context(), s, given[0], w)
		}),
	}
	check.Flags().StringArrayVar(&outlets, "outlet", nil, "switch this outlet, PDU/N; can be repeated")
	check.Flags().BoolVar(&leads, "leads", false, "look at the leads of a device: to its front, and to its serial port")
	check.Flags().BoolVar(&look.ask, "ask", false, "send a newline to its serial line, and see who answers")
	check.Flags().BoolVar(&look.press, "press", false, "reset it by its front, with a preview, and see who moves")
	check.Flags().BoolVar(&all, "all", false, "switch all that can be switched")
	check.Flags().StringArrayVar(&names, "name", nil, "the name of a guarded device that may go dark; can be repeated")
	check.Flags().BoolVarP(&yes, "yes", "y", false, "begin without being asked")
	check.Flags().StringVar(&why, "why", "", "the reason, for the journal")
	stop := &cobra.Command{
		Use: "stop SITE", Short: "Stop a check once the outlet that it is at is on again", Args: args(1, 1, "plumb wiring stop SITE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			_, err := ask[nothing](s)(s.StopWiring(c.Context(), given[0]))
			return err
		}),
	}
	c.AddCommand(check, stop)
	return c
}

// agreeToSwitch says what would go off, one after the other.
func (a *app) agreeToSwitch(ctx context.Context, w contract.Wiring, outlets, names []string, yes bool) error {
	fmt.Fprintln(a.out, "One after the other, each for about 9 s:")
	for _, o := range w.Outlets {
		if !slices.Contains(outlets, o.Outlet) {
			continue
		}
		feeds := strings.Join(o.Feeds, ", ")
		if feeds == "" {
			feeds = "nothing that the estate knows"
		}
		for _, g := range o.Guarded {
			if !slices.Contains(names, g) {
				feeds += fmt.Sprintf("; %s is guarded, so this is skipped without --name %s", g, g)
			}
		}
		fmt.Fprintf(a.out, "  %-18s %s\n", o.Outlet, a.wrap(feeds, 22, strings.Repeat(" ", 21)))
	}
	return a.agreeAll(ctx, yes)
}

// followWiring prints findings as they are made. Whoever goes away leaves the
// check running.
func (a *app) followWiring(ctx context.Context, s *service, site string, w contract.Wiring) error {
	done := 0
	for {
		for _, f := range w.Switched[min(done, len(w.Switched)):] {
			a.finding(f)
		}
		done = len(w.Switched)
		if !w.Running {
			return nil
		}
		select {
		case <-ctx.Done():
			fmt.Fprintf(a.out, "The check goes on: plumb wiring check %s shows it, and plumb wiring stop %s ends it.\n", site, site)
			return nil
		case <-time.After(time.Second):
		}
		var err error
		if w, err = ask[contract.Wiring](s)(s.GetWiring(ctx, site)); err != nil {
			return err
		}
	}
}

var findingStyle = map[contract.WiringFindingVerdict]string{"wrong": "hung", "right": "done", "skipped": "unknown", "unknown": "unknown"}

func (a *app) finding(f contract.WiringFinding) {
	fmt.Fprintln(a.out, a.paint(findingStyle[f.Verdict], fmt.Sprintf("  %-18s %-8s %s", f.Outlet, f.Verdict, a.wrap(f.Text, 30, strings.Repeat(" ", 30)))))
}

func (a *app) wiring(w contract.Wiring) error {
	if a.output != "table" {
		return a.show(w, func() table {
			t := table{columns: []string{"how", "outlet", "expected", "found", "verdict", "text"}}
			for how, list := range map[string][]contract.WiringFinding{"compared": w.Compared, "switched": w.Switched} {
				for _, f := range list {
					t.rows = append(t.rows, row(how, f.Outlet, strings.Join(f.Expected, " "), strings.Join(f.Found, " "), string(f.Verdict), f.Text))
				}
			}
			return t
		})
	}
	a.section("By comparing loads, nothing switched")
	for _, f := range w.Compared {
		a.finding(f)
	}
	if len(w.Compared) == 0 {
		fmt.Fprintln(a.out, "  nothing there measures its own draw beside its outlet")
	}
	if w.Began != nil {
		a.section("By switching, " + clock(*w.Began))
		for _, f := range w.Switched {
			a.finding(f)
		}
		if w.Running {
			fmt.Fprintf(a.out, "  running: %s\n", deref(w.Doing))
		}
	}
	fmt.Fprintf(a.out, "\n%s\n", a.wrap(fmt.Sprintf("%d outlets could be checked by switching: --outlet PDU/N for some, --all for all.", len(w.Outlets)), 0, ""))
	return nil
}

func (a *app) agreeAll(ctx context.Context, yes bool) error {
	if yes {
		return nil
	}
	typed, err := a.line(ctx, "Begin? Type yes: ")
	if errors.Is(err, errGivenUp) {
		return err
	}
	if err != nil || typed != "yes" {
		return fail(ExitUsage, "nothing was switched: type yes, or add --yes")
	}
	return nil
}
