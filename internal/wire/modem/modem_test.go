package modem_test

import (
	"context"
	"errors"
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab/phone"
	"plumbbob/internal/wire/modem"
	"plumbbob/internal/wire/telnet"
)

// port is a port with a modem at it; lined says whether it has the lines of one.
type port struct {
	net.Conn
	modem *phone.Modem
	lined bool
}

func (p port) Break() error { return nil }

func (p port) SetReady(on bool) error {
	if !p.lined {
		return errors.ErrUnsupported
	}
	p.modem.Ready(on)
	return nil
}

func (p port) Modem() (telnet.Modem, error) {
	if !p.lined {
		return telnet.Modem{}, errors.ErrUnsupported
	}
	return telnet.Modem{Carrier: p.modem.Carrier()}, nil
}

// at returns a modem at an exchange with one number, at which whoever is called says
// hello, and repeats what it hears until that is "bye".
func at(t *testing.T, lined bool) (*modem.Modem, *phone.Modem) {
	here, there := net.Pipe()
	m := phone.New(there, map[string]func(context.Context) (net.Conn, error){
		"5550191": func(context.Context) (net.Conn, error) {
			a, b := net.Pipe()
			go func() {
				_, _ = io.WriteString(b, "hello ")
				var p [100]byte
				for {
					n, err := b.Read(p[:])
					if err != nil || string(p[:n]) == "bye" {
						_ = b.Close()
						return
					}
					_, _ = b.Write(p[:n])
				}
			}()
			return a, nil
		},
		"5550199": func(ctx context.Context) (net.Conn, error) { <-ctx.Done(); return nil, ctx.Err() },
	})
	ctx, cancel := context.WithCancel(context.Background())
	go m.Serve(ctx, there, func(error) bool { return false })
	t.Cleanup(func() { cancel(); _ = here.Close(); _ = there.Close() })
	return modem.New(port{here, m, lined}), m
}

// TestACall: dialled, talked on, and hung up for certain, with the lines of a modem and
// without.
func TestACall(t *testing.T) {
	for _, lined := range []bool{false, true} {
		t.Run(map[bool]string{true: "by its lines", false: "by commands"}[lined], func(t *testing.T) {
			t.Parallel()
			m, far := at(t, lined)
			ctx := t.Context()
			require.NoError(t, m.SetUp(ctx))
			said, err := m.Dial(ctx, "555 0191")
			require.NoError(t, err)
			require.Equal(t, "CONNECT 1200", said)
			hears := func(want string) {
				t.Helper()
				got := ""
				for len(got) < len(want) || got[len(got)-len(want):] != want {
					var b [100]byte
					n, err := m.Read(b[:])
					require.NoError(t, err, got)
					got += string(b[:n])
				}
			}
			hears("hello ")
			_, err = io.WriteString(m, "AT+++\r") // is no command there
			require.NoError(t, err)
			hears("AT+++\r")
			require.NoError(t, m.HangUp(ctx))
			require.False(t, far.Carrier())
			_, err = m.Write([]byte("x"))
			require.Error(t, err)

			_, err = m.Dial(ctx, "555-0191") // and the far end hangs up
			require.NoError(t, err)
			hears("hello ")
			_, err = io.WriteString(m, "bye")
			require.NoError(t, err)
			for err == nil {
				var b [100]byte
				_, err = m.Read(b[:])
			}
			require.NoError(t, m.HangUp(ctx))
			require.False(t, far.Carrier())
		})
	}
}

// TestACallThatDoesNotComeAbout: a wrong number, one where nobody answers, one that is none.
func TestACallThatDoesNotComeAbout(t *testing.T) {
	t.Parallel()
	m, far := at(t, false)
	require.NoError(t, m.SetUp(t.Context()))
	var result *modem.ResultError
	_, err := m.Dial(t.Context(), "12")
	require.ErrorAs(t, err, &result)
	require.EqualError(t, err, "no modem answers there")
	_, err = m.Dial(t.Context(), "12;ATZ\r")
	require.ErrorContains(t, err, "no telephone number")
	ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer cancel()
	_, err = m.Dial(ctx, "5550199")
	require.ErrorIs(t, err, context.DeadlineExceeded)
	require.NotErrorIs(t, err, modem.ErrHolds, "and the line is free")
	_, err = m.Dial(t.Context(), "5550191")
	require.NoError(t, err, "for the next one")
	far.Deafen(true)
	require.ErrorIs(t, m.HangUp(t.Context()), modem.ErrHolds, "what is not certain is said")
}

// TestItRings: it answers after so many rings, and not one who has given up.
func TestItRings(t *testing.T) {
	t.Parallel()
	m, far := at(t, true)
	require.NoError(t, m.SetUp(t.Context()))
	caller, err := far.Call(t.Context())
	require.NoError(t, err)
	heard := make(chan string, 1)
	go func() {
		var b [100]byte
		n, _ := caller.Read(b[:])
		heard <- string(b[:n])
	}()
	require.NoError(t, m.Rings(t.Context(), 2))
	_, err = m.Answer(t.Context())
	require.NoError(t, err)
	require.Equal(t, "CONNECT 1200\r\n", <-heard)
	require.NoError(t, caller.Close())
	var b [100]byte
	for err == nil {
		_, err = m.Read(b[:])
	}
	require.NoError(t, m.HangUp(t.Context()))
}
