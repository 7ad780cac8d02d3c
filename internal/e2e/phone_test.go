package e2e

import (
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/client"
)

// calls is somebody elsewhere with a modem.
func (w *world) calls() *at {
	w.Helper()
	far, err := w.lab.Phone.Call(w.Context())
	require.NoError(w, err)
	a := &at{world: w, typing: far, out: &output{}}
	ended := make(chan struct{})
	go func() {
		_, _ = io.Copy(a.out, far)
		close(ended)
	}()
	w.Cleanup(func() { _ = far.Close(); <-ended })
	return a
}

// TestByTelephone: with the network dead somebody reaches the tide gauge by modem, and
// somebody else comes in by calling the service.
func TestByTelephone(t *testing.T) {
	w := begin(t)
	require.NoError(t, w.lab.Unplug("tamsin-router"))
	w.eventually(func() bool { return strings.Contains(w.says(0, "", "show", "tamsin-tide"), "silent for") }, "the network is dead there")
	require.Contains(t, w.says(0, "", "show", "tamsin-tide"), "by telephone, modem-1 555 0191 answers")
	keys, typing := io.Pipe()
	a := &at{world: w, typing: typing, out: &output{}}
	left := make(chan int, 1)
	go func() {
		left <- client.Main([]string{"serial", "tamsin-tide", "--config", w.dir + "/" + w.login}, keys, a.out, a.out)
	}()
	a.shows("calling 555 0191 by the modem modem-1, try 1 of 3")
	a.shows("up by phone, at modem-1 555 0191")
	a.types("\n")
	a.shows("tamsin-tide login:")
	require.True(t, w.lab.Phone.Carrier())
	require.NoError(t, typing.Close())
	require.Zero(t, <-left)
	w.eventually(func() bool { return !w.lab.Phone.Carrier() }, "who has gone is hung up on")

	a = w.calls()
	a.shows("Account: ")
	a.types("admin\r")
	a.shows("Password: ")
	a.types("wrong\r")
	a.shows("Not let in: wrong account or password")
	a.types("admin\r")
	a.shows("Password: ")
	a.types(w.password + "\r")
	a.shows("tamsin-router")
	a.shows("plumb> ")
	a.types("whoami\r")
	a.shows("admin, keeper")
	require.NotContains(t, a.out.String(), w.password)
	a.types("leave\r")
	a.shows("Good-bye.")
	w.eventually(func() bool { return !w.lab.Phone.Carrier() }, "and the line is free")
	require.Contains(t, w.flat(0, "", "journal", "--limit", "20"), "Logged in from the serial port modem-1")
}
