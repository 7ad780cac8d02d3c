package client

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"plumbbob/internal/api/contract"
)

func groupFlags(f *pflag.FlagSet, w *wish) {
	f.StringVar(&w.site, "site", "", "everything at a site, in order of dependence")
	f.StringVar(&w.pdu, "pdu", "", "everything that hangs on a PDU")
	f.StringVar(&w.ups, "ups", "", "everything that is fed through a UPS")
	f.StringVar(&w.tag, "tag", "", "everything with a tag")
	f.StringVar(&w.at, "at", "", "once, at a time: 22:30, or 2026-03-01 22:30, here")
	countVar(f, &w.atOnce, "parallel", 4, "of several: how many may be under way at the same time")
	countVar(f, &w.atOnce, "at-once", 4, "")
	_ = f.MarkDeprecated("at-once", "it is --parallel now") // the flag is there
	spanVar(f, &w.gap, "gap", 3*time.Second, 0, "of several: from the beginning of one to that of the next")
	f.BoolVar(&w.goOn, "go-on", false, "of several: after a failure, go on with those that do not depend on it")
	f.StringVar(&w.until, "until", "answers", "of several: when one counts as up: answers, power, or a time such as 90s")
}

// groupIntent is what is asked for of several, or for later.
func (w wish) groupIntent(devices []string) (contract.GroupIntent, error) {
	if w.into != "" {
		return contract.GroupIntent{}, fail(ExitUsage, "--into is for one device, and at once")
	}
	one := w.intent("")
	in := contract.GroupIntent{Kind: one.Kind, Outlets: one.Outlets, Means: one.Means, HoldSeconds: one.HoldSeconds, WithinSeconds: one.WithinSeconds, Force: one.Force, Endpoint: one.Endpoint}
	if one.Button != nil {
		in.Button = new(contract.GroupIntentButton(*one.Button))
	}
	if len(devices) > 0 {
		in.Who.Devices = &devices
	}
	for value, to := range map[string]**string{w.site: &in.Who.Site, w.pdu: &in.Who.Pdu, w.ups: &in.Who.Ups, w.tag: &in.Who.Tag} {
		if value != "" {
			*to = &value
		}
	}
	o := contract.GroupOrder{AtOnce: &w.atOnce, GapSeconds: new(w.gap.Seconds()), GoOn: &w.goOn, Until: new(contract.GroupOrderUntil(w.until))}
	if wait, err := time.ParseDuration(w.until); err == nil {
		o.Until, o.WaitSeconds = new(contract.GroupOrderUntilTime), new(wait.Seconds())
	} else if !o.Until.Valid() {
		return in, fail(ExitUsage, "--until: %q is not answers, power or a time such as 90s", w.until)
	}
	in.Order = &o
	if w.at != "" {
		at, err := next(w.at, time.Now())
		if err != nil {
			return in, err
		}
		in.At = &at
	}
	return in, nil
}

func (a *app) operateGroup(ctx context.Context, s *service, devices []string, w wish) error {
	in, err := w.groupIntent(devices)
	if err != nil {
		return err
	}
	p, err := ask[contract.GroupPreview](s)(s.PreviewGroup(ctx, in))
	if err != nil {
		return err
	}
	if w.preview && a.output != "table" {
		return a.show(p, func() table { return timetable(p) })
	}
	if !w.yes || w.preview {
		a.groupPreview(p)
	}
	if err := stands(p.Interlocks, w); err != nil || w.preview {
		return err
	}
	if err := a.agree(ctx, p.Title, p.Interlocks, &w); err != nil {
		return err
	}
	g, err := ask[contract.Group](s)(once(ctx, func(key *string) (*http.Response, error) {
		return s.RequestGroup(ctx, &contract.RequestGroupParams{IdempotencyKey: key}, contract.GroupRequest{Intent: in, Digest: p.Digest, Why: &w.why, Names: &w.names, Override: &w.override})
	}))
	if err != nil {
		return err
	}
	switch {
	case w.follow && g.State != contract.GroupStateScheduled:
		return a.followGroup(ctx, s, g)
	case a.output != "table":
		return a.show(g, func() table { return groupTable([]contract.Group{g}) })
	case g.State == contract.GroupStateScheduled:
		fmt.Fprintf(a.out, "%s: it begins at %s (group %s). Take it back with plumb group cancel %s\n", g.Title, datedZone(*g.At), g.ID, g.ID)
	default:
		fmt.Fprintf(a.out, "%s: group %s is under way. Watch it with plumb group show %s --follow\n", g.Title, g.ID, g.ID)
	}
	return nil
}

// offset writes a time from the beginning: "+1:25".
func offset(s float64) string {
	d := time.Duration(s * float64(time.Second)).Round(time.Second)
	return fmt.Sprintf("+%d:%02d", int(d.Minutes()), int(d.Seconds())%60)
}

// reached is the heading over when a device is as it should be.
func reached(k contract.OperationKind) string {
	switch k {
	case contract.OperationKindOff, contract.OperationKindShutdown, contract.OperationKindSleep:
		return "DOWN"
	}
	return "UP"
}

func timetable(p contract.GroupPreview) table {
	t := table{columns: []string{"BEGINS", "UP", "WHAT", "AFTER"}}
	if len(p.Slots) > 0 {
		t.columns[1] = reached(p.Slots[0].Preview.Kind)
	}
	for _, x := range p.Slots {
		what := x.Title
		if !strings.Contains(what, x.Device) {
			what += ", " + x.Device
		}
		t.rows = append(t.rows, row(offset(x.BeginsSeconds), offset(x.UpSeconds), what, strings.Join(x.After, ", ")))
	}
	return t
}

// groupPreview prints the timetable, what it draws, and what stands in the way.
func (a *app) groupPreview(p contract.GroupPreview) {
	head := p.Title
	if p.At != nil {
		head += ", at " + datedZone(*p.At)
	}
	fmt.Fprintln(a.out, a.paint("bold", head))
	a.table(timetable(p))
	a.curve(p.Curve)
	for _, l := range p.LeftOut {
		fmt.Fprintf(a.out, "  Left as it is: %s %s\n", l.Name, a.wrap(l.Text, 20, "    "))
	}
	said := map[string]bool{}
	for _, x := range p.Slots {
		for _, l := range x.Preview.Lines {
			if (l.Kind == contract.PreviewLineKindInUse || l.Kind == contract.PreviewLineKindOurPath || l.Kind == contract.PreviewLineKindUnknown) && !said[l.Text] {
				said[l.Text] = true
				fmt.Fprintf(a.out, "  %s\n", a.wrap(l.Text, 2, "    "))
			}
		}
	}
	for _, l := range p.Interlocks {
		fmt.Fprintln(a.out, a.paint("failed", "  ! "+a.wrap(l.Name+": "+l.Reason, 4, "    ")))
	}
}

// curve draws what the sites draw meanwhile, a line each time that it changes much.
func (a *app) curve(points []contract.CurvePoint) {
	most := 1.0
	for _, p := range points {
		most = max(most, p.W)
	}
	const bars, rows = 30, 12
	every := max(1, len(points)/rows)
	for i, p := range points {
		if len(points) < 2 || i%every != 0 && i != len(points)-1 && p.W != most {
			continue
		}
		fmt.Fprintf(a.out, "  %7s %7.0f W %s\n", offset(p.Seconds), p.W, strings.Repeat("▪", int(p.W/most*bars+0.5)))
	}
}

func groupTable(gs []contract.Group) table {
	t := table{columns: []string{"ID", inZone("ASKED"), "STATE", "DONE", "BY", "WHAT"}}
	for _, g := range gs {
		what := g.Title
		if g.At != nil {
			what += ", at " + datedZone(*g.At)
		}
		t.rows = append(t.rows, row(g.ID, stamp(&g.Asked), string(g.State), fmt.Sprintf("%d of %d", g.Done, len(g.Members)), g.By, what))
	}
	return t
}

func memberTable(g contract.Group) table {
	t := table{columns: []string{"DEVICE", "STATE", "BEGAN", reached(g.Kind), "NOTE"}}
	at := func(x *time.Time) string {
		if x == nil {
			return "–"
		}
		return x.Local().Format("15:04:05")
	}
	for _, m := range g.Members {
		note := ""
		if m.Note != nil {
			note = *m.Note
		}
		t.rows = append(t.rows, row(m.Device, string(m.State), at(m.Began), at(m.Ended), note))
		t.styles = append(t.styles, map[contract.GroupMemberState]string{contract.GroupMemberStateFailed: "failed", contract.GroupMemberStateInterlocked: "failed"}[m.State])
	}
	return t
}

func (a *app) groupCommand() *cobra.Command {
	c := &cobra.Command{Use: "group", Short: "Several operations that were asked for together, or one for later: list, show, cancel", RunE: needsSubcommand}
	var limit int
	list := &cobra.Command{
		Use: "list", Short: "The newest groups", Args: args(0, 0, "plumb group list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			gs, err := ask[[]contract.Group](s)(s.ListGroups(c.Context(), &contract.ListGroupsParams{Limit: &limit}))
			if err != nil {
				return err
			}
			if len(gs) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There is none. Name several devices, --site, or --at to plumb on, off, cycle or shutdown.")
				return nil
			}
			return a.show(gs, func() table { return groupTable(gs) })
		}),
	}
	countVar(list.Flags(), &limit, "limit", 20, "how many")
	var follow bool
	show := &cobra.Command{
		Use: "show ID", Short: "One group with its members", Args: args(1, 1, "plumb group show ID [--follow]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			g, err := ask[contract.Group](s)(s.GetGroup(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if follow {
				return a.followGroup(c.Context(), s, g)
			}
			if a.output == "table" {
				fmt.Fprintf(a.out, "%s: %s, asked for by %s\n", a.paint("bold", g.Title), a.paint(string(g.State), string(g.State)), g.By)
			}
			return a.show(g, func() table { return memberTable(g) })
		}),
	}
	show.Flags().BoolVarP(&follow, "follow", "f", false, "stay until it has ended")
	cancel := &cobra.Command{
		Use: "cancel ID", Short: "Begin nothing more, and stop what is under way at its next safe point", Args: args(1, 1, "plumb group cancel ID"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			g, err := ask[contract.Group](s)(s.CancelGroup(c.Context(), given[0]))
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Group %s stops: nothing more begins, and what was switched off comes back first.\n", g.ID)
			return nil
		}),
	}
	c.AddCommand(list, show, cancel)
	return c
}

// followGroup prints each member when it has something new to say, until the end.
func (a *app) followGroup(ctx context.Context, s *service, g contract.Group) error {
	board, err := ask[contract.Board](s)(s.GetBoard(ctx))
	if err != nil {
		return err
	}
	said := map[string]contract.GroupMemberState{}
	draw := func() {
		for _, m := range g.Members {
			if said[m.Device] == m.State || m.State == contract.GroupMemberStatePending || m.State == contract.GroupMemberStateBeginning {
				continue
			}
			said[m.Device] = m.State
			line := fmt.Sprintf("%s  %-12s %s", time.Now().Format("15:04:05"), m.State, m.Device)
			if m.Note != nil && m.State != contract.GroupMemberStateRunning {
				line += ": " + *m.Note
			}
			if a.output == "table" {
				fmt.Fprintln(a.out, a.paint(string(m.State), a.wrap(line, 0, strings.Repeat(" ", 23))))
			}
		}
	}
	latest := func() (err error) {
		g, err = ask[contract.Group](s)(s.GetGroup(ctx, g.ID))
		return err
	}
	if err := latest(); err != nil {
		return err
	}
	draw()
	for g.Ended == nil && ctx.Err() == nil {
		err := s.follow(ctx, board.Event, func(e event) (bool, error) {
			switch e.kind {
			case "group":
				var x contract.Group
				if err := json.Unmarshal(e.data, &x); err != nil || x.ID != g.ID {
					return false, err
				}
				g = x
			case "reset":
				if err := latest(); err != nil {
					return true, err
				}
			default:
				return false, nil
			}
			draw()
			return g.Ended != nil, nil
		})
		if err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		fmt.Fprintf(a.err, "Not following any more; the group goes on. See plumb group show %s\n", g.ID)
		return nil
	}
	if a.output != "table" {
		if err := a.show(g, func() table { return memberTable(g) }); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(a.out, "%s: %s, %d of %d done\n", g.Title, a.paint(string(g.State), string(g.State)), g.Done, len(g.Members))
	}
	if g.State == contract.GroupStateFailed || g.State == contract.GroupStateMissed {
		return fail(ExitFailed, "failed: plumb group show %s says where", g.ID)
	}
	return nil
}
