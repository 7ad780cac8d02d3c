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
