package lab

import (
	"context"
	"crypto/ed25519"
	"fmt"
	"hash/fnv"
	"io"
	"math/rand"
	"net"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/secret"
)

// ShellSecret is the log-in of every command line in the lab.
var ShellSecret = secret.Value{Kind: secret.Login, User: "plumb", Password: "driftwood-oar-7"}

// serveShell answers for the command line of a device, over SSH. It knows few
// commands, and exits with 127 at any other.
func (l *Lab) serveShell(ctx context.Context, d *estate.Device, ep estate.Endpoint) error {
	config := &ssh.ServerConfig{
		PasswordCallback: func(c ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if c.User() != ShellSecret.User || string(password) != ShellSecret.Password {
				return nil, fmt.Errorf("%s may not log in", c.User())
			}
			return nil, nil //nolint:nilnil // no permissions to speak of
		},
	}
	b := l.boxes[d.Key]
	config.AddHostKey(hostKey(d.Key, 0))
	for _, address := range ep.Addresses {
		p, err := l.open(ctx, d.Key, address, "") // a hung box has no command line
		if err != nil {
			return err
		}
		l.tasks.Go(func() error { return l.each(ctx, p, func(c net.Conn) { l.shell(ctx, c, config, b) }) })
	}
	return nil
}

// hostKey makes up the host key of a device: the same at every start, and
// another after a change.
func hostKey(k estate.Key, change int) ssh.Signer {
	h := fnv.New64a()
	fmt.Fprint(h, k, change)
	seed := make([]byte, ed25519.SeedSize)
	rand.New(rand.NewSource(int64(h.Sum64()))).Read(seed) //nolint:gosec // a made-up device
	s, err := ssh.NewSignerFromKey(ed25519.NewKeyFromSeed(seed))
	if err != nil {
		panic(err) // an ed25519 key always can
	}
	return s
}

// shell serves one connection until it ends, or the box does.
func (l *Lab) shell(ctx context.Context, conn net.Conn, config *ssh.ServerConfig, b *box) {
	defer func() { _ = conn.Close() }()
	l.mu.Lock()
	began := b.powered
	l.mu.Unlock()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go l.hangUp(ctx, conn, b, began)
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	c, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	_ = conn.SetDeadline(time.Time{})
	go func() {
		for r := range requests {
			if l.mute(ctx, b, ""); r.WantReply {
				_ = r.Reply(false, nil)
			}
		}
	}()
	for wanted := range channels {
		if wanted.ChannelType() != "session" {
			_ = wanted.Reject(ssh.UnknownChannelType, "only sessions")
			continue
		}
		l.mute(ctx, b, "")
		ch, asked, err := wanted.Accept()
		if err != nil {
			break
		}
		go l.session(ch, asked, b)
	}
	_ = c.Close()
}

// mute waits while a side of a box cannot answer.
func (l *Lab) mute(ctx context.Context, b *box, side string) {
	for ctx.Err() == nil {
		if ok, _ := l.answers(b.d.Key, side); ok {
			return
		}
		select {
		case <-ctx.Done():
		case <-time.After(lookEvery):
		}
	}
}

// hangUp ends a connection that a box has forgotten, because it has started
// anew since: it answers what still comes on it with a reset.
func (l *Lab) hangUp(ctx context.Context, conn net.Conn, b *box, began time.Time) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	l.mu.Lock()
	crossings := l.crossings
	l.mu.Unlock()
	for {
		select {
		case <-ctx.Done():
			_ = conn.Close()
			return
		case now := <-tick.C:
			l.mu.Lock()
			gone := b.powered != began && l.up(b, now) || crossings != l.crossings
			l.mu.Unlock()
			if gone {
				_ = conn.Close()
				return
			}
		}
	}
}

func (l *Lab) session(ch ssh.Channel, asked <-chan *ssh.Request, b *box) {
	defer func() { _ = ch.Close() }()
	for r := range asked {
		switch r.Type {
		case "pty-req", "window-change":
			_ = r.Reply(true, nil)
			continue
		case "shell":
			_ = r.Reply(true, nil)
			go l.interactive(ch, b)
			continue
		case "break":
			_ = r.Reply(true, nil)
			continue
		}
		var exec struct{ Command string }
		if r.Type != "exec" || ssh.Unmarshal(r.Payload, &exec) != nil {
			_ = r.Reply(false, nil)
			continue
		}
		_ = r.Reply(true, nil)
		text, status := l.told(b, exec.Command)
		_, _ = io.WriteString(ch, text)
		_, _ = ch.SendRequest("exit-status", false, ssh.Marshal(struct{ Status uint32 }{status}))
		return
	}
}

// interactive is a shell of its own, for somebody who has logged in.
func (l *Lab) interactive(ch ssh.Channel, b *box) {
	out := make(chan string, seatRoom)
	t := &tty{l: l, b: b, seats: map[any]chan string{ch: out}, asks: asksCommand, ready: true}
	done := make(chan struct{})
	defer close(done)
	go func() {
		for {
			select {
			case <-done:
				return
			case text := <-out:
				_, _ = io.WriteString(ch, text)
			}
		}
	}()
	t.mu.Lock()
	t.prompt()
	t.mu.Unlock()
	var keys [256]byte
	for {
		n, err := ch.Read(keys[:])
		if err != nil {
			return
		}
		for _, k := range keys[:n] {
			t.key(k)
		}
		t.mu.Lock()
		left := t.asks != asksCommand // by exit
		t.mu.Unlock()
		if left {
			_ = ch.Close()
			return
		}
	}
}

// obeyAfter is how long a box takes from a command to doing it.
const obeyAfter = 300 * time.Millisecond

// told has a box do what was typed, after it has answered.
func (w *World) told(b *box, command string) (text string, status uint32) {
	do := map[string]func(now time.Time){
		"reload now": b.restart,
		"reboot":     b.restart,
		"halt":       func(time.Time) { b.halt() },
		"suspend":    func(time.Time) { b.asleep = true },
	}[command]
	if n, is := strings.CutPrefix(command, "port "); is && b.d.Role == "kvm" {
		if port, err := strconv.Atoi(n); err != nil || w.Choose(b.d.Key, port) != nil {
			return n + ": no such port\n", 1
		}
		return "As you say.\n", 0
	}
	if do == nil {
		return command + ": not known here\n", 127
	}
	time.AfterFunc(obeyAfter, func() {
		w.mu.Lock()
		defer w.mu.Unlock()
		if !b.powered.IsZero() {
			do(time.Now())
		}
	})
	return "As you say.\n", 0
}

// halt ends the system of a box. One without a power switch of its own goes on
// drawing, and does nothing.
func (b *box) halt() {
	switch {
	case b.chassis != nil:
		b.chassis.set(false, time.Now())
	case b.front != nil:
		b.front.off = true
	default:
		b.hung = true
	}
}
