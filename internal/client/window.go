package client

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

func (a *app) windowCommand() *cobra.Command {
	c := &cobra.Command{Use: "window", Short: "Times in which something belongs to somebody who works on it: open, list, close", RunE: needsSubcommand}
	list := &cobra.Command{
		Use: "list", Short: "Those that have not ended", Args: args(0, 0, "plumb window list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			ws, err := ask[[]contract.Window](s)(s.ListWindows(c.Context()))
			if err != nil {
				return err
			}
			if len(ws) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "Nobody works on anything.")
				return nil
			}
			return a.show(ws, func() table {
				t := table{columns: []string{"ID", "ON", "BY", inZone("FROM"), "UNTIL", "AGAIN", "WHY"}}
				for _, w := range ws {
					on := w.Site
					switch {
					case w.Device != nil:
						on = *w.Device
					case w.Tag != nil:
						on = "tag:" + *w.Tag
					}
					t.rows = append(t.rows, row(w.ID, on, w.By, stamp(&w.From), stamp(&w.Until), deref(w.Every), w.Why))
				}
				return t
			})
		}),
	}
	closing := &cobra.Command{
		Use: "close ID", Short: "End one now", Args: args(1, 1, "plumb window close ID"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			id, err := strconv.ParseInt(given[0], 10, 64)
			if err != nil {
				return fail(ExitUsage, "%q is not the number of a window: plumb window list shows them", given[0])
			}
			if _, err := ask[nothing](s)(s.CloseWindow(c.Context(), id)); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Window %d has ended.\n", id)
			return nil
		}),
	}
	c.AddCommand(a.windowOpen(), list, closing)
	return c
}

func (a *app) windowOpen() *cobra.Command {
	var lasts time.Duration
	var from, why, every string
	c := &cobra.Command{
		Use: "open DEVICE|SITE|tag:NAME", Short: "Take it for a time: nobody else acts on it without being told",
		Example: "  plumb window open skarvoe --for 2h --why \"new cables\"",
		Args:    args(1, 1, "plumb window open DEVICE|SITE|tag:NAME [--for 2h] [--from TIME | --every 'every sun at 02:00'] [--why TEXT]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if from != "" && every != "" {
				return fail(ExitUsage, "--from and --every: only one of them")
			}
			begins := time.Now()
			w := contract.WindowRequest{On: given[0], Why: &why}
			if from != "" {
				at, err := next(from, begins)
				if err != nil {
					return err
				}
				begins, w.From = at, &at
			}
			w.Until = begins.Add(lasts)
			if every != "" {
				w.From, w.Every = &begins, &every
			}
			got, err := ask[contract.Window](s)(s.OpenWindow(c.Context(), w))
			if err != nil {
				return err
			}
			if every != "" {
				fmt.Fprintf(a.out, "%s is yours %s, next %s to %s (window %d).\n", given[0], every, datedZone(got.From), datedZone(got.Until), got.ID)
				return nil
			}
			fmt.Fprintf(a.out, "%s is yours until %s (window %d).\n", given[0], datedZone(got.Until), got.ID)
			return nil
		}),
	}
	spanVar(c.Flags(), &lasts, "for", 2*time.Hour, positive, "how long")
	c.Flags().StringVar(&from, "from", "", "when it begins: 22:30, or 2026-03-01 22:30, here; now by default")
	c.Flags().StringVar(&every, "every", "", "again and again, by the clocks of the site: 'every sun at 02:00'")
	c.Flags().StringVar(&why, "why", "", "the reason, for whoever finds it in the way")
	return c
}

// next reads a time of this place: "22:30" is the next one.
func next(text string, now time.Time) (time.Time, error) {
	if at, err := time.ParseInLocation("15:04", text, time.Local); err == nil {
		at = time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, time.Local)
		if at.Before(now) {
			at = at.AddDate(0, 0, 1)
		}
		return at, nil
	}
	at, err := moment(text)
	if err != nil {
		return at, fail(ExitUsage, "%q is not a time: write 22:30, or 2026-03-01 22:30", text)
	}
	return at, nil
}

func (a *app) calendarCommand() *cobra.Command {
	c := &cobra.Command{Use: "calendar", Short: "Calendars that say when devices are in use: set, list, remove", RunE: needsSubcommand}
	set := &cobra.Command{
		Use: "set NAME FILE", Short: "Add or replace a calendar in iCalendar form (.ics)", Args: args(2, 2, "plumb calendar set NAME FILE"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			text, err := a.read(given[1], longestFile)
			if err != nil {
				return err
			}
			if _, err := ask[nothing](s)(s.SetCalendar(c.Context(), given[0], contract.CalendarText{Text: string(text)})); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "Calendar %s is set. Devices go by it with use: {calendar: %s} in the estate.\n", given[0], given[0])
			return nil
		}),
	}
	list := &cobra.Command{
		Use: "list", Short: "All of them, and what they say of now", Args: args(0, 0, "plumb calendar list"),
		RunE: a.loggedIn(func(c *cobra.Command, _ []string, s *service) error {
			cs, err := ask[[]contract.Calendar](s)(s.ListCalendars(c.Context()))
			if err != nil {
				return err
			}
			if len(cs) == 0 && a.output == "table" {
				fmt.Fprintln(a.out, "There is none: plumb calendar set NAME FILE adds one.")
				return nil
			}
			return a.show(cs, func() table {
				t := table{columns: []string{"NAME", "DEVICES", "NOW"}}
				for _, x := range cs {
					now := "free"
					if x.Now != nil {
						now = *x.Now
					}
					t.rows = append(t.rows, row(x.Name, strings.Join(x.Devices, ", "), now))
				}
				return t
			})
		}),
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Forget a calendar", Args: args(1, 1, "plumb calendar remove NAME"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			_, err := ask[nothing](s)(s.RemoveCalendar(c.Context(), given[0]))
			return err
		}),
	}
	c.AddCommand(set, list, remove)
	return c
}
