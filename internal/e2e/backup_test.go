package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestBackup: a service that runs is backed up, and what is restored goes on as it did:
// log-ins, secrets, estate, and a journal that holds.
func TestBackup(t *testing.T) {
	t.Parallel()
	w, p := apart(t, "--gate", "127.0.0.1:0")
	gateKey := func() string {
		_, after, _ := strings.Cut(p.out.String(), "with the host key\n")
		print, _, _ := strings.Cut(after, "\n")
		return print
	}
	shown := gateKey()
	require.Contains(t, shown, "SHA256:")
	run := func(args ...string) (string, error) {
		out, err := exec.Command(p.program, args...).CombinedOutput()
		return string(out), err
	}
	dir := t.TempDir()
	file, elsewhere := filepath.Join(dir, "b.tar.gz"), filepath.Join(dir, "restored")
	out, err := run("backup", file, "--data-dir", p.dir)
	require.NoError(t, err, out)
	out, err = run("backup", file, "--data-dir", p.dir)
	require.Error(t, err)
	require.Contains(t, out, "exists", "none is written over")
	info, err := os.Stat(file)
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())
	p.stop(t)
	out, err = run("backup", filepath.Join(dir, "none.tar.gz"), "--data-dir", p.dir)
	require.Error(t, err)
	require.Contains(t, out, "the service has to run")

	half := filepath.Join(dir, "half.tar.gz")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(half, text[:len(text)/2], 0o600))
	out, err = run("restore", half, "--data-dir", filepath.Join(dir, "half"))
	require.Error(t, err)
	require.Contains(t, out, "no whole backup")
	out, err = run("restore", file, "--data-dir", p.dir)
	require.Error(t, err)
	require.Contains(t, out, "exists", "nothing is restored over")

	out, err = run("restore", file, "--data-dir", elsewhere)
	require.NoError(t, err, out)
	require.Contains(t, out, "The journal holds")
	p.dir = elsewhere
	p.start(t, p.program)
	w.eventually(func() bool { return w.verdict("skarvoe-router") == "steady" && w.verdict("skarvoe-pdu") == "steady" }, "its secrets are good")
	require.Contains(t, w.flat(0, "", "journal", "verify"), "holds")
	require.Equal(t, shown, gateKey(), "and nobody is asked about another host key")
	require.True(t, strings.Contains(w.flat(0, "", "secret", "list"), "skarvoe-pdu"))
	p.stop(t)
}
