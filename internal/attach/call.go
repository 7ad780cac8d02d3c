package attach

import (
	"context"
	"regexp"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/gear"
)

// A Call is one connection to a line, with all that was lately heard on it.
type Call struct {
	Address string

	conn    Wire
	hide    string
	timeout time.Duration

	mu    sync.Mutex
	heard []byte
	first int64         // of the first byte in heard, counted from the beginning
	last  time.Time     // when something was heard
	news  chan struct{} // closed when more is heard, or the call ends
	ended error
}

// answer listens to a connection until it ends.
func answer(conn Wire, address string, o Options) *Call {
	c := &Call{Address: address, conn: conn, hide: o.Hide, timeout: o.Timeout, news: make(chan struct{})}
	go c.hear()
	return c
}

func (c *Call) hear() {
	var b [4 << 10]byte
	for {
		n, err := c.conn.Read(b[:])
		c.mu.Lock()
		c.heard, c.last, c.ended = append(c.heard, b[:n]...), time.Now(), err
		if over := len(c.heard) - keep; over > 0 {
			c.heard, c.first = append(c.heard[:0], c.heard[over:]...), c.first+int64(over)
		}
		close(c.news)
		c.news = make(chan struct{})
		c.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// Err is why the call has ended, or nil.
func (c *Call) Err() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.ended
}

// Write types something.
func (c *Call) Write(p []byte) (int, error) { return c.conn.Write(p) }

// Break presses the Break key.
func (c *Call) Break() error { return c.conn.Break() }

// Resize tells the far end how large the terminal is, where it wants to know.
func (c *Call) Resize(columns, rows int) error {
	if w, ok := c.conn.(interface{ Resize(columns, rows int) error }); ok {
		return w.Resize(columns, rows)
	}
	return nil
}

// Alive asks the far end for a sign of life that nobody at the line notices. One that
// cannot be asked is alive for as long as the connection is.
func (c *Call) Alive(ctx context.Context) error {
	came, err := c.conn.Mark()
	if err != nil || came == nil {
		return err
	}
	late := time.NewTimer(c.timeout)
	defer late.Stop()
	for {
		_, _, more, ended := c.Since(c.Now())
		if ended != nil {
			return ended
		}
		select {
		case <-came:
			return nil
		case <-more:
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-late.C:
			return context.DeadlineExceeded
		}
	}
}

// A Place is somewhere in what is heard, counted in bytes from the beginning.
type Place int64

// Now is where what is heard from now on begins.
func (c *Call) Now() Place {
	c.mu.Lock()
	defer c.mu.Unlock()
	return Place(c.first + int64(len(c.heard)))
}

// Since is what was heard from a place on, as far as it is still there, how long the
// line has been quiet, and what tells when there is more.
func (c *Call) Since(from Place) (text string, quiet time.Duration, more <-chan struct{}, ended error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	return string(c.heard[max(0, int64(from)-c.first):]), time.Since(c.last), c.news, c.ended
}

// A Reader reads along, from what is still there on. Many may, each at its own pace.
type Reader struct {
	call *Call
	at   Place
}

// Reader returns one that begins with the oldest that is still there.
func (c *Call) Reader() *Reader {
	c.mu.Lock()
	defer c.mu.Unlock()
	return &Reader{c, Place(c.first)}
}

// Next waits for what was said behind what was read before. missed is how many bytes
// in between are gone, because the reader was too slow. Its error is that of ctx, or
// why the call has ended, once all of it was read.
func (r *Reader) Next(ctx context.Context) (said []byte, missed int64, err error) {
	for {
		c := r.call
		c.mu.Lock()
		missed = max(0, c.first-int64(r.at))
		said = append([]byte(nil), c.heard[max(0, int64(r.at)-c.first):]...)
		r.at = Place(c.first + int64(len(c.heard)))
		news, ended := c.news, c.ended
		c.mu.Unlock()
		if len(said) > 0 {
			return said, missed, nil
		}
		if ended != nil {
			return nil, 0, ended
		}
		select {
		case <-news:
		case <-ctx.Done():
			return nil, 0, context.Cause(ctx)
		}
	}
}

// Escapes is what moves a cursor or sets a colour, and is no text.
var Escapes = regexp.MustCompile(`\x1b(\[[0-9;?]*[A-Za-z]|[()][A-Z0-9]|[=>78])`)

// Lines are a text without empty lines, what only moves the cursor, and what is hidden.
func (c *Call) Lines(text string) []string {
	if text = Escapes.ReplaceAllString(text, ""); c.hide != "" {
		text = strings.ReplaceAll(text, c.hide, "…")
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

// lineBytes is how long a line usually is at the most: no more is looked through than
// is asked for.
const lineBytes = 256

// lines are up to n lines, the last that were said on the call.
func (c *Call) lines(n int) []string {
	c.mu.Lock()
	text := string(c.heard[max(0, len(c.heard)-n*lineBytes):])
	c.mu.Unlock()
	all := c.Lines(text)
	return all[max(0, len(all)-n):]
}
