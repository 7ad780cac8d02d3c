// Package version says which version a program is, as the Go tool noted when it was
// built.
package version

import (
	"fmt"
	"runtime/debug"
	"time"
)

// number is that of the next release.
const number = "0.9"

// Info is which version a program is.
type Info struct {
	Version  string
	Revision string    // of the source; empty where it is not known
	At       time.Time // when that was committed; zero where it is not known
	Changed  bool      // it was built from something that was not committed
	Go       string
}

// This is the version of the program that runs.
func This() Info {
	v := Info{Version: number}
	b, ok := debug.ReadBuildInfo()
	if !ok {
		return v
	}
	v.Go = b.GoVersion
	for _, s := range b.Settings {
		switch s.Key {
		case "vcs.revision":
			v.Revision = s.Value[:min(12, len(s.Value))]
		case "vcs.time":
			v.At, _ = time.Parse(time.RFC3339, s.Value) // zero when it is none
		case "vcs.modified":
			v.Changed = s.Value == "true"
		}
	}
	return v
}

// String is for people: "0.9 (1a2b3c4d5e6f, 28 Nov 2026, go1.26.1)".
func (v Info) String() string {
	text := v.Version + " ("
	if v.Revision != "" {
		text += v.Revision
		if v.Changed {
			text += ", changed since"
		}
		text += ", " + v.At.UTC().Format("2 Jan 2006") + ", "
	}
	return fmt.Sprintf("%s%s)", text, v.Go)
}
