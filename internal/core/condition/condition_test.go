package condition

import (
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
)

// known is what a test says is known: of one device, called box.
type known struct{ Facts }

var (
	now       = time.Date(2026, 11, 27, 23, 30, 0, 0, time.UTC)
	errNobody = errors.New("nobody knows")
)

func of[T any](k estate.Key, v T) (T, error) {
	if k != "box" {
		var none T
		return none, errNobody
	}
	return v, nil
}

func (known) Now() time.Time { return now }
func (known) Verdict(k estate.Key) (string, time.Time, error) {
	s, err := of(k, "hung")
	return s, now.Add(-6 * time.Minute), err
}
func (known) Answers(k estate.Key) (bool, error)              { return of(k, false) }
func (known) Reading(k estate.Key, _ string) (float64, error) { return of(k, 41.5) }
func (known) Words(k estate.Key, s string) (string, error)    { return of(k, s) }
func (known) Draw(k estate.Key) (float64, error)              { return of(k, 11.0) }
func (known) Outlet(k estate.Key, p string) (bool, error)     { return of(k, p == "3") }
func (known) OnBattery(k estate.Key) (bool, error)            { return of(k, true) }
func (known) Charge(k estate.Key) (float64, error)            { return of(k, 60.0) }
func (known) Minutes(k estate.Key) (float64, error)           { return of(k, 9.0) }
func (known) InUse(k estate.Key) (bool, error)                { return of(k, false) }
func (known) InWindow(k estate.Key) (bool, error)             { return of(k, false) }
func (known) Busy(k estate.Key) (bool, error)                 { return of(k, true) }

func TestHolds(t *testing.T) {
	tarawa, err := time.LoadLocation("Pacific/Tarawa") // twelve hours ahead
	require.NoError(t, err)
	here, there := New(func() Facts { return known{} }, time.UTC), New(func() Facts { return known{} }, tarawa)
	for text, want := range map[string]string{
		`verdict("box") == "hung" && verdict_for("box") > duration("5m")`:    "yes",
		`verdict_for("box") > duration("1h")`:                                "no",
		`!answers("box") && reading("box", "inlet") > 40.0`:                  "yes",
		`on_battery("box") && minutes("box") < 10.0 && charge("box") > 50.0`: "yes",
		`yes("box", "Closed")`:                                               "yes", `yes("box", "no")`: "no", `yes("box", "ajar")`: `it says "ajar"`,
		`words("box", "x") == "x" && outlet("box", "3") && draw("box") < 12`: "yes",
		`in_use("box") || in_window("box")`:                                  "no", `busy("box")`: "yes",
		`answers("gone")`:                         "nobody knows",
		`!answers("gone")`:                        "nobody knows",
		`busy("box") || answers("gone")`:          "yes",
		`answers("gone") && busy("box")`:          "nobody knows",
		`between("22:00", "06:00")`:               "yes",
		`between("06:00", "22:00")`:               "no",
		`between("late", "06:00")`:                "two times such as",
		`now > timestamp("2026-01-01T00:00:00Z")`: "yes",
		`answers(with.device)`:                    "no",
		`answers(with.other)`:                     "no such key: other",
		`[1,2,3,4,5,6,7,8,9].all(a, [1,2,3,4,5,6,7,8,9].all(b, [1,2,3,4,5,6,7,8,9].all(c, [1,2,3,4,5,6,7,8,9].all(d, a+b+c+d > 0))))`: "cost limit",
	} {
		c, err := here.Compile(text)
		require.NoError(t, err, text)
		yes, err := c.Holds(map[string]string{"device": "box"})
		switch {
		case err != nil:
			require.ErrorContains(t, err, want, text)
		default:
			require.Equal(t, want, map[bool]string{true: "yes", false: "no"}[yes], text)
		}
	}
	c, err := there.Compile(`between("22:00", "06:00")`)
	require.NoError(t, err)
	yes, err := c.Holds(nil)
	require.NoError(t, err)
	require.False(t, yes, "the clocks of another place")
}

func TestCompile(t *testing.T) {
	l := New(nil, time.UTC)
	for text, says := range map[string]string{
		`draw("x")`:                           "has to be a yes or a no",
		`draw("x") > "5"`:                     "at column 11: found no matching overload",
		`nonsense(`:                           "Syntax error",
		`who`:                                 "at column 1: undeclared reference to 'who'",
		strings.Repeat(" ", Longest) + "true": "up to 2000 bytes",
	} {
		_, err := l.Compile(text)
		require.ErrorContains(t, err, says, text)
	}
	c, err := l.Compile(`answers("a") && (reading("b", "c") > 1.0 || between("10:00", "11:00")) && answers(with.device) && now > timestamp("2026-01-01T00:00:00Z")`)
	require.NoError(t, err)
	require.Equal(t, []estate.Key{"a", "b"}, c.About())
}

func FuzzCompile(f *testing.F) {
	f.Add(`verdict("box") == "hung"`)
	f.Add(`["a", "b"].exists(k, answers(k))`)
	l := New(func() Facts { return known{} }, time.UTC)
	f.Fuzz(func(_ *testing.T, text string) {
		if c, err := l.Compile(text); err == nil {
			_, _ = c.Holds(nil)
		}
	})
}
