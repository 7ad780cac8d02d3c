package serial

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/core/reading"
)

// A Pattern is something that a line may say, and what it means.
type Pattern struct {
	Name  string // in words
	Level reading.Level
	Match *regexp.Regexp
	Waits bool // it counts when nothing follows it: the far end waits for somebody

	// One of these, in small letters, is in every line that matches, where any are stated: to
	// look for them costs a fraction of the expression, and nearly all lines have none.
	hints []string
}

func (p *Pattern) hinted(small string) bool {
	return len(p.hints) == 0 || slices.ContainsFunc(p.hints, func(h string) bool { return strings.Contains(small, h) })
}

// Usual are the patterns that are known without being stated.
var Usual = []Pattern{
	usual("kernel panic", reading.Critical, false, `kernel panic|^panic[:(]|fatal exception in interrupt|unable to handle (page fault|kernel)`, "panic", "fatal exception", "unable to handle"),
	usual("watchdog", reading.Critical, false, `watchdog.{0,60}(timed? ?out|expired|bites?|reset|lockup)|(soft|hard) lockup`, "watchdog", "lockup"),
	usual("file system fault", reading.Warning, false, `\b(ext[234]|xfs|btrfs|ufs|zfs|file ?system)\b.{0,60}\b(errors?|corrupt\w*|inconsisten\w+)\b|remounting file ?system read-only|\bi/o error\b|run fsck`, "ext", "fs", "file", "i/o error"),
	usual("out of memory", reading.Warning, false, `\bout of memory\b`, "out of memory"),
	usual("no system to start", reading.Critical, false, `no (bootable|boot) (device|dis[ck]|medium)|no (operating )?system (was )?found|operating system not found|missing operating system`, "no ", "not found", "missing operating"),
	usual("boot loader waits", reading.Warning, true, `^\s*(grub|(u-?)?boot|loader|rescue|recovery)\S{0,16}[>#]\s*$|^=>\s*$`),
	usual("log-in prompt", reading.Fine, true, `(log-?in|user ?name)\s*:\s*$`),
	usual("waits for a key", reading.Warning, true, `\b(press|hit|strike)\b.{0,20}\b(key|enter|return)\b`),
}

func usual(name string, level reading.Level, waits bool, match string, hints ...string) Pattern {
	return Pattern{Name: name, Level: level, Match: regexp.MustCompile(`(?i)` + match), Waits: waits, hints: hints}
}

// Found is that a line has said something which is known.
type Found struct {
	At    time.Time // when the line of text began
	Name  string
	Level reading.Level
	Text  string // the line of text
}

// Times of recognising.
const (
	Settled   = 2 * time.Second // nothing more has come: what stands at the end is waited at
	sameAgain = time.Minute     // in which the same is found once
)

// A Recogniser looks for patterns in what one line says. The zero Recogniser knows those
// that are usual.
type Recogniser struct {
	Stated []Pattern

	text Reader
	last map[string]time.Time // found, by name
	seen string               // what stood at the end when that was looked at
}

// Read takes a piece of what is said.
func (r *Recogniser) Read(p []byte, at time.Time) (found []Found) {
	r.seen = ""
	for _, l := range r.text.Read(p, at) {
		found = r.look(found, l, at, false)
	}
	return found
}

// Settle looks at what the line has stopped at, once nothing has come for a while.
func (r *Recogniser) Settle(now time.Time) (found []Found) {
	rest := r.text.Rest()
	if rest.Text == r.seen {
		return nil
	}
	r.seen = rest.Text
	return r.look(nil, rest, now, true)
}

// look finds the first pattern that a line of text is like, of those that are stated first.
func (r *Recogniser) look(found []Found, l TextLine, at time.Time, stands bool) []Found {
	small := strings.ToLower(l.Text)
	for _, list := range [][]Pattern{r.Stated, Usual} {
		for i := range list {
			p := &list[i]
			if p.Waits && !stands || !p.hinted(small) || !p.Match.MatchString(l.Text) {
				continue
			}
			if last, was := r.last[p.Name]; was && at.Sub(last) < sameAgain && !at.Before(last) {
				return found
			}
			if r.last == nil {
				r.last = map[string]time.Time{}
			}
			r.last[p.Name] = at
			return append(found, Found{l.At, p.Name, p.Level, l.Text})
		}
	}
	return found
}
