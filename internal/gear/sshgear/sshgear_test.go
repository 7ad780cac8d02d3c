package sshgear

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/geartest"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/secret"
)

func open(t *testing.T, o Options) *Driver {
	t.Helper()
	o.Name, o.Timeout = "router", 2*time.Second
	if o.Secret.Kind == "" {
		o.Secret = lab.ShellSecret
	}
	d, err := Open(o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

func shell(t *testing.T, l *labtest.Lab) []string {
	lines := l.Estate.Device("skarvoe-router").CommandLines("reset")
	require.Len(t, lines, 1)
	return lines[0].Addresses
}

// TestACommandLine: what is told is done, what is refused says so, and a
// connection that has died is made anew.
func TestACommandLine(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 60})
	d := open(t, Options{Addresses: shell(t, l)})
	require.NoError(t, d.Answer(t.Context()))
	require.NoError(t, d.Answer(t.Context()), "on the same connection")

	err := d.Tell(t.Context(), "make coffee")
	require.Equal(t, sending.Refused, gear.OutcomeOf(err))
	require.EqualError(t, err, "router refused the command (status 127): make coffee: not known here")

	require.NoError(t, d.Tell(t.Context(), "reload now"))
	silent := func() bool { return d.Answer(t.Context()) != nil }
	require.Eventually(t, silent, 30*time.Second, 5*time.Millisecond)
	require.Eventually(t, func() bool { return d.Answer(t.Context()) == nil }, 30*time.Second, 20*time.Millisecond)

	require.NoError(t, l.Hang("skarvoe-router"))
	short, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	err = d.Tell(short, "reload now")
	require.Error(t, err, "a hung router does not listen")
	require.NotEqual(t, sending.Accepted, gear.OutcomeOf(err))
}

// TestOneWhoGivesUp takes nothing from the others who wait on the same connection.
func TestOneWhoGivesUp(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 60})
	d := open(t, Options{Addresses: shell(t, l)})
	require.NoError(t, d.Answer(t.Context()))
	require.NoError(t, l.Hang("skarvoe-router"))
	patient, told := make(chan error, 1), make(chan error, 1)
	go func() { patient <- d.Answer(t.Context()) }()
	go func() { told <- d.Tell(t.Context(), "uptime") }()
	time.Sleep(100 * time.Millisecond) // until they wait
	short, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	require.Error(t, d.Answer(short))
	require.NoError(t, l.Heal("skarvoe-router"))
	require.NoError(t, <-patient)
	require.Equal(t, sending.Refused, gear.OutcomeOf(<-told), "it was understood, and is not known there")
	require.NoError(t, d.Answer(t.Context()))
}

func TestWhoMayAndWhoIsThere(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 60})
	at := shell(t, l)
	wrong := lab.ShellSecret
	wrong.Password = "guess"
	err := open(t, Options{Addresses: at, Secret: wrong}).Tell(t.Context(), "reload now")
	require.Equal(t, gear.BadSecret, gear.KindOf(err))
	require.Equal(t, sending.NotSent, gear.OutcomeOf(err))
	require.EqualError(t, err, "router refuses the credential: set it again with plumb secret set")

	err = open(t, Options{Addresses: at, Pin: "00"}).Answer(t.Context())
	require.Equal(t, gear.BadSecret, gear.KindOf(err))
	require.ErrorContains(t, err, "its host key is not the one that is pinned: it is ")

	known := map[string]string{}
	pins := Pins{Known: func(a string) string { return known[a] }, Learn: func(a, pin string) error { known[a] = pin; return nil }}
	require.NoError(t, open(t, Options{Addresses: at, Pins: pins}).Answer(t.Context()))
	require.Len(t, known[at[0]], 64, "the key that is seen first is kept")
	require.NoError(t, open(t, Options{Addresses: at, Pins: pins}).Answer(t.Context()))
	require.NoError(t, open(t, Options{Addresses: at, Pin: known[at[0]]}).Answer(t.Context()))
	known[at[0]] = "another"
	require.ErrorContains(t, open(t, Options{Addresses: at, Pins: pins}).Answer(t.Context()), "find out why before you pin it anew")

	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, ln.Close())
	err = open(t, Options{Addresses: []string{ln.Addr().String()}}).Tell(t.Context(), "x")
	require.Equal(t, sending.NotSent, gear.OutcomeOf(err))
	require.ErrorContains(t, err, "nothing listens there")
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	require.Equal(t, sending.NotSent, gear.OutcomeOf(open(t, Options{Addresses: at}).Tell(ended, "x")), "a context that has ended sends nothing")
}

func TestKeys(t *testing.T) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	good := secret.Value{Kind: secret.SSHKey, User: "plumb", Password: string(pem.EncodeToMemory(block))}
	require.NoError(t, good.Check())
	_, err = Open(Options{Name: "router", Addresses: []string{"192.0.2.1:22"}, Secret: good})
	require.NoError(t, err)
	_, err = Open(Options{Name: "router", Addresses: []string{"192.0.2.1:22"}, Secret: secret.Value{Kind: secret.SSHKey, User: "plumb", Password: "PRIVATE KEY, or so"}})
	require.ErrorContains(t, err, "the key is none that is understood")
	_, err = Open(Options{Name: "router"})
	require.EqualError(t, err, "router has no address")
}

// TestWhatIsSaidIsBounded, whichever way it is copied.
func TestWhatIsSaidIsBounded(t *testing.T) {
	var b bounded
	n, err := io.Copy(&b, strings.NewReader(strings.Repeat("more and more\n", maxOutput)))
	require.NoError(t, err)
	require.EqualValues(t, 14*maxOutput, n)
	require.Len(t, b.begin, maxOutput)
	require.Equal(t, "more and more", b.line())
}

func TestItConforms(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 60})
	at := func(password string) func(*testing.T, string) gear.Driver {
		return func(t *testing.T, address string) gear.Driver {
			v := lab.ShellSecret
			v.Password = password
			return open(t, Options{Addresses: []string{address}, Secret: v})
		}
	}
	geartest.Conforms(t, geartest.Subject{
		Address: shell(t, l)[0], Network: "tcp", Open: at(lab.ShellSecret.Password), Stranger: at("guessed"), Password: "guessed", Refusals: []gear.Kind{gear.BadSecret},
	})
}
