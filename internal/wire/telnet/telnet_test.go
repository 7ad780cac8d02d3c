package telnet

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"sync/atomic"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/require"
)

// pipe is a connection with room in between, so that both ends may write first.
func pipe(t *testing.T) (a, b net.Conn) {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { require.NoError(t, ln.Close()) }()
	a, err = net.Dial("tcp", ln.Addr().String())
	require.NoError(t, err)
	b, err = ln.Accept()
	require.NoError(t, err)
	t.Cleanup(func() { _, _ = a.Close(), b.Close() })
	return a, b
}

func read(t *testing.T, c net.Conn, n int) string {
	t.Helper()
	require.NoError(t, c.SetReadDeadline(time.Now().Add(5*time.Second)))
	got := make([]byte, n)
	_, err := io.ReadFull(c, got)
	require.NoError(t, err)
	return string(got)
}

// TestOneWithTheOther: both ends agree, and what is data arrives as it was.
func TestOneWithTheOther(t *testing.T) {
	a, b := pipe(t)
	client := Client(a)
	server, err := Server(b)
	require.NoError(t, err)

	_, err = server.Write([]byte("login: "))
	require.NoError(t, err)
	require.Equal(t, "login: ", read(t, client, 7))
	require.True(t, client.theirs[Echo])
	require.True(t, client.theirs[SuppressGoAhead])
	const keys = "plumb\r\xff\xffone\r\ntwo"
	_, err = client.Write([]byte(keys))
	require.NoError(t, err)
	require.Equal(t, keys, read(t, server, len(keys)), "what was a NUL behind Enter is gone")
	require.False(t, server.asked[Echo])
	require.True(t, server.ours[Echo])
}

// TestWhatIsAgreed to, refused, and passed over in silence.
func TestWhatIsAgreed(t *testing.T) {
	for name, x := range map[string]struct {
		server     bool
		in, answer string // after the offers of a server
		data       string
	}{
		"what a client lets the server do":     {false, "\xff\xfb\x01\xff\xfb\x03\xff\xfb\x00x", "\xff\xfd\x01\xff\xfd\x03\xff\xfd\x00", "x"},
		"what it is asked to do":               {false, "\xff\xfd\x00\xff\xfd\x03x", "\xff\xfb\x00\xff\xfb\x03", "x"},
		"a client does not echo":               {false, "\xff\xfd\x01x", "\xff\xfc\x01", "x"},
		"an option that nobody knows":          {false, "\xff\xfb\x2c\xff\xfd\x18x", "\xff\xfe\x2c\xff\xfc\x18", "x"},
		"what is so already is no news":        {false, "\xff\xfb\x03\xff\xfb\x03\xff\xfe\x18x", "\xff\xfd\x03", "x"},
		"it changes its mind":                  {false, "\xff\xfb\x03\xff\xfc\x03x", "\xff\xfd\x03\xff\xfe\x03", "x"},
		"parameters are passed over":           {false, "a\xff\xfa\x18\x01\xff\xff\xf0\xff\xf0b", "", "ab"},
		"commands without an option":           {false, "a\xff\xf1\xff\xf9\xff\xf6b", "", "ab"},
		"the NUL behind Enter":                 {false, "a\r\x00b\r\n\x00", "", "a\rb\r\n\x00"},
		"in binary mode a NUL is a NUL":        {false, "\xff\xfb\x00a\r\x00b", "\xff\xfd\x00", "a\r\x00b"},
		"a server hears that it may":           {true, "\xff\xfd\x01\xff\xfd\x03x", "", "x"},
		"a server hears that it may not":       {true, "\xff\xfe\x01\xff\xfe\x03x", "", "x"},
		"a server does not have itself echoed": {true, "\xff\xfb\x01x", "\xff\xfe\x01", "x"},
	} {
		t.Run(name, func(t *testing.T) {
			a, b := pipe(t)
			c, offers := Client(a), ""
			if x.server {
				var err error
				c, err = Server(a)
				require.NoError(t, err)
				offers = "\xff\xfb\x01\xff\xfb\x03"
			}
			_, err := b.Write([]byte(x.in))
			require.NoError(t, err)
			require.Equal(t, x.data, read(t, c, len(x.data)))
			require.NoError(t, c.Close())
			answer, err := io.ReadAll(b)
			require.NoError(t, err)
			require.Equal(t, offers+x.answer, string(answer))
		})
	}
}

// TestMarks: a sign of life, whether the far end knows the option or not.
func TestMarks(t *testing.T) {
	a, b := pipe(t)
	c := Client(a)
	none, err := c.Mark()
	require.NoError(t, err)
	require.Nil(t, none, "nobody has said that it speaks Telnet")
	_, err = b.Write([]byte("\xff\xfb\x03x"))
	require.NoError(t, err)
	require.Equal(t, "x", read(t, c, 1))
	first, err := c.Mark()
	require.NoError(t, err)
	second, err := c.Mark()
	require.NoError(t, err)
	require.Equal(t, "\xff\xfd\x03\xff\xfd\x06\xff\xfd\x06", read(t, b, 9))
	_, err = b.Write([]byte("\xff\xfb\x06y"))
	require.NoError(t, err)
	require.Equal(t, "y", read(t, c, 1))
	<-first
	require.NotPanics(t, func() {
		select {
		case <-second:
			t.Error("one answer is for one mark")
		default:
		}
	})
	_, err = b.Write([]byte("\xff\xfc\x06\xff\xfc\x06\xff\xfd\x06z"))
	require.NoError(t, err)
	require.Equal(t, "z", read(t, c, 1))
	<-second
	require.Equal(t, "\xff\xfb\x06", read(t, b, 3), "and asked itself, it answers")
}

// TestABareConnection is sent what is typed, and nothing else.
func TestABareConnection(t *testing.T) {
	a, b := pipe(t)
	c := Client(a)
	_, err := c.Write([]byte("reload now\r"))
	require.NoError(t, err)
	require.Equal(t, "reload now\r", read(t, b, 11))
	_, err = b.Write([]byte("\xff\xfd\x03x"))
	require.NoError(t, err)
	require.Equal(t, "x", read(t, c, 1))
	_, err = c.Write([]byte("\r"))
	require.NoError(t, err)
	require.NoError(t, c.Break())
	require.Equal(t, "\xff\xfb\x03\r\x00\xff\xf3", read(t, b, 7), "and one that speaks Telnet, as Telnet has it")
	require.NoError(t, b.Close())
	_, err = c.Read(make([]byte, 1))
	require.ErrorIs(t, err, io.EOF)
}

// still is a connection whose far end has said all it has to say.
type still struct {
	net.Conn
	r   io.Reader
	out bytes.Buffer
}

func (s *still) Read(p []byte) (int, error)     { return s.r.Read(p) }
func (s *still) Write(p []byte) (int, error)    { return s.out.Write(p) }
func (*still) SetWriteDeadline(time.Time) error { return nil }

// FuzzRead: whatever comes in, what is read is the same however it is cut up, and
// no more is said than was asked.
func FuzzRead(f *testing.F) {
	f.Add([]byte("\xff\xfb\x01\xff\xfb\x03login: \xff\xfa\x18\x01\xff\xf0\xff\xff\r\x00"))
	f.Add([]byte("\xff"))
	f.Add([]byte("\xff\xfa\xff"))
	f.Fuzz(func(t *testing.T, in []byte) {
		whole, bits := &still{r: bytes.NewReader(in)}, &still{r: iotest.OneByteReader(bytes.NewReader(in))}
		one, err := io.ReadAll(Client(whole))
		require.NoError(t, err)
		other, err := io.ReadAll(Client(bits))
		require.NoError(t, err)
		require.Equal(t, one, other)
		require.Equal(t, whole.out.Bytes(), bits.out.Bytes())
		require.LessOrEqual(t, len(one)+whole.out.Len(), len(in))
	})
}

// TestParameters: those of an option that was agreed to are heard whole, and no others;
// what is too long, or broken, costs only itself.
func TestParameters(t *testing.T) {
	a, b := pipe(t)
	client := Client(a)
	client.Allow(ComPort, true, false)
	var heard []string
	client.Parameters = func(option byte, p []byte) { heard = append(heard, fmt.Sprint(option, p)) }
	server, err := Server(b)
	require.NoError(t, err)
	server.Allow(ComPort, false, true)
	asked := make(chan string, 2)
	server.Parameters = func(option byte, p []byte) { asked <- fmt.Sprint(option, p) }
	_, err = server.Write([]byte("x"))
	require.NoError(t, err)
	require.Equal(t, "x", read(t, client, 1))
	require.NoError(t, server.Send(ComPort, []byte{1}), "before it was agreed to")
	require.NoError(t, client.Offer(ComPort))
	require.NoError(t, client.Offer(ComPort), "once is enough")
	go func() { _, _ = server.Read(make([]byte, 1)) }()
	require.NoError(t, client.Send(ComPort, []byte{1, 0, 0, 0xff, 0}))
	require.Equal(t, "44 [1 0 0 255 0]", <-asked)

	for _, p := range [][]byte{{101, 0xff}, bytes.Repeat([]byte{7}, 2*maxParameters), {102}} {
		require.NoError(t, server.Send(ComPort, p))
	}
	require.NoError(t, server.Send(WindowSize, []byte{1, 2}))
	_, err = b.Write([]byte{iac, sb, ComPort, 9, iac, brk, 9, iac, se, iac, sb, iac, se, 'y'})
	require.NoError(t, err)
	require.Equal(t, "y", read(t, client, 1))
	require.True(t, client.On(ComPort))
	require.Equal(t, []string{"44 [101 255]", "44 [102]", "44 [9 9]"}, heard)
}

// portServer is the end of a console server with one port, which goes no faster than most.
func portServer(t *testing.T, c net.Conn, most int, wrong func() Errors) (s *Conn, notify func() error, lines *Modem, breaks chan bool) {
	s, err := Server(c)
	require.NoError(t, err)
	now := Port{Speed: 9600, Bits: 8, Parity: NoParity, Stop: OneStop}
	lines, breaks = &Modem{Carrier: true, Ready: true}, make(chan bool, 4)
	notify = s.Serve(Served{
		Now: func() Port { return now },
		Set: func(p Port) {
			if p.Speed <= most {
				now = p
			}
		},
		Modem: func() Modem { return *lines },
		Break: func(on bool) { breaks <- on },
		Wrong: wrong,
	})
	return s, notify, lines, breaks
}

// TestTheSerialPort at the far end is told of, set, and believed to be as it says itself.
func TestTheSerialPort(t *testing.T) {
	a, b := pipe(t)
	client := Client(a)
	news := make(chan struct{}, 64)
	var wrong atomic.Uint32
	port := client.FarPort(func() { news <- struct{}{} })
	require.ErrorContains(t, port.Set(t.Context(), Port{}), "does not let its port be set")
	server, notify, lines, breaks := portServer(t, b, 115200, func() Errors { return Errors(wrong.Load()) })
	for _, c := range []*Conn{client, server} {
		go func() { _, _ = io.Copy(io.Discard, c) }()
	}
	require.Eventually(t, func() bool {
		set, known, modem, told := port.State()
		return known && told && set.String() == "9600 8N1" && modem == Modem{Carrier: true, Ready: true}
	}, time.Minute, time.Millisecond)
	want, err := ParsePort("115200 7e2")
	require.NoError(t, err)
	require.NoError(t, port.Set(t.Context(), want))
	want.Speed = 230400
	require.EqualError(t, port.Set(t.Context(), want), "the far end has its port at 115200 7E2, and not at 230400 7E2: it cannot, or may not, be set so")
	require.NotEmpty(t, news)
	require.NoError(t, port.Break())
	require.Equal(t, []bool{true, false}, []bool{<-breaks, <-breaks})
	lines.Carrier = false
	require.NoError(t, notify())
	require.NoError(t, notify(), "which is told once")
	require.Eventually(t, func() bool { _, _, modem, _ := port.State(); return modem == Modem{Ready: true} }, time.Minute, time.Millisecond)

	flow, err := ParsePort("115200 7E2 rtscts")
	require.NoError(t, err)
	require.NoError(t, port.Set(t.Context(), flow))
	set, _, _, _ := port.State()
	require.Equal(t, "115200 7E2 rtscts", set.String())
	require.Empty(t, port.Wrong().Words())
	wrong.Store(uint32(FramingErrors | Overrun))
	require.NoError(t, notify())
	require.Eventually(t, func() bool { return port.Wrong() == FramingErrors|Overrun }, time.Minute, time.Millisecond)
	require.Contains(t, port.Wrong().Words(), "framing errors")
	wrong.Store(0)
	flow.Flow = 0
	require.NoError(t, port.Set(t.Context(), flow), "and what is not said is left as it is")
	set, _, _, _ = port.State()
	require.Equal(t, "115200 7E2 rtscts", set.String())
	require.Zero(t, port.Wrong(), "they count from when it was set")

	for text, back := range map[string]string{"9600 8n1 none": "9600 8N1", "9600 8N1 XONXOFF": "9600 8N1 xonxoff", "9600": "9600 8N1", "1200 7o1.5": "1200 7O1.5", "300 5S2": "300 5S2"} {
		p, err := ParsePort(text)
		require.NoError(t, err)
		require.Equal(t, back, p.String())
	}
	for _, bad := range []string{"", "fast", "9600 8N", "9600 9N1", "9600 8X1", "9600 8N3", "9600 8N1 x", "10"} {
		_, err := ParsePort(bad)
		require.ErrorContains(t, err, "write 9600 8N1", bad)
	}
	for _, p := range [][]byte{nil, {1}, {101}, {101, 1, 2}, {101, 0xff, 0xff, 0xff, 0xff}, {250, 1}} {
		port.hear(p) // what makes no sense
	}
}
