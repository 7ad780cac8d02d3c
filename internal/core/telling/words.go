package telling

import (
	"fmt"
	"strings"
	"time"
	"unicode/utf8"

	"plumbbob/internal/core/incident"
	"plumbbob/internal/core/verdict"
)

// A Message is what is sent to one person by one channel. All of it is plain text.
type Message struct {
	ID       string // stays the same however often it is sent
	Subject  string // one line, short enough for a locked screen
	Text     string // of lines, without the subject
	Severity Severity
	At       time.Time
	Items    []Item
	Files    []File // of mail alone
}

// An Item is one incident in a message.
type Item struct {
	Note     Note
	Incident *incident.Incident
	Site     string // as it is called
	Line     string // what it hangs from, drawn in one line; empty: that is not known
	Link     string // leads to it after a log-in; empty: nobody has said where the console is
	Code     string // by which it is answered; empty: it cannot be
}

// mostNamed is how many devices are named behind one.
const mostNamed = 5

// Compose writes what one person is told: of one thing, or of several at once.
func Compose(id string, items []Item, zone *time.Location, now time.Time) Message {
	m := Message{ID: id, At: now, Items: items, Severity: Warning}
	for _, x := range items {
		if s := SeverityOf(x.Incident.Kind); m.Severity.Below(s) {
			m.Severity = s
		}
	}
	if len(items) == 1 {
		m.Subject, m.Text = headline(items[0]), strings.Join(body(items[0], zone, now), "\n")+"\n"
		return m
	}
	open := 0
	for _, x := range items {
		if x.Incident.Open() {
			open++
		}
	}
	m.Subject = fmt.Sprintf("%d incidents, %d of them open", len(items), open)
	var text strings.Builder
	for n, x := range items {
		if n > 0 {
			text.WriteString("\n")
		}
		fmt.Fprintf(&text, "%s\n", headline(x))
		for _, l := range body(x, zone, now) {
			fmt.Fprintf(&text, "  %s\n", l)
		}
	}
	m.Text = text.String()
	return m
}

// headline is the whole of it in one line.
func headline(x Item) string {
	i := x.Incident
	switch {
	case x.Note.What == Over, !i.Open():
		return fmt.Sprintf("Over after %s: %s, %s", verdict.Age(i.Ended.Sub(i.Opened)), i.Device, was(i))
	case x.Note.What == More && x.Note.Kind == i.Kind:
		return fmt.Sprintf("%s takes %d more along: %s%s", i.Device, len(i.Explains)-x.Note.Size, is(i), behind(i))
	case x.Note.What == More:
		return fmt.Sprintf("%s %s by now%s", i.Device, is(i), behind(i))
	}
	return fmt.Sprintf("%s %s%s", i.Device, is(i), behind(i))
}

// kindWords are what is wrong with a device, and what was, of the kinds that are no verdicts.
var kindWords = map[string][2]string{
	incident.Late:   {"has not returned in time", "which had not returned in time"},
	incident.Missed: {"was to be worked on, and was not", "which was to be worked on, and was not"},
	incident.Owed:   {"has not got back the power that was taken from it", "to which power was owed"},
}

// is says what is wrong with the device of an incident, behind its name.
func is(i *incident.Incident) string {
	if w, special := kindWords[i.Kind]; special {
		return w[0]
	}
	return "is " + i.Kind
}

func was(i *incident.Incident) string {
	if w, special := kindWords[i.Kind]; special {
		return w[1]
	}
	return "which was " + i.Kind
}

func behind(i *incident.Incident) string {
	if len(i.Explains) == 0 {
		return ""
	}
	return fmt.Sprintf(", %d behind it cut off", len(i.Explains))
}

// body is what else is to be known, line by line.
func body(x Item, zone *time.Location, now time.Time) (out []string) {
	i := x.Incident
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	clock := func(t time.Time) string { return t.In(zone).Format("Mon 2 Jan 15:04 MST") }
	say("%s, since %s", x.Site, clock(i.Opened))
	if i.Text != "" {
		say("Why: %s", i.Text)
	}
	if !i.Open() {
		say("Over since %s: %s", clock(i.Ended), i.Ending)
	}
	if n := len(i.Explains); n > 0 {
		named := make([]string, 0, mostNamed)
		for _, k := range i.Explains[:min(n, mostNamed)] {
			named = append(named, string(k))
		}
		more := ""
		if n > mostNamed {
			more = fmt.Sprintf(" and %d more", n-mostNamed)
		}
		say("Behind it: %s%s", strings.Join(named, ", "), more)
	}
	if x.Line != "" && i.Open() {
		for n, row := range rows(x.Line) {
			say("%s %s", [...]string{"Line:", "     "}[min(n, 1)], row)
		}
	}
	if n := len(i.Tried); n > 0 {
		say("Tried: %s, the last is %s", counted(n, "operation"), i.Tried[n-1])
	}
	if i.Seen != nil {
		say("%s sees to it%s", i.Seen.By, remark(i.Seen.Text))
	}
	if x.Note.Held != "" {
		say("You are told now and not before: %s", x.Note.Held)
	}
	if i.Open() {
		say("Look: plumb show %s   See to it: plumb incident ack %s", i.Device, i.ID)
	}
	if x.Link != "" {
		say("%s", x.Link)
	}
	return out
}

// widestLine is what a row of a drawn line may take on the screen of a telephone.
const widestLine = 44

// rows breaks a drawn line between its devices, each row after the first beginning with what joins it to
// the one before.
func rows(line string) (out []string) {
	row, piece := "", ""
	add := func() {
		if row != "" && utf8.RuneCountInString(row)+1+utf8.RuneCountInString(piece) > widestLine {
			out = append(out, row)
			row = ""
		}
		row, piece = strings.TrimSpace(row+" "+piece), ""
	}
	for _, word := range strings.Fields(line) {
		if word == "─" || word == "✗" {
			add()
		}
		piece = strings.TrimSpace(piece + " " + word)
	}
	add()
	return append(out, row)
}

func remark(text string) string {
	if text == "" {
		return ""
	}
	return ": " + text
}

// longestShort is how much of a message goes into text messages, without what is said of the answer.
const longestShort = 280

// Short is a message for channels that take little: its first lines, and how it is answered.
func (m Message) Short() string {
	lines := strings.Split(strings.TrimRight(m.Text, "\n"), "\n")
	out := m.Subject
	for _, l := range lines {
		l = strings.TrimSpace(l)
		if strings.HasPrefix(l, "Look: ") || strings.HasPrefix(l, "http") || len(out)+1+len(l) > longestShort {
			continue
		}
		out += "\n" + l
	}
	for _, x := range m.Items {
		if x.Code != "" && x.Incident.Open() && x.Incident.Seen == nil {
			out += fmt.Sprintf("\nTo see to %s answer %s", x.Incident.Device, x.Code)
			break // several are read in the console
		}
	}
	return out
}
