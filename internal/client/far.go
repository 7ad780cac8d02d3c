package client

import (
	"context"
	"io"
	"strings"
	"sync"

	"golang.org/x/term"
)

// Far is a terminal at the far end of a stream of characters, which does nothing by
// itself: what is typed is shown from here, and Ctrl-C is seen here. It needs no more of
// the terminal than that it moves its cursor as a VT100 does.
type Far struct {
	out  io.Writer
	line *term.Terminal

	mu      sync.Mutex
	changed *sync.Cond
	typed   []byte
	failed  error // how reading has ended
	raw     bool
	stop    func()          // what Ctrl-C does; nil: it wipes the line
	asking  context.Context // of who waits for a line, or for keys
	lastCR  bool
	columns int
	rows    int
	resized func()
}

// What is typed ahead at the most; who sends more waits.
const typedMost = 64 << 10

const (
	ctrlC = 0x03
	ctrlU = 0x15
)

// NewFar reads what is typed from in until that ends, and writes to out.
func NewFar(in io.Reader, out io.Writer, columns, rows int) *Far {
	f := &Far{out: out, asking: context.Background()}
	f.changed = sync.NewCond(&f.mu)
	f.line = term.NewTerminal(struct {
		io.Reader
		io.Writer
	}{lineOf{f}, out}, "")
	f.SetSize(columns, rows)
	go f.pump(in)
	return f
}

// pump takes in what is typed.
func (f *Far) pump(in io.Reader) {
	var b [1024]byte
	for {
		n, err := in.Read(b[:])
		f.mu.Lock()
		for len(f.typed) > typedMost && f.failed == nil {
			f.changed.Wait()
		}
		f.take(b[:n])
		if err != nil {
			f.failed = err
		}
		f.changed.Broadcast()
		stop := f.stop
		f.mu.Unlock()
		if err != nil {
			if stop != nil {
				stop()
			}
			return
		}
	}
}

// take appends keys as they are needed now. f.mu is held.
func (f *Far) take(keys []byte) {
	for _, k := range keys {
		wasCR := f.lastCR
		f.lastCR = k == '\r'
		switch {
		case f.raw:
		case k == ctrlC && f.stop != nil:
			f.typed = nil // was meant for what is stopped
			f.stop()
			continue
		case k == ctrlC:
			k = ctrlU
		case (k == '\n' || k == 0) && wasCR: // the other half of one Enter
			continue
		case k == '\n':
			k = '\r'
		}
		f.typed = append(f.typed, k)
	}
}

// wait waits for keys, until the one who asks has had enough. f.mu is held.
func (f *Far) wait() error {
	ctx := f.asking
	awake := context.AfterFunc(ctx, func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.changed.Broadcast()
	})
	defer awake()
	for len(f.typed) == 0 && f.failed == nil && ctx.Err() == nil {
		f.changed.Wait()
	}
	switch {
	case ctx.Err() != nil:
		return errGivenUp
	case len(f.typed) == 0:
		return f.failed
	}
	return nil
}

// lineOf gives keys to who puts lines together: never more than one line, since what is
// typed behind it may be for somebody else.
type lineOf struct{ f *Far }

func (r lineOf) Read(p []byte) (int, error) {
	f := r.f
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := f.wait(); err != nil {
		return 0, err
	}
	n := 0
	for n < len(p) && n < len(f.typed) {
		p[n] = f.typed[n]
		n++
		if p[n-1] == '\r' {
			break
		}
	}
	f.consumed(n)
	return n, nil
}

// consumed drops the first keys. f.mu is held.
func (f *Far) consumed(n int) {
	f.typed = f.typed[n:]
	f.changed.Broadcast()
}

// Keys implements Terminal.
func (f *Far) Keys(ctx context.Context, p []byte) (int, error) {
	defer f.askedBy(ctx)()
	f.mu.Lock()
	defer f.mu.Unlock()
	if err := f.wait(); err != nil {
		return 0, err
	}
	n := copy(p, f.typed)
	f.consumed(n)
	return n, nil
}

func (f *Far) askedBy(ctx context.Context) (done func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	was := f.asking
	f.asking = ctx
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.asking = was
	}
}

// forgets is a history that has none: answers are no commands.
type forgets struct{}

func (forgets) Add(string)    {}
func (forgets) Len() int      { return 0 }
func (forgets) At(int) string { return "" }

// Ask implements Terminal.
func (f *Far) Ask(ctx context.Context, prompt string, hidden bool) (string, error) {
	defer f.askedBy(ctx)()
	if hidden {
		text, err := f.line.ReadPassword(prompt)
		return text, ended(ctx, err)
	}
	was := f.line.History
	f.line.History = forgets{}
	defer func() { f.line.History = was }()
	// A prompt of several lines is shown, and its last line is asked at.
	if at := strings.LastIndexByte(prompt, '\n'); at >= 0 {
		_, _ = io.WriteString(f, prompt[:at+1])
		prompt = prompt[at+1:]
	}
	return f.command(ctx, prompt)
}

// command waits for one line that can be called up again.
func (f *Far) command(ctx context.Context, prompt string) (string, error) {
	defer f.askedBy(ctx)()
	f.line.SetPrompt(prompt)
	defer f.line.SetPrompt("")
	text, err := f.line.ReadLine()
	return text, ended(ctx, err)
}

// ended says that somebody has given up, which a terminal takes for an end.
func ended(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return errGivenUp
	}
	return err
}

// Raw implements Terminal.
func (f *Far) Raw() (restore func(), err error) {
	f.setRaw(true)
	return func() { f.setRaw(false) }, nil
}

func (f *Far) setRaw(on bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.raw = on
}

func (f *Far) isRaw() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.raw
}

// stops has Ctrl-C, and the end of the stream, call stop, until done.
func (f *Far) stops(stop func()) (done func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	before := f.stop
	f.stop = stop
	if f.failed != nil {
		stop()
	}
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.stop = before
	}
}

// Write shows text, whose lines end in \n unless the terminal is raw.
func (f *Far) Write(p []byte) (int, error) {
	if f.isRaw() {
		return f.out.Write(p)
	}
	n, err := f.line.Write(p)
	return min(n, len(p)), err
}

// Size implements Terminal.
func (f *Far) Size() (columns, rows int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.columns, f.rows
}

// What a terminal is taken for that does not say its size, or one that cannot be.
const (
	usualColumns, usualRows = 80, 24
	widest, highest         = 1000, 1000
)

// SetSize notes that the terminal has another size.
func (f *Far) SetSize(columns, rows int) {
	if columns <= 0 || rows <= 0 {
		columns, rows = usualColumns, usualRows
	}
	columns, rows = min(columns, widest), min(rows, highest)
	f.mu.Lock()
	f.columns, f.rows = columns, rows
	resized := f.resized
	f.mu.Unlock()
	_ = f.line.SetSize(columns, rows)
	if resized != nil {
		resized()
	}
}

// Resized implements Terminal.
func (f *Far) Resized(resized func()) (stop func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.resized = resized
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.resized = nil
	}
}
