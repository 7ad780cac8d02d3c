package sshgear

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"plumbbob/internal/secret"
)

// sshd runs Debian's server, which lets the user of the test in with a key.
func sshd(t *testing.T) (address string, key secret.Value) {
	dir := t.TempDir()
	file := func(name string, text []byte) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, text, 0o600))
		return path
	}
	pair := func() (private []byte, public ssh.PublicKey) {
		pub, priv, err := ed25519.GenerateKey(rand.Reader)
		require.NoError(t, err)
		block, err := ssh.MarshalPrivateKey(priv, "")
		require.NoError(t, err)
		public, err = ssh.NewPublicKey(pub)
		require.NoError(t, err)
		return pem.EncodeToMemory(block), public
	}
	host, _ := pair()
	own, public := pair()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address = ln.Addr().String()
	require.NoError(t, ln.Close())
	me, err := user.Current()
	require.NoError(t, err)
	if me.Uid == "0" {
		require.NoError(t, os.MkdirAll("/run/sshd", 0o755)) // it insists
	}
	config := fmt.Sprintf("ListenAddress %s\nHostKey %s\nAuthorizedKeysFile %s\nStrictModes no\nUsePAM no\nPermitRootLogin yes\nPidFile none\nPrintMotd no\n",
		address, file("host", host), file("keys", ssh.MarshalAuthorizedKey(public)))
	var said strings.Builder
	cmd := exec.CommandContext(t.Context(), "/usr/sbin/sshd", "-D", "-e", "-f", file("config", []byte(config)))
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			t.Log(said.String())
		}
	})
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", address)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, time.Minute, 10*time.Millisecond)
	return address, secret.Value{Kind: secret.SSHKey, User: me.Username, Password: string(own)}
}

// TestAnothersServer: commands with what they end with, and a shell at a terminal.
func TestAnothersServer(t *testing.T) {
	address, key := sshd(t)
	d := open(t, Options{Addresses: []string{address}, Secret: key})
	require.NoError(t, d.Answer(t.Context()))
	require.NoError(t, d.Tell(t.Context(), "true"))
	require.ErrorContains(t, d.Tell(t.Context(), "echo no such outlet >&2; exit 3"), "(status 3): no such outlet")

	c, err := d.Line().Call(t.Context())
	require.NoError(t, err)
	require.NoError(t, c.Resize(101, 37))
	_, err = c.Write([]byte("stty size; echo $((6*7))x\r"))
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		text, _, _, _ := c.Since(0)
		return strings.Contains(text, "37 101") && strings.Contains(text, "42x")
	}, time.Minute, 10*time.Millisecond)
	_, err = c.Write([]byte("exit\r"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return c.Err() != nil }, time.Minute, 10*time.Millisecond)
}
