package client

import (
	"cmp"
	"context"
	"fmt"
	"net/http"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

// longestKey bounds the file of a public key.
const longestKey = 16 << 10

func (a *app) accountKey() *cobra.Command {
	var account string
	c := &cobra.Command{
		Use: "key", Short: "The public keys that let you in by SSH: list, add, remove", RunE: needsSubcommand,
		Long: "The public keys that let you in by SSH (plumbd serve --gate). A keeper may see to those of others with\n--account.",
	}
	who := func() string { return cmp.Or(account, "you") }
	list := &cobra.Command{
		Use: "list", Short: "Your keys", Args: args(0, 0, "plumb account key list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.AccountKey](s)(listKeys(c.Context(), s, account))
			if err != nil {
				return err
			}
			if a.output == "table" && len(all) == 0 {
				fmt.Fprintf(a.out, "No key lets %s in: plumb account key add FILE.pub adds one.\n", who())
				return nil
			}
			return a.show(all, func() table {
				t := table{columns: []string{"NAME", "TYPE", inZone("ADDED"), "FINGERPRINT"}}
				for _, k := range all {
					t.rows = append(t.rows, row(k.Name, k.Type, stamp(&k.Added), k.Print))
				}
				return t
			})
		}),
	}
	add := &cobra.Command{
		Use: "add FILE", Short: "Have the public key in a file (or -, for standard input) let you in", Args: args(1, 1, "plumb account key add FILE.pub"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			text, err := a.read(given[0], longestKey)
			if err != nil {
				return err
			}
			k, err := ask[contract.AccountKey](s)(addKey(c.Context(), s, account, contract.PublicKey{Key: string(text)}))
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The key %s lets %s in by SSH.\n", k.Print, who())
			return nil
		}),
	}
	remove := &cobra.Command{
		Use: "remove FINGERPRINT", Short: "Have a key let you in no more", Args: args(1, 1, "plumb account key remove SHA256:…"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if _, err := ask[nothing](s)(removeKey(c.Context(), s, account, given[0])); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "That key does not let %s in any more.\n", who())
			return nil
		}),
	}
	c.PersistentFlags().StringVar(&account, "account", "", "whose keys; without it your own")
	c.AddCommand(list, add, remove)
	return c
}

// One's own keys, and those of somebody else, are apart: who may see to them is not the same.

func listKeys(ctx context.Context, s *service, account string) (*http.Response, error) {
	if account == "" {
		return s.ListOwnKeys(ctx)
	}
	return s.ListAccountKeys(ctx, account)
}

func addKey(ctx context.Context, s *service, account string, k contract.PublicKey) (*http.Response, error) {
	if account == "" {
		return s.AddOwnKey(ctx, k)
	}
	return s.AddAccountKey(ctx, account, k)
}

func removeKey(ctx context.Context, s *service, account, print string) (*http.Response, error) {
	if account == "" {
		return s.RemoveOwnKey(ctx, &contract.RemoveOwnKeyParams{Print: print})
	}
	return s.RemoveAccountKey(ctx, account, &contract.RemoveAccountKeyParams{Print: print})
}
