package gate

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/kballard/go-shellquote"
	"golang.org/x/crypto/ssh"

	"plumbbob/internal/client"
	"plumbbob/internal/people"
	"plumbbob/internal/store"
)

const (
	triesMost    = 6
	channelsMost = 4 // of one connection
	aliveEvery   = 30 * time.Second
	longestWish  = 32 << 10 // of a command
)

func newHostKey() ([]byte, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(key, "gate")
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(block), nil
}

// A caller is one connection.
type caller struct {
	*Gate
	remote net.Addr
	from   string // of that, without the port
	in     people.LogIn
	print  *store.KeyPrint // of the key that was proved; nil: it was a password
}

// meet has somebody come in, and serves them until they go.
func (g *Gate) meet(ctx context.Context, conn net.Conn, enter func()) {
	defer func() { _ = conn.Close() }()
	defer enter()
	c := &caller{Gate: g, remote: conn.RemoteAddr(), from: hostOf(conn.RemoteAddr())}
	_ = conn.SetDeadline(time.Now().Add(comeWithin))
	stop := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Now()) })
	defer stop()
	sc, channels, requests, err := ssh.NewServerConn(conn, c.config(ctx))
	defer func() {
		if c.in.Token != "" {
			g.goes(c.in)
		}
	}()
	if err == nil && c.print != nil {
		c.in, err = g.People.ComeWithKey(ctx, sc.User(), *c.print, c.from, store.ClientSession, "gate", logInLasts)
	}
	if err != nil {
		g.Log.Debug("nobody has come in by the gate", "from", c.remote, "because", err)
		return
	}
	_ = conn.SetDeadline(time.Time{})
	stop() // from here on people are told before they are let go
	enter()
	done, ok := g.room(g.in, c.in.Account, MostIn, MostOfThem)
	if !ok {
		g.Log.Warn("the gate is full", "from", c.remote, "who", c.in.Account)
		return
	}
	defer done()
	ctx, cancel := context.WithTimeout(ctx, logInLasts)
	defer cancel()
	go ssh.DiscardRequests(requests)
	go func() {
		_ = sc.Wait()
		cancel()
	}()
	go c.alive(ctx, sc)
	c.serve(ctx, channels)
	_ = sc.Close()
}

// alive finds out when the far end is there no more, which a satellite link does not say.
func (c *caller) alive(ctx context.Context, sc *ssh.ServerConn) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(aliveEvery):
		}
		answered := make(chan error, 1)
		go func() {
			_, _, err := sc.SendRequest("keepalive@plumb-bob", true, nil)
			answered <- err
		}()
		select {
		case err := <-answered:
			if err == nil {
				continue
			}
		case <-ctx.Done():
			return
		case <-time.After(2 * aliveEvery):
		}
		_ = sc.Close()
		return
	}
}

func (c *caller) config(ctx context.Context) *ssh.ServerConfig {
	cfg := &ssh.ServerConfig{
		ServerVersion: "SSH-2.0-PlumbBob", MaxAuthTries: triesMost,
		PublicKeyCallback: func(m ssh.ConnMetadata, k ssh.PublicKey) (*ssh.Permissions, error) {
			if !c.People.HasKey(ctx, m.User(), people.PrintOf(k)) {
				return nil, people.ErrWrong
			}
			return &ssh.Permissions{}, nil // that they have the private half is still to be proved
		},
		VerifiedPublicKeyCallback: func(_ ssh.ConnMetadata, k ssh.PublicKey, p *ssh.Permissions, _ string) (*ssh.Permissions, error) {
			print := people.PrintOf(k)
			c.print = &print
			return p, nil
		},
		PasswordCallback: func(m ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			var err error
			c.in, err = c.People.Come(ctx, people.Credentials{Account: m.User(), Password: string(password), From: c.from}, store.ClientSession, "gate", logInLasts)
			if err == nil {
				return nil, nil
			}
			var wait *people.WaitError
			var away *people.AwayError
			if errors.As(err, &wait) || errors.As(err, &away) {
				return nil, &ssh.BannerError{Err: err, Message: err.Error() + "\n"}
			}
			return nil, people.ErrWrong
		},
	}
	cfg.AddHostKey(c.host)
	return cfg
}

// serve takes sessions, and nothing else: nobody gets anywhere by way of the gate.
func (c *caller) serve(ctx context.Context, channels <-chan ssh.NewChannel) {
	var all sync.WaitGroup
	defer all.Wait()
	room := make(chan struct{}, channelsMost)
	for {
		var n ssh.NewChannel
		select {
		case <-ctx.Done():
			return
		case n = <-channels:
		}
		if n == nil {
			return
		}
		if n.ChannelType() != "session" {
			_ = n.Reject(ssh.Prohibited, "only sessions are served here")
			continue
		}
		select {
		case room <- struct{}{}:
		default:
			_ = n.Reject(ssh.ResourceShortage, "that many sessions at once are not served")
			continue
		}
		ch, requests, err := n.Accept()
		if err != nil {
			<-room
			continue
		}
		all.Go(func() {
			defer func() { <-room }()
			s := &session{caller: c, ch: ch, colour: true}
			s.serve(ctx, requests)
		})
	}
}

// A session is one channel: a terminal, or one command.
type session struct {
	*caller
	ch     ssh.Channel
	far    *client.Far // nil without a terminal
	typed  *lastTyped
	term   string
	colour bool
}

// serve does what a session asks for: RFC 4254, section 6.
func (s *session) serve(ctx context.Context, requests <-chan *ssh.Request) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan int, 1)
	running := false
	defer func() { _ = s.ch.Close() }()
	begin := func(args []string) {
		running = true
		go func() { ended <- s.run(ctx, args) }()
	}
	for {
		select {
		case status := <-ended:
			_, _ = s.ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{uint32(status)}))
			return
		case r, ok := <-requests:
			switch {
			case !ok && !running:
				return
			case !ok: // the far end has gone
				cancel()
				<-ended
				return
			}
			taken := s.asked(r, running, begin, cancel)
			if r.WantReply {
				_ = r.Reply(taken, nil)
			}
		}
	}
}

// asked does what one request says.
func (s *session) asked(r *ssh.Request, running bool, begin func([]string), cancel func()) (taken bool) {
	switch {
	case r.Type == "window-change":
		return s.resized(r.Payload)
	case r.Type == "signal":
		cancel()
		return true
	case running:
		return false
	case r.Type == "pty-req":
		return s.terminal(r.Payload)
	case r.Type == "env":
		return s.variable(r.Payload)
	case r.Type == "shell":
		begin(nil)
		return true
	case r.Type == "exec":
		args, ok := command(r.Payload)
		if ok {
			begin(args)
		}
		return ok
	}
	return false
}

// terminal has the session be at a terminal: RFC 4254, section 6.2.
func (s *session) terminal(payload []byte) bool {
	var p struct {
		Term                         string
		Columns, Rows, Width, Height uint32
		Modes                        string
	}
	if s.far != nil || ssh.Unmarshal(payload, &p) != nil {
		return false
	}
	s.term = p.Term
	s.typed = &lastTyped{Reader: s.ch, at: time.Now()}
	s.far = client.NewFar(s.typed, s.ch, int(p.Columns), int(p.Rows))
	return true
}

// resized notes another size of it: section 6.7.
func (s *session) resized(payload []byte) bool {
	var w struct{ Columns, Rows, Width, Height uint32 }
	if s.far == nil || ssh.Unmarshal(payload, &w) != nil {
		return false
	}
	s.far.SetSize(int(w.Columns), int(w.Rows))
	return true
}

// variable takes the one that is of use here: section 6.4.
func (s *session) variable(payload []byte) bool {
	var e struct{ Name, Value string }
	if ssh.Unmarshal(payload, &e) != nil || e.Name != "NO_COLOR" || e.Value == "" {
		return false
	}
	s.colour = false
	return true
}

// command is what is to be run: section 6.5.
func command(payload []byte) (args []string, ok bool) {
	var e struct{ Command string }
	if ssh.Unmarshal(payload, &e) != nil || len(e.Command) > longestWish {
		return nil, false
	}
	args, err := shellquote.Split(e.Command)
	if err != nil {
		args = []string{e.Command} // which is no command, and is said to be none
	}
	if len(args) > 0 && args[0] == "plumb" {
		args = args[1:]
	}
	return append([]string{}, args...), true
}

// run runs one command, or with none has somebody sit at a desk.
func (s *session) run(ctx context.Context, args []string) int {
	guest := s.guest(s.in, s.remote)
	guest.In, guest.Out, guest.Err = s.ch, s.ch, s.ch.Stderr()
	if s.far == nil {
		if args == nil {
			_, _ = io.WriteString(s.ch.Stderr(), "plumb: without a terminal one command is run: ssh … board\n")
			return client.ExitUsage
		}
		return guest.Run(ctx, args)
	}
	guest.Terminal, guest.Out, guest.Err, guest.In = s.far, s.far, s.far, nothingComes{}
	guest.Colour = s.colour && s.term != "" && s.term != "dumb" && !strings.HasPrefix(s.term, "vt")
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	go s.typed.watch(ctx, idleFor, func() { stop(errIdle) })
	status := client.ExitDone
	if args == nil {
		status = guest.Desk(ctx)
	} else {
		status = guest.Run(ctx, args)
	}
	if errors.Is(context.Cause(ctx), errIdle) {
		_, _ = io.WriteString(s.far, "\nNobody has typed anything for a long time: good-bye.\n")
	} else if ctx.Err() != nil {
		_, _ = io.WriteString(s.far, "\nThe service stops, or your log-in has ended: good-bye.\n")
	}
	return status
}

var errIdle = errors.New("idle")

// nothingComes is what comes in where a terminal is: what is typed there is no file.
type nothingComes struct{}

func (nothingComes) Read([]byte) (int, error) {
	return 0, errors.New("nothing can be sent in from a terminal: ssh … COMMAND - < FILE sends a file")
}

// lastTyped notes when something was typed.
type lastTyped struct {
	io.Reader
	mu sync.Mutex
	at time.Time
}

func (l *lastTyped) Read(p []byte) (int, error) {
	n, err := l.Reader.Read(p)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.at = time.Now()
	return n, err
}

// watch calls idle when nothing has been typed for so long.
func (l *lastTyped) watch(ctx context.Context, long time.Duration, idle func()) {
	for {
		l.mu.Lock()
		left := long - time.Since(l.at)
		l.mu.Unlock()
		if left <= 0 {
			idle()
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(left):
		}
	}
}
