package tell

import (
	"bytes"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/pem"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/secret"
)

// TestAnothersMailServer: Debian's aiosmtpd takes a mail by STARTTLS, and has it in a mailbox.
func TestAnothersMailServer(t *testing.T) {
	web := httptest.NewTLSServer(nil) // for its certificate
	defer web.Close()
	dir := t.TempDir()
	pemFile := func(name, kind string, der []byte) string {
		file := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: der}), 0o600))
		return file
	}
	key, err := x509.MarshalPKCS8PrivateKey(web.TLS.Certificates[0].PrivateKey)
	require.NoError(t, err)
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	at := ln.Addr().String()
	require.NoError(t, ln.Close())
	var said bytes.Buffer
	cmd := exec.CommandContext(t.Context(), "/usr/bin/python3", "-m", "aiosmtpd", "-n", "-l", at, "--tlscert", pemFile("cert", "CERTIFICATE", web.Certificate().Raw), "--tlskey", pemFile("key", "PRIVATE KEY", key),
		"-c", "aiosmtpd.handlers.Mailbox", filepath.Join(dir, "mail"))
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	defer func() {
		_ = cmd.Process.Kill()
		_ = cmd.Wait()
		if t.Failed() {
			t.Log(said.String())
		}
	}()
	sum := sha256.Sum256(web.Certificate().Raw)
	s := Settings{Kind: Mail, Server: at, From: "Plumb Bob <plumb@pier.example>", Pin: hex.EncodeToString(sum[:])}
	require.NoError(t, s.Check())
	require.Eventually(t, func() bool {
		_, err = s.send(t.Context(), secret.Value{}, "ann@pier.example", hung())
		return err == nil
	}, time.Minute, 100*time.Millisecond, "it starts")
	files, err := filepath.Glob(filepath.Join(dir, "mail", "new", "*"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	require.Contains(t, string(text), "Message-ID: <abc.ann.opened.1@pier.example>")
	require.Contains(t, string(text), "Subject: router is hung")
	require.Contains(t, string(text), "X-RcptTo: ann@pier.example")
}
