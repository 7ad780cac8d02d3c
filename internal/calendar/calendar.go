// Package calendar reads calendars in iCalendar form (RFC 5545): the times in
// which somebody works with a device.
package calendar

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"
)

// MaxSize bounds what is read of a calendar.
const MaxSize = 1 << 20

// maxEvents bounds how many events there may be, and maxSpan how long one lasts.
const (
	maxEvents = 2000
	maxSpan   = 31 * 24 * time.Hour
)

// A Calendar is a list of times, some of which come again and again. It may be shared
// between goroutines.
type Calendar struct {
	mu     sync.Mutex
	events []event
}

type event struct {
	text  string
	lasts time.Duration
	at    *rrule.Set

	each  rrule.Next // where it has been gone through to
	began time.Time
	next  time.Time
	more  bool
}

// Parse reads a calendar. Times without a zone are those of zone.
func Parse(text string, zone *time.Location) (*Calendar, error) {
	if len(text) > MaxSize {
		return nil, fmt.Errorf("it is larger than %d KiB", MaxSize>>10)
	}
	doc, err := decode(text)
	switch {
	case errors.Is(err, io.EOF):
		return nil, errors.New("it is empty: a calendar begins with BEGIN:VCALENDAR")
	case err != nil:
		return nil, fmt.Errorf("it is no calendar in iCalendar form: %w", err)
	case len(doc.Events()) > maxEvents:
		return nil, fmt.Errorf("it has more than %d events", maxEvents)
	}
	c, steps, now := &Calendar{}, 0, time.Now()
	for i, e := range doc.Events() {
		if s, _ := e.Status(); s == ical.EventCancelled || isTransparent(e) {
			continue
		}
		x, err := read(e, zone)
		if err != nil {
			return nil, fmt.Errorf("event %d (%s): %w", i+1, x.text, err)
		}
		n := x.upTo(now)
		if steps += n; n > mostTimes || steps > mostTimesAll {
			return nil, fmt.Errorf("event %d (%s): it has come too often since it began (more than %d times, or %d with those before it): have it begin later", i+1, x.text, mostTimes, mostTimesAll)
		}
		c.events = append(c.events, x)
	}
	return c, nil
}

// decode guards us against the decoder, which panics on some texts that are cut
// off in the middle of a line.
func decode(text string) (doc *ical.Calendar, err error) {
	defer func() {
		if why := recover(); why != nil {
			doc, err = nil, fmt.Errorf("a line is cut off: %v", why)
		}
	}()
	return ical.NewDecoder(strings.NewReader(text)).Decode()
}

// isTransparent: it does not make anybody busy (section 3.8.2.7).
func isTransparent(e ical.Event) bool {
	p := e.Props.Get(ical.PropTransparency)
	return p != nil && strings.EqualFold(p.Value, "TRANSPARENT")
}

func read(e ical.Event, zone *time.Location) (x event, err error) {
	x.text, _ = e.Props.Text(ical.PropSummary)
	from, err := e.DateTimeStart(zone)
	if err != nil || from.IsZero() {
		return x, errors.Join(errors.New("its beginning cannot be read"), err)
	}
	until, err := e.DateTimeEnd(zone)
	if err != nil {
		return x, fmt.Errorf("its end cannot be read: %w", err)
	}
	if x.lasts = until.Sub(from); x.lasts < 0 || x.lasts > maxSpan {
		return x, fmt.Errorf("it lasts %s: no longer than a month, and not less than nothing", x.lasts)
	}
	x.at = &rrule.Set{}
	x.at.DTStart(from)
	again, err := e.Props.RecurrenceRule()
	switch {
	case err != nil:
		return x, fmt.Errorf("its rule cannot be read: %w", err)
	case again == nil:
		x.at.RDate(from)
	case again.Freq > rrule.HOURLY: // counting its occurrences up to now would not end
		return x, errors.New("its rule comes again more often than every hour")
	default:
		again.Dtstart = from
		rule, err := rrule.NewRRule(*again)
		if err != nil {
			return x, fmt.Errorf("its rule cannot be read: %w", err)
		}
		x.at.RRule(rule)
	}
	for _, p := range e.Props[ical.PropExceptionDates] {
		for value := range strings.SplitSeq(p.Value, ",") {
			one := p
			one.Value = value
			at, err := one.DateTime(zone)
			if err != nil {
				return x, fmt.Errorf("an exception cannot be read: %w", err)
			}
			x.at.ExDate(at)
		}
	}
	return x, nil
}

// How often an event, and all of a calendar together, may have come until now: each has
// to be gone through once.
const (
	mostTimes    = 100_000
	mostTimesAll = 2_000_000
)

// upTo brings an event to a time: what began last, and what comes next. It says how many
// it has gone through, and stops at the most that there may be.
func (e *event) upTo(now time.Time) (steps int) {
	if e.each == nil || now.Before(e.began) { // or the clock was set back
		e.each, e.began = e.at.Iterator(), time.Time{}
		e.next, e.more = e.each()
	}
	for ; e.more && !e.next.After(now) && steps <= mostTimes; steps++ {
		e.began = e.next
		e.next, e.more = e.each()
	}
	return steps
}

// Busy says whether a time is within an event, what that is called, and until
// when it lasts.
func (c *Calendar) Busy(now time.Time) (text string, until time.Time, busy bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range c.events {
		e := &c.events[i]
		e.upTo(now)
		if !e.began.IsZero() && now.Before(e.began.Add(e.lasts)) {
			return e.text, e.began.Add(e.lasts), true
		}
	}
	return "", time.Time{}, false
}
