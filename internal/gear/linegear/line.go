package linegear

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"time"

	"plumbbob/internal/attach"
)

// settled is how long a line has to be quiet before what stands at its end is
// taken for a prompt.
const settled = 150 * time.Millisecond

// until waits for something to stand at the end of what is heard from a place on.
// It returns all of that in any case, and nothing as what stands there when the
// time is up.
func until(ctx context.Context, c *attach.Call, from attach.Place, within time.Duration, prompt *regexp.Regexp) (stands, string, error) {
	over := time.NewTimer(within)
	defer over.Stop()
	for {
		text, quiet, more, err := c.Since(from)
		s := at(text, prompt)
		if s != nothing && quiet >= settled || err != nil {
			return s, text, err
		}
		var calm <-chan time.Time
		if s != nothing {
			calm = time.After(settled - quiet)
		}
		select {
		case <-more:
		case <-calm:
		case <-over.C:
			return nothing, text, nil
		case <-ctx.Done():
			return nothing, text, context.Cause(ctx)
		}
	}
}

// stands is what a line waits for.
type stands int

const (
	nothing stands = iota
	logIn
	passwordAsked
	ready
)

var (
	usualPrompt = regexp.MustCompile(`[>#$%]\s*$`)
	asksName    = regexp.MustCompile(`(?i)(log-?in|user ?name|user)\s*:\s*$`)
	asksSecret  = regexp.MustCompile(`(?i)pass ?(word|phrase|code)[^:]*:\s*$`)
)

// at says what the last line of a text waits for.
func at(text string, prompt *regexp.Regexp) stands {
	text = attach.Escapes.ReplaceAllString(text, "")
	last := text[strings.LastIndexAny(text, "\r\n")+1:]
	switch {
	case asksSecret.MatchString(last):
		return passwordAsked
	case asksName.MatchString(last):
		return logIn
	case prompt.MatchString(last):
		return ready
	}
	return nothing
}

// said is what was answered to a command: neither that itself nor the prompt.
func said(c *attach.Call, text, typed string) []string {
	all := c.Lines(text)
	return slices.DeleteFunc(all[:max(0, len(all)-1)], func(x string) bool { return strings.HasSuffix(x, typed) })
}
