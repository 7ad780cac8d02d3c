package client

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/plain"
)

const glyphHelp = `Text is read off screens of fixed cells by how each character is drawn. What is drawn in a
font that is not known can be taught: say what one row of it reads, and its characters are known
from then on, on every screen that draws them so.`

func (a *app) glyphCommand() *cobra.Command {
	c := &cobra.Command{Use: "glyph", Short: "Characters of screens that people have said: teach, list, forget", Long: glyphHelp, RunE: needsSubcommand}
	var columns, lines int
	teach := &cobra.Command{
		Use: "teach DEVICE ROW TEXT", Short: "Say what a row of a screen reads", Args: args(3, 3, "plumb glyph teach DEVICE ROW TEXT"), Long: glyphHelp,
		Example: "  plumb glyph teach skarvoe-kiosk 3 'Press F2 to enter set-up'",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			n, err := strconv.Atoi(given[1])
			if err != nil || n < 1 {
				return fail(ExitUsage, "%q is no row: they count from 1, at the top", given[1])
			}
			got, err := ask[contract.Learnt](s)(s.TeachScreen(c.Context(), given[0], contract.RowOfText{Row: n, Says: given[2], Columns: &columns, Lines: &lines}))
			switch {
			case err != nil:
				return err
			case a.output != "table":
				return a.show(got, func() table { return table{} })
			case got.Characters == "":
				fmt.Fprintln(a.out, "All of these characters were known already.")
			default:
				fmt.Fprintf(a.out, "Learnt: %s\n", plain.Line(got.Characters))
			}
			if got.Text.Unknown > 0 || !got.Text.IsText {
				fmt.Fprintf(a.err, "Not all that is on it is known yet: plumb screen %s --text shows what is.\n", given[0])
			}
			return nil
		}),
	}
	teach.Flags().IntVar(&columns, "columns", 80, "how many characters fit on a line of the screen")
	teach.Flags().IntVar(&lines, "lines", 25, "how many lines it has")
	list := &cobra.Command{
		Use: "list", Short: "All of them, by the size of their cells", Args: args(0, 0, "plumb glyph list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.TaughtFont](s)(s.ListTaught(c.Context()))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "Nothing was taught: plumb glyph teach DEVICE ROW TEXT does.")
				return nil
			}
			return a.show(all, func() table {
				t := table{columns: []string{"CELLS", "CHARACTERS", "LAST BY", "WHEN"}}
				for _, f := range all {
					t.rows = append(t.rows, row(fmt.Sprintf("%dx%d", f.Width, f.Height), f.Characters, f.SetBy, stamp(&f.SetAt)))
				}
				return t
			})
		}),
	}
	forget := &cobra.Command{
		Use: "forget SIZE", Short: "Forget those of a size, such as 8x16", Args: args(1, 1, "plumb glyph forget SIZE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if _, err := ask[nothing](s)(s.ForgetTaught(c.Context(), given[0])); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The characters of %s are forgotten.\n", given[0])
			return nil
		}),
	}
	c.AddCommand(teach, list, forget)
	return c
}
