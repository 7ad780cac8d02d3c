// Package modem drives a modem by its commands (ITU-T V.250): it dials, answers and hangs
// up, and is certain of that.
package modem

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"
	"sync"
	"time"

	"plumbbob/internal/wire/telnet"
)

// A Port is what the modem is at. Where it has no lines, SetReady and Modem return an
// error, and all goes by commands.
type Port interface {
	io.ReadWriteCloser
	SetReady(on bool) error
	Modem() (telnet.Modem, error)
	Break() error
}

// How long things take. The guard time is that of S12 in its usual setting.
const (
	answersWithin = 5 * time.Second
	owedWithin    = 2 * time.Second // to who has gone
	guard         = 1100 * time.Millisecond
	dropFor       = 600 * time.Millisecond
	lineEvery     = time.Second
	hangUpTries   = 3
	longestSaid   = 4 << 10 // of a result code, and what stands before it
)

// setUp has it answer in words, without an echo, with all result codes, tell of the
// carrier, heed DTR, and answer no call by itself: V.250, sections 6.2.4, 6.2.6, 6.2.7,
// 6.2.8, 6.2.9 and 6.3.8. Each by itself, since a modem gives up a line at what it does not know.
var setUp = []string{"E0", "V1", "Q0", "X4", "&C1", "&D2", "S0=0"}

// needed are those of them without which it cannot be driven.
var needed = []string{"E0", "V1", "Q0"}

// A ResultError is a call that did not come about, as the modem says: V.250, section 5.7.1.
type ResultError struct{ Code string }

var resultWords = map[string]string{
	"BUSY": "the number is engaged", "NO ANSWER": "nobody answers there", "NO DIALTONE": "there is no dial tone: is the telephone line in?",
	"NO DIAL TONE": "there is no dial tone: is the telephone line in?", "NO CARRIER": "no modem answers there", "ERROR": "the modem does not take the command",
}

func (e *ResultError) Error() string {
	if w := resultWords[e.Code]; w != "" {
		return w
	}
	if strings.HasPrefix(e.Code, "+CM") {
		return "the modem, or its network, refuses: " + e.Code // the numbers are in 3GPP TS 27.005, section 3.2.5
	}
	return "the modem says " + e.Code
}

var (
	// ErrSilent: the modem does not answer its commands.
	ErrSilent = errors.New("the modem does not answer: is it on, and its cable in?")
	// ErrHolds: nothing says that the line is free.
	ErrHolds = errors.New("the modem does not say that it has hung up: pull its telephone line out")
	errEnded = errors.New("the call has ended")
)

// A Modem may be shared by one who reads, one who writes, and one who hangs up.
type Modem struct {
	p Port

	mu     sync.Mutex
	change *sync.Cond
	said   []byte
	failed error
	online bool // what it says is of the far end
	hung   bool // the far end has gone, or we have
	tail   []byte
}

// New takes a port, and reads it from now on.
func New(p Port) *Modem {
	m := &Modem{p: p}
	m.change = sync.NewCond(&m.mu)
	go m.hear()
	return m
}

func (m *Modem) hear() {
	var b [1 << 10]byte
	for {
		n, err := m.p.Read(b[:])
		m.mu.Lock()
		m.said = append(m.said, b[:n]...)
		if !m.online {
			m.said = m.said[max(0, len(m.said)-longestSaid):]
		}
		for m.online && len(m.said) > longestSaid && !m.hung && err == nil {
			m.change.Broadcast()
			m.change.Wait() // for who reads
		}
		if err != nil {
			m.failed = err
		}
		m.change.Broadcast()
		m.mu.Unlock()
		if err != nil {
			return
		}
	}
}

// until waits until found says so. m.mu is held.
func (m *Modem) until(ctx context.Context, found func() bool) error {
	stop := context.AfterFunc(ctx, func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.change.Broadcast()
	})
	defer stop()
	for !found() {
		switch {
		case m.failed != nil:
			return m.failed
		case ctx.Err() != nil:
			return context.Cause(ctx)
		}
		m.change.Wait()
	}
	return nil
}

// The final result codes, those of 3GPP TS 27.005 and 27.007 among them, and RING, which comes unasked.
var results = regexp.MustCompile(`(?:^|[\r\n])(OK|CONNECT[^\r\n]*|NO CARRIER|ERROR|NO DIAL ?TONE|BUSY|NO ANSWER|RING|\+CM[SE] ERROR: *[^\r\n]*)[\r\n]`)

// result waits for one of the result codes that are wanted, or any final one.
func (m *Modem) result(ctx context.Context) (code string, err error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	err = m.until(ctx, func() bool {
		at := results.FindSubmatchIndex(m.said)
		if at == nil {
			return false
		}
		code = strings.TrimSpace(string(m.said[at[2]:at[3]]))
		end := at[1]
		if strings.HasPrefix(code, "CONNECT") && end < len(m.said) && m.said[end] == '\n' {
			end++ // what comes behind it is of the far end
		}
		m.said = append(m.said[:0], m.said[end:]...)
		return true
	})
	return code, err
}

// command sends a command and waits for its result; a RING meanwhile is passed over.
func (m *Modem) command(ctx context.Context, text string) (string, error) {
	m.mu.Lock()
	m.said = m.said[:0]
	m.mu.Unlock()
	if _, err := io.WriteString(m.p, "AT"+text+"\r"); err != nil {
		return "", err
	}
	for {
		code, err := m.result(ctx)
		if err != nil || code != "RING" {
			return code, err
		}
	}
}

// ask is command with a time-out, for what is answered at once.
func (m *Modem) ask(ctx context.Context, text string) (string, error) {
	within, cancel := context.WithTimeout(ctx, answersWithin)
	defer cancel()
	code, err := m.command(within, text)
	if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
		err = ErrSilent
	}
	if err != nil && ctx.Err() != nil {
		// What is still answered would be taken for the answer to what is asked next, by whoever.
		owed, cancel := context.WithTimeout(context.WithoutCancel(ctx), owedWithin)
		defer cancel()
		_, _ = m.result(owed)
	}
	return code, err
}

// SetUp makes the modem ready. One that holds a call from before hangs up.
func (m *Modem) SetUp(ctx context.Context) error {
	_ = m.p.SetReady(true)
	if code, err := m.ask(ctx, ""); err != nil || code != "OK" {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err := m.HangUp(ctx); err != nil { // it may be in a call that nobody has ended
			return fmt.Errorf("%w (%w)", ErrSilent, err)
		}
	}
	for _, x := range setUp {
		code, err := m.ask(ctx, x)
		if err != nil {
			return err
		}
		if code != "OK" && strings.Contains(strings.Join(needed, " "), x) {
			return &ResultError{code}
		}
	}
	return nil
}

// number is what may be dialled: V.250, section 6.3.1. What is there to be read goes.
var number = regexp.MustCompile(`^[0-9*#+A-DTPW,!@]{1,60}$`)

// Number is what is dialled for a number as people write it.
func Number(text string) (string, error) {
	n := strings.ToUpper(strings.NewReplacer(" ", "", "-", "", "(", "", ")", "", ".", "", "/", "").Replace(text))
	if !number.MatchString(n) {
		return "", fmt.Errorf("%q is no telephone number: digits, +, *, # and a comma for a pause", text)
	}
	return n, nil
}

// Dial calls a number, and returns what the modem says of the connection. Where it fails,
// or ctx ends, the line is hung up. Its error is a *ResultError where the call did not come
// about.
func (m *Modem) Dial(ctx context.Context, to string) (connection string, err error) {
	n, err := Number(to)
	if err != nil {
		return "", err
	}
	return m.connects(ctx, "D"+n)
}

// Answer takes a call that rings.
func (m *Modem) Answer(ctx context.Context) (connection string, err error) {
	return m.connects(ctx, "A")
}

func (m *Modem) connects(ctx context.Context, text string) (string, error) {
	code, err := m.command(ctx, text)
	if err == nil && strings.HasPrefix(code, "CONNECT") {
		m.mu.Lock()
		m.online, m.hung, m.tail = true, false, nil
		m.mu.Unlock()
		return code, nil
	}
	if err != nil { // any character gives a call up: V.250, section 5.6.1
		_, _ = io.WriteString(m.p, "\r")
		return "", errors.Join(err, m.HangUp(context.WithoutCancel(ctx)))
	}
	return "", &ResultError{code}
}

// Rings waits until it has rung that often, each within ten seconds of the one before.
func (m *Modem) Rings(ctx context.Context, times int) error {
	for rung := 0; rung < times; {
		within, cancel := ctx, context.CancelFunc(func() {})
		if rung > 0 {
			within, cancel = context.WithTimeout(ctx, 10*time.Second)
		}
		code, err := m.result(within)
		cancel()
		switch {
		case errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil:
			rung = 0 // they have given up
		case err != nil:
			return err
		case code == "RING":
			rung++
		}
	}
	return nil
}

var carrierLost = []byte("\r\nNO CARRIER\r\n")

// Read reads what the far end says. It ends when the far end has gone: by the line for
// the carrier, or, where the port has none, by what the modem says then.
func (m *Modem) Read(b []byte) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for len(m.said) == 0 {
		if m.hung || m.failed != nil {
			return 0, errEnded
		}
		if !m.waitLine() {
			m.hung = true
			return 0, errEnded
		}
	}
	n := copy(b, m.said)
	m.said = append(m.said[:0], m.said[n:]...)
	m.tail = append(m.tail, b[:n]...)
	m.tail = m.tail[max(0, len(m.tail)-len(carrierLost)):]
	if bytes.Equal(m.tail, carrierLost) && len(m.said) == 0 {
		if _, err := m.p.Modem(); err != nil {
			m.hung = true
		}
	}
	m.change.Broadcast()
	return n, nil
}

// waitLine waits a little for more, and says whether the far end is there still. m.mu is
// held.
func (m *Modem) waitLine() bool {
	timer := time.AfterFunc(lineEvery, func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		m.change.Broadcast()
	})
	m.change.Wait()
	timer.Stop()
	if len(m.said) > 0 {
		return true
	}
	lines, err := m.p.Modem()
	return err != nil || lines.Carrier
}

// Write sends something to the far end.
func (m *Modem) Write(b []byte) (int, error) {
	m.mu.Lock()
	up := m.online && !m.hung
	m.mu.Unlock()
	if !up {
		return 0, errEnded
	}
	return m.p.Write(b)
}

// Break sends a break to the far end.
func (m *Modem) Break() error { return m.p.Break() }

// HangUp ends the call and returns when the line is free for certain: by the line for
// that (DTR), and by escape and command (V.250, sections 5.3.3 and 6.3.6) where the modem
// does not say then that it takes commands. Its error is ErrHolds.
func (m *Modem) HangUp(ctx context.Context) error {
	m.mu.Lock()
	m.online, m.hung = false, true
	m.change.Broadcast()
	m.mu.Unlock()
	for range hangUpTries {
		if m.drop(ctx) || m.escape(ctx) {
			return nil
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
	}
	return ErrHolds
}

// free says whether the modem takes commands, and there is no carrier.
func (m *Modem) free(ctx context.Context) bool {
	if lines, err := m.p.Modem(); err == nil && lines.Carrier {
		return false
	}
	code, err := m.ask(ctx, "H")
	return err == nil && code == "OK"
}

func (m *Modem) drop(ctx context.Context) bool {
	if m.p.SetReady(false) != nil {
		return false
	}
	pause(ctx, dropFor)
	_ = m.p.SetReady(true)
	pause(ctx, dropFor)
	lines, err := m.p.Modem()
	return err == nil && !lines.Carrier && m.free(ctx)
}

func (m *Modem) escape(ctx context.Context) bool {
	pause(ctx, guard)
	m.mu.Lock()
	m.said = m.said[:0]
	m.mu.Unlock()
	if _, err := io.WriteString(m.p, "+++"); err != nil {
		return false
	}
	// It says OK once it takes commands, which is not taken for the answer to one: a slow modem
	// would count as hung up before it has hung up.
	within, cancel := context.WithTimeout(ctx, 2*guard)
	defer cancel()
	_, _ = m.result(within)
	return m.free(ctx)
}

func pause(ctx context.Context, long time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(long):
	}
}

// Close closes the port, without a word to the modem.
func (m *Modem) Close() error { return m.p.Close() }
