package verdict

import (
	"fmt"
	"strings"
	"time"

	"plumbbob/internal/core/estate"
)

// A Sentence is put together when somebody reads it: of most verdicts nobody reads the
// reasons before there are others.
type Sentence struct {
	form string
	args []any
}

// Say makes one of a form as those of fmt, and of what goes into it. What is given must
// not change afterwards.
func Say(form string, args ...any) Sentence { return Sentence{form, args} }

func (s Sentence) String() string {
	if len(s.args) == 0 {
		return s.form
	}
	return fmt.Sprintf(s.form, s.args...)
}

// What goes into sentences, and is worded when they are read.
type (
	fromOf estate.PowerCable // "pdu outlet 5"
	placed estate.End        // "outlet 5 of pdu"
	listed []any
	owned  string // "its card"
	millis time.Duration
	watts  float64
)

func (c *fromOf) String() string { return string(c.From.Device) + " " + c.From.Words() }
func (e placed) String() string  { return estate.End(e).Place() }
func (o owned) String() string   { return "its " + string(o) }
func (l listed) String() string {
	all := make([]string, len(l))
	for i, x := range l {
		all[i] = fmt.Sprint(x)
	}
	return strings.Join(all, ", ")
}
func (d millis) String() string { return Millis(time.Duration(d)) }
func (w watts) String() string  { return Watts(float64(w)) }

// names is one name, as most often, or several.
type names struct {
	first any
	list  listed
}

func (n *names) add(name any) {
	switch {
	case n.first == nil:
		n.first = name
	case n.list == nil:
		n.list = listed{n.first, name}
	default:
		n.list = append(n.list, name)
	}
}

// all is what is said of them.
func (n *names) all() any {
	if n.list != nil {
		return n.list
	}
	return n.first
}
