package syslog

import (
	"bufio"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 3, 1, 12, 0, 0, 1_500_000, time.UTC)

func TestMessages(t *testing.T) {
	for _, c := range []struct {
		name string
		m    Message
		want string
	}{
		{"nothing but a time", Message{At: noon}, "<0>1 2026-03-01T12:00:00.001Z - - - - -"},
		{"an audit notice", Message{Facility: LogAudit, Severity: Notice, At: noon, Host: "ops", App: "plumbd", ID: "log-in", Text: "Logged in"},
			"<109>1 2026-03-01T12:00:00.001Z ops plumbd - log-in - \ufeffLogged in"},
		{"data is escaped", Message{At: noon, Keys: []string{"why"}, Data: map[string]string{"why": `"hung" [\]`}}, `<0>1 2026-03-01T12:00:00.001Z - - - - [journal@32473 why="\"hung\" [\\\]"]`},
		{"a header takes no spaces", Message{At: noon, Host: "a b\n"}, "<0>1 2026-03-01T12:00:00.001Z a_b_ - - - -"},
		{"bytes that are no text", Message{At: noon, Text: "a\xff"}, "<0>1 2026-03-01T12:00:00.001Z - - - - - \ufeffa�"},
	} {
		t.Run(c.name, func(t *testing.T) { require.Equal(t, c.want, string(c.m.Append(nil))) })
	}
}

// TestNoSecondLine: what somebody made up cannot look like a message of its own.
func TestNoSecondLine(t *testing.T) {
	m := Message{Host: "h", App: "plumbd", ID: "log-in", Text: "a\n<109>1 forged\u2028b\u0085c", Keys: []string{"who"}, Data: map[string]string{"who": "x\r\n<109>1 2026-11-27T00:00:00Z h plumbd - log-in - admin ok"}}
	text := string(m.Append(nil))
	require.NotContains(t, text, "\n")
	require.NotContains(t, text, "\r")
	require.Contains(t, text, `who="x  <109>1`)
}

func TestParse(t *testing.T) {
	for in, want := range map[string]string{
		"udp://192.0.2.1": "192.0.2.1:514", "tcp://192.0.2.1:1514": "192.0.2.1:1514", "tls://logs.example": "logs.example:6514", "udp://[2001:db8::1]": "[2001:db8::1]:514",
	} {
		c, err := Parse(in)
		require.NoError(t, err, in)
		require.Equal(t, want, c.address)
	}
	for _, in := range []string{"", "192.0.2.1:514", "http://192.0.2.1", "udp://", "udp://h/path"} {
		_, err := Parse(in)
		require.ErrorContains(t, err, "is not udp://HOST:PORT", in)
	}
}

// TestTCP: messages are counted, and a connection that broke is made anew.
func TestTCP(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = ln.Close() }()
	c, err := Parse("tcp://" + ln.Addr().String())
	require.NoError(t, err)
	m := Message{At: noon, Text: "one"}
	for range 2 {
		require.NoError(t, c.Send(t.Context(), m))
		conn, err := ln.Accept()
		require.NoError(t, err)
		got := make([]byte, len("46 ")+len(m.Append(nil)))
		_, err = io.ReadFull(bufio.NewReader(conn), got)
		require.NoError(t, err)
		require.Equal(t, "46 "+string(m.Append(nil)), string(got))
		require.NoError(t, conn.Close())
		require.NoError(t, c.Close())
	}
	require.NoError(t, ln.Close())
	require.ErrorContains(t, c.Send(t.Context(), m), "syslog: ")
}

func TestUDP(t *testing.T) {
	pc, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = pc.Close() }()
	c, err := Parse("udp://" + pc.LocalAddr().String())
	require.NoError(t, err)
	m := Message{At: noon, Text: "one"}
	require.NoError(t, c.Send(t.Context(), m))
	b := make([]byte, 500)
	n, _, err := pc.ReadFrom(b)
	require.NoError(t, err)
	require.Equal(t, string(m.Append(nil)), string(b[:n]), "a datagram is one message")
	require.NoError(t, c.Close())
}
