package client

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/secret"
)

func (a *app) secretCommand() *cobra.Command {
	c := &cobra.Command{Use: "secret", Short: "Stored credentials: set, bind, list, remove", RunE: needsSubcommand}
	list := &cobra.Command{
		Use: "list", Short: "The names of the secrets; their values are never shown", Args: args(0, 0, "plumb secret list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.Secret](s)(s.ListSecrets(c.Context()))
			if err != nil {
				return err
			}
			return a.show(all, func() table {
				t := table{columns: []string{"NAME", "KIND", inZone("SET"), "BY", "MAY BE SENT TO"}}
				for _, x := range all {
					t.rows = append(t.rows, row(x.Name, x.Kind, stamp(&x.Set), x.SetBy, sentTo(x.To)))
				}
				return t
			})
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget a secret", Args: args(1, 1, "plumb secret remove NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			_, err := ask[nothing](s)(s.RemoveSecret(c.Context(), given[0]))
			return err
		}),
	}
	c.AddCommand(a.secretSet(), a.secretBind(), list, remove)
	return c
}

// sentTo says in a list where a secret may be sent: the first, and how many more.
func sentTo(to []string) cell {
	people := "nowhere yet"
	if len(to) > 0 {
		people = to[0]
	}
	if len(to) > 1 {
		people += fmt.Sprintf(" and %d more", len(to)-1)
	}
	return cell{people: people, programs: strings.Join(to, " ")}
}

func (a *app) secretBind() *cobra.Command {
	var only bool
	c := &cobra.Command{
		Use: "bind NAME TARGET…", Short: "Say where a secret may be sent",
		Long: `Say where a secret may be sent, beside where it may be already. A target is
PROTOCOL://HOST:PORT, PROTOCOL://HOST for every port, or PROTOCOL://NETWORK/LENGTH.
Who imports an estate as a keeper allows what is in it.`,
		Example: "  plumb secret bind controllers ipmi://198.51.100.0/24",
		Args:    args(1, 500, "plumb secret bind NAME PROTOCOL://HOST:PORT…"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			also := !only
			b, err := ask[contract.SecretBound](s)(s.BindSecret(c.Context(), given[0], contract.SecretBound{To: append([]string{}, given[1:]...), Also: &also}))
			if err != nil {
				return err
			}
			return a.show(b, func() table {
				t := table{columns: []string{given[0] + " MAY BE SENT TO"}}
				for _, x := range b.To {
					t.rows = append(t.rows, row(x))
				}
				return t
			})
		}),
	}
	c.Flags().BoolVar(&only, "only", false, "nowhere else; without a target, nowhere at all")
	return c
}

// secretForm is how a secret is described on the command line. What is secret
// itself is asked for.
type secretForm struct {
	v3User, auth, priv    string
	ipmiUser, login       string
	sshUser, keyFile      string
	v1, token, controller bool
	to                    []string
}

func (a *app) secretSet() *cobra.Command {
	var form secretForm
	c := &cobra.Command{
		Use: "set NAME", Short: "Add or replace a secret",
		Long: `Add or replace a secret. What is secret is asked for, or read from standard
input, a line each: the community for SNMP v2c; the authentication and the
privacy pass phrase for SNMPv3, which is chosen with --v3-user; the password for
IPMI, which is chosen with --ipmi-user, and for HTTP, SSH, Telnet and screens under
TLS with --login; the key or token for HTTP, or the password of a screen, with --token.
A private key for SSH is read from a file, with --ssh-user and --key-file.`,
		Args: args(1, 1, "plumb secret set NAME [--v3-user USER | --v1 | --ipmi-user USER | --login USER | --token | --ssh-user USER --key-file FILE]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			v, err := a.fill(c.Context(), form)
			if err != nil {
				return err
			}
			if c.Flags().Changed("to") {
				v.To = &form.to
			}
			if _, err := ask[nothing](s)(s.SetSecret(c.Context(), given[0], v)); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Secret %s is set.\n", given[0])
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&form.v3User, "v3-user", "", "SNMPv3 with this user")
	f.StringVar(&form.ipmiUser, "ipmi-user", "", "IPMI with this user")
	f.StringVar(&form.login, "login", "", "HTTP, SSH, Telnet or a screen under TLS, with this user and a password")
	f.StringVar(&form.sshUser, "ssh-user", "", "SSH with this user and a private key")
	f.StringVar(&form.keyFile, "key-file", "", "with --ssh-user: the private key, without a pass phrase")
	f.BoolVar(&form.token, "token", false, "a key, a token, or a password without a name: HTTP, screens")
	f.BoolVar(&form.v1, "v1", false, "SNMP v1, which neither encrypts nor proves anything")
	f.BoolVar(&form.controller, "controller-key", false, "with --ipmi-user: ask for the controller's key as well")
	f.StringSliceVar(&form.to, "to", nil, "where it may be sent, as in snmp://198.51.100.0/24; by default where it might before, and where the estate uses it")
	f.StringVar(&form.auth, "auth", "sha256", "authentication protocol: "+strings.Join(secret.AuthProtocols, ", "))
	f.StringVar(&form.priv, "priv", "aes128", "privacy protocol: "+strings.Join(secret.PrivProtocols, ", "))
	return c
}

// fill asks for what a form leaves open.
func (a *app) fill(ctx context.Context, form secretForm) (v contract.SecretValue, err error) {
	chosen := 0
	for _, on := range []bool{form.v3User != "", form.ipmiUser != "", form.login != "", form.sshUser != "", form.v1, form.token} {
		if on {
			chosen++
		}
	}
	if chosen > 1 {
		return v, fail(ExitUsage, "--v3-user, --v1, --ipmi-user, --login, --token and --ssh-user: only one of them")
	}
	of := func(kind string, user *string) {
		v.Kind = contract.SecretValueKind(kind)
		if *user != "" {
			v.User = user
		}
	}
	none := ""
	switch {
	case form.sshUser != "":
		of(secret.SSHKey, &form.sshUser)
		text, err := a.read(form.keyFile, longestFile)
		if err != nil {
			return v, fail(ExitUsage, "--key-file: %s", err)
		}
		v.Password = new(string(text))
		return v, nil
	case form.ipmiUser != "":
		of(secret.IPMI, &form.ipmiUser)
		lines := []typed{{"Password: ", &v.Password}}
		if form.controller {
			lines = append(lines, typed{"Controller key: ", &v.ControllerKey})
		}
		err = a.secretLines(ctx, lines)
		return v, err
	case form.login != "":
		of(secret.Login, &form.login)
		err = a.secretLines(ctx, []typed{{"Password: ", &v.Password}})
		return v, err
	case form.token:
		of(secret.Token, &none)
		err = a.secretLines(ctx, []typed{{"Token: ", &v.Password}})
		return v, err
	case form.v3User != "":
		of(secret.SNMPv3, &form.v3User)
		v.AuthProtocol, v.PrivProtocol = &form.auth, &form.priv
		err = a.secretLines(ctx, []typed{{"Authentication pass phrase: ", &v.AuthPass}, {"Privacy pass phrase: ", &v.PrivPass}})
		return v, err
	case form.v1:
		of(secret.SNMPv1, &none)
	default:
		of(secret.SNMPv2c, &none)
	}
	err = a.secretLines(ctx, []typed{{"Community: ", &v.Community}})
	return v, err
}

// typed is one secret that is typed, and where it goes.
type typed struct {
	prompt string
	to     **string
}

func (a *app) secretLines(ctx context.Context, lines []typed) error {
	for _, l := range lines {
		v, err := a.hidden(ctx, l.prompt)
		if err != nil {
			return err
		}
		*l.to = &v
	}
	return nil
}
