package client

import (
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/spf13/cobra"

	"plumbbob/internal/core/plain"
	"plumbbob/internal/core/serial"
)

// What goes over the WebSocket of a line; docs/api.md describes it.
type lineMessage struct {
	Seat  string
	Up    *bool
	Line  string
	Port  string
	Seats []struct {
		ID, Who     string
		Types, Away bool
		Since       time.Time
	}
	Asked *struct {
		Seat, Who string
		Seconds   int
	}
	Alone *struct {
		Who   string
		Until time.Time
		Sees  bool
	}
	Notice []string
	Missed int64
	Error  string
}

func (a *app) serialCommand() *cobra.Command {
	var watch bool
	var escape, log, port string
	var past linePast
	var send sendings
	c := &cobra.Command{
		Use: "serial DEVICE", Short: "Sit at the serial line of a device", Args: args(1, 1, "plumb serial DEVICE"),
		Long: `Sit at the serial line of a device, or at its own command line: what is typed goes
there, and what it says is shown. Several may sit there; one of them has the keyboard.

Behind the escape key, Ctrl-_ unless --escape says otherwise (Ctrl-7 or Ctrl-/ on many
keyboards):

` + lineHelp(usualEscape) + `
A connection that is lost comes back by itself. What the line says is shown without what
would make a terminal do more than draw. When what is typed does not come from a terminal,
it is sent, and the answer is shown until the line is quiet.

What the line says is kept while somebody sits there, and always where the estate has
listen: true: --past 2h shows it as text, --find looks for something in it, --export writes
a recording and --play plays it. What was typed is not kept, but what the far end echoed
is. What was said while somebody was alone at the line is not.

` + sequenceHelp,
		RunE: a.loggedIn(func(c *cobra.Command, given []string, s *service) error {
			if err := send.check(past.wanted()); err != nil {
				return err
			}
			if past.wanted() {
				return a.showPast(c.Context(), s, given[0], &past)
			}
			key, err := escapeKey(escape)
			if err != nil {
				return err
			}
			l := &lineDesk{app: a, s: s, device: given[0], watch: watch, port: port, escape: key, after: -1, wishes: make(chan lineWish, 64)}
			if log != "" {
				if err := l.logTo(log); err != nil {
					return err
				}
			}
			defer l.endLog()
			if send.wanted() {
				return l.sendAll(c.Context(), send)
			}
			return l.sit(c.Context())
		}),
	}
	past.flags(c.Flags())
	send.flags(c.Flags())
	c.Flags().BoolVar(&watch, "watch", false, "only watch, and leave the keyboard to others")
	c.Flags().StringVar(&escape, "escape", "ctrl-_", "the key behind which everything else is")
	c.Flags().StringVar(&port, "port", "", "set the port of the console server, where that can be set (RFC 2217): \"9600 8N1\"")
	c.Flags().StringVar(&log, "log", "", "write what the line says to this file as well")
	return c
}

// wish is what is to be sent: keys, or something to be done.
type lineWish struct {
	keys []byte
	do   map[string]any
}

// lineDesk is one person at a line.
type lineDesk struct {
	*app
	s      *service
	device string
	watch  bool
	port   string // is to be set; empty: as it is, or was set already
	escape byte
	cooked func() // has the terminal show lines again
	wishes chan lineWish

	// instead of a keyboard, where something is sent that is known beforehand.
	instead func(context.Context, context.CancelCauseFunc) (restore func(), err error)

	mu      sync.Mutex // of what follows, and of the screen
	seat    string
	after   int64
	last    lineMessage
	heard   time.Time
	told    string // of the line, so that it is said once
	log     *os.File
	ahead   serial.Ahead
	refusal string // the last one, so that it is not said for each key
	refused time.Time
	paused  bool // the screen is somebody else's
	held    []byte
	hears   func([]byte)      // what the line says; nil: nobody beside the screen
	tells   func(lineMessage) // likewise
}

// errLeft is how sitting ends that was meant to.
var errLeft = errors.New("left")

const (
	comeBackFirst = 500 * time.Millisecond
	comeBackMost  = 5 * time.Second
	longestSaid   = 1 << 20
	quietFor      = 2 * time.Second // after the last of what is piped in
	sameAgain     = 3 * time.Second // before the same refusal is said again
)

func (l *lineDesk) sit(ctx context.Context) error {
	conn, err := l.dial(ctx)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	begin := l.keyboard
	if l.instead != nil {
		begin = l.instead
	}
	restore, err := begin(ctx, stop)
	if err != nil {
		return err
	}
	defer restore()
	for {
		err = l.serve(ctx, conn)
		if cause := context.Cause(ctx); cause != nil {
			l.leave(conn)
			if errors.Is(cause, errLeft) || errors.Is(cause, io.EOF) {
				return nil
			}
			return cause
		}
		if closed := websocket.CloseStatus(err); closed == websocket.StatusPolicyViolation || closed == websocket.StatusGoingAway {
			return fail(ExitNotPermitted, "the line has ended: %s", err)
		}
		l.say("the connection is lost; coming back")
		if conn, err = l.comeBack(ctx); err != nil {
			return err
		}
	}
}

// comeBack dials until that works, or makes no sense any more.
func (l *lineDesk) comeBack(ctx context.Context) (*websocket.Conn, error) {
	for wait := comeBackFirst; ; wait = min(2*wait, comeBackMost) {
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(wait):
		}
		conn, err := l.dial(ctx)
		var e *exitError
		switch {
		case err == nil:
			l.say("back")
			return conn, nil
		case errors.As(err, &e) && e.status != ExitUnreachable:
			return nil, err
		}
	}
}

func (l *lineDesk) dial(ctx context.Context) (*websocket.Conn, error) {
	l.mu.Lock()
	q := url.Values{}
	if l.seat != "" {
		q.Set("seat", l.seat)
		q.Set("after", fmt.Sprint(l.after))
	}
	l.mu.Unlock()
	if l.watch {
		q.Set("watch", "true")
	}
	at := l.s.config.URL + "/api/v1/devices/" + url.PathEscape(l.device) + "/serial?" + q.Encode()
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	conn, res, err := websocket.Dial(ctx, at, &websocket.DialOptions{
		HTTPClient: l.s.http, HTTPHeader: http.Header{"Authorization": {"Bearer " + l.s.config.Token}},
		CompressionMode: websocket.CompressionContextTakeover,
	})
	if err != nil {
		if res != nil && res.StatusCode >= http.StatusBadRequest {
			return nil, l.s.refused(res)
		}
		return nil, l.s.unreachable(err)
	}
	conn.SetReadLimit(longestSaid)
	return conn, nil
}

// serve shows what is said and sends what is typed, until the connection or ctx ends.
func (l *lineDesk) serve(ctx context.Context, conn *websocket.Conn) error {
	// Reading goes on while somebody leaves: a read that is called off would close the
	// connection before good-bye is said.
	ended := make(chan error, 1)
	go func() { ended <- l.listen(context.WithoutCancel(ctx), conn) }()
	if columns, rows := l.size(); columns > 0 && rows > 0 {
		_ = send(ctx, conn, lineWish{do: map[string]any{"do": "size", "columns": columns, "rows": rows}})
	}
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx) // who leaves closes it
		case err := <-ended:
			_ = conn.CloseNow()
			return err
		case w := <-l.wishes:
			if ctx.Err() != nil {
				continue
			}
			if err := send(ctx, conn, w); err != nil {
				_ = conn.CloseNow()
				return err
			}
		}
	}
}

func send(ctx context.Context, conn *websocket.Conn, w lineWish) error {
	if w.do == nil {
		return conn.Write(ctx, websocket.MessageBinary, w.keys)
	}
	text, err := json.Marshal(w.do)
	if err != nil {
		return err
	}
	return conn.Write(ctx, websocket.MessageText, text)
}

// leave says good-bye, so that the seat is not kept.
func (l *lineDesk) leave(conn *websocket.Conn) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	if send(ctx, conn, lineWish{do: map[string]any{"do": "leave"}}) == nil {
		_ = conn.Close(websocket.StatusNormalClosure, "")
	}
	_ = conn.CloseNow()
}

func (l *lineDesk) listen(ctx context.Context, conn *websocket.Conn) error {
	for {
		kind, p, err := conn.Read(ctx)
		if err != nil {
			return err
		}
		if kind == websocket.MessageBinary {
			if len(p) < 8 {
				return fail(ExitFailed, "%s said something that is not understood", l.s.config.URL)
			}
			l.show(p[8:], int64(binary.BigEndian.Uint64(p)))
			continue
		}
		var m lineMessage
		if err := json.Unmarshal(l.s.harmless(p), &m); err != nil {
			return err
		}
		l.tell(m)
	}
}

// show writes what the line has said.
func (l *lineDesk) show(p []byte, behind int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.after, l.heard = behind, time.Now()
	if l.log != nil {
		if _, err := l.log.Write(p); err != nil {
			l.sayNow("the log cannot be written any more: %s", err)
			_ = l.log.Close()
			l.log = nil
		}
	}
	if l.hears != nil {
		l.hears(p)
	}
	if l.paused {
		l.held = append(l.held, p...)
		l.held = l.held[max(0, len(l.held)-longestSaid):]
		return
	}
	before, ghost := l.ahead.Said(p, time.Now())
	_, _ = l.out.Write(slices.Concat(before, p, ghost))
}

// tell says what is new of the line, and of those at it.
func (l *lineDesk) tell(m lineMessage) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.tells != nil {
		l.tells(m)
	}
	if m.Missed > 0 {
		l.sayNow("%d bytes in between are gone, or were not for you", m.Missed)
	}
	if m.Seat != "" {
		l.seat = m.Seat
		if m.Line != l.told {
			l.sayNow("%s: the line is %s", l.device, m.Line)
			if l.told == "" {
				l.sayNow("%s is the escape key, ? behind it says what there is", keyName(l.escape))
			}
			l.told = m.Line
		}
		if m.Port != l.last.Port && m.Port != "" {
			l.sayNow("its port: %s", m.Port)
		}
		l.last = m
		l.setPort()
	}
	for _, n := range m.Notice {
		l.sayNow("%s", n)
	}
	if m.Asked != nil && m.Asked.Seat != l.seat && l.holds() {
		l.sayNow("%s asks for the keyboard: %s g gives it, %s n keeps it", m.Asked.Who, keyName(l.escape), keyName(l.escape))
	}
	if m.Error != "" && (m.Error != l.refusal || time.Since(l.refused) > sameAgain) {
		l.sayNow("%s", m.Error)
		l.refusal, l.refused = m.Error, time.Now()
	}
}

// setPort sets the port as it was wished, once that can be. l.mu is held.
func (l *lineDesk) setPort() {
	if l.port == "" || l.last.Up == nil || !*l.last.Up || !l.holds() {
		return
	}
	select {
	case l.wishes <- lineWish{do: map[string]any{"do": "port", "port": l.port}}:
		l.port = ""
	default: // there is much to be sent; the next time
	}
}

func (l *lineDesk) holds() bool {
	for _, x := range l.last.Seats {
		if x.ID == l.seat && x.Types {
			return true
		}
	}
	return false
}

func (l *lineDesk) say(format string, args ...any) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.sayNow(format, args...)
}

// sayNow says something that is not of the line. l.mu is held.
func (l *lineDesk) sayNow(format string, args ...any) {
	text := plain.Line(fmt.Sprintf(format, args...))
	fmt.Fprintf(l.err, "\r\n%s\r\n", l.paint("head", "[plumb: "+text+"]"))
}

// size is that of the terminal.
func (l *lineDesk) size() (columns, rows int) {
	if l.terminal() {
		return l.term.Size()
	}
	return 0, 0
}

// whoIsOn lists those at the line.
func (l *lineDesk) whoIsOn() {
	l.mu.Lock()
	defer l.mu.Unlock()
	var all []string
	for _, x := range l.last.Seats {
		text := fmt.Sprintf("%s since %s", x.Who, x.Since.Local().Format("15:04"))
		if x.Types {
			text += ", types"
		}
		if x.Away {
			text += ", away"
		}
		all = append(all, text)
	}
	l.sayNow("on this line: %s", strings.Join(all, "; "))
}

func (l *lineDesk) logTo(file string) error {
	f, err := l.create(file, os.O_APPEND) // passwords may be echoed
	if err != nil {
		return fail(ExitUsage, "--log: %s", err)
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.log = f
	return nil
}

func (l *lineDesk) endLog() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.log != nil {
		_ = l.log.Close()
		l.log = nil
	}
}
