package mariadb

import (
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAServerThatHearsNothingIsKilled: one that an earlier service has left behind, and
// that was told to stop before it could listen, would keep every later one out.
func TestAServerThatHearsNothingIsKilled(t *testing.T) {
	dir := t.TempDir()
	deaf := filepath.Join(dir, "mariadb-deaf")
	require.NoError(t, os.WriteFile(deaf, []byte("#!/bin/sh\ntrap '' TERM\necho up\nwhile :; do sleep 1; done\n"), 0o700))
	left := exec.Command(deaf)
	up, err := left.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, left.Start())
	ended := make(chan error, 1)
	_, err = up.Read(make([]byte, 1))
	require.NoError(t, err)
	go func() { ended <- left.Wait() }()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pid"), []byte(strconv.Itoa(left.Process.Pid)), 0o600))
	s := &Server{dir: dir, log: slog.New(slog.DiscardHandler)}
	require.NoError(t, s.reap())
	require.EqualError(t, <-ended, "signal: killed")
}

// TestAServerThatHasNotStartedYet, and has noted its number nowhere, is found by how it
// was called: two must not run on one directory.
func TestAServerThatHasNotStartedYet(t *testing.T) {
	dir := t.TempDir()
	young := filepath.Join(dir, "mariadb-young")
	require.NoError(t, os.WriteFile(young, []byte("#!/bin/sh\necho up\nwhile :; do sleep 0.1; done\n"), 0o700))
	s := &Server{dir: dir, log: slog.New(slog.DiscardHandler)}
	other := exec.Command(young, "--datadir="+dir+"/other")
	left := exec.Command(young, "--datadir="+s.path("data"))
	for _, c := range []*exec.Cmd{other, left} {
		up, err := c.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, c.Start())
		_, err = up.Read(make([]byte, 1))
		require.NoError(t, err)
	}
	ended := make(chan error, 1)
	go func() { ended <- left.Wait() }()
	require.Equal(t, left.Process.Pid, s.left())
	require.NoError(t, s.reap())
	require.EqualError(t, <-ended, "signal: terminated")
	require.Zero(t, s.left())
	require.NoError(t, other.Process.Kill(), "that of another directory is let alone")
	_ = other.Wait()
}
