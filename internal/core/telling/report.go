package telling

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/verdict"
)

// mostReported is how many incidents stand in a report one by one.
const mostReported = 40

// ComposeReport writes what was wrong since a moment, and what is.
func ComposeReport(id string, all []*incident.Incident, since time.Time, unsent int, zone *time.Location, now time.Time) Message {
	open, over := []*incident.Incident{}, []*incident.Incident{}
	for _, i := range all {
		switch {
		case i.Open():
			open = append(open, i)
		case i.Ended.After(since):
			over = append(over, i)
		}
	}
	m := Message{ID: id, At: now, Severity: Warning, Subject: fmt.Sprintf("The last day: %s, %d of them open", counted(len(open)+len(over), "incident"), len(open))}
	if len(open)+len(over) == 0 {
		m.Subject = "The last day: nothing was wrong"
	}
	var text strings.Builder
	part := func(title string, list []*incident.Incident, line func(*incident.Incident) string) {
		if len(list) == 0 {
			return
		}
		slices.SortFunc(list, func(a, b *incident.Incident) int { return a.Opened.Compare(b.Opened) })
		fmt.Fprintf(&text, "%s\n", title)
		for _, i := range list[:min(len(list), mostReported)] {
			fmt.Fprintf(&text, "  %s\n", line(i))
		}
		if more := len(list) - mostReported; more > 0 {
			fmt.Fprintf(&text, "  and %d more\n", more)
		}
		text.WriteString("\n")
	}
	clock := func(t time.Time) string { return t.In(zone).Format("Mon 15:04") }
	part("Open", open, func(i *incident.Incident) string {
		seen := ""
		if i.Seen != nil {
			seen = "; " + i.Seen.By + " sees to it"
		}
		return fmt.Sprintf("%s %s since %s, for %s%s%s", i.Device, is(i), clock(i.Opened), verdict.Age(now.Sub(i.Opened)), behind(i), seen)
	})
	part("Over", over, func(i *incident.Incident) string {
		return fmt.Sprintf("%s %s, %s, for %s: %s", clock(i.Opened), i.Device, was(i), verdict.Age(i.Ended.Sub(i.Opened)), i.Ending)
	})
	if unsent > 0 {
		fmt.Fprintf(&text, "%s could not be sent: plumb telling sent --failed\n", counted(unsent, "message"))
	}
	if m.Text = text.String(); m.Text == "" {
		m.Text = "All that is looked after was steady, as far as it was asked.\n"
	}
	return m
}

func counted(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}
