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

func (a *app) journalCommand() *cobra.Command {
	var device, who, kind string
	var limit int
	var follow bool
	c := &cobra.Command{
		Use: "journal", Short: "The record of what was done, by whom, why, with what result",
		Long: `The record of what was done, by whom, why, with what result.

Each entry carries the hash of the one before, so that one that was altered or
removed shows: plumb journal verify goes through all of them.`,
		Args: args(0, 0, "plumb journal [--device DEVICE] [--who ACCOUNT] [--kind KIND] [--follow]"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			p := contract.GetJournalParams{Limit: &limit}
			if device != "" {
				p.Device = &device
			}
			if who != "" {
				p.Who = &who
			}
			if kind != "" {
				p.Kind = &kind
			}
			if follow {
				return a.followJournal(c.Context(), s, p)
			}
			es, err := ask[[]contract.JournalEntry](s)(s.GetJournal(c.Context(), &p))
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(es, func() table { return journalTable(es) })
			}
			a.entries(es)
			return nil
		}),
	}
	c.AddCommand(a.journalVerifyCommand(), a.journalAcknowledgeCommand(), a.journalExportCommand())
	c.Flags().StringVar(&device, "device", "", "only about this device")
	c.Flags().StringVar(&who, "who", "", "only by this account")
	c.Flags().StringVar(&kind, "kind", "", "only of this kind, such as operation-ended or incident")
	countVar(c.Flags(), &limit, "limit", 20, "how many")
	c.Flags().BoolVarP(&follow, "follow", "f", false, "stay, and show entries as they are made")
	return c
}

func journalTable(es []contract.JournalEntry) table {
	t := table{columns: []string{"id", "at", "who", "device", "kind", "result", "why", "before_w", "after_w", "text"}}
	for _, e := range es {
		t.rows = append(t.rows, row(
			e.ID, e.At.Format(time.RFC3339), e.Who, e.Device, e.Kind, e.Result, e.Why, number(e.BeforeW), number(e.AfterW), e.Text,
		))
	}
	return t
}

func number(w *float64) string {
	if w == nil {
		return ""
	}
	return fmt.Sprintf("%.1f", *w)
}

// entries prints them oldest first, so that the newest stands at the prompt.
func (a *app) entries(es []contract.JournalEntry) {
	width := leastWho
	for _, e := range es {
		width = min(max(width, len(whoWords(e.Who))), mostWho)
	}
	for _, e := range slices.Backward(es) {
		style := ""
		if e.Result == "failed" || e.Result == "refused" {
			style = "failed"
		}
		text := e.Text
		if e.Why != "" {
			text += " — because " + e.Why
		}
		at := e.At.Local().Format("02 Jan 15:04:05 MST")
		if e.At.Local().Year() != time.Now().Year() {
			at = e.At.Local().Format("02 Jan 2006 15:04:05 MST")
		}
		head := fmt.Sprintf("%s  %-*s ", at, width, cut(whoWords(e.Who), width))
		if e.Device != "" && !strings.Contains(text, e.Device) { // what it is about
			text = e.Device + ": " + text
		}
		fmt.Fprintln(a.out, a.paint(style, head+a.wrap(text, len(head), strings.Repeat(" ", len(head)))))
	}
}

func (a *app) followJournal(ctx context.Context, s *service, p contract.GetJournalParams) error {
	board, err := ask[contract.Board](s)(s.GetBoard(ctx))
	if err != nil {
		return err
	}
	var newest int64
	show := func() error {
		es, err := ask[[]contract.JournalEntry](s)(s.GetJournal(ctx, &p))
		if err != nil {
			return err
		}
		fresh := slices.DeleteFunc(es, func(e contract.JournalEntry) bool { return e.ID <= newest })
		if len(fresh) > 0 {
			newest = fresh[0].ID
		}
		if a.output == "table" {
			a.entries(fresh)
			return nil
		}
		return a.show(fresh, func() table { return journalTable(fresh) })
	}
	if err := show(); err != nil {
		return err
	}
	return s.follow(ctx, board.Event, func(e event) (bool, error) {
		if e.kind == "journal" || e.kind == "reset" {
			return false, show()
		}
		return false, nil
	})
}

// How wide the column of who it was is.
const (
	leastWho = 9
	mostWho  = 24
)

// whoWords is who it was, in short.
func whoWords(who string) string { return strings.TrimPrefix(who, "standing ") }
