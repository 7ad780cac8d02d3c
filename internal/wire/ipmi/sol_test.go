package ipmi_test

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/lab/bmc/bmctest"
	"plumbbob/internal/wire/ipmi"
)

// host is a serial port that says everything twice, in capitals, and counts what it heard.
type host struct {
	mu    sync.Mutex
	heard bytes.Buffer
	out   chan string
}

func newHost() *host { return &host{out: make(chan string, 4096)} }

func (h *host) Hear() (said <-chan string, leave func()) { return h.out, func() {} }

func (h *host) Type(p []byte) {
	h.mu.Lock()
	h.heard.Write(p)
	h.mu.Unlock()
	h.out <- strings.ToUpper(string(p))
}

func (h *host) text() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.heard.String()
}

func line(t *testing.T, c *bmctest.Controller) (*ipmi.Serial, error) {
	s, err := ipmi.OpenSerial(short(t, time.Minute), ipmi.Options{Address: c.Address, User: bmctest.User, Password: bmctest.Password})
	if err == nil {
		t.Cleanup(func() { require.NoError(t, s.Close()) })
	}
	return s, err
}

// TestSerialOverLAN: what is typed arrives once and in order, and so does what is said, on a
// way that loses packets, and with a controller that takes a little at a time.
func TestSerialOverLAN(t *testing.T) {
	t.Parallel()
	for name, x := range map[string]struct {
		fate  bmc.Fate
		takes int
	}{"well": {}, "lossy": {bmctest.Bad(0.15, 5), 0}, "little at a time": {nil, 7}} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := bmctest.Start(t, nil, x.fate)
			h := newHost()
			c.OnSerial(h)
			c.Set(func(f *bmc.Faults) { f.SOLTakes = x.takes })
			s, err := line(t, c)
			require.NoError(t, err)
			var want strings.Builder
			go func() {
				for i := range 20 {
					_, err := fmt.Fprintf(s, "line %d, and some more of it\r", i)
					if err != nil {
						t.Error(err)
					}
				}
			}()
			for i := range 20 {
				fmt.Fprintf(&want, "line %d, and some more of it\r", i)
			}
			got := make([]byte, want.Len())
			_, err = io.ReadFull(s, got)
			require.NoError(t, err)
			require.Equal(t, want.String(), h.text())
			require.Equal(t, strings.ToUpper(want.String()), string(got))
			require.NoError(t, s.Break())
			came, err := s.Mark()
			require.NoError(t, err)
			select {
			case <-came:
			case <-time.After(time.Minute):
				require.Fail(t, "it is alive")
			}
		})
	}
}

// TestWhoHasTheLine: one at a time, at the port that is named; who loses it is told.
func TestWhoHasTheLine(t *testing.T) {
	t.Parallel()
	c, other := bmctest.Start(t, nil, nil), bmctest.Start(t, nil, nil)
	_, err := line(t, c)
	require.ErrorContains(t, err, "serial over LAN is switched off")
	c.OnSerial(newHost())
	s, err := line(t, c)
	require.NoError(t, err)
	_, err = line(t, c)
	require.ErrorIs(t, err, ipmi.ErrTaken)
	require.NoError(t, c.Dial(t, nil).Do(short(t, time.Minute), ipmi.DeactivatePayload, []byte{1, 1, 0, 0, 0, 0}, nil))
	_, err = s.Read(make([]byte, 1))
	require.ErrorContains(t, err, "somebody else may have taken the line")

	h := newHost()
	other.OnSerial(h)
	c.Set(func(f *bmc.Faults) { f.SOLPort = netip.MustParseAddrPort(other.Address).Port() })
	moved, err := line(t, c)
	require.NoError(t, err)
	_, err = moved.Write([]byte("there"))
	require.NoError(t, err)
	require.Eventually(t, func() bool { return h.text() == "there" }, time.Minute, 5*time.Millisecond)
	other.Set(func(f *bmc.Faults) { f.Forgetful = true })
	_, err = moved.Write([]byte("x"))
	require.Error(t, err)
	require.False(t, errors.Is(err, io.EOF))
}

// FuzzSOL: whatever comes is read, and written the same.
func FuzzSOL(f *testing.F) {
	f.Add([]byte{1, 2, 3, 4, 5})
	f.Fuzz(func(t *testing.T, b []byte) {
		p, err := ipmi.ParseSOL(b)
		if err == nil {
			again, err := ipmi.ParseSOL(p.Append(nil))
			require.NoError(t, err)
			require.Equal(t, p.Seq, again.Seq)
			require.Equal(t, string(p.Data), string(again.Data))
		}
	})
}
