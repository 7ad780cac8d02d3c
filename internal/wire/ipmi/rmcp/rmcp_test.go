package rmcp

import (
	"encoding/hex"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"plumbbob/internal/wire/cursor"
)

func unhex(t require.TestingT, s string) []byte {
	b, err := hex.DecodeString(s)
	require.NoError(t, err)
	return b
}

// exchange is the one that the vectors below were worked out for, with another
// implementation of HMAC and AES.
func exchange(s Suite) *Exchange {
	x := &Exchange{Suite: s, ConsoleID: 0x11223344, ControllerID: 0xaabbccdd, Role: 4 | NameOnly, User: "plumb", Password: "mast-lantern-42"}
	for i := range 16 {
		x.ConsoleRand[i], x.ControlRand[i], x.GUID[i] = byte(i), 0x80+byte(i), 0x40+byte(i)
	}
	return x
}

func TestKeys(t *testing.T) {
	for _, c := range []struct {
		suite                                       Suite
		controller, console, sik, final, k1, k2, kg string
	}{
		{
			Suite3, "ab8a4a0727957a2b89ee013c041f1416b076a549", "290b689c13ad40064375e5c3866896a9499d467f",
			"a9ced82f196787eb4920fe1723b0381831ecce17", "76e3da00314034d61a95afab",
			"d8da6815524e88afc4dd2c04a3bec199c88b80ad", "22f28829507514b1943dc70351390b01ab38b92a", "df3342f8618d29aae8f1d278285a23cf121fb343",
		},
		{
			Suite17, "7dc803621d32a7ca1d1172cd888fd30e955f9f58c04a1f711b4170e215f925e5", "b665ce96953fee76760d475f398e2acb39a5c133c3859f99be781b51b47ab462",
			"3587d8f2847406c1da46ddf197c34123b38e46d5bcfec913b90688af2d0c4027", "d44ae934359037b2547217b8eafe2b2d",
			"66d5cbd0c2d1844fed67a52aaa4dad47e498d3399136574303aeba8a249cb1de", "5e7a8e6baa6467c9e5851d107ca04d8ca65f141f9305c1056bcee2470827b69d",
			"9d293414afacc67e495c210665de62e4fbb6bc592fcdbfda73869b75710f7eee",
		},
	} {
		x := exchange(c.suite)
		require.Equal(t, c.controller, hex.EncodeToString(x.ControllerProof()), "RAKP 2")
		require.Equal(t, c.console, hex.EncodeToString(x.ConsoleProof()), "RAKP 3")
		require.Equal(t, c.sik, hex.EncodeToString(x.IntegrityKey()))
		require.Equal(t, c.final, hex.EncodeToString(x.FinalProof()), "RAKP 4")
		require.Equal(t, c.k1, hex.EncodeToString(x.additionalKey(1)))
		require.Equal(t, c.k2, hex.EncodeToString(x.additionalKey(2)), "from twenty bytes, with SHA256 too")
		x.ControllerKey = "key-of-it"
		require.Equal(t, c.kg, hex.EncodeToString(x.IntegrityKey()), "two-key log-in")
		require.NotContains(t, fmt.Sprintf("%v %#v", *x, *x), "mast-lantern")
	}
}

var sealedPackets = map[Suite]string{
	Suite3:  "0600ff0706c044332211070000002000101112131415161718191a1b1c1d1e1f68999b38512add94399430af7bfec675ffff020713356fae1758fd5458109471",
	Suite17: "0600ff0706c044332211070000002000101112131415161718191a1b1c1d1e1fb94228b24f12c81a6534a93d059ef3ffffff0207aebc10cd341f6b69a06c51ca01020fec",
}

func TestSession(t *testing.T) {
	for suite, text := range sealedPackets {
		console, packet := NewSession(exchange(suite), ConsoleEnd), unhex(t, text)
		for i := range packet {
			bent := append([]byte(nil), packet...)
			bent[i] ^= 1
			_, _, err := NewSession(exchange(suite), ConsoleEnd).Open(bent)
			if i != 1 && i != 2 { // reserved, and the sequence number of RMCP, which counts for nothing
				require.Error(t, err, "%s, byte %d", suite, i)
			}
		}
		for n := range packet {
			_, _, err := console.Open(packet[:n])
			require.Error(t, err)
		}
		kind, payload, err := console.Open(append([]byte(nil), packet...))
		require.NoError(t, err, suite)
		require.Equal(t, PayloadIPMI, kind)
		require.Equal(t, "811c6320040100db", hex.EncodeToString(payload))
		m, err := ParseMessage(payload)
		require.NoError(t, err)
		require.Equal(t, Message{To: Console, NetFn: App | 1, From: Controller, Seq: 1, Command: 1, Data: []byte{0}}, m)
		_, _, err = console.Open(append([]byte(nil), packet...))
		require.ErrorIs(t, err, ErrReplay)
	}
	for suite := range suites { // there and back, every length of a payload
		console, controller := NewSession(exchange(suite), ConsoleEnd), NewSession(exchange(suite), ControllerEnd)
		for n := range 70 {
			payload := make([]byte, n)
			kind, got, err := controller.Open(console.Seal(nil, PayloadSOL, payload))
			if n == 0 && suite.Sound() {
				require.NoError(t, err)
				continue
			}
			require.NoError(t, err, "%s, %d bytes", suite, n)
			require.Equal(t, PayloadSOL, kind)
			require.Equal(t, payload, got)
		}
	}
}

// TestWindow: whatever comes in whatever order, no number is taken twice, and
// what is new is always taken.
func TestWindow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var w window
		taken, highest := map[uint32]bool{}, uint32(0)
		start := rapid.Uint32Range(1, 1<<32-200).Draw(t, "start")
		for _, off := range rapid.SliceOf(rapid.Uint32Range(0, 90)).Draw(t, "offsets") {
			n := start + off
			ok := w.admits(n)
			if taken[n] {
				require.False(t, ok, "%d was here before", n)
			}
			if n > highest {
				require.True(t, ok, "%d is new", n)
			}
			if ok {
				w.seen(n)
				taken[n], highest = true, max(highest, n)
			}
		}
	})
	require.False(t, (&window{}).admits(0), "zero is for packets outside of sessions")
	strict := window{reach: sequenceAhead}
	require.False(t, strict.admits(sequenceAhead+1), "a controller takes nothing that is far ahead")
	require.True(t, strict.admits(sequenceAhead))
	strict.seen(sequenceAhead)
	require.False(t, strict.admits(2*sequenceAhead+1))
	require.True(t, strict.admits(2*sequenceAhead))
}

func TestMessage(t *testing.T) {
	m := Message{To: Controller, From: Console, NetFn: App, Seq: 1, Command: 1}
	require.Equal(t, "2018c88104017a", hex.EncodeToString(m.Append(nil)), "Get Device ID, by hand")
	reply := m.Reply([]byte{0})
	require.True(t, reply.Answers(&m))
	for _, bend := range []func(*Message){
		func(m *Message) { m.NetFn++ }, func(m *Message) { m.Command++ }, func(m *Message) { m.Seq++ }, func(m *Message) { m.FromLUN++ },
	} {
		other := m.Reply([]byte{0})
		bend(&other)
		require.False(t, other.Answers(&m))
	}
	b := m.Append(nil)
	b[5]++
	_, err := ParseMessage(b)
	require.ErrorIs(t, err, ErrChecksum)
}

func TestPresencePing(t *testing.T) {
	require.Equal(t, "0600ff06000011be80070000", hex.EncodeToString(AppendPing(nil, 7)))
	pong := AppendPong(nil, Pong{Tag: 7, OEM: 32473, IPMI: true})
	require.Equal(t, "0600ff06000011be4007001000007ed9000000008100000000000000", hex.EncodeToString(pong))
	got, err := ParsePong(pong)
	require.NoError(t, err)
	require.Equal(t, Pong{7, 32473, true}, got)
	for n := range pong {
		_, err := ParsePong(pong[:n])
		require.Error(t, err)
	}
	_, err = ParsePing(pong)
	require.Error(t, err)
}

func TestLegacy(t *testing.T) {
	console := &Legacy{Auth: AuthMD5, ID: 0x01020304, Password: "mast-lantern-42", Sequence: 9}
	message := unhex(t, "2018c881040138")
	packet := console.Seal(nil, message)
	require.Equal(t, "0600ff07020900000004030201d2fb4ee58655e220f18fac4343628ada072018c881040138", hex.EncodeToString(packet))
	controller := &Legacy{Auth: AuthMD5, ID: 0x01020304, Password: "mast-lantern-42"}
	got, err := controller.Open(packet)
	require.NoError(t, err)
	require.Equal(t, message, got)
	_, err = controller.Open(packet)
	require.ErrorIs(t, err, ErrReplay)
	packet[len(packet)-1]++
	_, err = controller.Open(packet)
	require.ErrorIs(t, err, ErrIntegrity)
	_, err = (&Legacy{}).Open(packet)
	require.ErrorIs(t, err, ErrNotOurs)
}

func TestSuites(t *testing.T) {
	records := AppendSuites(nil, []Suite{Suite3, Suite17})
	require.Equal(t, "c003014181c011034481", hex.EncodeToString(records))
	require.Equal(t, []Suite{Suite3, Suite17}, ParseSuites(records))
	require.Equal(t, []Suite{0, 3}, ParseSuites(unhex(t, "c000004080c10512345601c0030141")), "a maker's own is stepped over")
	for _, c := range []struct {
		offered, allowed []Suite
		want             Suite
	}{
		{[]Suite{3, 17}, nil, 17}, {[]Suite{1, 3}, []Suite{1}, 3}, {[]Suite{0, 1, 2}, []Suite{2, 1}, 2}, {[]Suite{0}, []Suite{0}, 0}, {[]Suite{1, 2}, nil, 0},
	} {
		got, ok := Choose(c.offered, c.allowed)
		require.Equal(t, c.want, got)
		require.Equal(t, c.want != 0, ok, "suite 0 is never chosen")
	}
}

// both is a message that can be written and read.
type both interface {
	Append([]byte) []byte
}

// TestHandshakeMessages: each is read as it was written, and no part of it is.
func TestHandshakeMessages(t *testing.T) {
	a := Suite17.Algorithms()
	for _, c := range []struct {
		m    both
		read func(*cursor.Reader) (both, error)
		tail bool // a shorter one can be sound
	}{
		{OpenRequest{1, 4, 0x01020304, a}, func(r *cursor.Reader) (both, error) { var m OpenRequest; err := m.Decode(r); return m, err }, false},
		{OpenReply{1, 0, 4, 0x01020304, 5, a}, func(r *cursor.Reader) (both, error) { var m OpenReply; err := m.Decode(r); return m, err }, false},
		{RAKP1{1, 7, [16]byte{1}, 0x14, "plumb"}, func(r *cursor.Reader) (both, error) { var m RAKP1; err := m.Decode(r); return m, err }, false},
		{RAKP2{1, 0, 7, [16]byte{1}, [16]byte{2}, []byte{1, 2}}, func(r *cursor.Reader) (both, error) { var m RAKP2; err := m.Decode(r); return m, err }, true},
		{RAKP3{1, 0, 7, []byte{1, 2}}, func(r *cursor.Reader) (both, error) { var m RAKP3; err := m.Decode(r); return m, err }, true},
		{RAKP4{1, 0, 7, []byte{1, 2}}, func(r *cursor.Reader) (both, error) { var m RAKP4; err := m.Decode(r); return m, err }, true},
	} {
		b := c.m.Append(nil)
		got, err := c.read(cursor.New(b))
		require.NoError(t, err)
		require.Equal(t, c.m, got)
		for n := range b {
			if _, err := c.read(cursor.New(b[:n])); !c.tail {
				require.Error(t, err, "%T cut to %d", c.m, n)
			}
		}
	}
	var long RAKP1
	b := RAKP1{User: "a-name-of-17-byte"}.Append(nil)
	require.Error(t, long.Decode(cursor.New(b)))
}

func FuzzOpen(f *testing.F) {
	for _, text := range sealedPackets {
		f.Add(unhex(f, text))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		for _, s := range []Suite{Suite1, Suite3, Suite17} {
			_, payload, err := NewSession(exchange(s), ConsoleEnd).Open(append([]byte(nil), b...))
			if err == nil && s.Sound() {
				require.Contains(t, sealedPackets[s], hex.EncodeToString(b)[2*headerLen:], "nothing but what has the right integrity value is taken")
			}
			_ = payload
		}
		l := Legacy{}
		_, _ = l.Open(b)
		_, _ = ParseMessage(b)
		_, _ = ParsePong(b)
		_ = ParseSuites(b)
		_, _, _ = SessionID(b)
	})
}

func FuzzHandshake(f *testing.F) {
	f.Add(appendPlain(nil, payloadOpenReply, OpenReply{1, 0, 4, 2, 5, Suite17.Algorithms()}.Append(nil)))
	f.Add(appendPlain(nil, payloadRAKP2, RAKP2{1, 0, 2, [16]byte{1}, [16]byte{2}, []byte{1, 2}}.Append(nil)))
	f.Fuzz(func(t *testing.T, b []byte) {
		h := NewHandshake(Suite17, Credentials{User: "plumb", Password: "x"}, 4, 2, [16]byte{1})
		h.Next(nil)
		for range 3 {
			if took, err := h.Take(b); took && err == nil {
				h.Next(nil)
			}
		}
		require.Nil(t, h.Session(), "nobody gets through without the password")
		_ = h.Abandon(nil)
	})
}
