package client

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

func (a *app) opCommand() *cobra.Command {
	c := &cobra.Command{Use: "op", Short: "Operations: list, show, cancel, and what is kept as proof", RunE: needsSubcommand}
	c.AddCommand(a.opListCommand(), a.opShowCommand(), a.opFileCommand(), a.opCancelCommand())
	return c
}

// needsSubcommand is for commands that only group others.
func needsSubcommand(c *cobra.Command, given []string) error {
	var names []string
	for _, s := range c.Commands() {
		names = append(names, s.Name())
	}
	if len(given) > 0 {
		return fail(ExitUsage, "there is no %s %s: there is %s", c.CommandPath(), given[0], strings.Join(names, ", "))
	}
	return fail(ExitUsage, "write: %s %s", c.CommandPath(), strings.Join(names, "|"))
}

func (a *app) opListCommand() *cobra.Command {
	var device, state string
	var limit int
	c := &cobra.Command{
		Use: "list", Short: "The newest operations", Args: args(0, 0, "plumb op list [--device DEVICE] [--state STATE]"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			p := contract.ListOperationsParams{Limit: &limit}
			if device != "" {
				p.Device = &device
			}
			if state != "" {
				if !contract.OperationState(state).Valid() {
					return fail(ExitUsage, "--state: %q is none of running, done, failed, cancelled", state)
				}
				p.State = new(contract.OperationState(state))
			}
			os, err := ask[[]contract.Operation](s)(s.ListOperations(c.Context(), &p))
			if err != nil {
				return err
			}
			if len(os) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "No operation is on record.")
				return nil
			}
			if device != "" && a.output == "table" {
				for _, o := range os { // the newest that knows
					if o.Usually != nil {
						fmt.Fprintf(a.out, "%s usually answers again after %s.\n", device, *o.Usually)
						break
					}
				}
			}
			return a.show(os, func() table { return operationTable(os) })
		}),
	}
	c.Flags().StringVar(&device, "device", "", "only on this device")
	c.Flags().StringVar(&state, "state", "", "running, done, failed or cancelled")
	countVar(c.Flags(), &limit, "limit", 20, "how many")
	return c
}

func operationTable(os []contract.Operation) table {
	t := table{columns: []string{"ID", inZone("ASKED"), "STATE", "BY", "OUTCOME"}}
	for _, o := range os {
		t.rows = append(t.rows, row(o.ID, stamp(&o.Asked), string(o.State), o.By, o.Outcome))
		t.styles = append(t.styles, map[contract.OperationState]string{contract.OperationStateFailed: "failed", contract.OperationStateRunning: "waking"}[o.State])
	}
	return t
}

func (a *app) opShowCommand() *cobra.Command {
	var follow, proof bool
	c := &cobra.Command{
		Use: "show ID", Short: "One operation with its steps", Args: args(1, 1, "plumb op show ID [--follow]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			o, err := ask[contract.Operation](s)(s.GetOperation(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(o, func() table { return operationTable([]contract.Operation{o}) })
			}
			fmt.Fprintf(a.out, "%s %s, asked for by %s at %s\n", a.paint("bold", o.ID), a.paint(string(o.State), string(o.State)), o.By, clock(o.Asked))
			if o.Why != "" {
				fmt.Fprintln(a.out, "because "+o.Why)
			}
			if follow {
				if o, err = a.followOperation(c.Context(), s, o.ID); err != nil || c.Context().Err() != nil {
					return err
				}
				return a.ended(o)
			}
			(&drawing{a: a, said: map[int]string{}}).draw(o)
			fmt.Fprintln(a.out, a.wrap(o.Outcome, 0, ""))
			if proof {
				a.proof(o.ID, deref(o.Proof))
			}
			return nil
		}),
	}
	c.Flags().BoolVarP(&follow, "follow", "f", false, "stay until it has ended")
	c.Flags().BoolVar(&proof, "proof", false, "what was measured and seen of the device before and after")
	return c
}

// proof prints a table, and below it what has several lines.
func (a *app) proof(id string, list []contract.Proof) {
	t := table{columns: []string{"WHAT", "BEFORE", "AFTER"}}
	var long []contract.Proof
	for _, p := range list {
		if strings.Contains(text(p.Before)+text(p.After), "\n") {
			long = append(long, p)
			continue
		}
		t.rows = append(t.rows, row(p.Name, orDash(text(p.Before)), orDash(text(p.After))))
	}
	a.table(t)
	for _, p := range long {
		for _, x := range []struct {
			when string
			said *string
			more *contract.ProofFile
		}{{"before", p.Before, p.BeforeFile}, {"after", p.After, p.AfterFile}} {
			fmt.Fprintf(a.out, "%s, %s\n  %s\n", p.Name, x.when, strings.ReplaceAll(orDash(text(x.said)), "\n", "\n  "))
			if x.more != nil {
				fmt.Fprintf(a.out, "  More of it, %s: plumb op file %s %s\n", bytesWords(x.more.Size), id, x.more.ID)
			}
		}
	}
}

func bytesWords(n int) string {
	if n < 1000 {
		return fmt.Sprintf("%d B", n)
	}
	return fmt.Sprintf("%.1f kB", float64(n)/1000)
}

// isText says whether what is written can do no harm on a terminal.
func isText(content []byte) bool {
	return utf8.Valid(content) && !strings.ContainsFunc(string(content), func(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' })
}

// opFileCommand writes out a file that is kept as proof.
func (a *app) opFileCommand() *cobra.Command {
	return &cobra.Command{
		Use: "file ID FILE", Short: "A file that is kept as proof beside an operation", Args: args(2, 2, "plumb op file ID FILE"),
		Long: "A file that is kept as proof beside an operation: plumb op show ID --proof lists them. It is written\nto the output as it is; what is no text is not written to a terminal.",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			content, err := s.raw(s.GetOperationFile(c.Context(), given[0], given[1]))
			if err != nil {
				return err
			}
			if a.toTerminal && !isText(content) {
				return fail(ExitUsage, "that file is no text: write it into a file, with plumb op file %s %s > NAME", given[0], given[1])
			}
			_, err = a.out.Write(content)
			return err
		}),
	}
}

func text(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func (a *app) opCancelCommand() *cobra.Command {
	return &cobra.Command{
		Use: "cancel ID", Short: "Stop at the next safe point; what was switched off comes back first",
		Args: args(1, 1, "plumb op cancel ID"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			o, err := ask[contract.Operation](s)(s.CancelOperation(c.Context(), given[0]))
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Operation %s stops at the next safe point.\n", o.ID)
			return nil
		}),
	}
}
