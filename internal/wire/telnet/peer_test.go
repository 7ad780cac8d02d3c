package telnet

import (
	"bufio"
	"fmt"
	"io"
	"net"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// peer runs a program of Debian's python3-serial, which has both ends of RFC 2217, and
// returns what it writes, line by line.
func peer(t *testing.T, program string, args ...string) <-chan string {
	t.Helper()
	cmd := exec.CommandContext(t.Context(), "/usr/bin/python3", append([]string{"-u", "-c", program}, args...)...)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	var said strings.Builder
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	lines := make(chan string, 16)
	done := make(chan struct{})
	go func() {
		defer close(done)
		for s := bufio.NewScanner(out); s.Scan(); {
			lines <- s.Text()
		}
	}()
	t.Cleanup(func() {
		_ = cmd.Process.Kill() // it may have ended
		<-done
		_ = cmd.Wait()
		if t.Failed() {
			t.Log(said.String())
		}
	})
	return lines
}

func next(t *testing.T, lines <-chan string) string {
	t.Helper()
	select {
	case l := <-lines:
		return l
	case <-time.After(time.Minute):
		require.Fail(t, "it says nothing")
		return ""
	}
}

// TestAnothersClient sets, reads and breaks a port that we lend.
func TestAnothersClient(t *testing.T) {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { require.NoError(t, ln.Close()) }()
	lines := peer(t, `
import serial, sys
s = serial.serial_for_url("rfc2217://" + sys.argv[1], baudrate=19200, bytesize=7, parity="E", stopbits=2, timeout=20)
s.write(b"a\xff\r\n")
print(s.read(4), s.cd, s.dsr, s.cts, s.ri)
s.send_break(0.1)
s.baudrate = 115200
s.close()
print("closed")
`, ln.Addr().String())
	conn, err := ln.Accept()
	require.NoError(t, err)
	s, _, _, breaks := portServer(t, conn, 115200, nil)
	go func() { _, _ = io.Copy(s, s) }() // an echo
	require.Equal(t, `b'a\xff\r\n' True True False False`, next(t, lines))
	require.Equal(t, []bool{true, false}, []bool{<-breaks, <-breaks})
	require.Equal(t, "closed", next(t, lines))
}

// TestAnothersServer lends us a port.
func TestAnothersServer(t *testing.T) {
	lines := peer(t, `
import serial, serial.rfc2217, socket, threading
ln = socket.create_server(("127.0.0.1", 0))
print(ln.getsockname()[1])
port = serial.serial_for_url("loop://", timeout=0.1)
conn, _ = ln.accept()
class Wire:
    def write(self, data): conn.sendall(data)
manager = serial.rfc2217.PortManager(port, Wire())
def out():
    while True:
        data = port.read(port.in_waiting or 1)
        if data: conn.sendall(b"".join(manager.escape(data)))
threading.Thread(target=out, daemon=True).start()
while True:
    data = conn.recv(1024)
    if not data: break
    port.write(b"".join(manager.filter(data)))
    print(port.baudrate, port.bytesize, port.parity, port.stopbits)
`)
	conn, err := net.Dial("tcp", "127.0.0.1:"+next(t, lines))
	require.NoError(t, err)
	c := Client(conn)
	port := c.FarPort(nil)
	var heard strings.Builder
	var mu sync.Mutex
	var reading sync.WaitGroup
	reading.Go(func() {
		var b [64]byte
		for {
			n, err := c.Read(b[:])
			if err != nil {
				return
			}
			mu.Lock()
			heard.Write(b[:n])
			mu.Unlock()
		}
	})
	defer reading.Wait()
	defer func() { require.NoError(t, conn.Close()) }()
	select {
	case <-port.Agreed():
	case <-time.After(time.Minute):
		require.Fail(t, "it does not let its port be set")
	}
	want, err := ParsePort("38400 7E2")
	require.NoError(t, err)
	require.NoError(t, port.Set(t.Context(), want))
	_, err = fmt.Fprint(c, "a\xffb")
	require.NoError(t, err)
	require.Eventually(t, func() bool { mu.Lock(); defer mu.Unlock(); return heard.String() == "a\xffb" }, time.Minute, time.Millisecond)
	require.NoError(t, port.Break())
	for next(t, lines) != "38400 7 E 2" {
	}
}
