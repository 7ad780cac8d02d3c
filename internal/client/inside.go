package client

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"plumbbob/internal/api/contract"
)

func (a *app) sensorsCommand() *cobra.Command {
	var watch bool
	c := &cobra.Command{
		Use: "sensors DEVICE", Short: "What the sensors inside a device measure", Args: args(1, 1, "plumb sensors DEVICE [--watch]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			for {
				b, err := ask[contract.Board](s)(s.GetBoard(c.Context())) // for where the stream goes on
				if err != nil {
					return err
				}
				got, err := ask[contract.Sensors](s)(s.GetSensors(c.Context(), given[0], &contract.GetSensorsParams{}))
				if err != nil {
					return err
				}
				if watch {
					a.home()
				}
				if err := a.sensors(given[0], got); err != nil || !watch {
					return err
				}
				err = s.follow(c.Context(), b.Event, func(e event) (bool, error) {
					var d contract.DeviceSummary
					about := e.kind == "device" && json.Unmarshal(e.data, &d) == nil && d.Key == given[0]
					return about || e.kind == "reset", nil
				})
				if err != nil || c.Context().Err() != nil {
					return err
				}
			}
		}),
	}
	c.Flags().BoolVar(&watch, "watch", false, "stay, and show changes as they happen")
	return c
}

// sensors prints readings, those that are wrong first, and then by kind.
func (a *app) sensors(device string, got contract.Sensors) error {
	list := slices.Clone(got.Sensors)
	slices.SortStableFunc(list, func(x, y contract.Sensor) int {
		return cmp.Or(cmp.Compare(rank(y.Level), rank(x.Level)), cmp.Compare(place(x), place(y)), cmp.Compare(group(x), group(y)))
	})
	if a.output != "table" {
		return a.show(got, func() table { return sensorTable(list) })
	}
	switch {
	case got.At == nil:
		fmt.Fprintf(a.out, "The sensors of %s have not been read yet.\n", device)
		return nil
	case !got.Fresh:
		fmt.Fprintln(a.out, a.paint("strained", fmt.Sprintf("These readings are stale: they were taken %s ago.", age(*got.At))))
	}
	for len(list) > 0 {
		n := slices.IndexFunc(list, func(x contract.Sensor) bool { return group(x) != group(list[0]) })
		if n < 0 {
			n = len(list)
		}
		a.section(group(list[0]))
		if place(list[0]) > 1 {
			a.alike(list[:n])
		} else {
			for _, x := range list[:n] {
				a.sensor(x)
			}
		}
		list = list[n:]
	}
	return nil
}

// group is the heading that a sensor stands under.
func group(x contract.Sensor) string {
	if rank(x.Level) > 0 {
		return "out of bounds"
	}
	switch {
	case x.Level == contract.LevelAbsent:
		return "absent"
	case x.Value == nil:
		return "states, none of them wrong"
	}
	return x.Kind
}

// place puts what has states, and what cannot be read, after what has values.
func place(x contract.Sensor) int {
	switch {
	case rank(x.Level) > 0:
		return 0
	case x.Level == contract.LevelAbsent:
		return 3
	case x.Value == nil:
		return 2
	}
	return 1
}

// alike names the sensors that say the same in one line.
func (a *app) alike(list []contract.Sensor) {
	names := map[string][]string{}
	var texts []string
	for _, x := range list {
		if names[x.Text] == nil {
			texts = append(texts, x.Text)
		}
		names[x.Text] = append(names[x.Text], x.Name)
	}
	for _, t := range texts {
		fmt.Fprintf(a.out, "  %-20s %s\n", t, a.wrap(strings.Join(names[t], ", "), 23, strings.Repeat(" ", 23)))
	}
}

func (a *app) sensor(x contract.Sensor) {
	line := fmt.Sprintf("  %-18s %-24s %-8s %s", x.Name, x.Text, level(x.Level), limitWords(x))
	fmt.Fprintln(a.out, a.paint(levelStyle[x.Level], strings.TrimRight(line, " ")))
}

var levelStyle = map[contract.Level]string{contract.LevelWarning: "strained", contract.LevelCritical: "hung", contract.LevelAbsent: "unknown"}

// rank sorts what is wrong before what is not; what is absent does not matter.
func rank(l contract.Level) int {
	return map[contract.Level]int{contract.LevelWarning: 1, contract.LevelCritical: 2}[l]
}

func sensorTable(list []contract.Sensor) table {
	t := table{columns: []string{"KIND", "SENSOR", "READING", "STATE", "LIMITS"}, also: []string{"value", "unit", "where"}}
	for _, x := range list {
		state := string(x.Level)
		if x.Level == contract.LevelAbsent {
			state = "-"
		}
		t.rows = append(t.rows, row(x.Kind, x.Name, x.Text, state, limitWords(x), amount(x.Value, x.Digits, "", ""), deref(x.Unit), x.Where))
		t.styles = append(t.styles, levelStyle[x.Level])
	}
	return t
}

// limitWords writes thresholds from the lowest to the highest: "0 < 4 … 38 < 42".
func limitWords(x contract.Sensor) string {
	l := x.Limits
	if l == nil {
		return ""
	}
	write := func(vs ...*float64) string {
		var out []string
		for _, v := range vs {
			if v != nil {
				out = append(out, fmt.Sprintf("%.*f", x.Digits, *v))
			}
		}
		return strings.Join(out, " < ")
	}
	low, high := write(l.LowFatal, l.LowCritical, l.LowWarning), write(l.HighWarning, l.HighCritical, l.HighFatal)
	return strings.TrimSpace(low + " … " + high)
}

func (a *app) eventsCommand() *cobra.Command {
	var since time.Duration
	var clear, log bool
	var save, why string
	var site, least, find string
	c := &cobra.Command{
		Use: "events [DEVICE]", Short: "What gear itself has logged or sent, and what was recognised on serial lines, the newest first",
		Long: `What gear itself has logged, what it has sent over syslog (plumbd serve --gear-syslog), and
what was recognised on serial lines, the newest first: of the whole estate, of a site, or of a device. --log is the log of a device's controller
alone, with what stands in it about each entry. --clear erases that log, once it has been
saved to a file with --save; the service keeps a copy as well.`,
		Args: args(0, 1, "plumb events [DEVICE] [--site SITE] [--level warning] [--since 7d] [--find TEXT] | plumb events DEVICE --log [--save FILE] [--clear --save FILE]"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if log = log || clear || save != ""; !log {
				return a.estateEvents(c.Context(), s, given, site, least, find, since)
			}
			if len(given) == 0 || site+least+find != "" {
				return fail(ExitUsage, "the log of a controller is that of one device: write plumb events DEVICE --log, without --site, --level and --find")
			}
			if clear && save == "" {
				return fail(ExitUsage, "--clear needs a file to save the log to first: add --save FILE")
			}
			p := contract.GetEventsParams{}
			if since > 0 {
				if clear {
					return fail(ExitUsage, "--clear erases the whole log: leave --since out")
				}
				p.Since = new(time.Now().Add(-since))
			}
			entries, err := ask[contract.EventLog](s)(s.GetEvents(c.Context(), given[0], &p))
			if err != nil {
				return err
			}
			if save != "" {
				if err := a.saveEvents(save, given[0], entries); err != nil {
					return err
				}
				fmt.Fprintf(a.out, "%d entries saved to %s.\n", len(entries.Events), save)
			} else if err := a.events(given[0], entries); err != nil {
				return err
			}
			if !clear {
				return nil
			}
			if _, err := ask[nothing](s)(s.ClearEvents(c.Context(), given[0], contract.ClearEvents{Version: entries.Version, Why: &why})); err != nil {
				return err
			}
			fmt.Fprintf(a.out, "The event log of %s is cleared.\n", given[0])
			return nil
		}),
	}
	spanVar(c.Flags(), &since, "since", 0, 0, "only entries newer than this, such as 24h")
	c.Flags().StringVar(&site, "site", "", "only this site")
	c.Flags().StringVar(&find, "find", "", "only what has this in it")
	c.Flags().StringVar(&least, "level", "", "only what is at least this bad: warning or critical")
	c.Flags().BoolVar(&log, "log", false, "the log of the device's controller alone, in full")
	c.Flags().BoolVar(&clear, "clear", false, "erase the log, once it is saved")
	c.Flags().StringVar(&save, "save", "", "write the log to this file, as JSON; it must not be there yet")
	c.Flags().StringVar(&why, "why", "", "the reason, for the journal")
	return c
}

// estateEvents are those of the whole estate, or a part of it.
func (a *app) estateEvents(ctx context.Context, s *service, given []string, site, least, find string, since time.Duration) error {
	p := contract.ListGearEventsParams{}
	if len(given) > 0 {
		p.Device = &given[0]
	}
	if site != "" {
		p.Site = &site
	}
	if find != "" {
		p.Find = &find
	}
	if least != "" {
		p.Level = new(contract.Level(least))
	}
	if since > 0 {
		p.Since = new(time.Now().Add(-since))
	}
	events, err := ask[[]contract.EstateEvent](s)(s.ListGearEvents(ctx, &p))
	if err != nil {
		return err
	}
	if a.output == "table" && len(events) == 0 {
		fmt.Fprintln(a.out, "Nothing like that was logged or recognised.")
		return nil
	}
	return a.show(events, func() table {
		t := table{columns: []string{inZone("WHEN"), "DEVICE", "LEVEL", "FROM", "WHAT", "EVENT"}}
		for _, e := range events {
			t.rows = append(t.rows, row(logged(&e.At), e.Device, level(e.Level), string(e.From), e.What, e.Text))
			t.styles = append(t.styles, levelStyle[e.Level])
		}
		return t
	})
}

// saveEvents writes a log to a new file, all of it, or complains.
func (a *app) saveEvents(path, device string, log contract.EventLog) error {
	f, err := a.create(path, os.O_EXCL)
	if errors.Is(err, fs.ErrExist) {
		return fail(ExitUsage, "%s is there already: name another file, nothing is overwritten", path)
	}
	if err != nil {
		return fail(ExitUsage, "%s cannot be written: %s", path, err)
	}
	enc := json.NewEncoder(f)
	enc.SetIndent("", "  ")
	err = enc.Encode(map[string]any{"device": device, "log": log})
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fail(ExitFailed, "the log could not be saved to %s: %s", path, err)
	}
	return nil
}

func (a *app) events(device string, log contract.EventLog) error {
	if a.output == "table" && log.At == nil {
		fmt.Fprintf(a.out, "The event log of %s has not been read yet.\n", device)
		return nil
	}
	if a.output == "table" && len(log.Events) == 0 {
		fmt.Fprintf(a.out, "There is nothing like that in the event log of %s.\n", device)
		return nil
	}
	if a.output == "table" && log.Full {
		fmt.Fprintln(a.out, a.paint("strained", "The log is full: newer events are lost. Save and clear it with --clear --save FILE."))
	}
	return a.show(log, func() table {
		t := table{columns: []string{inZone("WHEN"), "LEVEL", "SENSOR", "EVENT"}}
		for _, e := range log.Events {
			t.rows = append(t.rows, row(eventTime(e), level(e.Level), cmp.Or(e.Sensor, e.Kind), e.Text))
			t.styles = append(t.styles, levelStyle[e.Level])
		}
		return t
	})
}

func level(l contract.Level) string {
	if l == contract.LevelFine || l == contract.LevelAbsent {
		return ""
	}
	return string(l)
}

// eventTime is by the controller's clock, or counts from its start.
func eventTime(e contract.GearEvent) cell {
	switch {
	case e.At != nil:
		return logged(e.At)
	case e.AfterSeconds != nil:
		return cell{people: fmt.Sprintf("start + %d s", int(*e.AfterSeconds))}
	}
	return cell{people: "not known"}
}

func (a *app) sheetCommand() *cobra.Command {
	var all bool
	c := &cobra.Command{
		Use: "sheet DEVICE", Short: "Maker, model, serials, firmware, addresses: ready for a support call",
		Example: "  plumb sheet ostrel-store\n  plumb sheet --all",
		Args:    args(0, 1, "plumb sheet DEVICE, or plumb sheet --all"),
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			switch {
			case all == (len(given) == 1):
				return fail(ExitUsage, "write: plumb sheet DEVICE, or plumb sheet --all")
			case all:
				return a.sheets(c.Context(), s)
			}
			x, err := ask[contract.Sheet](s)(s.GetSheet(c.Context(), given[0]))
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.show(x, func() table { return sheetTable([]contract.Sheet{x}) })
			}
			for _, line := range sheetLines(x) {
				fmt.Fprintf(a.out, "%-16s %s\n", line[0], line[1])
			}
			for _, f := range x.Faults {
				fmt.Fprintln(a.out, a.paint("strained", "not readable: "+f))
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&all, "all", false, "every device of the estate, side by side")
	return c
}

func (a *app) sheets(ctx context.Context, s *service) error {
	list, err := ask[[]contract.Sheet](s)(s.ListSheets(ctx))
	if err != nil {
		return err
	}
	return a.show(list, func() table { return sheetTable(list) })
}

func sheetTable(list []contract.Sheet) table {
	t := table{columns: []string{"DEVICE", "FIRMWARE", "PRODUCT", "SERIAL", "WHAT IT IS"}}
	for _, x := range list {
		t.rows = append(t.rows, row(x.Device, deref(x.Firmware), deref(x.Product), deref(x.Serial), x.Words))
	}
	return t
}

// sheetLines lists what is known, in the order in which people are asked for it.
func sheetLines(x contract.Sheet) [][2]string {
	made := ""
	if x.BoardMade != nil {
		made = x.BoardMade.Format("2 January 2006")
	}
	hours := ""
	if x.OnHours != nil {
		hours = fmt.Sprintf("%d hours", *x.OnHours)
	}
	var out [][2]string
	for _, l := range [][2]string{
		{"device", x.Device}, {"what it is", x.Words}, {"site", x.Site}, {"place", deref(x.Place)},
		{"maker", deref(x.Maker)}, {"product", deref(x.Product)}, {"part", deref(x.Part)}, {"version", deref(x.Version)}, {"serial", deref(x.Serial)}, {"asset", deref(x.Asset)},
		{"board", deref(x.Board)}, {"board part", deref(x.BoardPart)}, {"board serial", deref(x.BoardSerial)}, {"board made", made},
		{"chassis part", deref(x.ChassisPart)}, {"chassis serial", deref(x.ChassisSerial)}, {"GUID", deref(x.GUID)},
		{"controller", strings.TrimSpace(deref(x.Name) + " " + deref(x.Address))}, {"firmware", deref(x.Firmware)}, {"protocol", deref(x.Protocol)}, {"MAC address", deref(x.Mac)}, {"switch port", strings.Join(deref(x.Ports), "; ")},
		{"on for", hours}, {"more", strings.Join(deref(x.More), "; ")},
	} {
		if l[1] != "" {
			out = append(out, l)
		}
	}
	return out
}
