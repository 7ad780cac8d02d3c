package client

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/plain"
	"plumbbob/internal/tellfile"
)

const tellingHelp = `Who is told of what is wrong stands in one text: people with the ways to them and their quiet
hours, teams, rotas, and rules. docs/automation.md shows how one is written.`

func (a *app) tellingCommand() *cobra.Command {
	c := &cobra.Command{Use: "telling", Short: "Who is told of what: check, import, export, preview, sent, schema", Long: tellingHelp, RunE: needsSubcommand}
	schema := &cobra.Command{
		Use: "schema", Short: "The JSON Schema of the text, for editors", Args: args(0, 0, "plumb telling schema"),
		RunE: func(*cobra.Command, []string) error { _, err := a.out.Write(tellfile.Schema); return err },
	}
	export := &cobra.Command{
		Use: "export", Short: "The text as it counts", Args: args(0, 0, "plumb telling export"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			t, err := ask[contract.TellingPlan](s)(s.GetTelling(c.Context()))
			if err != nil {
				return err
			}
			a.lacks(t.Lacks)
			for _, l := range strings.Split(strings.TrimRight(t.Text, "\n"), "\n") {
				fmt.Fprintln(a.out, plain.Line(l))
			}
			return nil
		}),
	}
	c.AddCommand(a.tellingSet("check", "Look whether a text is right, and change nothing", true), a.tellingSet("import", "Have a text count from now on", false), export, a.tellingPreview(), a.tellingSent(), schema)
	return c
}

func (a *app) tellingSet(verb, short string, check bool) *cobra.Command {
	usage := "plumb telling " + verb + " FILE"
	return &cobra.Command{
		Use: verb + " FILE", Short: short, Args: args(1, 1, usage), Long: tellingHelp,
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			text, err := a.read(given[0], tellfile.MaxSize)
			if err != nil {
				return err
			}
			got, err := ask[contract.TellingSet](s)(s.SetTelling(c.Context(), contract.TellingText{Text: string(text), Check: &check, Name: &given[0]}))
			if err != nil {
				return err
			}
			a.lacks(got.Lacks)
			words := "It counts from now on"
			if check {
				words = "It is right"
			}
			fmt.Fprintf(a.out, "%s: %s, %s.\n", words, counted(got.People, "person"), counted(got.Rules, "rule"))
			return nil
		}),
	}
}

// lacks says what keeps people from being told.
func (a *app) lacks(all []string) {
	for _, l := range all {
		fmt.Fprintf(a.err, "careful: %s\n", plain.Line(l))
	}
}

func (a *app) tellingPreview() *cobra.Command {
	var kind, at string
	c := &cobra.Command{
		Use: "preview DEVICE", Short: "Who would be told of an incident there, when, and by what", Args: args(1, 1, "plumb telling preview DEVICE [--kind hung] [--at TIME]"),
		Example: "  plumb telling preview skarvoe-router --kind hung --at '2026-12-24 03:00'",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			p := contract.PreviewTellingParams{Device: given[0]}
			if kind != "" {
				p.Kind = &kind
			}
			if at != "" {
				t, err := time.ParseInLocation("2006-01-02 15:04", at, time.Local)
				if err != nil {
					return fail(ExitUsage, "--at: %q is no time such as '2026-12-24 03:00'", at)
				}
				p.At = &t
			}
			got, err := ask[contract.Turns](s)(s.PreviewTelling(c.Context(), &p))
			if err != nil {
				return err
			}
			if len(got.Turns) == 0 && a.output == "table" {
				fmt.Fprintf(a.out, "Nobody would be told: no rule fits, or nobody is on duty.\n")
				return nil
			}
			return a.show(got, func() table { return turnTable(got.Turns) })
		}),
	}
	c.Flags().StringVar(&kind, "kind", "", "of the incident (default hung)")
	c.Flags().StringVar(&at, "at", "", "when it opens (default now)")
	return c
}

func turnTable(all []contract.Turn) table {
	t := table{columns: []string{inZone("WHEN"), "WHO", "BY", "RULE", "STEP", "NOTE"}}
	for _, x := range all {
		t.rows = append(t.rows, row(stamp(&x.Due), x.Title, strings.Join(x.Ways, ", else "), x.Rule, x.Step, strings.Trim(as(x)+x.Held, ", ")))
	}
	return t
}

// as says in front of other words that a service call is meant.
func as(x contract.Turn) string {
	if x.Service {
		return "as a service call, "
	}
	return ""
}

func (a *app) tellingSent() *cobra.Command {
	var waiting, failed, texts bool
	var person string
	c := &cobra.Command{
		Use: "sent", Short: "What people were told, the newest first", Args: args(0, 0, "plumb telling sent [--waiting | --failed] [--person NAME] [--text]"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			var p contract.ListNotesParams
			switch {
			case waiting && failed:
				return fail(ExitUsage, "--waiting and --failed: only one of them")
			case waiting:
				p.State = new(contract.NoteStateQueued)
			case failed:
				p.State = new(contract.NoteStateFailed)
			}
			if person != "" {
				p.Person = &person
			}
			all, err := ask[[]contract.Note](s)(s.ListNotes(c.Context(), &p))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "Nothing.")
				return nil
			}
			if texts && a.output == "table" {
				a.noteTexts(all)
				return nil
			}
			return a.show(all, func() table {
				t := table{columns: []string{inZone("WHEN"), "WHO", "STATE", "BY", "WHAT", "INCIDENT", "SAYS"}}
				for _, n := range all {
					t.rows = append(t.rows, row(stamp(noteTime(n)), n.Title, string(n.State), n.Channel, noteWords(n), n.Incident, n.Says+heldWords(n)))
				}
				return t
			})
		}),
	}
	c.Flags().BoolVar(&waiting, "waiting", false, "only what has not been sent yet")
	c.Flags().BoolVar(&failed, "failed", false, "only what could not be sent")
	c.Flags().StringVar(&person, "person", "", "only to this one")
	c.Flags().BoolVar(&texts, "text", false, "with the texts, as they were sent")
	return c
}

func (a *app) noteTexts(all []contract.Note) {
	for n, x := range all {
		if n > 0 {
			fmt.Fprintln(a.out)
		}
		fmt.Fprintf(a.out, "%s, to %s by %s: %s\n", stamp(noteTime(x)), x.Title, x.Channel, noteWords(x))
		for _, l := range strings.Split(strings.TrimRight(x.Text, "\n"), "\n") {
			fmt.Fprintln(a.out, "  "+plain.Line(l))
		}
	}
}

func noteTime(n contract.Note) *time.Time {
	if n.At != nil {
		return n.At
	}
	return &n.Due
}

// noteWords is what a note says in short.
func noteWords(n contract.Note) string {
	if n.Subject != "" {
		return n.Subject
	}
	return map[contract.NoteWhat]string{contract.Opened: "that it is wrong", contract.More: "that it is more by now", contract.Over: "that it is over", contract.Service: "a service call"}[n.What]
}

func heldWords(n contract.Note) string {
	if n.Held == "" || n.State != contract.NoteStateQueued {
		return ""
	}
	return "held: " + n.Held
}

// told prints who was told of an incident, and who is next.
func (a *app) told(ctx context.Context, s *service, id string, line func(name, text string)) {
	t, err := ask[contract.Told](s)(s.GetTold(ctx, id))
	if err != nil {
		var p *problemError
		if !errors.As(err, &p) {
			line("told", "cannot be read now")
		}
		return
	}
	for _, n := range t.Notes {
		text := fmt.Sprintf("%s, %s by %s: %s", n.Title, datedZone(*noteTime(n)), n.Channel, noteWords(n))
		switch n.State {
		case contract.NoteStateQueued:
			text = fmt.Sprintf("%s, waits until %s%s: %s", n.Title, datedZone(n.Due), plainly(heldWords(n)), noteWords(n))
			if n.Tries > 0 {
				text += "; it failed: " + n.Says
			}
		case contract.NoteStateSending:
			text = fmt.Sprintf("%s is being told just now: %s", n.Title, noteWords(n))
		case contract.NoteStateFailed:
			text = fmt.Sprintf("%s could not be told: %s", n.Title, n.Says)
		case contract.NoteStateDropped:
			continue
		}
		line("told", text)
	}
	for _, x := range t.Turns {
		line("next", fmt.Sprintf("%s, %s, %sif nobody acknowledges it before: rule %s", x.Title, datedZone(x.Due), as(x), x.Rule))
	}
	if len(t.Notes) == 0 && len(t.Turns) == 0 {
		line("told", "nobody: no rule fits it")
	}
}

func plainly(held string) string {
	if held == "" {
		return ""
	}
	return " (" + held + ")"
}
