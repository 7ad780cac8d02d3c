package client

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

// wrongFirst is the order of the board.
var wrongFirst = []contract.VerdictState{
	contract.VerdictStateHung, contract.VerdictStateSilent, contract.VerdictStateDark, contract.VerdictStateStrained, contract.VerdictStateWaking,
	contract.VerdictStateCutOff, contract.VerdictStateUnknown, contract.VerdictStateParked, contract.VerdictStateSteady,
}

type boardFilter struct {
	site     string
	verdicts []string
}

func (a *app) boardCommand() *cobra.Command {
	var f boardFilter
	var watch, check bool
	c := &cobra.Command{
		Use: "board", Short: "Every device at a glance, what is wrong first",
		Example: "  plumb board --verdict hung,dark\n  plumb board --site skarvoe --watch",
		Args:    args(0, 0, "plumb board [--site SITE] [--verdict VERDICT,…] [--watch]"),
		RunE: func(c *cobra.Command, _ []string) error {
			for _, v := range f.verdicts {
				if !slices.Contains(wrongFirst, contract.VerdictState(strings.ReplaceAll(v, " ", "-"))) {
					return fail(ExitUsage, "--verdict: %q is none of hung, silent, dark, strained, waking, cut-off, unknown, parked, steady", v)
				}
			}
			s, err := a.service()
			if err != nil {
				return err
			}
			if watch {
				return a.watchBoard(c.Context(), s, f)
			}
			b, err := ask[contract.Board](s)(s.GetBoard(c.Context()))
			if err != nil {
				return err
			}
			if check {
				return a.checkBoard(b)
			}
			return a.board(b, f)
		},
	}
	c.Flags().StringVar(&f.site, "site", "", "only this site")
	c.Flags().StringSliceVar(&f.verdicts, "verdict", nil, "only these verdicts")
	c.Flags().BoolVar(&watch, "watch", false, "stay, and show changes as they happen")
	c.Flags().BoolVar(&check, "check", false, "for monitoring: one line, and exit status 1 while something is wrong")
	return c
}

func (f boardFilter) keeps(d contract.DeviceSummary) bool {
	return (f.site == "" || d.Site == f.site) &&
		(len(f.verdicts) == 0 || slices.Contains(f.verdicts, string(d.Verdict.State)) || slices.Contains(f.verdicts, words(d.Verdict.State)))
}

func (a *app) board(b contract.Board, f boardFilter) error {
	known := slices.ContainsFunc(b.Sites, func(s contract.Site) bool { return s.Key == f.site })
	if f.site != "" && !known {
		return fail(ExitUsage, "there is no site %q: there is %s", f.site, siteKeys(b))
	}
	ds := []contract.DeviceSummary{}
	for _, d := range b.Devices {
		if f.keeps(d) {
			ds = append(ds, d)
		}
	}
	slices.SortStableFunc(ds, func(x, y contract.DeviceSummary) int {
		return slices.Index(wrongFirst, x.Verdict.State) - slices.Index(wrongFirst, y.Verdict.State)
	})
	if a.output == "table" {
		a.headline(b)
		if len(ds) == 0 {
			fmt.Fprintln(a.out, emptyBoard(b))
			return nil
		}
	}
	seen := map[string]string{}
	for _, t := range b.Trouble {
		if t.SeenBy != nil {
			seen[t.Device] = " (" + *t.SeenBy + " sees to it)"
		}
	}
	return a.show(ds, func() table {
		t := table{columns: []string{"DEVICE", "VERDICT", "FOR", "DRAW", "BECAUSE"}, also: []string{"since", "site"}}
		for _, d := range ds {
			t.rows = append(t.rows, row(d.Key, words(d.Verdict.State), lasting(time.Since(d.Verdict.Since)), inWatts(d.W), because(d)+seen[d.Key], stamp(&d.Verdict.Since), d.Site))
			t.styles = append(t.styles, string(d.Verdict.State))
		}
		return t
	})
}

func siteKeys(b contract.Board) string {
	ks := make([]string, len(b.Sites))
	for i, s := range b.Sites {
		ks[i] = s.Key
	}
	return strings.Join(ks, ", ")
}

func emptyBoard(b contract.Board) string {
	if len(b.Devices) == 0 {
		return "There is no estate yet: write one and bring it in with plumb estate import FILE."
	}
	return "No device is like that."
}

// headline says how many devices are how.
func (a *app) headline(b contract.Board) {
	count := map[contract.VerdictState]int{}
	for _, d := range b.Devices {
		count[d.Verdict.State]++
	}
	var parts []string
	for _, s := range wrongFirst {
		if n := count[s]; n > 0 {
			parts = append(parts, a.paint(string(s), fmt.Sprintf("%d %s", n, words(s))))
		}
	}
	for _, x := range b.Service {
		style := map[bool]string{true: "failed", false: "strained"}[x.Grave]
		fmt.Fprintln(a.out, a.paint(style, "! "+a.wrap("the service itself: "+x.Text, 2, "  ")))
	}
	if len(parts) > 0 {
		fmt.Fprintf(a.out, "%s: %s\n\n", a.paint("bold", b.Estate), strings.Join(parts, ", "))
	}
}

// seated says who sits at the serial line of a device, and at its screen.
func seated(d contract.DeviceSummary) (all []string) {
	add := func(on *[]contract.Seated, where string) {
		for _, x := range deref(on) {
			text := x.Who + " is " + where + " since " + clock(x.Since)
			if x.Types {
				text += ", and types"
			}
			all = append(all, text)
		}
	}
	add(d.AtLine, "on its serial line")
	add(d.AtScreen, "at its screen")
	return all
}

// because is the most telling reason of a verdict, short.
func because(d contract.DeviceSummary) string {
	v := d.Verdict
	switch {
	case v.State == contract.VerdictStateSteady:
		return strings.Join(append([]string{d.Words}, seated(d)...), "; ")
	case v.CutBy != nil:
		return "cut off by " + *v.CutBy
	}
	var rs []string
	for _, r := range v.Reasons {
		switch {
		case r.Stance != contract.ReasonStanceFor:
		case r.Since != nil && *r.Since:
			rs = slices.Insert(rs, 0, reason(r)) // tells most
		default:
			rs = append(rs, reason(r))
		}
	}
	if len(rs) == 0 && len(v.Reasons) > 0 {
		rs = append(rs, reason(v.Reasons[0]))
	}
	return strings.Join(rs, "; ")
}

func (a *app) showCommand() *cobra.Command {
	return &cobra.Command{
		Use: "show DEVICE", Short: "All that is known of one device", Args: args(1, 1, "plumb show DEVICE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			d, err := ask[contract.Device](s)(s.GetDevice(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if a.output == "json" || a.output == "yaml" {
				return a.show(d, nil)
			}
			if a.output == "csv" {
				return fail(ExitUsage, "one device is no list: --output csv is for lists, json and yaml show it whole")
			}
			a.device(d)
			a.lastScreen(c.Context(), s, d)
			return nil
		}),
	}
}

// lastScreen is what its serial line shows of a device with which something is wrong, for
// whom may see that.
func (a *app) lastScreen(ctx context.Context, s *service, d contract.Device) {
	if !slices.Contains(d.Shows, contract.DevicePartSerial) || slices.Contains([]contract.VerdictState{contract.VerdictStateSteady, contract.VerdictStateParked}, d.Summary.Verdict.State) {
		return
	}
	x, err := ask[contract.LineScreen](s)(s.GetLineScreen(ctx, d.Summary.Key, nil))
	if err != nil || x.At == nil {
		return
	}
	a.section("Its serial line, since " + x.At.Local().Format(time.DateTime))
	a.screenRows(x, "  ")
}

func (a *app) lookCommand() *cobra.Command {
	return &cobra.Command{
		Use: "look DEVICE", Short: "Ask at once all that shows how a device is, and show it", Args: args(1, 1, "plumb look DEVICE"),
		Long: `Ask a device at once, and what it is reached through, what gives it power and the
boards that see its panel, and show what is known then. It changes nothing.`,
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			look, err := ask[contract.Look](s)(s.LookAtDevice(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if a.output == "json" || a.output == "yaml" {
				return a.show(look, nil)
			}
			if a.output == "csv" {
				return fail(ExitUsage, "one device is no list: --output csv is for lists, json and yaml show it whole")
			}
			fmt.Fprintf(a.out, "asked just now: %s\n", a.wrap(strings.Join(look.Asked, ", "), 16, "  "))
			a.device(look.Device)
			return nil
		}),
	}
}

func (a *app) device(d contract.Device) {
	sum := d.Summary
	v := sum.Verdict
	place := ""
	if sum.Place != nil {
		place = ", " + *sum.Place
	}
	fmt.Fprintf(a.out, "%s %s since %s\n%s\n", a.paint("bold", sum.Key), a.paint(string(v.State), words(v.State)), clock(v.Since),
		a.paint("head", fmt.Sprintf("%s at %s%s", sum.Words, sum.Site, place)))
	if sum.Guarded {
		fmt.Fprintln(a.out, "guarded: it is not cut unless its name is typed")
	}
	for _, x := range seated(sum) {
		fmt.Fprintln(a.out, x)
	}
	if i := d.Incident; i != nil {
		a.attended(*i)
	}
	if d.Notes != "" {
		fmt.Fprintln(a.out, a.wrap(d.Notes, 0, ""))
	}
	a.section("Why")
	for _, r := range v.Reasons {
		fmt.Fprintf(a.out, "  %-8s %s\n", r.Stance, a.wrap(reason(r), 11, "           "))
	}
	a.chassis(d)
	if len(d.Weaknesses) > 0 {
		a.section("Weaknesses")
		for _, w := range d.Weaknesses {
			fmt.Fprintf(a.out, "  %s\n    %s\n", a.wrap(w.Text, 2, "  "), a.paint("head", a.wrap("→ "+w.Remedy, 4, "      ")))
		}
	}
	a.strands("Power line", d.Power)
	a.strands("Reach line", d.Reach)
	if len(sum.WaysIn) > 0 {
		a.section("Ways in")
		for _, w := range sum.WaysIn {
			fmt.Fprintf(a.out, "  %s %-26s %s\n", hopMark(w.State), w.Label, w.Text)
		}
	}
	if len(d.Behind) > 0 {
		a.section("Reached through it alone")
		fmt.Fprintln(a.out, "  "+a.wrap(strings.Join(d.Behind, ", "), 2, "  "))
	}
	a.outlets(d)
	a.pastOperations(d)
}

// chassis prints what the controller says.
func (a *app) chassis(d contract.Device) {
	c := d.Chassis
	if c == nil {
		return
	}
	a.section("Chassis, by its controller")
	state := map[bool]string{true: "on", false: "off"}[c.On]
	if c.Asleep {
		state = "asleep"
	}
	if !c.Fresh {
		state = "stale: was " + state
	}
	for _, more := range []string{watts(c.W), deref(c.State)} {
		if more != "" {
			state += ", " + more
		}
	}
	fmt.Fprintf(a.out, "  %s; when power returns: %s\n", state, c.Restore)
	if c.Watchdog != nil {
		fmt.Fprintln(a.out, "  watchdog "+*c.Watchdog)
	}
	for _, f := range c.Faults {
		fmt.Fprintln(a.out, a.paint("strained", "  "+f))
	}
	if t := d.Summary.Telling; t != nil {
		fmt.Fprintf(a.out, "  %s %s (plumb sensors %s)\n", t.Name, t.Text, d.Summary.Key)
	}
}

func (a *app) section(title string) { fmt.Fprintf(a.out, "\n%s\n", a.paint("bold", title)) }

// hopMark draws a hop so that it is read by shape.
func hopMark(s contract.HopState) string {
	switch s {
	case contract.HopStateSound:
		return "●"
	case contract.HopStateBroken:
		return "✕"
	case contract.HopStateSlack:
		return "○"
	}
	return "?"
}

func (a *app) strands(title string, strands []contract.Strand) {
	for i, s := range strands {
		name := title
		if len(strands) > 1 {
			name = fmt.Sprintf("%s, strand %d", title, i+1)
		}
		a.section(name)
		for _, h := range s {
			fmt.Fprintf(a.out, "  %s %-18s %s\n", hopMark(h.State), h.Label, h.Text)
		}
	}
}

func (a *app) outlets(d contract.Device) {
	if len(d.Outlets) == 0 {
		return
	}
	a.section("Outlets")
	t := table{columns: []string{"  OUTLET", "STATE", "DRAW", "FEEDS"}}
	for _, o := range d.Outlets {
		state := "not known"
		if o.On != nil {
			state = map[bool]string{true: "on", false: "off"}[*o.On]
			if !o.Fresh {
				state += ", stale"
			}
		}
		if !o.Switched {
			state += ", always"
		}
		feeds := strings.Join(o.Feeds, ", ")
		if feeds == "" {
			feeds = "nothing that the estate knows"
		}
		t.rows = append(t.rows, row("  "+o.Port, state, inWatts(o.W), feeds))
	}
	a.table(t)
}

func (a *app) pastOperations(d contract.Device) {
	if len(d.Operations) == 0 {
		return
	}
	a.section("Operations")
	for _, o := range d.Operations[:min(5, len(d.Operations))] {
		fmt.Fprintf(a.out, "  %s  %s by %s\n    %s\n", clock(o.Asked), a.paint(string(o.State), string(o.State)), o.By, a.wrap(o.Outcome, 4, "    "))
	}
}

func orDash(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

func deref[T any](p *T) T {
	if p == nil {
		return *new(T)
	}
	return *p
}

// home clears the terminal, so that what follows is drawn over it.
func (a *app) home() {
	if a.colour {
		fmt.Fprint(a.out, "\x1b[H\x1b[2J")
	}
}
