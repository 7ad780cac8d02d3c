package calendar

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func cal(events ...string) string {
	var b strings.Builder
	b.WriteString("BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//made up//EN\r\n")
	for i, e := range events {
		b.WriteString("BEGIN:VEVENT\r\nUID:" + string(rune('a'+i)) + "\r\nDTSTAMP:20260101T000000Z\r\n" + strings.ReplaceAll(e, "\n", "\r\n") + "\r\nEND:VEVENT\r\n")
	}
	return b.String() + "END:VCALENDAR\r\n"
}

func TestBusy(t *testing.T) {
	faroe, err := time.LoadLocation("Atlantic/Faroe")
	require.NoError(t, err)
	workdays := cal("SUMMARY:workshop\nDTSTART:20260302T080000\nDTEND:20260302T170000\nRRULE:FREQ=WEEKLY;BYDAY=MO,TU,WE,TH,FR\nEXDATE:20260304T080000,20260305T080000")
	for _, c := range []struct {
		name, text, at string
		want           string // until when, or "" for free
	}{
		{"within", cal("DTSTART:20260301T120000Z\nDTEND:20260301T130000Z"), "2026-03-01T12:30:00Z", "2026-03-01T13:00:00Z"},
		{"at its beginning", cal("DTSTART:20260301T120000Z\nDTEND:20260301T130000Z"), "2026-03-01T12:00:00Z", "2026-03-01T13:00:00Z"},
		{"at its end", cal("DTSTART:20260301T120000Z\nDTEND:20260301T130000Z"), "2026-03-01T13:00:00Z", ""},
		{"before", cal("DTSTART:20260301T120000Z\nDTEND:20260301T130000Z"), "2026-03-01T11:59:59Z", ""},
		{"with a duration", cal("DTSTART:20260301T120000Z\nDURATION:PT90M"), "2026-03-01T13:15:00Z", "2026-03-01T13:30:00Z"},
		{"a Monday, months later, in the zone of the site", workdays, "2026-07-06T07:30:00Z", "2026-07-06T16:00:00Z"},
		{"before work there", workdays, "2026-07-06T06:30:00Z", ""},
		{"a Saturday", workdays, "2026-07-04T10:00:00Z", ""},
		{"a day that is left out", workdays, "2026-03-05T10:00:00Z", ""},
		{"the day after", workdays, "2026-03-06T10:00:00Z", "2026-03-06T17:00:00Z"},
		{"cancelled", cal("STATUS:CANCELLED\nDTSTART:20260301T120000Z\nDTEND:20260301T130000Z"), "2026-03-01T12:30:00Z", ""},
		{"which makes nobody busy", cal("TRANSP:TRANSPARENT\nDTSTART:20260301T120000Z\nDTEND:20260301T130000Z"), "2026-03-01T12:30:00Z", ""},
		{"a whole day", cal("DTSTART;VALUE=DATE:20260301\nDTEND;VALUE=DATE:20260302"), "2026-03-01T22:00:00Z", "2026-03-02T00:00:00Z"},
	} {
		t.Run(c.name, func(t *testing.T) {
			parsed, err := Parse(c.text, faroe)
			require.NoError(t, err)
			at, err := time.Parse(time.RFC3339, c.at)
			require.NoError(t, err)
			_, until, busy := parsed.Busy(at)
			require.Equal(t, c.want != "", busy)
			if busy {
				require.Equal(t, c.want, until.UTC().Format(time.RFC3339))
			}
		})
	}
}

func TestWhatIsNoCalendar(t *testing.T) {
	for text, want := range map[string]string{
		"":                            "it is empty",
		"hello":                       "it is no calendar in iCalendar form",
		cal("DTEND:20260301T130000Z"): "its beginning cannot be read",
		cal("DTSTART:20260301T120000Z\nDTEND:20260201T130000Z"):              "it lasts ",
		cal("DTSTART:20260301T120000Z\nDTEND:20270301T130000Z"):              "no longer than a month",
		cal("DTSTART:20260301T120000Z\nDURATION:PT1M\nRRULE:FREQ=SECONDLY"):  "more often than every hour",
		cal("DTSTART:20260301T120000Z\nDURATION:PT1M\nRRULE:FREQ=SOMETIMES"): "its rule cannot be read",
		"0;0=":                         "a line is cut off",
		strings.Repeat("x", MaxSize+1): "it is larger than 1024 KiB",
	} {
		_, err := Parse(text, time.UTC)
		require.ErrorContains(t, err, want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add(cal("DTSTART:20260301T120000Z\nDTEND:20260301T130000Z\nRRULE:FREQ=DAILY;COUNT=3"))
	f.Fuzz(func(t *testing.T, text string) {
		c, err := Parse(text, time.UTC)
		if (c == nil) == (err == nil) {
			t.Fatal("neither a calendar nor an error")
		}
		if c != nil {
			c.Busy(time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC))
		}
	})
}

// TestWhatHasComeTooOften: an hourly event from the year 2 would have every preview count
// for a minute.
func TestWhatHasComeTooOften(t *testing.T) {
	event := func(from, freq string) string {
		return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:x\r\nBEGIN:VEVENT\r\nUID:1\r\nDTSTAMP:20260101T000000Z\r\nDTSTART:" + from + "\r\nDURATION:PT30M\r\nSUMMARY:x\r\nRRULE:FREQ=" + freq + "\r\nEND:VEVENT\r\nEND:VCALENDAR\r\n"
	}
	_, err := Parse(event("00020101T000000Z", "HOURLY"), time.UTC)
	require.ErrorContains(t, err, "have it begin later")
	c, err := Parse(event("20200101T000000Z", "HOURLY"), time.UTC)
	require.NoError(t, err)
	at := time.Date(2026, 3, 1, 12, 10, 0, 0, time.UTC)
	for _, then := range []time.Time{at, at.Add(time.Hour), at.Add(-24 * time.Hour), at.Add(400 * 24 * time.Hour)} { // the clock may be set, too
		_, until, busy := c.Busy(then)
		require.True(t, busy, then)
		require.Equal(t, then.Truncate(time.Hour).Add(30*time.Minute), until)
		_, _, busy = c.Busy(then.Add(25 * time.Minute))
		require.False(t, busy)
	}
}
