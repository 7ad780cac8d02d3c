package client

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

// checkBoard says in one line whether something is wrong, and by its error that it is.
func (a *app) checkBoard(b contract.Board) error {
	var wrong []string
	for _, x := range b.Service {
		if x.Grave {
			wrong = append(wrong, "the service: "+x.Text)
		}
	}
	for _, t := range b.Trouble {
		if t.ShelvedUntil == nil {
			wrong = append(wrong, t.Device+" is "+words(t.Verdict.State))
		}
	}
	if len(wrong) == 0 {
		fmt.Fprintf(a.out, "nothing is wrong; %d devices\n", len(b.Devices))
		return nil
	}
	return fail(ExitFailed, "%s", strings.Join(wrong, "; "))
}

// redraw is how long changes are gathered before the board is drawn anew.
const redraw = time.Second

// watchBoard draws the board, and again when something on it has changed. It is loaded
// once: the stream says what is different.
func (a *app) watchBoard(ctx context.Context, s *service, f boardFilter) error {
	for ctx.Err() == nil {
		b, err := ask[contract.Board](s)(s.GetBoard(ctx))
		if err != nil {
			return err
		}
		if err := a.watchOne(ctx, s, b, f); err != nil {
			return err
		}
	}
	return nil
}

// watchOne keeps one board up to date until it has to be loaded anew.
func (a *app) watchOne(ctx context.Context, s *service, b contract.Board, f boardFilter) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	events, ended := make(chan event), make(chan error, 1)
	go func() {
		ended <- s.follow(ctx, b.Event, func(e event) (bool, error) {
			select {
			case events <- e:
				return false, nil
			case <-ctx.Done():
				return true, nil
			}
		})
	}()
	at := map[string]int{}
	for i, d := range b.Devices {
		at[d.Key] = i
	}
	tick := time.NewTicker(redraw)
	defer tick.Stop()
	changed := true
	for {
		if changed {
			a.home()
			if err := a.boardWithin(b, f); err != nil {
				return err
			}
			changed = false
		}
		for waiting := true; waiting; {
			select {
			case err := <-ended:
				return err
			case e := <-events:
				if e.kind == "estate" || e.kind == "reset" {
					return nil
				}
				news, err := s.takeIn(&b, at, e)
				if err != nil {
					return err
				}
				changed = changed || news
			case <-tick.C:
				waiting = !changed
			}
		}
	}
}

// takeIn puts what an event says over what is known; it says whether that is seen on
// the board.
func (s *service) takeIn(b *contract.Board, at map[string]int, e event) (bool, error) {
	data := s.harmless(e.data)
	switch e.kind {
	case "device":
		var d struct{ Key string }
		if err := json.Unmarshal(data, &d); err != nil {
			return false, err
		}
		if i, ok := at[d.Key]; ok {
			return true, json.Unmarshal(data, &b.Devices[i]) // members that are not there stay as they are
		}
	case "trouble":
		b.Trouble = nil
		return true, json.Unmarshal(data, &b.Trouble)
	case "service":
		b.Service = nil
		return true, json.Unmarshal(data, &b.Service)
	}
	return false, nil
}

// boardWithin is the board as far as the terminal is high: what is wrong stands first.
func (a *app) boardWithin(b contract.Board, f boardFilter) error {
	if a.height == 0 || a.output != "table" {
		return a.board(b, f)
	}
	var whole strings.Builder
	out := a.out
	a.out = &whole
	err := a.board(b, f)
	a.out = out
	lines := strings.Split(strings.TrimRight(whole.String(), "\n"), "\n")
	if room := a.height - 2; len(lines) > room && room > 0 {
		lines = append(lines[:room], a.paint("dim", fmt.Sprintf("… and %d more: plumb board lists them", len(lines)-room)))
	}
	fmt.Fprintln(a.out, strings.Join(lines, "\n"))
	return err
}

// waitCommand waits until a device is like something.
func (a *app) waitCommand() *cobra.Command {
	var until []string
	var within time.Duration
	c := &cobra.Command{
		Use: "wait DEVICE", Short: "Wait until a device is steady, or like something else", Args: args(1, 1, "plumb wait DEVICE [--until steady] [--timeout 5m]"),
		Example: "  plumb wait skarvoe-router --timeout 5m && echo it is back",
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			for _, v := range until {
				if !contract.VerdictState(strings.ReplaceAll(v, " ", "-")).Valid() {
					return fail(ExitUsage, "--until: %q is none of hung, silent, dark, strained, waking, cut-off, unknown, parked, steady", v)
				}
			}
			return a.await(c.Context(), s, given[0], until, within)
		}),
	}
	c.Flags().StringSliceVar(&until, "until", []string{"steady"}, "these verdicts, any of them")
	spanVar(c.Flags(), &within, "timeout", 5*time.Minute, positive, "how long to wait; exit status 1 when it is not so by then")
	return c
}

// lookEvery is how often a device is looked at that somebody waits for.
const lookEvery = 2 * time.Second

func (a *app) await(ctx context.Context, s *service, device string, until []string, within time.Duration) error {
	over := time.Now().Add(within)
	for {
		d, err := ask[contract.Device](s)(s.GetDevice(ctx, device))
		if err != nil {
			return err
		}
		is := d.Summary.Verdict
		for _, v := range until {
			if string(is.State) == strings.ReplaceAll(v, " ", "-") {
				fmt.Fprintf(a.out, "%s is %s, since %s\n", device, words(is.State), clock(is.Since))
				return nil
			}
		}
		if time.Until(over) < lookEvery {
			return fail(ExitFailed, "%s is %s after %s, and not %s", device, words(is.State), within, strings.Join(until, " or "))
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(lookEvery):
		}
	}
}

// whoamiCommand says who is logged in, and where.
func (a *app) whoamiCommand() *cobra.Command {
	return &cobra.Command{
		Use: "whoami", Short: "Who is logged in, with which role, and at which service", Args: args(0, 0, "plumb whoami"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			x, err := ask[contract.Session](s)(s.GetSession(c.Context()))
			if err != nil {
				return err
			}
			v, err := ask[contract.Version](s)(s.GetVersion(c.Context()))
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show([]contract.Session{x}, func() table {
					return table{columns: []string{"account", "role", "expires", "service"}, rows: [][]cell{row(string(x.Account), string(x.Role), x.Expires.UTC().Format(time.RFC3339), s.config.URL)}}
				})
			}
			fmt.Fprintf(a.out, "%s, %s, at %s (version %s), until %s\n", x.Account, x.Role, s.config.URL, v.Version, x.Expires.Local().Format("2 Jan 2006 15:04 MST"))
			return nil
		}),
	}
}

// attended says who sees to what is wrong with a device, and what was noted last.
func (a *app) attended(i contract.Incident) {
	if i.Seen != nil {
		fmt.Fprintln(a.out, a.paint("bold", fmt.Sprintf("%s sees to it, since %s", i.Seen.By, clock(i.Seen.At))))
	}
	if n := len(i.Notes); n > 0 {
		fmt.Fprintln(a.out, a.paint("bold", a.wrap(fmt.Sprintf("%s has noted: %s", i.Notes[n-1].By, i.Notes[n-1].Text), 0, "  ")))
	}
}
