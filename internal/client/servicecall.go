package client

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/plain"
)

func (a *app) serviceCallCommand() *cobra.Command {
	var note, channel, to string
	c := &cobra.Command{
		Use: "service-call DEVICE", Short: "Write to the maker or the dealer of a device", Args: args(1, 1, "plumb service-call DEVICE [--note TEXT] [--by CHANNEL --to ADDRESS]"),
		Long: `Write a mail to the maker or the dealer of a device: what is wrong, its type plate with serials,
its readings, and its event log. It is shown, to be looked at; with --by and --to it is sent, with
readings and log attached. Addresses within the house are not in it.`,
		Example: "  plumb service-call ostrel-store --note 'Fan 2 stands still since this morning'\n  plumb service-call ostrel-store --by office-mail --to service@maker.example",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if (channel == "") != (to == "") {
				return fail(ExitUsage, "--by CHANNEL and --to ADDRESS go together: it is sent then")
			}
			in := contract.ServiceCallIntent{Note: &note}
			if channel != "" {
				in.Channel, in.To = &channel, &to
			}
			got, err := ask[contract.ServiceCall](s)(s.CallService(c.Context(), given[0], in))
			switch {
			case err != nil:
				return err
			case a.output != "table":
				return a.show(got, func() table { return table{} })
			}
			a.servedText(got)
			if got.Sent {
				fmt.Fprintf(a.out, "\nIt was sent to %s: %s\n", to, plain.Line(opt(got.Says)))
				return nil
			}
			fmt.Fprintf(a.err, "\nIt was not sent: --by CHANNEL --to ADDRESS does.\n")
			return nil
		}),
	}
	c.Flags().StringVar(&note, "note", "", "what you have to say")
	c.Flags().StringVar(&channel, "by", "", "send it by this channel of mail")
	c.Flags().StringVar(&to, "to", "", "to this address")
	return c
}

// servedText prints a service call as it would be read.
func (a *app) servedText(m contract.ServiceCall) {
	fmt.Fprintf(a.out, "Subject: %s\n\n", plain.Line(m.Subject))
	lines := func(text string) {
		for _, l := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
			fmt.Fprintln(a.out, plain.Line(l))
		}
	}
	lines(m.Text)
	for _, f := range m.Files {
		if f.Text != "" {
			fmt.Fprintf(a.out, "\n[%s]\n", plain.Line(f.Name))
			lines(f.Text)
		}
	}
}
