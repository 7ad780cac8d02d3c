package client

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"strings"
	"time"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/verdict"
)

// show prints a value in the form that was asked for: as a table, or whole.
func (a *app) show(value any, t func() table) error {
	switch a.output {
	case "json":
		enc := json.NewEncoder(a.out)
		enc.SetIndent("", "  ")
		return enc.Encode(value)
	case "yaml":
		return a.yaml(value)
	case "csv":
		x := t()
		w := csv.NewWriter(a.out)
		if err := w.Write(x.headings()); err != nil {
			return err
		}
		for _, r := range x.rows {
			line := make([]string, len(r))
			for i, c := range r {
				line[i] = c.programs
			}
			if err := w.Write(line); err != nil {
				return err
			}
		}
		w.Flush()
		return w.Error()
	}
	a.table(t())
	return nil
}

// yaml prints a value with the names that it has in JSON.
func (a *app) yaml(value any) error {
	text, err := json.Marshal(value)
	if err != nil {
		return err
	}
	var plain yaml.Node // keeps the order; JSON is YAML
	if err := yaml.Unmarshal(text, &plain); err != nil {
		return err
	}
	unflow(&plain)
	enc := yaml.NewEncoder(a.out)
	enc.SetIndent(2)
	return enc.Encode(&plain)
}

func unflow(n *yaml.Node) {
	n.Style = 0
	for _, c := range n.Content {
		unflow(c)
	}
}

// Colours say nothing that the words do not: they only help to find it.
var colours = map[string]string{
	"head": "2", "hung": "1;31", "silent": "1;31", "dark": "1;35", "strained": "33", "waking": "36", "cut-off": "90", "unknown": "90", "parked": "90",
	"failed": "31", "done": "32", "bold": "1", "dim": "2", "inverse": "7",
}

func (a *app) paint(style, text string) string {
	if code := colours[style]; a.colour && code != "" && text != "" {
		return "\x1b[" + code + "m" + text + "\x1b[0m"
	}
	return text
}

// leastRoom is how many columns a text has at the least, however narrow the terminal.
const leastRoom = 24

// wrap breaks text into the lines of the terminal. first is how many columns stand
// before its first line; each further one has an indent. What goes into a pipe or a
// file is not broken.
func (a *app) wrap(s string, first int, indent string) string {
	fields := strings.Fields(s)
	if a.width == 0 {
		return strings.Join(fields, " ")
	}
	left := utf8.RuneCountInString(indent)
	width := max(a.width, max(first, left)+leastRoom)
	var b strings.Builder
	n := first
	for i, w := range fields {
		l := utf8.RuneCountInString(w)
		switch {
		case i == 0:
		case n+1+l > width:
			b.WriteString("\n" + indent)
			n = left
		default:
			b.WriteByte(' ')
			n++
		}
		b.WriteString(w)
		n += l
	}
	return b.String()
}

// All times on a screen are in one zone, that of whoever reads it, and say so.

// clock writes a time of day, with the date when it is not today.
func clock(t time.Time) string {
	t, now := t.Local(), time.Now()
	switch {
	case t.YearDay() == now.YearDay() && t.Year() == now.Year():
		return t.Format("15:04:05 MST")
	case t.Year() == now.Year():
		return t.Format("2 Jan 15:04:05 MST")
	}
	return t.Format("2 Jan 2006 15:04:05 MST")
}

// zoneName is the zone of this machine, so that what the service words has times in it
// as well: by its name where that can be found out, and otherwise by how far it is off.
func zoneName() string {
	if time.Local == time.UTC {
		return "UTC"
	}
	if name := os.Getenv("TZ"); name != "" {
		if _, err := time.LoadLocation(name); err == nil {
			return name
		}
	}
	if at, err := os.Readlink("/etc/localtime"); err == nil {
		if _, name, ok := strings.Cut(at, "/zoneinfo/"); ok {
			return name
		}
	}
	return time.Now().Format("-07:00")
}

// dated writes a time in a list, whose heading has the zone.
func dated(t time.Time) string {
	if t = t.Local(); t.Year() == time.Now().Year() {
		return t.Format("02 Jan 15:04")
	}
	return t.Format("02 Jan 2006 15:04")
}

// datedZone writes a time in a sentence, which has to say the zone itself.
func datedZone(t time.Time) string { return dated(t) + t.Local().Format(" MST") }

// inZone is the heading of a column of times.
func inZone(name string) string { return name + " " + time.Now().Format("(MST)") }

// age writes how long ago something was.
func age(t time.Time) string { return verdict.Age(time.Since(t)) }

func watts(w *float64) string {
	if w == nil {
		return ""
	}
	return fmt.Sprintf("%.1f W", *w)
}

func words(s contract.VerdictState) string { return strings.ReplaceAll(string(s), "-", " ") }

// reason writes a piece of evidence with its time.
func reason(r contract.Reason) string {
	switch {
	case r.At == nil:
		return r.Text
	case r.Since != nil && *r.Since:
		return r.Text + " since " + clock(*r.At)
	}
	return r.Text
}
