package client

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/profile"
)

func (a *app) estateCommand() *cobra.Command {
	c := &cobra.Command{Use: "estate", Short: "The estate: check, diff, import, export", RunE: needsSubcommand}
	c.AddCommand(a.estateCheck(), a.estateDiff(), a.estateImport(), a.estateExport(), &cobra.Command{
		Use: "schema", Short: "The JSON Schema of the estate file, for editors", Args: args(0, 0, "plumb estate schema"),
		RunE: func(*cobra.Command, []string) error { _, err := a.out.Write(estatefile.Schema); return err },
	})
	return c
}

// readFile reads a file, or standard input when it is named -.
func (a *app) readFile(name string) (string, error) {
	text, err := a.read(name, estatefile.MaxSize)
	return string(text), err
}

func (a *app) estateCheck() *cobra.Command {
	var added []string
	c := &cobra.Command{
		Use: "check FILE", Short: "Look for mistakes in an estate file; needs no service", Args: args(1, 1, "plumb estate check FILE"),
		RunE: func(_ *cobra.Command, given []string) error {
			for _, name := range added {
				p, _, err := a.profileFile(name)
				if err != nil {
					return err
				}
				if err := profile.Add(p); err != nil {
					return fail(ExitUsage, "%s", err)
				}
			}
			text, err := a.readFile(given[0])
			if err != nil {
				return err
			}
			e, err := estatefile.Parse(given[0], []byte(text))
			var f *estatefile.Faults
			if errors.As(err, &f) {
				if a.output == "table" {
					fmt.Fprintln(a.err, f)
				} else if err := a.checked(f.List); err != nil {
					return err
				}
				return fail(ExitUsage, "%s", faults(given[0], len(f.List)))
			}
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.checked(nil)
			}
			fmt.Fprintf(a.out, "%s is sound: %s, %s.\n", given[0], counted(len(e.Sites), "site"), counted(len(e.Devices), "device"))
			return nil
		},
	}
	c.Flags().StringArrayVar(&added, "profile", nil, "the FILE of a profile that the service has beside its own; can be repeated")
	return c
}

// checked prints for programs what is wrong with a file: an empty list when it is sound.
func (a *app) checked(list []estatefile.Fault) error {
	found := make([]contract.Fault, len(list))
	for i, f := range list {
		found[i] = contract.Fault{Line: f.Line, Text: f.Text}
	}
	return a.show(found, func() table {
		t := table{columns: []string{"line", "fault"}}
		for _, f := range found {
			t.rows = append(t.rows, row(strconv.Itoa(f.Line), f.Text))
		}
		return t
	})
}

// counted is a number of things: "1 site", "2 sites".
func counted(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

func faults(file string, n int) string {
	return file + " has " + counted(n, "fault")
}

// faulty prints the faults of a file line by line.
func (a *app) faulty(file string, err error) error {
	var p *problemError
	if errors.As(err, &p) && p.Faults != nil {
		for _, f := range *p.Faults {
			fmt.Fprintf(a.err, "%s:%d: %s\n", file, f.Line, f.Text)
		}
		return fail(ExitUsage, "%s; nothing was changed", faults(file, len(*p.Faults)))
	}
	return err
}

// changes lists what would change, or of very much the first part, and how much it is.
func (a *app) changes(c contract.EstateChanges, most int) {
	for _, x := range c.Changes[:min(most, len(c.Changes))] {
		fmt.Fprintln(a.out, a.wrap(x, 0, "    "))
	}
	switch n := len(c.Changes); {
	case n == 0:
		fmt.Fprintln(a.out, "Nothing changes.")
	case n > most:
		fmt.Fprintf(a.out, "… and %d more, %d changes in all: plumb estate diff shows each\n", n-most, n)
	case n > 1:
		fmt.Fprintf(a.out, "%d changes\n", n)
	}
	for _, s := range c.Sends {
		fmt.Fprintln(a.out, a.wrap(strings.ToUpper(s[:1])+s[1:], 0, "    "))
	}
	for _, s := range deref(c.Unset) {
		fmt.Fprintf(a.out, "Secret %s is not set yet: plumb secret set %s\n", s, s)
	}
}

func (a *app) estateDiff() *cobra.Command {
	return &cobra.Command{
		Use: "diff FILE", Short: "What an import would change", Args: args(1, 1, "plumb estate diff FILE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			text, err := a.readFile(given[0])
			if err != nil {
				return err
			}
			d, err := ask[contract.EstateChanges](s)(s.DiffEstate(c.Context(), contract.EstateImport{File: &given[0], Text: text}))
			if err != nil {
				return a.faulty(given[0], err)
			}
			if a.output != "table" {
				return a.show(d, func() table { return changeTable(d) })
			}
			a.changes(d, math.MaxInt)
			return nil
		}),
	}
}

func changeTable(c contract.EstateChanges) table {
	t := table{columns: []string{"change"}}
	for _, x := range append(c.Changes, c.Sends...) {
		t.rows = append(t.rows, row(x))
	}
	return t
}

func (a *app) estateImport() *cobra.Command {
	var yes bool
	c := &cobra.Command{
		Use: "import FILE", Short: "Replace the estate, all or nothing, after showing what changes",
		Args: args(1, 1, "plumb estate import FILE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if given[0] == "-" && !yes {
				return fail(ExitUsage, "a file from standard input cannot be agreed to: add --yes")
			}
			text, err := a.readFile(given[0])
			if err != nil {
				return err
			}
			body := contract.EstateImport{File: &given[0], Text: text}
			d, err := ask[contract.EstateChanges](s)(s.DiffEstate(c.Context(), body))
			if err != nil {
				return a.faulty(given[0], err)
			}
			const screen = 30
			a.changes(d, screen)
			if len(d.Changes) == 0 {
				return nil
			}
			if err := a.agreeImport(c.Context(), yes); err != nil {
				return err
			}
			body.Version = &d.Version
			if _, err := ask[contract.EstateChanges](s)(s.ImportEstate(c.Context(), body)); err != nil {
				return a.faulty(given[0], err)
			}
			fmt.Fprintln(a.out, "Imported. The version before is kept on record, and so is all history.")
			return nil
		}),
	}
	c.Flags().BoolVarP(&yes, "yes", "y", false, "agree to the changes without being asked")
	return c
}

func (a *app) agreeImport(ctx context.Context, yes bool) error {
	if yes {
		return nil
	}
	if !a.terminal() {
		return fail(ExitUsage, "nobody is there to agree: add --yes to import, or use plumb estate diff only to look")
	}
	typed, err := a.line(ctx, "Import this? Type yes: ")
	if err != nil {
		return err
	}
	if typed != "yes" {
		return fail(ExitFailed, "left as it is")
	}
	return nil
}

func (a *app) estateExport() *cobra.Command {
	return &cobra.Command{
		Use: "export", Short: "The estate file as it was last imported; secrets are named, never shown", Args: args(0, 0, "plumb estate export"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			f, err := ask[contract.EstateFile](s)(s.ExportEstate(c.Context()))
			if err != nil {
				return err
			}
			if a.output == "json" || a.output == "yaml" {
				return a.show(f, nil)
			}
			fmt.Fprint(a.out, f.Text)
			return nil
		}),
	}
}
