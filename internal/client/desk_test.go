package client

import (
	"bytes"
	"context"
	"io"
	"net"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
)

// screen is what a terminal has been sent.
type screen struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (s *screen) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.Write(p)
}

func (s *screen) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.text.String()
}

// guest is somebody at a terminal of 80 by 24 in front of the fake service.
func (f *fake) guest() (g Guest, types func(string), shows func(string)) {
	c, err := ReadConfig(f.config)
	require.NoError(f, err)
	at, err := url.Parse(c.URL)
	require.NoError(f, err)
	keys, typing := io.Pipe()
	out := &screen{}
	far := NewFar(keys, out, 80, 24)
	g = Guest{Terminal: far, In: strings.NewReader(""), Out: far, Err: far, Account: "admin", Token: "t", Dial: func(ctx context.Context, _, _ string) (net.Conn, error) {
		return (&net.Dialer{}).DialContext(ctx, "tcp", at.Host)
	}}
	f.Cleanup(func() { _ = typing.Close() })
	seen := 0
	return g, func(text string) { _, err := io.WriteString(typing, text); require.NoError(f, err) }, func(text string) {
		f.Helper()
		require.Eventually(f, func() bool {
			at := strings.Index(out.String()[seen:], text)
			if at >= 0 {
				seen += at + len(text)
			}
			return at >= 0
		}, 10*time.Second, time.Millisecond, text)
	}
}

func manyDevices() contract.Board {
	b := contract.Board{Estate: "Made Up"}
	for _, k := range []string{"ostrel-pdu", "skarvoe-router", "skarvoe-switch"} {
		b.Devices = append(b.Devices, contract.DeviceSummary{Key: k, Words: "thing", Verdict: contract.Verdict{State: contract.VerdictStateSteady}})
	}
	b.Devices[1].Verdict = contract.Verdict{State: contract.VerdictStateHung, Reasons: []contract.Reason{{Stance: contract.ReasonStanceFor, Text: "has not answered"}}}
	return b
}

// TestTheDesk: it begins with what is wrong, knows names and verbs, keeps the device in
// mind, and lets somebody give up without leaving.
func TestTheDesk(t *testing.T) {
	b := manyDevices()
	f := serve(t, map[string]any{
		"GET /board": b, "GET /devices/skarvoe-router": contract.Device{Summary: b.Devices[1]},
		"POST /devices/skarvoe-router/look": contract.Look{Asked: []string{"its probes"}, Device: contract.Device{Summary: b.Devices[1]}},
	})
	g, types, shows := f.guest()
	left := make(chan int, 1)
	go func() { left <- g.Desk(t.Context()) }()
	shows("hung       skarvoe-router has not answered")
	shows("plumb> ")
	types("skarvoe-\t\t")
	shows("skarvoe-router skarvoe-switch")
	types("r\t\r\n")
	shows("skarvoe-router")
	shows("hung since")
	shows("plumb skarvoe-router> ")
	types("look\r")
	shows("asked just now: its probes")
	types("router wait\x03oops\r") // the line is wiped
	shows(`"oops" is neither a verb nor a device`)
	types("skarv\r")
	shows("it might be")
	types("cycle 'x\r")
	shows("a quote has no end")
	types("help\r")
	shows("Type commands of plumb")
	types("board\rboard\r")
	shows("ostrel-pdu")
	shows("ostrel-pdu")
	types("login x\r")
	shows(`"login" is neither`)
	types("leave\r")
	shows("Good-bye.")
	require.Equal(t, ExitDone, <-left)
	require.NotContains(t, f.asked, "POST /operations")
}

// TestAGuestHasNoFiles: who runs commands on the service's machine reads, writes and sees
// nothing of it.
func TestAGuestHasNoFiles(t *testing.T) {
	f := serve(t, map[string]any{"GET /board": manyDevices()})
	t.Setenv("PLUMB_DATABASE_PASSWORD", "hunter2")
	for _, args := range [][]string{
		{"estate", "check", "/etc/hostname"}, {"estate", "import", "/etc/hostname"}, {"profile", "check", "/etc/hostname"}, {"profile", "add", "/etc/hostname"},
		{"calendar", "set", "x", "/etc/hostname"}, {"journal", "verify", "/etc/hostname"}, {"account", "key", "add", "/etc/hostname"},
		{"secret", "set", "x", "--ssh-user", "u", "--key-file", "/etc/hostname"}, {"serial", "skarvoe-router", "--log", "/tmp/never"},
		{"serial", "skarvoe-router", "--send", "/etc/hostname"}, {"serial", "skarvoe-router", "--run", "/etc/hostname"}, {"board", "--config", "/etc/hostname"},
	} {
		g, _, _ := f.guest()
		var out bytes.Buffer
		g.Terminal, g.Out, g.Err = nil, &out, &out
		require.Equal(t, ExitUsage, g.Run(t.Context(), args), "%v: %s", args, out.String())
		require.Regexp(t, "no files at this door|unknown flag: --config", out.String(), "%v", args)
	}
	a := &app{inside: &service{}}
	_, any := a.variable("PLUMB_DATABASE_PASSWORD")
	require.False(t, any)
}

// TestPageByPage: what does not fit waits for a key, and what comes bit by bit does not.
func TestPageByPage(t *testing.T) {
	f := serve(t, nil)
	g, types, shows := f.guest()
	ctx, cancel := context.WithCancel(t.Context())
	p := &pager{Far: g.Terminal, ctx: ctx, end: cancel}
	ended := make(chan error, 1)
	go func() {
		_, err := io.WriteString(p, strings.Repeat("line\n", 60)+"last\n")
		ended <- err
	}()
	shows(moreWords)
	types(" ")
	shows(moreWords)
	types("\r")
	shows("line")
	shows(moreWords)
	types("q")
	require.ErrorIs(t, <-ended, context.Canceled)
}
