package client

import (
	"context"
	"fmt"

	"plumbbob/internal/api/contract"
)

// leadsWanted is what is to be done about the leads of a device.
type leadsWanted struct {
	ask, press, yes bool
	why             string
}

// leads looks whether those of a device are where the estate says.
func (a *app) leads(ctx context.Context, s *service, device string, want leadsWanted) error {
	if want.press {
		if err := a.pressOnce(ctx, s, device, want); err != nil {
			return err
		}
	}
	look := s.GetLeads
	if want.ask {
		look = s.CheckLeads
	}
	found, err := ask[contract.Leads](s)(look(ctx, device))
	if err != nil {
		return err
	}
	if a.output != "table" {
		return a.show(found, func() table {
			t := table{columns: []string{"lead", "at", "verdict", "text", "try"}}
			for _, x := range found.Leads {
				t.rows = append(t.rows, row(string(x.Kind), x.At, string(x.Verdict), x.Text, deref(x.Try)))
			}
			return t
		})
	}
	style := map[contract.LeadVerdict]string{contract.LeadWrong: "hung", contract.LeadRight: "done", contract.LeadUnknown: "unknown"}
	for _, x := range found.Leads {
		fmt.Fprintln(a.out, a.paint(style[x.Verdict], fmt.Sprintf("  %-8s %-18s %-8s %s", x.Kind, x.At, x.Verdict, a.wrap(x.Text, 38, "          "))))
		if x.Try != nil {
			fmt.Fprintln(a.out, a.paint("head", "          "+a.wrap("→ "+*x.Try, 10, "            ")))
		}
	}
	if len(found.Leads) == 0 {
		fmt.Fprintln(a.out, "The estate states no leads to it: panel:, serial: and video: do.")
	}
	return nil
}

// pressOnce resets the device by its panel, with its preview and consent, and waits for
// what comes of that.
func (a *app) pressOnce(ctx context.Context, s *service, device string, want leadsWanted) error {
	given := []string{"reset", device, "--means", "panel", "--why", want.why, "--follow"}
	if want.yes {
		given = append(given, "--yes")
	}
	if a.config != "" {
		given = append(given, "--config", a.config)
	}
	if status := a.run(ctx, given); status != ExitDone && status != ExitFailed {
		return fail(status, "no button was pressed")
	}
	return ctx.Err()
}
