// Package seat is who sits at something that several may look at, and one works at: a serial
// line, or a screen. It is a machine without clocks.
package seat

import (
	"fmt"
	"slices"
	"time"

	"plumbbob/internal/core/operation"
)

// What somebody may do there.
type Right uint8

// The rights.
const (
	See  Right = iota // what is said or shown: it may hold passwords
	Type              // at its keyboard
	Send              // files, and sequences
	Take              // the keyboard, at once
)

// May says whether who has a role may do something at a line or a screen. Nothing else decides that.
func May(role operation.Role, right Right) bool {
	least := map[Right]operation.Role{See: operation.Operator, Type: operation.Operator, Send: operation.Steward, Take: operation.Keeper}
	return role.AtLeast(least[right])
}

// MaySit says why who has a role may not sit there at all.
func MaySit(role operation.Role) error {
	if !May(role, See) {
		return no("a %s may see neither what serial lines say nor what screens show: it may hold passwords", role)
	}
	return nil
}

// Times.
const (
	AskFor    = 20 * time.Second // a request for the keyboard stands on its holder's screen; then it is given
	IdleAfter = 15 * time.Minute // without a key the keyboard is free
	AwayFor   = time.Minute      // a seat whose connection was lost is kept
	MostAlone = 30 * time.Minute
	MostSeats = 64
)

// A Seat is one person, in one window.
type Seat struct {
	ID    string
	Who   string
	Role  operation.Role
	Watch bool // wants to see, and not to type
	Brief bool // for one thing, of which there is a record by itself
	Since time.Time
	Away  time.Time // since when its connection is lost; zero while it is there
}

// Request is somebody who asks for the keyboard.
type Request struct {
	Seat  string
	Until time.Time // then it is given
}

// A Table is one line, or screen, with those who sit at it. At the zero value nobody does.
type Table struct {
	All      []Seat
	Keyboard string    // the seat that has it; empty: nobody
	Typed    time.Time // the last key, or when it got the keyboard
	Asked    *Request
	Alone    time.Time // until when only who has the keyboard sees what is said
	AloneAt  time.Time // since when
}

// A NoError says why something cannot be done.
type NoError struct{ Text string }

func (e *NoError) Error() string { return e.Text }

func no(format string, args ...any) error { return &NoError{fmt.Sprintf(format, args...)} }

func (s *Table) seat(id string) *Seat {
	for i := range s.All {
		if s.All[i].ID == id {
			return &s.All[i]
		}
	}
	return nil
}

// Holder is who has the keyboard, or nil.
func (s *Table) Holder() *Seat { return s.seat(s.Keyboard) }

// Sit adds a seat, or brings one back whose connection was lost. Who may type, and is the
// first, has the keyboard. It returns what the others should be told.
func (s *Table) Sit(x Seat, now time.Time) (said []string, err error) {
	if err := MaySit(x.Role); err != nil {
		return nil, err
	}
	if was := s.seat(x.ID); was != nil {
		if was.Who != x.Who {
			return nil, no("that is somebody else's seat")
		}
		was.Away = time.Time{}
		return nil, nil
	}
	if len(s.All) >= MostSeats {
		return nil, no("%d are here already, and no more fit", MostSeats)
	}
	x.Since = now
	s.All = append(s.All, x)
	said = append(said, x.Who+" is on")
	// Who comes back by another window takes up what they have left.
	if h := s.Holder(); h != nil && h.Who == x.Who && !h.Away.IsZero() && !x.Watch {
		left := h.ID
		said = append(said, s.hand(x.ID, now))
		s.All = slices.DeleteFunc(s.All, func(x Seat) bool { return x.ID == left })
	}
	if s.Keyboard == "" && !x.Watch && May(x.Role, Type) {
		said = append(said, s.hand(x.ID, now))
	}
	return said, nil
}

// hand gives the keyboard to a seat, or to nobody.
func (s *Table) hand(id string, now time.Time) string {
	s.Keyboard, s.Typed, s.Asked, s.Alone, s.AloneAt = id, now, nil, time.Time{}, time.Time{}
	if h := s.Holder(); h != nil {
		return h.Who + " has the keyboard"
	}
	return "the keyboard is free"
}

// Leave takes a seat away.
func (s *Table) Leave(id string, now time.Time) (said []string) {
	x := s.seat(id)
	if x == nil {
		return nil
	}
	said = append(said, x.Who+" has left")
	had := s.Keyboard == id
	s.All = slices.DeleteFunc(s.All, func(x Seat) bool { return x.ID == id })
	if s.Asked != nil && s.Asked.Seat == id {
		s.Asked = nil
	}
	if had {
		said = append(said, s.next(now))
	}
	return said
}

// next gives the keyboard to who asks for it, or to nobody.
func (s *Table) next(now time.Time) string {
	to := ""
	if s.Asked != nil {
		to = s.Asked.Seat
	}
	return s.hand(to, now)
}

// Lost keeps the seat of somebody whose connection is lost, for a while.
func (s *Table) Lost(id string, now time.Time) {
	if x := s.seat(id); x != nil {
		x.Away = now
	}
}

// Ask asks for the keyboard: at once when nobody has it, and else its holder is asked.
func (s *Table) Ask(id string, now time.Time) (said []string, err error) {
	x := s.seat(id)
	switch {
	case x == nil:
		return nil, no("you have no seat here any more")
	case !May(x.Role, Type):
		return nil, no("a %s may not type", x.Role)
	case s.Keyboard == id:
		return nil, no("you have the keyboard")
	case s.Keyboard == "":
		x.Watch = false
		return []string{s.hand(id, now)}, nil
	case s.Asked != nil && s.Asked.Seat != id:
		return nil, no("%s asks for it already", s.seat(s.Asked.Seat).Who)
	case s.Asked != nil:
		return nil, nil
	}
	x.Watch = false
	s.Asked = &Request{id, now.Add(AskFor)}
	return []string{fmt.Sprintf("%s asks %s for the keyboard, and gets it in %d s unless that is refused", x.Who, s.Holder().Who, int(AskFor.Seconds()))}, nil
}

// Give hands the keyboard over to who asks, or lets it go; Refuse keeps it. Both are for
// who has it.
func (s *Table) Give(id string, now time.Time) (said []string, err error) {
	if s.Keyboard != id {
		return nil, no("you have not got the keyboard")
	}
	return []string{s.next(now)}, nil
}

// Refuse keeps the keyboard.
func (s *Table) Refuse(id string) (said []string, err error) {
	switch {
	case s.Keyboard != id:
		return nil, no("you have not got the keyboard")
	case s.Asked == nil:
		return nil, no("nobody asks for it")
	}
	text := fmt.Sprintf("%s keeps the keyboard, which %s has asked for", s.Holder().Who, s.seat(s.Asked.Seat).Who)
	s.Asked = nil
	return []string{text}, nil
}

// Take takes the keyboard at once.
func (s *Table) Take(id string, now time.Time) (said []string, err error) {
	x := s.seat(id)
	switch {
	case x == nil:
		return nil, no("you have no seat here any more")
	case !May(x.Role, Take):
		return nil, no("only a keeper takes the keyboard at once: ask for it")
	case s.Keyboard == id:
		return nil, no("you have the keyboard")
	}
	text := x.Who + " has taken the keyboard"
	if h := s.Holder(); h != nil {
		text += " from " + h.Who
	}
	x.Watch = false
	s.hand(id, now)
	return []string{text}, nil
}

// BeAlone hides what is said from the others for a time; none ends that.
func (s *Table) BeAlone(id string, d time.Duration, now time.Time) (said []string, err error) {
	switch {
	case s.Keyboard != id:
		return nil, no("only who has the keyboard can be alone")
	case d <= 0:
		s.Alone, s.AloneAt = time.Time{}, time.Time{}
		return []string{s.Holder().Who + " is not alone any more"}, nil
	}
	d = min(d, MostAlone)
	s.Alone, s.AloneAt = now.Add(d), now
	return []string{fmt.Sprintf("%s is alone for %d min: it is not shown to others", s.Holder().Who, int(d.Minutes()))}, nil
}

// Sees says whether a seat is shown what the line says.
func (s *Table) Sees(id string, now time.Time) bool {
	return s.seat(id) != nil && (s.Keyboard == id || !now.Before(s.Alone))
}

// Types takes in that a seat wants to type.
func (s *Table) Types(id string, now time.Time) error {
	x := s.seat(id)
	switch h := s.Holder(); {
	case x == nil:
		return no("you have no seat here any more")
	case h == nil:
		return no("nobody has the keyboard: ask for it")
	case x.Brief && x.Who == h.Who: // the same hands
	case s.Keyboard != id:
		return no("%s has the keyboard: ask for it", h.Who)
	}
	s.Typed = now
	return nil
}

// Sends takes in that a seat is about to have something sent: a file, or a sequence.
func (s *Table) Sends(id, what string, now time.Time) (said []string, err error) {
	if err := s.Types(id, now); err != nil {
		return nil, err
	}
	x := s.seat(id)
	if !May(x.Role, Send) {
		return nil, no("an %s may type, and neither send files nor run sequences: that takes a steward", x.Role)
	}
	return []string{fmt.Sprintf("%s sends %s", x.Who, what)}, nil
}

// Tick does what time alone does: it gives the keyboard to who has asked long enough, frees
// one that is not used, ends being alone, and clears the seats of those who have gone.
func (s *Table) Tick(now time.Time) (said []string, gone []Seat) {
	for _, x := range slices.Clone(s.All) {
		if !x.Away.IsZero() && now.Sub(x.Away) >= AwayFor {
			gone = append(gone, x)
			said = append(said, s.Leave(x.ID, now)...)
		}
	}
	switch {
	case s.Asked != nil && !now.Before(s.Asked.Until):
		said = append(said, s.next(now))
	case s.Keyboard != "" && now.Sub(s.Typed) >= IdleAfter:
		said = append(said, s.Holder().Who+" has not typed for long", s.next(now))
	}
	if !s.Alone.IsZero() && !now.Before(s.Alone) {
		s.Alone, s.AloneAt = time.Time{}, time.Time{}
		said = append(said, "it is shown to all again")
	}
	return said, gone
}

// Next is when Tick has something to do, or zero.
func (s *Table) Next() (at time.Time) {
	sooner := func(x time.Time) {
		if !x.IsZero() && (at.IsZero() || x.Before(at)) {
			at = x
		}
	}
	for _, x := range s.All {
		if !x.Away.IsZero() {
			sooner(x.Away.Add(AwayFor))
		}
	}
	if s.Asked != nil {
		sooner(s.Asked.Until)
	}
	if s.Keyboard != "" {
		sooner(s.Typed.Add(IdleAfter))
	}
	sooner(s.Alone)
	return at
}
