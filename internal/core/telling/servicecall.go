package telling

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/reading"
)

// A File goes with a message, where its channel takes files. It is text.
type File struct {
	Name string
	Text string
}

// A Patient is a device that its maker, or a dealer, is to see to.
type Patient struct {
	Device, Title, Site string
	Place               string
	Wrong               []string // what is believed of it, and why
	Sheet               reading.Sheet
	Sensors             []reading.Sensor
	Events              reading.EventLog
}

// mostEvents bounds what is attached of a log, the newest last.
const mostEvents = 2000

// ServiceCall writes to the maker or the dealer of a device: what is wrong, what it is, and its
// readings and its log beside that. Addresses within the house are not in it.
func ServiceCall(id string, p Patient, note string, now time.Time) Message {
	s := p.Sheet
	product := strings.TrimSpace(cmp.Or(s.Product, s.Board, p.Title))
	serial := cmp.Or(s.Serial, s.ChassisSerial, s.BoardSerial)
	m := Message{ID: id, At: now, Severity: Warning, Subject: "Service call: " + product}
	if serial != "" {
		m.Subject += ", serial " + serial
	}
	var text strings.Builder
	if note = strings.TrimSpace(note); note != "" {
		fmt.Fprintf(&text, "%s\n\n", note)
	}
	list := func(title string, lines []string) {
		if len(lines) > 0 {
			fmt.Fprintf(&text, "%s\n  %s\n\n", title, strings.Join(lines, "\n  "))
		}
	}
	list("What is wrong", append(append([]string{}, p.Wrong...), outOfBounds(p.Sensors)...))
	list("What it is", plate(p, product))
	m.Files = []File{{"readings.txt", readings(p.Sensors)}, {"events.txt", events(p.Events)}}
	fmt.Fprintf(&text, "Attached: %d readings, and the last %d entries of its log.\n", len(p.Sensors), min(len(p.Events.Events), mostEvents))
	m.Text = text.String()
	return m
}

func outOfBounds(all []reading.Sensor) (out []string) {
	for _, x := range all {
		if x.Level == reading.Warning || x.Level == reading.Critical {
			out = append(out, fmt.Sprintf("%s: %s (%s)", x.Name, x.Text(), x.Level))
		}
	}
	return out
}

func plate(p Patient, product string) (out []string) {
	s := p.Sheet
	for _, x := range [][2]string{
		{"Maker", s.Maker}, {"Product", product}, {"Part", s.Part}, {"Version", s.Version}, {"Serial", s.Serial}, {"Asset", s.Asset},
		{"Board", strings.TrimSpace(s.BoardMaker + " " + s.Board)}, {"Board serial", s.BoardSerial}, {"Board part", s.BoardPart},
		{"Chassis part", s.ChassisPart}, {"Chassis serial", s.ChassisSerial}, {"Firmware", s.Firmware},
		{"Called here", p.Device}, {"Where", strings.TrimSuffix(p.Site+", "+p.Place, ", ")},
	} {
		if x[1] != "" {
			out = append(out, fmt.Sprintf("%-14s %s", x[0], x[1]))
		}
	}
	return append(out, s.More...)
}

func readings(all []reading.Sensor) string {
	var out strings.Builder
	for _, x := range all {
		fmt.Fprintf(&out, "%-28s %-16s %s\n", x.Name, x.Text(), cmp.Or(string(x.Level), "not known"))
	}
	return out.String()
}

func events(log reading.EventLog) string {
	var out strings.Builder
	if log.Full {
		out.WriteString("entries have been dropped: the log was full\n")
	}
	for _, e := range log.Events[max(0, len(log.Events)-mostEvents):] {
		at := "before its clock was set"
		if e.At != nil {
			at = e.At.UTC().Format(time.RFC3339)
		}
		gone := ""
		if e.Gone {
			gone = " (gone)"
		}
		fmt.Fprintf(&out, "%s  %s  %s%s\n", at, e.Sensor, e.Text, gone)
	}
	return out.String()
}
