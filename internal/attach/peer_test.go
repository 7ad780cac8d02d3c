package attach

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// telnetd runs Debian's daemon for one connection, with a shell behind it.
func telnetd(t *testing.T) (address string) {
	program := "/usr/sbin/telnetd"
	if _, err := os.Stat(program); err != nil {
		program, err = filepath.Abs("../../.peers" + program)
		require.NoError(t, err)
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		conn, err := ln.Accept()
		if err != nil {
			return
		}
		file, err := conn.(*net.TCPConn).File()
		_ = conn.Close()
		if err != nil {
			return
		}
		cmd := exec.CommandContext(t.Context(), program, "-E", "/bin/sh")
		cmd.Stdin, cmd.Stdout, cmd.Stderr = file, file, file
		_ = cmd.Run() // it is killed, or ends with the shell
		_ = file.Close()
	}()
	t.Cleanup(func() { _ = ln.Close(); <-ended })
	return ln.Addr().String()
}

// TestAnothersDaemon: a shell behind it, with every byte as it is, and a sign of life.
func TestAnothersDaemon(t *testing.T) {
	l := New(Options{Addresses: []string{telnetd(t)}, Timeout: 20 * time.Second})
	defer func() { require.NoError(t, l.Close()) }()
	c, err := l.Call(t.Context())
	require.NoError(t, err)
	heard := func(want string) {
		t.Helper()
		require.Eventually(t, func() bool { text, _, _, _ := c.Since(0); return strings.Contains(text, want) }, time.Minute, 10*time.Millisecond, want)
	}
	_, err = c.Write([]byte("printf 'a\\377b end%s\\n' ing\r"))
	require.NoError(t, err)
	heard("a\xffb ending")
	require.NoError(t, c.Alive(t.Context()))
	_, err = c.Write([]byte("exit\r"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return c.Err() != nil }, time.Minute, 10*time.Millisecond)
}
