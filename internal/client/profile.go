package client

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/profile"
)

func (a *app) profileCommand() *cobra.Command {
	c := &cobra.Command{Use: "profile", Short: "Profiles: how kinds of gear are read and switched", RunE: needsSubcommand}
	list := &cobra.Command{
		Use: "list", Short: "The profiles that an endpoint can name", Args: args(0, 0, "plumb profile list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.Profile](s)(s.ListProfiles(c.Context()))
			if err != nil {
				return err
			}
			return a.show(all, func() table {
				t := table{columns: []string{"PROFILE", "PROTOCOL", "USED", "FROM", "MAPS"}}
				for _, p := range all {
					from := map[bool]string{true: "built in", false: "added"}[p.Builtin]
					t.rows = append(t.rows, row(p.Name, p.Protocol, p.Used, from, strings.Join(p.Maps, ", ")))
				}
				return t
			})
		}),
	}
	show := &cobra.Command{
		Use: "show PROFILE", Short: "A profile as it is written", Args: args(1, 1, "plumb profile show PROFILE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			p, err := ask[contract.ProfileText](s)(s.GetProfile(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(p, func() table { return table{columns: []string{"text"}, rows: [][]cell{row(p.Text)}} })
			}
			fmt.Fprint(a.out, p.Text)
			return nil
		}),
	}
	check := &cobra.Command{
		Use: "check FILE", Short: "Say whether a profile can work; nothing is asked of any gear", Args: args(1, 1, "plumb profile check FILE"),
		RunE: func(_ *cobra.Command, given []string) error {
			p, _, err := a.profileFile(given[0])
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.checked(nil)
			}
			fmt.Fprintf(a.out, "%s is sound: %s, over %s; it maps %s.\n", given[0], p.Name, strings.ToUpper(p.Protocol), strings.Join(p.Maps(), ", "))
			return nil
		},
	}
	add := &cobra.Command{
		Use: "add FILE", Short: "Add a profile, or replace one that was added", Args: args(1, 1, "plumb profile add FILE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			p, text, err := a.profileFile(given[0])
			if err != nil {
				return err
			}
			if _, err := ask[nothing](s)(s.SetProfile(c.Context(), p.Name, contract.ProfileText{Text: text})); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Profile %s is kept: name it in an endpoint of the estate.\n", p.Name)
			return nil
		}),
	}
	remove := &cobra.Command{
		Use: "remove PROFILE", Short: "Forget a profile that was added", Args: args(1, 1, "plumb profile remove PROFILE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			_, err := ask[nothing](s)(s.RemoveProfile(c.Context(), given[0]))
			return err
		}),
	}
	schema := &cobra.Command{
		Use: "schema", Short: "The JSON Schema of the format, for editors", Args: args(0, 0, "plumb profile schema"),
		RunE: func(*cobra.Command, []string) error {
			_, err := a.out.Write(profile.Schema)
			return err
		},
	}
	c.AddCommand(list, show, check, a.profileTry(), add, remove, schema)
	return c
}

func (a *app) profileFile(name string) (*profile.Profile, string, error) {
	text, err := a.read(name, longestFile)
	if err != nil {
		return nil, "", err
	}
	p, err := profile.Parse(name, text)
	if err != nil {
		return nil, "", fail(ExitUsage, "%s", err)
	}
	return p, string(text), nil
}

func (a *app) profileTry() *cobra.Command {
	var secretName, pin string
	c := &cobra.Command{
		Use: "try FILE HOST:PORT", Short: "Read gear with a profile, and change nothing", Args: args(2, 2, "plumb profile try FILE HOST:PORT --secret NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			p, text, err := a.profileFile(given[0])
			if err != nil {
				return err
			}
			if secretName == "" && p.TakesSecret() {
				return fail(ExitUsage, "--secret: name the secret that the gear takes; plumb secret list shows them")
			}
			f, err := ask[contract.ProfileFindings](s)(s.TryProfile(c.Context(), contract.ProfileTrial{Text: text, Address: given[1], Secret: &secretName, Pin: &pin}))
			if err != nil {
				return err
			}
			if a.output == "table" && f.Matches != "" {
				fmt.Fprintf(a.out, "It says that it is %s\n", f.Matches)
			}
			return a.show(f, func() table {
				t := table{columns: []string{"IS", "WHAT", "SAYS"}}
				for _, x := range f.Found {
					t.rows, t.styles = append(t.rows, row("read", x.Name, x.Text)), append(t.styles, "")
				}
				for _, x := range f.Missing {
					t.rows, t.styles = append(t.rows, row("missing", x.Name, x.Text)), append(t.styles, "strained")
				}
				return t
			})
		}),
	}
	c.Flags().StringVar(&secretName, "secret", "", "the name of the secret that the gear takes, if its profile has a log-in")
	c.Flags().StringVar(&pin, "pin", "", "SHA-256 of its certificate; with it TLS is used")
	return c
}
