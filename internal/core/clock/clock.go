// Package clock is times that come again and again, by the clock on the wall of a place.
package clock

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// A Clock says when something is done again and again, by the clock on the wall of a place.
type Clock struct {
	Text string // as it was written
	spec *cron.SpecSchedule
	zone *time.Location
}

var weekdays = []string{"sunday", "monday", "tuesday", "wednesday", "thursday", "friday", "saturday"}

var (
	everyDayAt  = regexp.MustCompile(`^every (.+) at (\d{1,2}):(\d{2})$`)
	everySoMuch = regexp.MustCompile(`^every (?:(\d{1,3}) )?(minute|minutes|hour|hours)$`)
	ofTheMonth  = regexp.MustCompile(`^every month on the (\d{1,2})(?:st|nd|rd|th)? at (\d{1,2}):(\d{2})$`)
)

// At reads when something is done: five fields of cron ("30 3 * * *"), or plain words: "every day
// at 03:30", "every weekday at 22:00", "every mon, thu at 08:15", "every month on the 1st at
// 04:00", "every 15 minutes", "every 2 hours".
func At(text string, zone *time.Location) (*Clock, error) {
	fields, err := asCron(strings.ToLower(strings.Join(strings.Fields(text), " ")))
	if err != nil {
		return nil, err
	}
	s, err := cron.ParseStandard(fields)
	if err != nil {
		return nil, fmt.Errorf("%q is no time: write \"every day at 03:30\", or five fields such as \"30 3 * * 1-5\"", text)
	}
	spec, is := s.(*cron.SpecSchedule)
	if !is {
		return nil, fmt.Errorf("%q: write it as \"every 15 minutes\"", text)
	}
	spec.Location = zone
	c := &Clock{Text: text, spec: spec, zone: zone}
	if c.Next(time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
		return nil, fmt.Errorf("%q never comes", text)
	}
	return c, nil
}

// asCron makes plain words five fields; what is none of them stays.
func asCron(text string) (string, error) {
	switch m := everySoMuch.FindStringSubmatch(text); {
	case m == nil:
	default:
		n := 1
		if m[1] != "" {
			n, _ = strconv.Atoi(m[1])
		}
		of, fields := 60, "*/%d * * * *"
		if strings.HasPrefix(m[2], "hour") {
			of, fields = 24, "0 */%d * * *"
		}
		if n == 0 || of%n != 0 {
			return "", fmt.Errorf("%q: %d does not go into %d evenly, and it would not be the same time apart", text, n, of)
		}
		return fmt.Sprintf(fields, n), nil
	}
	if m := ofTheMonth.FindStringSubmatch(text); m != nil {
		if day, _ := strconv.Atoi(m[1]); day > 28 {
			return "", fmt.Errorf("%q: not every month has a day %d", text, day)
		}
		return fmt.Sprintf("%s %s %s * *", m[3], m[2], m[1]), nil
	}
	if m := everyDayAt.FindStringSubmatch(text); m != nil {
		days, err := daysOf(m[1])
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s %s * * %s", m[3], m[2], days), nil
	}
	return text, nil
}

func daysOf(text string) (string, error) {
	switch text {
	case "day", "night":
		return "*", nil
	case "weekday":
		return "1-5", nil
	case "weekend":
		return "0,6", nil
	}
	var out []string
	for _, name := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		i := slices.IndexFunc(weekdays, func(d string) bool { return len(name) >= 3 && strings.HasPrefix(d, name) })
		switch {
		case i >= 0:
			out = append(out, strconv.Itoa(i))
		case name != "and":
			return "", fmt.Errorf("%q is no day: day, weekday, weekend, mon and the like are", name)
		}
	}
	return strings.Join(out, ","), nil
}

// Next is the first time after one, or zero where there is none within five years.
//
// What has hours of its own is done by the clock on the wall: once where an hour comes twice as
// clocks are set back, and as soon as the hour is over where one is left out. What is done
// around the clock is done by the time that passes.
func (c *Clock) Next(after time.Time) time.Time {
	if c.aroundTheClock() {
		return c.spec.Next(after)
	}
	// The clock on the wall, as if it were never set: the schedule is one of UTC then.
	walls := *c.spec
	walls.Location = time.UTC
	at := after.In(c.zone)
	wall := time.Date(at.Year(), at.Month(), at.Day(), at.Hour(), at.Minute(), at.Second(), at.Nanosecond(), time.UTC)
	wall = wall.Add(-setBackMost) // an hour that comes twice was there before
	for {
		if wall = walls.Next(wall); wall.IsZero() {
			return time.Time{}
		}
		if t := onTheWall(wall, c.zone); t.After(after) {
			return t
		}
	}
}

// setBackMost is by how much clocks are set back at most, for daylight saving.
const setBackMost = 2 * time.Hour

// aroundTheClock: at every hour, or each so many of them from midnight to midnight.
func (c *Clock) aroundTheClock() bool {
	const starred = 1 << 63
	return c.spec.Hour&starred != 0
}

// onTheWall is the first moment at which clocks of a zone show a time, or, where that is left
// out, the moment at which they are set.
func onTheWall(wall time.Time, zone *time.Location) time.Time {
	t := time.Date(wall.Year(), wall.Month(), wall.Day(), wall.Hour(), wall.Minute(), wall.Second(), 0, zone)
	begins, ends := t.ZoneBounds()
	if !shows(t, wall) { // there is no such time: it is taken by what counted before, or after
		if t.Hour()*60+t.Minute() < wall.Hour()*60+wall.Minute() && !ends.IsZero() {
			return ends
		}
		return begins
	}
	if begins.IsZero() {
		return t
	}
	// The same time may have been shown before the clocks were set back.
	_, now := t.Zone()
	_, before := begins.Add(-time.Second).Zone()
	if earlier := t.Add(-time.Duration(before-now) * time.Second); before > now && earlier.Before(begins) && shows(earlier.In(zone), wall) {
		return earlier
	}
	return t
}

func shows(t, wall time.Time) bool {
	return t.Hour() == wall.Hour() && t.Minute() == wall.Minute() && t.Day() == wall.Day()
}

// Between lists the times after one and up to another, of which there may be many: the newest
// most of them, and how many there are.
func (c *Clock) Between(after, until time.Time, most int) (times []time.Time, n int) {
	for t := c.Next(after); !t.IsZero() && !t.After(until); t = c.Next(t) {
		if n++; len(times) == most {
			times = append(times[:0], times[1:]...)
		}
		times = append(times, t)
	}
	return times, n
}
