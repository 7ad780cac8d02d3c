package tty

import (
	"os"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestAPort: it is raw, set as it is asked for, nobody else's meanwhile, and an end of
// waiting ends who reads. It is so however many files the process has open.
func TestAPort(t *testing.T) {
	for range 1100 { // more than select(2) takes
		r, w, err := os.Pipe()
		if err != nil {
			break // as many as there may be
		}
		defer func() { _ = r.Close(); _ = w.Close() }()
	}
	far, near, err := pty.Open()
	if err != nil {
		t.Skip("no pseudo-terminal is left: ", err)
	}
	defer func() { _ = far.Close() }()
	name := near.Name()
	require.NoError(t, near.Close())
	p, err := Open(name, "19200 7E2")
	require.NoError(t, err)
	require.Equal(t, "19200 7E2", p.Set())
	require.NoError(t, p.SetTo("250000 8N1"), "also one that termios has no name for")
	require.NoError(t, p.control(func(fd int) error {
		is, err := unix.IoctlGetTermios(fd, unix.TCGETS2)
		require.EqualValues(t, 250000, is.Ospeed)
		require.Zero(t, is.Lflag)
		return err
	}))
	require.Error(t, p.SetTo("fast"))
	_, err = far.WriteString("a\r\x03")
	require.NoError(t, err)
	var b [10]byte
	n, err := p.Read(b[:])
	require.NoError(t, err)
	require.Equal(t, "a\r\x03", string(b[:n]))
	require.ErrorIs(t, p.SetReady(true), ErrNoLines)
	_, err = p.Modem()
	require.ErrorIs(t, err, ErrNoLines)
	time.AfterFunc(20*time.Millisecond, func() { _ = p.Close() })
	_, err = p.Read(b[:])
	require.ErrorIs(t, err, os.ErrClosed)
	_, err = Open("/dev/null", "9600")
	require.ErrorContains(t, err, "is no serial port")
	_, err = Open("/dev/nothing-here", "9600")
	require.Error(t, err)
}
