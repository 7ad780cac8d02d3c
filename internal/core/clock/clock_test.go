package clock

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestClock(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	chatham, err := time.LoadLocation("Pacific/Chatham")
	require.NoError(t, err)
	for _, c := range []struct {
		text  string
		zone  *time.Location
		after string
		then  []string
	}{
		{"every day at 03:30", oslo, "2026-11-27T12:00:00Z", []string{"2026-11-28T02:30:00Z", "2026-11-29T02:30:00Z"}},
		{"30 3 * * 1-5", oslo, "2026-11-27T12:00:00Z", []string{"2026-11-30T02:30:00Z"}},
		{"Every  weekday at 22:00", oslo, "2026-11-27T22:00:00Z", []string{"2026-11-30T21:00:00Z"}},
		{"every mon, thu at 8:15", time.UTC, "2026-11-27T12:00:00Z", []string{"2026-11-30T08:15:00Z", "2026-12-03T08:15:00Z"}},
		{"every weekend at 10:00", time.UTC, "2026-11-27T12:00:00Z", []string{"2026-11-28T10:00:00Z", "2026-11-29T10:00:00Z"}},
		{"every month on the 1st at 04:00", time.UTC, "2026-11-27T12:00:00Z", []string{"2026-12-01T04:00:00Z", "2027-01-01T04:00:00Z"}},
		{"every 15 minutes", time.UTC, "2026-11-27T12:01:00Z", []string{"2026-11-27T12:15:00Z", "2026-11-27T12:30:00Z"}},
		// Clocks are set forward at 01:00 UTC: 02:30 is left out, and is done when the hour is over.
		{"every day at 02:30", oslo, "2026-03-28T12:00:00Z", []string{"2026-03-29T01:00:00Z", "2026-03-30T00:30:00Z"}},
		// Clocks are set back at 01:00 UTC: 02:30 comes twice, and is done once.
		{"every day at 02:30", oslo, "2026-10-24T12:00:00Z", []string{"2026-10-25T00:30:00Z", "2026-10-26T01:30:00Z"}},
		{"every hour", oslo, "2026-10-25T00:30:00Z", []string{"2026-10-25T01:00:00Z", "2026-10-25T02:00:00Z"}},
		{"every day at 03:00", chatham, "2026-04-03T14:00:00Z", []string{"2026-04-04T13:15:00Z", "2026-04-05T14:15:00Z"}},
	} {
		clock, err := At(c.text, c.zone)
		require.NoError(t, err, c.text)
		at, err := time.Parse(time.RFC3339, c.after)
		require.NoError(t, err)
		for _, want := range c.then {
			at = clock.Next(at)
			require.Equal(t, want, at.UTC().Format(time.RFC3339), "%s after %s", c.text, c.after)
		}
	}
	for text, says := range map[string]string{
		"": "is no time", "now and then": "is no time", "every 7 minutes": "does not go into 60", "every 0 minutes": "does not go", "every someday at 03:00": "is no day",
		"every month on the 31st at 04:00": "not every month", "every day at 25:00": "is no time", "0 0 30 2 *": "never comes", "@every 5m": "write it as",
	} {
		_, err := At(text, time.UTC)
		require.ErrorContains(t, err, says, text)
	}
	clock, err := At("every minute", time.UTC)
	require.NoError(t, err)
	from := time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
	times, n := clock.Between(from, from.Add(time.Hour), 2)
	require.Equal(t, 60, n)
	require.Equal(t, []time.Time{from.Add(59 * time.Minute), from.Add(time.Hour)}, times)
}
