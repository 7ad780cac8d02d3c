package e2e

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
)

// keyFor makes a key, has it let the client's account in, and returns its file.
func (w *world) keyFor(name string) (file string, signer ssh.Signer) {
	w.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(w, err)
	block, err := ssh.MarshalPrivateKey(private, name)
	require.NoError(w, err)
	file = w.write(name, string(pem.EncodeToMemory(block)))
	key, err := ssh.NewPublicKey(public)
	require.NoError(w, err)
	w.write(name+".pub", strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))+" "+name+"\n")
	w.says(0, "", "account", "key", "add", file+".pub")
	signer, err = ssh.NewSignerFromKey(private)
	require.NoError(w, err)
	return file, signer
}

// at is a terminal of the gate.
type at struct {
	*world
	*ssh.Session
	typing io.Writer
	out    *output
	seen   int
}

func (w *world) enters(address string, how ...ssh.AuthMethod) (*ssh.Client, error) {
	return ssh.Dial("tcp", address, &ssh.ClientConfig{User: "admin", Auth: how, HostKeyCallback: ssh.InsecureIgnoreHostKey()}) //nolint:gosec // of a test
}

// desk is a terminal with what the gate shows of itself.
func (w *world) desk(c *ssh.Client) *at {
	w.Helper()
	s, err := c.NewSession()
	require.NoError(w, err)
	require.NoError(w, s.RequestPty("vt100", 24, 80, ssh.TerminalModes{}))
	a := &at{world: w, Session: s, out: &output{}}
	a.typing, err = s.StdinPipe()
	require.NoError(w, err)
	s.Stdout, s.Stderr = a.out, a.out
	require.NoError(w, s.Shell())
	return a
}

func (a *at) types(text string) { _, err := io.WriteString(a.typing, text); require.NoError(a, err) }

func (a *at) shows(text string) {
	a.Helper()
	a.eventually(func() bool {
		i := strings.Index(a.out.String()[a.seen:], text)
		if i >= 0 {
			a.seen += i + len(text)
		}
		return i >= 0
	}, text)
}

// TestByTheGate: with nothing but SSH somebody runs commands, cycles a hung router with
// its preview and consent, and sits at a serial line; and gets nowhere else.
func TestByTheGate(t *testing.T) {
	w := begin(t)
	address, print := w.service.Gate()
	file, key := w.keyFor("laptop")
	require.Contains(t, w.says(0, "", "account", "key", "list"), "laptop  ssh-ed25519")
	require.Contains(t, w.flat(2, "", "account", "key", "add", file), "that is a private key")
	require.Contains(t, w.flat(2, "", "account", "key", "add", file+".pub"), "has that key already")

	host, port, err := net.SplitHostPort(address)
	require.NoError(t, err)
	run := func(status int, in string, command ...string) string { // with the SSH that everybody has
		t.Helper()
		args := append([]string{"-F", "none", "-p", port, "-i", file, "-o", "IdentitiesOnly=yes", "-o", "StrictHostKeyChecking=accept-new", "-o", "UserKnownHostsFile=" + filepath.Join(w.dir, "known"), "admin@" + host}, command...)
		cmd := exec.Command("ssh", args...)
		var out bytes.Buffer
		cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(in), &out, &out
		_ = cmd.Run()
		require.Equal(t, status, cmd.ProcessState.ExitCode(), out.String())
		return out.String()
	}
	require.Contains(t, run(0, "", "board", "--site", "skarvoe"), "skarvoe-router")
	require.Contains(t, run(0, "", "plumb", "whoami"), "admin, keeper")
	require.Contains(t, run(2, "", "show", "nowhere"), `there is no device "nowhere"`)
	require.Contains(t, run(2, "", "cycle", "skarvoe-router", "--why", "hung"), "nobody is there to agree")
	require.Contains(t, run(3, "", "cycle", "ostrel-core", "--yes", "--why", "x"), "refused (")
	require.Contains(t, run(0, run(0, "", "estate", "export"), "estate", "check", "-"), "is sound")
	require.Contains(t, run(2, "", "estate", "check", "/etc/hostname"), "no files at this door")
	require.Contains(t, run(0, "\n", "serial", "ostrel-firewall"), "ostrel-firewall login:")
	require.Contains(t, run(2, ""), "without a terminal")

	c, err := w.enters(address, ssh.PublicKeys(key))
	require.NoError(t, err)
	require.Equal(t, print, hostPrint(t, address))
	_, err = c.Dial("tcp", strings.TrimPrefix(w.url, "http://"))
	require.ErrorContains(t, err, "only sessions")
	w.lab.Hang("skarvoe-router")
	w.eventually(func() bool { return w.verdict("skarvoe-router") == "hung" }, "it is hung")
	a := w.desk(c)
	a.shows("hung       skarvoe-router")
	a.types("skarvoe-router cycle --hold 2s --means outlet --why hung --follow\r")
	a.shows("Loses power: skarvoe-router")
	a.shows("Type yes: ")
	a.types("\x03") // gives up, and stays at the desk
	a.shows("nothing was done")
	a.types("\x1b[A\r") // the arrow brings the command back
	a.shows("Type yes: ")
	a.types("yes\r")
	a.shows("first answer after")
	a.types("serial ostrel-firewall\r")
	a.shows("has the keyboard")
	a.types("\r")
	a.shows("ostrel-firewall login:")
	require.Contains(t, w.flat(0, "", "show", "ostrel-firewall"), "admin is on its serial line")
	a.types("\x1f.")
	a.shows("> ")
	a.types("account key remove " + ssh.FingerprintSHA256(key.PublicKey()) + "\r")
	a.shows("does not let you in any more")
	_, err = w.enters(address, ssh.PublicKeys(key))
	require.Error(t, err)
	a.types("leave\r")
	a.shows("Good-bye.")
	require.NoError(t, a.Wait())
	require.Equal(t, "skarvoe-router", w.newest().Device)

	// Guessing is slowed down here as at every door.
	right := w.password
	var said bytes.Buffer
	banner := func(m string) error { said.WriteString(m); return nil }
	w.eventually(func() bool { // on a busy machine that while may be over before it is tried
		for i := range 3 {
			_, err = ssh.Dial("tcp", address, &ssh.ClientConfig{User: "admin", BannerCallback: banner, HostKeyCallback: ssh.InsecureIgnoreHostKey(), //nolint:gosec // of a test
				Auth: []ssh.AuthMethod{ssh.RetryableAuthMethod(ssh.PasswordCallback(func() (string, error) { return fmt.Sprint("wrong ", i), nil }), 3)}})
			if err == nil {
				return false
			}
		}
		_, err = w.enters(address, ssh.Password(right))
		return err != nil
	}, "not even the right one is taken, for a while")
	require.Contains(t, said.String(), "too many")
}

func hostPrint(t *testing.T, address string) (print string) {
	_, _ = ssh.Dial("tcp", address, &ssh.ClientConfig{User: "x", HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
		print = ssh.FingerprintSHA256(k)
		return os.ErrPermission
	}})
	require.NotEmpty(t, print)
	return print
}
