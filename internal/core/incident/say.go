package incident

import (
	"fmt"
	"strings"
	"time"
)

// A UsageError says what is wrong with what somebody wants of an incident.
type UsageError struct{ Text string }

func (e *UsageError) Error() string { return e.Text }

// A StateError says why an incident, as it is now, cannot take what somebody wants of it.
type StateError struct{ Text string }

func (e *StateError) Error() string { return e.Text }

// The longest note, in bytes, and the longest that nobody wants to hear of an
// incident: what was put on a shelf must not be forgotten there.
const (
	MaxNote  = 2000
	MaxShelf = 30 * 24 * time.Hour
	maxNotes = 200
)

// Acknowledge notes that somebody has seen it and sees to it. It returns what the
// journal says of that.
func (i *Incident) Acknowledge(by, text string, now time.Time) (string, error) {
	if !i.Open() {
		return "", &StateError{fmt.Sprintf("incident %s has ended already: a note can still be added", i.ID)}
	}
	if i.Seen != nil {
		return "", &StateError{fmt.Sprintf("%s sees to it already, since %s", i.Seen.By, i.Seen.At.Format("2 Jan 15:04 MST"))}
	}
	i.Seen = &Remark{By: by, At: now, Text: text}
	return with("Seen, and seen to", text), checkNote(text)
}

// Note adds what somebody wants to be remembered.
func (i *Incident) Note(by, text string, now time.Time) (string, error) {
	if strings.TrimSpace(text) == "" {
		return "", &UsageError{"a note without words"}
	}
	if len(i.Notes) >= maxNotes {
		return "", &StateError{fmt.Sprintf("incident %s has %d notes already", i.ID, maxNotes)}
	}
	i.Notes = append(i.Notes, Remark{By: by, At: now, Text: text})
	return "Noted: " + text, checkNote(text)
}

// Shelve has nobody hear of it for a time; a time that is over takes it off the
// shelf again.
func (i *Incident) Shelve(by, text string, until, now time.Time) (string, error) {
	switch {
	case !i.Open():
		return "", &StateError{fmt.Sprintf("incident %s has ended already: there is nothing to shelve", i.ID)}
	case until.Sub(now) > MaxShelf:
		return "", &UsageError{"an incident can be shelved for 30 days at the most"}
	case !until.After(now):
		if i.Shelved == nil {
			return "", &StateError{fmt.Sprintf("incident %s is not shelved", i.ID)}
		}
		i.Shelved = nil
		return "Taken off the shelf", nil
	}
	i.Shelved = &Shelf{Remark{By: by, At: now, Text: text}, until}
	return with("Shelved until "+until.Format("2 Jan 15:04 MST"), text), checkNote(text)
}

func checkNote(text string) error {
	if len(text) > MaxNote {
		return &UsageError{fmt.Sprintf("the text is longer than %d bytes", MaxNote)}
	}
	return nil
}

func with(what, text string) string {
	if text == "" {
		return what
	}
	return what + ": " + text
}
