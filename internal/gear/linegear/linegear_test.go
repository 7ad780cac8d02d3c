package linegear

import (
	"bytes"
	"context"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/geartest"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/secret"
)

const (
	soon  = 30 * time.Second
	often = 20 * time.Millisecond
)

func open(t *testing.T, o Options) *Driver {
	t.Helper()
	o.Name = "router"
	if o.Timeout == 0 {
		o.Timeout = 2 * time.Second
	}
	if o.Secret.Kind == "" {
		o.Secret = lab.ShellSecret
	}
	d, err := Open(o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return d
}

func serial(t *testing.T, l *labtest.Lab, k estate.Key) []string {
	lines := l.Estate.Device(k).CommandLines("reset")
	require.Len(t, lines, 1)
	require.True(t, l.Estate.Device(k).OverSerial(lines[0]))
	return lines[0].Addresses
}

// TestASerialLine: what is told is done, what is refused says so, and nobody finds
// the line logged in, or what was left half typed carried out.
func TestASerialLine(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 60})
	at := serial(t, l, "ostrel-core")
	d := open(t, Options{Addresses: at})
	require.NoError(t, d.Answer(t.Context()))
	for range 2 {
		err := d.Tell(t.Context(), "make coffee")
		require.Equal(t, sending.Refused, gear.OutcomeOf(err))
		require.EqualError(t, err, "router refused the command: make coffee: not known here")
	}

	other, err := net.Dial("tcp", at[0])
	require.NoError(t, err)
	defer func() { require.NoError(t, other.Close()) }()
	_, err = other.Write([]byte("\r"))
	require.NoError(t, err)
	var seen bytes.Buffer
	require.Eventually(t, func() bool {
		var b [512]byte
		n, err := other.Read(b[:])
		seen.Write(b[:n])
		return err == nil && strings.Contains(seen.String(), "ostrel-core login: ")
	}, soon, often, "it was left as it was found")
	_, err = other.Write([]byte("halt"))
	require.NoError(t, err)
	time.Sleep(often)
	require.NoError(t, d.Tell(t.Context(), "reload now"))

	require.NoError(t, d.Answer(t.Context()), "the console server is still there")
	require.Eventually(t, func() bool { return gear.OutcomeOf(d.Tell(t.Context(), "make coffee")) == sending.Refused }, soon, often, "it starts, and reads again")

	said := strings.Join(d.LastLines(40), "\n")
	require.Regexp(t, `(?s)Firmware of ostrel-core, .*ostrel-core is up\.`, said)
	require.Len(t, d.LastLines(2), 2)

	require.NoError(t, l.Hang("ostrel-core"))
	short := open(t, Options{Addresses: at, Timeout: 300 * time.Millisecond})
	err = short.Tell(t.Context(), "reload now")
	require.EqualError(t, err, "the line of router is silent: nobody reads what is typed there")
	require.Equal(t, sending.NotSent, gear.OutcomeOf(err))
}

// TestTheConsoleServerStartsAnew: the line is called again.
func TestTheConsoleServerStartsAnew(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 60})
	d := open(t, Options{Addresses: serial(t, l, "ostrel-firewall"), Timeout: 500 * time.Millisecond})
	require.Equal(t, sending.Refused, gear.OutcomeOf(d.Tell(t.Context(), "make coffee")))
	for _, on := range []bool{false, true} {
		for _, pdu := range []estate.Key{"ostrel-pdu-a", "ostrel-pdu-b"} {
			require.NoError(t, l.Flip(estate.OutletEnd(pdu, 9), on))
		}
		require.Eventually(t, func() bool { return (d.Answer(t.Context()) == nil) == on }, soon, often)
	}
	require.Eventually(t, func() bool { return gear.OutcomeOf(d.Tell(t.Context(), "make coffee")) == sending.Refused }, soon, often)
}

// far is a far end that answers each line that is typed with the next of its
// texts, after it has said the first.
func far(t *testing.T, says ...string) []string {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, ln.Close()) })
	go func() {
		for {
			conn, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer func() { _ = conn.Close() }()
				var b [256]byte
				for _, text := range says {
					if _, err := conn.Write([]byte(text)); err != nil {
						return
					}
					for {
						n, err := conn.Read(b[:])
						if err != nil {
							return
						}
						if bytes.ContainsRune(b[:n], '\r') {
							break
						}
					}
				}
			}()
		}
	}()
	return []string{ln.Addr().String()}
}

// TestWhatStandsAtALine: each kind of far end, and what is said of it.
func TestWhatStandsAtALine(t *testing.T) {
	for name, x := range map[string]struct {
		says    []string
		prompt  string
		outcome sending.Outcome
		text    string
	}{
		"it needs no log-in":         {[]string{"", "\r\nrouter# ", "reload now\r\nproceeding\r\nrouter# ", ""}, "", sending.Accepted, ""},
		"it goes at once":            {[]string{"", "\r\nrouter# "}, "", sending.Accepted, ""},
		"a prompt of its own":        {[]string{"", "\r\nall well, over to you:", "reload now\r\ndone\r\nall well, over to you:", ""}, "over to you:", sending.Accepted, ""},
		"it is coloured":             {[]string{"", "\r\n\x1b[1;32mrouter\x1b[0m$ \x1b[K", "reload now\r\n\x1b[31m% Invalid input\x1b[0m\r\n$ ", ""}, "", sending.Refused, "router refused the command: % Invalid input"},
		"it asks for a name":         {[]string{"", "\r\nUser Name: ", "PASSWORD:", "\r\n\r\nlast seen on Monday\r\nrouter> ", "reload now\r\nrouter> ", ""}, "", sending.Accepted, ""},
		"it does not know us":        {[]string{"", "\r\nlogin: ", "Password: ", "no\r\nlogin: ", ""}, "", sending.NotSent, "router refuses the credential on its line: set it again with plumb secret set"},
		"it is in the middle":        {[]string{"", "\r\nPassword: ", "\r\nno\r\nlogin: ", "Password: ", "router> ", "% Unknown command\r\nrouter> ", ""}, "", sending.Refused, "router refused the command: % Unknown command"},
		"a page of something":        {[]string{"", "\r\n-- more --", "\r\n-- more --", "\r\n-- more --", ""}, "", sending.NotSent, `the line of router says "-- more --", which is no prompt that is known here: state its prompt in the estate, or look what is going on there`},
		"it wants passwords only":    {[]string{"", "\r\nPassword:", "\r\nPassword:", "\r\nPassword:", ""}, "", sending.NotSent, `the line of router says "Password:", which is no prompt that is known here: state its prompt in the estate, or look what is going on there`},
		"it ends":                    {[]string{"busy\r\n"}, "", sending.NotSent, "ended the connection"},
		"a flood, and then a prompt": {[]string{"", strings.Repeat("more and more\r\n", 20000) + "router> ", "router> ", ""}, "", sending.Accepted, ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := open(t, Options{Addresses: far(t, x.says...), Prompt: x.prompt, Timeout: 500 * time.Millisecond})
			err := d.Tell(t.Context(), "reload now")
			require.Equal(t, x.outcome, gear.OutcomeOf(err), "%v", err)
			if x.text != "" {
				require.ErrorContains(t, err, x.text)
			}
		})
	}
}

// TestWhatIsKept: what was said outlives the line, and no password is in it.
func TestWhatIsKept(t *testing.T) {
	chatty := secret.Value{Kind: secret.Login, User: "plumb", Password: "driftwood"}
	d := open(t, Options{Addresses: far(t, "", "\r\nlogin: ", "password: ", "driftwood\r\nno\r\nlogin: "), Secret: chatty})
	require.ErrorContains(t, d.Tell(t.Context(), "reload now"), "refuses the credential")
	require.NoError(t, d.Close())
	require.Equal(t, []string{"login: password: …", "no", "login:"}, d.LastLines(10))

	d = open(t, Options{Addresses: far(t, "", "\r\nlogin: ", "password: ", "driftwood and then?"), Secret: chatty, Timeout: 500 * time.Millisecond})
	require.ErrorContains(t, d.Tell(t.Context(), "reload now"), `says "… and then?", which is no prompt`)
}

func TestLinesThatCannotBeCalled(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nobody := ln.Addr().String()
	require.NoError(t, ln.Close())
	d := open(t, Options{Addresses: append([]string{nobody}, far(t, "", "router> ", "done\r\nrouter> ", "")...)})
	err = d.Answer(t.Context())
	require.EqualError(t, err, "the line of router at "+nobody+": nothing listens there")
	require.Equal(t, sending.NotSent, gear.OutcomeOf(err))
	require.NoError(t, d.Tell(t.Context(), "reload now"), "the next address is tried")

	ended, cancel := context.WithCancel(t.Context())
	cancel()
	err = open(t, Options{Addresses: []string{nobody}}).Tell(ended, "x")
	require.Equal(t, sending.NotSent, gear.OutcomeOf(err), "a context that has ended sends nothing")
	short, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	err = open(t, Options{Addresses: far(t, "", "router> ", "working on it")}).Tell(short, "reload now")
	require.Equal(t, sending.Unclear, gear.OutcomeOf(err), "it was typed, and then nobody waited")

	_, err = Open(Options{Name: "router"})
	require.EqualError(t, err, "router has no address")
	_, err = Open(Options{Name: "router", Addresses: []string{nobody}, Prompt: "("})
	require.EqualError(t, err, `router: its prompt "(" is no regular expression`)
	require.NoError(t, d.Close())
	require.Error(t, d.Answer(t.Context()), "closed is closed")
	require.Equal(t, secret.Login, lab.ShellSecret.Kind)
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
		Address: serial(t, l, "ostrel-core")[0], Network: "tcp", Open: at(lab.ShellSecret.Password), Stranger: at("guessed"), Password: "guessed", Refusals: []gear.Kind{gear.BadSecret}, Connects: true,
	})
}

// TestWhoGivesUp takes the line from nobody else who is at it; one that is dead is hung up.
func TestWhoGivesUp(t *testing.T) {
	d := open(t, Options{Addresses: far(t, "\xff\xfb\x01", ""), Timeout: time.Second}) // it speaks Telnet, and answers nothing
	c, err := d.Line().Call(t.Context())
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		short, leave := context.WithTimeout(t.Context(), time.Millisecond)
		defer leave()
		return d.Answer(short) != nil
	}, soon, often)
	still, err := d.Line().Call(t.Context())
	require.NoError(t, err)
	require.Same(t, c, still)
	require.ErrorContains(t, d.Answer(t.Context()), "does not answer")
	require.Error(t, c.Err())
}
