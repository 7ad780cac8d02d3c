package client

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/verdict"
)

func (a *app) incidentCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "incident", Short: "What is wrong, one for each cause: list, show, ack, note, shelve",
		Long: `What is wrong, one for each cause. Incidents open and end by themselves: with the
verdict on a device, or when one does not return from an operation within what is
usual for it. You can say that you see to one, note something, or shelve one for a
time.`,
		RunE: needsSubcommand,
	}
	c.AddCommand(a.incidentList(), a.incidentShow(), a.incidentAck(), a.incidentNote(), a.incidentShelve())
	return c
}

func (a *app) incidentList() *cobra.Command {
	var all bool
	var device, find string
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "What has not ended, or all", Args: args(0, 0, "plumb incident list [--all] [--device DEVICE] [--find TEXT]"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			p := contract.ListIncidentsParams{All: &all, Limit: &limit}
			if device != "" {
				p.Device = &device
			}
			if find != "" {
				p.Text = &find
			}
			list, err := ask[[]contract.Incident](s)(s.ListIncidents(c.Context(), &p))
			if err != nil {
				return err
			}
			if len(list) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "Nothing is wrong that would be an incident.")
				return nil
			}
			return a.show(list, func() table { return incidentTable(list, time.Now()) })
		}),
	}
	f := c.Flags()
	f.BoolVar(&all, "all", false, "those that have ended, too")
	f.StringVar(&device, "device", "", "only those that this device was the cause of")
	f.StringVar(&find, "find", "", "only those in which this is found")
	countVar(f, &limit, "limit", 20, "how many")
	return c
}

func incidentTable(list []contract.Incident, now time.Time) table {
	t := table{columns: []string{"ID", "CAUSE", "KIND", inZone("OPENED"), "LASTS", "EXPLAINS", "SEEN BY", "WHY"}}
	for _, i := range list {
		style, seen := "failed", ""
		end := now
		if i.Ended != nil {
			style, end = "", *i.Ended
		}
		if i.Seen != nil {
			seen = i.Seen.By
		}
		if i.Shelved != nil {
			style, seen = "dim", "shelved to "+datedZone(*i.Shelved.Until)
		}
		t.rows = append(t.rows, row(i.ID, i.Device, i.Kind, stamp(&i.Opened), lasting(end.Sub(i.Opened)), len(i.Explains), seen, i.Text))
		t.styles = append(t.styles, style)
	}
	return t
}

func (a *app) incidentShow() *cobra.Command {
	return &cobra.Command{
		Use: "show ID|DEVICE", Short: "One, with what it explains, what was tried and what was said", Args: args(1, 1, "plumb incident show ID|DEVICE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			i, err := ask[contract.Incident](s)(s.GetIncident(c.Context(), s.incidentOf(c.Context(), given[0])))
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(i, func() table { return incidentTable([]contract.Incident{i}, time.Now()) })
			}
			a.incident(c.Context(), s, i)
			return nil
		}),
	}
}

// incidentOf is the id of the newest incident of a device, where one is named.
func (s *service) incidentOf(ctx context.Context, given string) string {
	one, all := 1, true
	for _, p := range []contract.ListIncidentsParams{{}, {All: &all, Device: &given, Limit: &one}} { // the open ones are known without the database
		list, _ := ask[[]contract.Incident](s)(s.ListIncidents(ctx, &p))
		if n := slices.IndexFunc(list, func(i contract.Incident) bool { return i.Device == given }); n >= 0 {
			return list[n].ID
		}
	}
	return given
}

// incident prints one in full.
func (a *app) incident(ctx context.Context, s *service, i contract.Incident) {
	at := func(t time.Time) string { return t.Local().Format("02 Jan 15:04:05 MST") }
	line := func(name, text string) {
		fmt.Fprintf(a.out, "  %-9s %s\n", name, a.wrap(text, 12, "            "))
	}
	is := "is"
	if i.Ended != nil {
		is = "was"
	}
	fmt.Fprintf(a.out, "%s: %s %s %s\n", i.ID, i.Device, is, i.Kind)
	line("why", i.Text)
	line("opened", at(i.Opened))
	if i.Again > 0 {
		line("again", fmt.Sprintf("it came back %d times soon after it had ended", i.Again))
	}
	if i.Ended != nil {
		line("ended", fmt.Sprintf("%s, after %s: %s", at(*i.Ended), verdict.Age(i.Ended.Sub(i.Opened)), *i.Ending))
	}
	if len(i.Explains) > 0 {
		line("explains", strings.Join(i.Explains, ", "))
	}
	for _, id := range i.Tried {
		if o, err := ask[contract.Operation](s)(s.GetOperation(ctx, id)); err == nil {
			line("tried", fmt.Sprintf("%s by %s: %s", id, o.By, o.Outcome))
		}
	}
	if i.Seen != nil {
		line("seen by", remark(*i.Seen))
	}
	if i.Shelved != nil {
		line("shelved", fmt.Sprintf("until %s by %s", at(*i.Shelved.Until), remark(*i.Shelved)))
	}
	for _, n := range i.Notes {
		line("note", remark(n))
	}
	a.told(ctx, s, i.ID, line)
	a.similar(ctx, s, i, line)
}

// similar prints incidents of the past that were like one, and what helped then.
func (a *app) similar(ctx context.Context, s *service, i contract.Incident, line func(name, text string)) {
	all, err := ask[[]contract.SimilarIncident](s)(s.ListSimilarIncidents(ctx, i.ID))
	if err != nil {
		return // it is known when the database is back
	}
	for _, x := range all {
		what := "it was over by itself: " + x.Ending
		if x.Helped != "" {
			what = fmt.Sprintf("%s: %s", x.By, x.Helped)
		}
		if x.Device != i.Device {
			what = x.Device + ": " + what
		}
		for _, n := range x.Notes {
			what += ". " + n
		}
		line("before", fmt.Sprintf("%s, for %s, %s", dated(x.Opened), verdict.Age(x.Ended.Sub(x.Opened)), what))
	}
}

func remark(r contract.Remark) string {
	text := fmt.Sprintf("%s, %s", r.By, datedZone(r.At))
	if r.Text != "" {
		text += ": " + r.Text
	}
	return text
}

// say says something of an incident, and prints how it is then.
func (a *app) say(c *cobra.Command, s *service, id string, said contract.IncidentSaying) error {
	i, err := ask[contract.Incident](s)(s.SayOfIncident(c.Context(), s.incidentOf(c.Context(), id), said))
	if err != nil {
		return err
	}
	a.incident(c.Context(), s, i)
	return nil
}

func (a *app) incidentAck() *cobra.Command {
	var note string
	c := &cobra.Command{
		Use: "ack ID|DEVICE", Short: "Say that you have seen it, and see to it", Args: args(1, 1, "plumb incident ack ID|DEVICE [--note TEXT]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			return a.say(c, s, given[0], contract.IncidentSaying{What: contract.IncidentSayingWhatSeen, Text: &note})
		}),
	}
	c.Flags().StringVar(&note, "note", "", "what you have to say of it")
	return c
}

func (a *app) incidentNote() *cobra.Command {
	return &cobra.Command{
		Use: "note ID|DEVICE TEXT", Short: "Note something, for whoever comes after you", Args: args(2, 99, "plumb incident note ID|DEVICE TEXT"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			text := strings.Join(given[1:], " ")
			return a.say(c, s, given[0], contract.IncidentSaying{What: contract.IncidentSayingWhatNote, Text: &text})
		}),
	}
}

func (a *app) incidentShelve() *cobra.Command {
	var lasts time.Duration
	var why string
	var end bool
	c := &cobra.Command{
		Use: "shelve ID|DEVICE", Short: "Hear no more of it for a time; it stays open", Args: args(1, 1, "plumb incident shelve ID|DEVICE --for 8h [--why TEXT], or --end"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			said := contract.IncidentSaying{What: contract.IncidentSayingWhatShelve, Text: &why}
			switch {
			case end:
				said.What = contract.IncidentSayingWhatUnshelve
			case lasts <= 0:
				return fail(ExitUsage, "for how long? Add --for 8h")
			default:
				until := time.Now().Add(lasts)
				said.Until = &until
			}
			return a.say(c, s, given[0], said)
		}),
	}
	spanVar(c.Flags(), &lasts, "for", 0, positive, "how long")
	c.Flags().StringVar(&why, "why", "", "the reason")
	c.Flags().BoolVar(&end, "end", false, "take it off the shelf again")
	return c
}
