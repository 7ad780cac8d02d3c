package localports_test

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"os"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/attach"
	"plumbbob/internal/health"
	"plumbbob/internal/lab/phone"
	"plumbbob/internal/localports"
)

func TestParse(t *testing.T) {
	c, err := localports.Parse("crane=/dev/ttyUSB0 19200 7e1", false)
	require.NoError(t, err)
	require.Equal(t, localports.Config{Name: "crane", Path: "/dev/ttyUSB0", Set: "19200 7E1"}, c)
	c, err = localports.Parse("m=/dev/ttyS1", true)
	require.NoError(t, err)
	require.Equal(t, "115200 8N1", c.Set)
	for _, wrong := range []string{"", "/dev/ttyS0", "x=ttyS0", "X=/dev/ttyS0", "x=/dev/ttyS0 fast"} {
		_, err = localports.Parse(wrong, false)
		require.Error(t, err, wrong)
	}
	_, err = localports.New([]localports.Config{{Name: "a"}, {Name: "a"}}, health.New(slog.New(slog.DiscardHandler)))
	require.ErrorContains(t, err, "named twice")
}

// ports is a room with the port that a test has the other end of.
func ports(t *testing.T, modem bool) (*localports.Room, *os.File) {
	master, slave, err := pty.Open()
	require.NoError(t, err)
	t.Cleanup(func() { _ = master.Close(); _ = slave.Close() })
	r, err := localports.New([]localports.Config{{Name: "it", Path: slave.Name(), Set: "9600 8N1", Modem: modem}}, health.New(slog.New(slog.DiscardHandler)))
	require.NoError(t, err)
	return r, master
}

// TestACable: one user at a time, what is said in both directions, and nothing by any
// other name.
func TestACable(t *testing.T) {
	r, far := ports(t, false)
	w, err := r.Cable(t.Context(), "it")
	require.NoError(t, err)
	_, err = r.Cable(t.Context(), "it")
	require.EqualError(t, err, "the serial port it is in use")
	_, err = r.Cable(t.Context(), "/dev/null")
	require.ErrorContains(t, err, `no serial port "/dev/null": there is it`)
	_, err = r.Dial(t.Context(), "it 123")
	require.ErrorContains(t, err, "at it is no modem")
	_, err = io.WriteString(w, "hello")
	require.NoError(t, err)
	var b [10]byte
	n, err := far.Read(b[:])
	require.NoError(t, err)
	require.Equal(t, "hello", string(b[:n]))
	require.NoError(t, w.Close())

	came := make(chan error, 1)
	go func() {
		w, err := r.Terminal(t.Context(), "it")
		if err == nil {
			err = w.Close()
		}
		came <- err
	}()
	time.Sleep(50 * time.Millisecond) // noise before anybody is there
	_, err = far.WriteString("\x00x\r")
	require.NoError(t, err)
	require.NoError(t, <-came)
}

// TestTheModem: who calls from here goes before who waits for calls, a number that does
// not answer is not called for ever, and the line is free afterwards.
func TestTheModem(t *testing.T) {
	t.Parallel()
	r, far := ports(t, true)
	ctx, cancel := context.WithCancel(t.Context())
	m := phone.New(far, map[string]func(context.Context) (net.Conn, error){
		"12": func(context.Context) (net.Conn, error) {
			here, there := net.Pipe()
			go func() { _, _ = io.WriteString(there, "tide 3.2 m"); _, _ = io.Copy(io.Discard, there) }()
			return here, nil
		},
		"13": func(context.Context) (net.Conn, error) { return nil, errors.New("nobody") },
	})
	go m.Serve(ctx, far, func(error) bool { return ctx.Err() == nil })
	waits := make(chan error, 1)
	go func() {
		_, err := r.Await(ctx, "it", 1)
		waits <- err
	}()
	require.Eventually(t, func() bool { return r.Well(ctx, "it 12") == nil }, 10*time.Second, 10*time.Millisecond)

	var told string
	w, err := r.Dial(attach.Telling(ctx, func(words string) { told = words }), "it 12")
	require.NoError(t, err)
	require.Equal(t, "calling 12 by the modem it, try 1 of 3", told)
	var b [10]byte
	_, err = io.ReadFull(w, b[:])
	require.NoError(t, err)
	require.Equal(t, "tide 3.2 m", string(b[:]))
	_, err = r.Dial(ctx, "it 12")
	require.EqualError(t, err, "the modem is in a call already")
	require.NoError(t, w.Close())
	r.Close() // waits until it is hung up
	require.False(t, m.Carrier())

	for range 3 {
		_, err = r.Dial(ctx, "it 13")
		require.ErrorContains(t, err, "nobody answers there")
	}
	_, err = r.Dial(ctx, "it 13")
	require.ErrorContains(t, err, "13 was called 3 times in vain; it is called again in 15m")
	cancel()
	require.ErrorIs(t, <-waits, context.Canceled)
}
