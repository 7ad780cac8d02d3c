package wol

import (
	"bytes"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestPacket(t *testing.T) {
	mac := [6]byte{0x02, 0x00, 0x5e, 0x00, 0x53, 0x48}
	plain := Packet{MAC: mac}.Append(nil)
	require.Len(t, plain, 102)
	require.Equal(t, []byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x02, 0x00, 0x5e, 0x00, 0x53, 0x48, 0x02}, plain[:13])
	for _, p := range []Packet{{MAC: mac}, {MAC: mac, Password: []byte{1, 2, 3, 4}}, {MAC: mac, Password: []byte{1, 2, 3, 4, 5, 6}}} {
		var got Packet
		require.NoError(t, got.Decode(p.Append(nil)))
		require.Equal(t, p.MAC, got.MAC)
		require.True(t, bytes.Equal(p.Password, got.Password))
		for n := range len(p.Append(nil)) {
			if n != 102 && n != 106 {
				require.Error(t, got.Decode(p.Append(nil)[:n]), "a prefix of %d bytes", n)
			}
		}
	}
	plain[50] ^= 1
	require.Error(t, new(Packet).Decode(plain), "one of the sixteen is another")
}

func TestSend(t *testing.T) {
	c, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { _ = c.Close() }()
	want := Packet{MAC: [6]byte{2, 0, 0, 0, 0, 1}}
	require.NoError(t, Send(t.Context(), c.LocalAddr().String(), want))
	require.NoError(t, c.SetReadDeadline(time.Now().Add(5*time.Second)))
	buf := make([]byte, 200)
	for range repeats {
		n, _, err := c.ReadFrom(buf)
		require.NoError(t, err)
		var got Packet
		require.NoError(t, got.Decode(buf[:n]))
		require.Equal(t, want.MAC, got.MAC)
	}
	require.Error(t, Send(t.Context(), "not an address", want))
}

func FuzzDecode(f *testing.F) {
	f.Add(Packet{MAC: [6]byte{2, 0, 0, 0, 0, 1}, Password: []byte{1, 2, 3, 4}}.Append(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		var p Packet
		if p.Decode(b) == nil {
			require.Equal(t, b, p.Append(nil))
		}
	})
}
