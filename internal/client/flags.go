package client

import (
	"regexp"
	"strconv"
	"time"

	"github.com/spf13/pflag"
)

// wrongValue says what the value of an option should be.
type wrongValue string

func (w wrongValue) Error() string { return string(w) }

// A span is the value of an option that is a length of time: as Go writes it, or with
// days in front (2d, 1d12h), and never less than makes sense.
type span struct {
	to    *time.Duration
	least time.Duration
}

// positive is the least of a span that cannot be nothing.
const positive = time.Millisecond

func spanVar(f *pflag.FlagSet, to *time.Duration, name string, usually, least time.Duration, usage string) {
	*to = usually
	f.Var(span{to, least}, name, usage)
}

var days = regexp.MustCompile(`^(\d{1,4})d(.*)$`)

func (s span) Set(text string) error {
	var d time.Duration
	rest := text
	if m := days.FindStringSubmatch(text); m != nil {
		n, _ := strconv.Atoi(m[1])
		d, rest = time.Duration(n)*24*time.Hour, m[2]
	}
	if rest != "" {
		x, err := time.ParseDuration(rest)
		if err != nil {
			return wrongValue("write a length of time such as 90s, 15m, 48h or 2d")
		}
		d += x
	}
	if d < s.least {
		return wrongValue("it cannot be less than " + s.least.String())
	}
	*s.to = d
	return nil
}

func (s span) String() string {
	if s.to == nil || *s.to == 0 {
		return ""
	}
	return s.to.String()
}

func (span) Type() string { return "duration" }

// A count is the value of an option that is a number of things: one at the least.
type count struct{ to *int }

func countVar(f *pflag.FlagSet, to *int, name string, usually int, usage string) {
	*to = usually
	f.Var(count{to}, name, usage)
}

func (c count) Set(text string) error {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 {
		return wrongValue("write a number, 1 or more")
	}
	*c.to = n
	return nil
}

func (c count) String() string {
	if c.to == nil {
		return ""
	}
	return strconv.Itoa(*c.to)
}

func (count) Type() string { return "number" }
