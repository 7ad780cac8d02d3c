package client

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

// roleHelp says what each role may do; each may do all that those before it may.
const roleHelp = `viewer    sees everything, and acts on nothing
operator  acts: power, windows, wiring checks, UPS tests
steward   changes the estate, profiles and calendars, clears event logs, and goes
          ahead against the interlocks that say so
keeper    changes secrets and accounts`

func (a *app) accountCommand() *cobra.Command {
	c := &cobra.Command{
		Use: "account", Short: "Who may log in, and with which role: list, add, role, password, remove, key",
		Long: "Who may log in, and with which role. Each role may do all that those before it may:\n\n" + roleHelp,
		RunE: needsSubcommand,
	}
	list := &cobra.Command{
		Use: "list", Short: "All of them", Args: args(0, 0, "plumb account list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.Account](s)(s.ListAccounts(c.Context()))
			if err != nil {
				return err
			}
			return a.show(all, func() table {
				t := table{columns: []string{"NAME", "ROLE", "SINCE", "LOG-INS", inZone("THE NEWEST")}}
				for _, x := range all {
					t.rows = append(t.rows, row(x.Name, string(x.Role), x.Created.Local().Format(time.DateOnly), x.LogIns, stamp(x.LastLogIn)))
				}
				return t
			})
		}),
	}
	role := &cobra.Command{
		Use: "role NAME ROLE", Short: "Give somebody another role", Args: args(2, 2, "plumb account role NAME viewer|operator|steward|keeper"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if _, err := ask[nothing](s)(s.SetRole(c.Context(), given[0], contract.RoleChange{Role: contract.Role(given[1])})); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "%s is %s now.\n", given[0], given[1])
			return nil
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove an account, and end its log-ins", Args: args(1, 1, "plumb account remove NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if _, err := ask[nothing](s)(s.RemoveAccount(c.Context(), given[0])); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The account %s is gone. What %s did stays in the journal.\n", given[0], given[0])
			return nil
		}),
	}
	c.AddCommand(list, a.accountAdd(), role, a.accountPassword(), remove, a.accountKey())
	return c
}

func (a *app) accountAdd() *cobra.Command {
	var role string
	c := &cobra.Command{
		Use: "add NAME", Short: "Add an account; its password is generated, and shown once",
		Args: args(1, 1, "plumb account add NAME [--role ROLE]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			got, err := ask[contract.NewPassword](s)(s.AddAccount(c.Context(), contract.AccountRequest{Name: given[0], Role: contract.Role(role)}))
			if err != nil {
				return err
			}
			return a.showPassword(got, s.config.URL)
		}),
	}
	c.Flags().StringVar(&role, "role", string(contract.Viewer), "viewer, operator, steward or keeper: plumb account --help says what each may do")
	return c
}

// showPassword prints what will not be shown again.
func (a *app) showPassword(p contract.NewPassword, url string) error {
	if a.output != "table" {
		return a.show(p, func() table {
			return table{columns: []string{"ACCOUNT", "PASSWORD"}, rows: [][]cell{row(p.Account, p.Password)}}
		})
	}
	fmt.Fprintf(a.out, "The password of %s, shown this once:\n\n  %s\n\nTo log in:     plumb login %s --account %s\nTo change it:  plumb account password\n", p.Account, p.Password, url, p.Account)
	return nil
}

func (a *app) accountPassword() *cobra.Command {
	return &cobra.Command{
		Use: "password [NAME]", Short: "Change your own password, or have another one generated for somebody",
		Args: args(0, 1, "plumb account password [NAME]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if len(given) == 1 {
				got, err := ask[contract.NewPassword](s)(s.ResetPassword(c.Context(), given[0]))
				if err != nil {
					return err
				}
				return a.showPassword(got, s.config.URL)
			}
			was, err := a.hidden(c.Context(), "Old password: ")
			if err != nil {
				return err
			}
			now, err := a.hidden(c.Context(), "New password: ")
			if err != nil {
				return err
			}
			if _, err := ask[nothing](s)(s.ChangePassword(c.Context(), contract.PasswordChange{Old: was, New: now})); err != nil {
				return err
			}
			fmt.Fprintln(a.out, "Your password is changed. All your other log-ins have ended.")
			return nil
		}),
	}
}
