package linegear

import (
	"context"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/gear"
	"plumbbob/internal/wire/telnet"
)

// maxHeard is how much is kept of what was said.
const maxHeard = 64 << 10

// line is a connection with all that was lately heard on it.
type line struct {
	conn    *telnet.Conn
	address string
	hide    string // the password

	mu    sync.Mutex
	heard []byte
	first int64         // of the first byte in heard, counted from the beginning
	last  time.Time     // when something was heard
	news  chan struct{} // closed when more is heard, or the line ends
	ended error
}

// listen hears a line until it ends.
func (l *line) listen(conn *telnet.Conn) {
	l.conn, l.news = conn, make(chan struct{})
	go l.hear()
}

func (l *line) hear() {
	var b [4 << 10]byte
	for {
		n, err := l.conn.Read(b[:])
		l.mu.Lock()
		l.heard, l.last, l.ended = append(l.heard, b[:n]...), time.Now(), err
		if over := len(l.heard) - maxHeard; over > 0 {
			l.heard, l.first = append(l.heard[:0], l.heard[over:]...), l.first+int64(over)
		}
		close(l.news)
		l.news = make(chan struct{})
		l.mu.Unlock()
		if err != nil {
			return
		}
	}
}

func (l *line) err() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.ended
}

// mark is where what is heard from now on begins.
func (l *line) mark() int64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.first + int64(len(l.heard))
}

// since is what was heard from a mark on, how long the line has been quiet, and
// what tells when there is more.
func (l *line) since(mark int64) (text string, quiet time.Duration, more <-chan struct{}, ended error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return string(l.heard[max(0, mark-l.first):]), time.Since(l.last), l.news, l.ended
}

// settled is how long a line has to be quiet before what stands at its end is
// taken for a prompt.
const settled = 150 * time.Millisecond

// until waits for something to stand at the end of what is heard from a mark on.
// It returns all of that in any case, and nothing as what stands there when the
// time is up.
func (l *line) until(ctx context.Context, mark int64, within time.Duration, prompt *regexp.Regexp) (stands, string, error) {
	over := time.NewTimer(within)
	defer over.Stop()
	for {
		text, quiet, more, err := l.since(mark)
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
	escapes     = regexp.MustCompile(`\x1b(\[[0-9;?]*[A-Za-z]|[()][A-Z0-9]|[=>78])`)
)

// at says what the last line of a text waits for.
func at(text string, prompt *regexp.Regexp) stands {
	text = escapes.ReplaceAllString(text, "")
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

// lines are a text without empty lines, what only moves the cursor, and the
// password, which some far ends show as it is typed.
func (l *line) lines(text string) []string {
	if text = escapes.ReplaceAllString(text, ""); l.hide != "" {
		text = strings.ReplaceAll(text, l.hide, "…")
	}
	all := strings.FieldsFunc(text, func(r rune) bool { return r == '\r' || r == '\n' })
	out := make([]string, 0, len(all))
	for _, x := range all {
		if x = gear.Clean(strings.TrimSpace(x)); x != "" {
			out = append(out, x)
		}
	}
	return out
}

// said is what was answered to a command: neither that itself nor the prompt.
func (l *line) said(text, typed string) []string {
	all := l.lines(text)
	return slices.DeleteFunc(all[:max(0, len(all)-1)], func(x string) bool { return strings.HasSuffix(x, typed) })
}

// Of what is heard, so much is kept as lines.
const (
	maxTail   = 40
	tailBytes = 4 << 10
)

func (l *line) tail() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	all := l.lines(string(l.heard[max(0, len(l.heard)-tailBytes):]))
	return all[max(0, len(all)-maxTail):]
}
