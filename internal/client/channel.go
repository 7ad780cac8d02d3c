package client

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/plain"
)

const channelHelp = `A channel is a way by which people are told: a mail server, a page on a web server that takes
messages (a webhook), a collector of syslog, a receiver of SNMP notifications
(docs/PLUMB-BOB-MIB.txt), or text messages by a modem, which need no network. Addresses belong to people: see plumb telling. What it logs in with is a
secret by its name, which has to be bound to where the channel is:

  plumb secret set mailbox --login
  plumb secret bind mailbox smtp://mail.example:587`

func (a *app) channelCommand() *cobra.Command {
	c := &cobra.Command{Use: "channel", Short: "Ways by which people are told: set, list, test, remove", Long: channelHelp, RunE: needsSubcommand}
	list := &cobra.Command{
		Use: "list", Short: "All of them", Args: args(0, 0, "plumb channel list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			all, err := ask[[]contract.Channel](s)(s.ListChannels(c.Context()))
			if err != nil {
				return err
			}
			if len(all) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There is none: plumb channel set NAME adds one.")
				return nil
			}
			return a.show(all, func() table {
				t := table{columns: []string{"NAME", "KIND", "WHERE", "SECRET", "TELLS", "SET BY"}}
				for _, x := range all {
					where := opt(x.Settings.Server) + opt(x.Settings.URL) + opt(x.Settings.Port)
					t.rows = append(t.rows, row(x.Name, string(x.Settings.Kind), where, opt(x.Settings.Secret), strings.Join(x.People, ", "), x.SetBy))
				}
				return t
			})
		}),
	}
	var to string
	test := &cobra.Command{
		Use: "test NAME", Short: "Send a test message by one, now", Args: args(1, 1, "plumb channel test NAME [--to ADDRESS]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			got, err := ask[contract.ChannelTested](s)(s.TestChannel(c.Context(), given[0], contract.ChannelTest{To: to}))
			if err != nil {
				return err
			}
			fmt.Fprintf(a.out, "It was taken: %s\n", plain.Line(got.Says))
			return nil
		}),
	}
	test.Flags().StringVar(&to, "to", "", "an address there; a webhook needs none")
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget one", Args: args(1, 1, "plumb channel remove NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if _, err := ask[nothing](s)(s.RemoveChannel(c.Context(), given[0])); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Channel %s is removed.\n", given[0])
			return nil
		}),
	}
	c.AddCommand(a.channelSet(), list, test, remove)
	return c
}

func (a *app) channelSet() *cobra.Command {
	var set contract.ChannelSettings
	var plain bool
	var server, receiver, collector, modem, answers, tls, from, url, method, auth, body, secret, pin string
	var headers []string
	c := &cobra.Command{
		Use: "set NAME", Short: "Add or replace one", Args: args(1, 1, "plumb channel set NAME --mail HOST:PORT --from ADDRESS, or --webhook, --syslog or --snmp"), Long: channelHelp + `

A webhook gets a JSON document, or what --body makes of one: a file with a template in the form
of Go, as {"text": {{json .Subject}}}; there are .ID, .To, .At, .Severity, .Subject, .Text and
.Incidents. With a secret, requests are signed (HTTP Message Signatures, RFC 9421, with
hmac-sha256), or carry it with --auth bearer or basic.`,
		Example: "  plumb channel set office-mail --mail mail.example:587 --from plumb@pier.example --secret mailbox\n  plumb channel set chat --webhook https://chat.example/hook --secret chat --auth bearer",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			said := 0
			for kind, at := range map[contract.ChannelSettingsKind]string{contract.ChannelSettingsKindMail: server, contract.ChannelSettingsKindWebhook: url, contract.ChannelSettingsKindSyslog: collector, contract.ChannelSettingsKindSnmp: receiver, contract.ChannelSettingsKindText: modem} {
				if at != "" {
					set.Kind = kind
					said++
				}
			}
			if said != 1 {
				return fail(ExitUsage, "say which: --mail HOST:PORT, --webhook URL, --syslog URL, --snmp HOST:PORT or --text MODEM")
			}
			if plain {
				set.Plain = &plain
			}
			for _, x := range []struct {
				value string
				in    **string
			}{{server + receiver, &set.Server}, {from, &set.From}, {url + collector, &set.URL}, {method, &set.Method}, {secret, &set.Secret}, {pin, &set.Pin}, {modem, &set.Port}, {answers, &set.Answers}} {
				if x.value != "" {
					*x.in = &x.value
				}
			}
			if tls != "" {
				set.TLS = new(contract.ChannelSettingsTLS(tls))
			}
			if auth != "" {
				set.Auth = new(contract.ChannelSettingsAuth(auth))
			}
			if body != "" {
				text, err := a.read(body, longestFile)
				if err != nil {
					return err
				}
				set.Body = new(string(text))
			}
			if len(headers) > 0 {
				all := map[string]string{}
				for _, h := range headers {
					name, value, is := strings.Cut(h, ":")
					if !is {
						return fail(ExitUsage, "--header %q: write it as NAME: VALUE", h)
					}
					all[strings.TrimSpace(name)] = strings.TrimSpace(value)
				}
				set.Headers = &all
			}
			if _, err := ask[nothing](s)(s.SetChannel(c.Context(), given[0], set)); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Channel %s is set: plumb channel test %s tries it.\n", given[0], given[0])
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&server, "mail", "", "a mail server, HOST:PORT")
	f.StringVar(&from, "from", "", "of mail: the address that it comes from")
	f.StringVar(&tls, "tls", "", "of mail: starttls, tls or none (default starttls)")
	f.StringVar(&url, "webhook", "", "the address of a page that takes messages")
	f.StringVar(&collector, "syslog", "", "a collector of syslog: udp, tcp or tls://HOST:PORT")
	f.StringVar(&receiver, "snmp", "", "a receiver of SNMP notifications, HOST:PORT, with --secret")
	f.StringVar(&modem, "text", "", "text messages by a modem of the service's machine, by its name there")
	f.StringVar(&answers, "answers", "", "of a webhook: the name of the token with which it may answer messages")
	f.BoolVar(&plain, "plain", false, "of SNMPv2c: notifications that nobody confirms")
	f.StringVar(&method, "method", "", "of a webhook: POST, PUT, PATCH or GET (default POST)")
	f.StringArrayVar(&headers, "header", nil, "of a webhook: NAME: VALUE; can be repeated")
	f.StringVar(&body, "body", "", "of a webhook: the FILE of a template for what is sent")
	f.StringVar(&auth, "auth", "", "of a webhook: sign, bearer or basic (default sign, with a secret)")
	f.StringVar(&secret, "secret", "", "the name of what it logs in with")
	f.StringVar(&pin, "pin", "", "the SHA-256 of its certificate, where nobody has signed it")
	return c
}

// opt is a text that may be absent.
func opt(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}
