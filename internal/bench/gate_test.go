package bench

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"plumbbob/internal/browser"
	"plumbbob/internal/client"
	"plumbbob/internal/service"
)

// heard is what comes back, for one who waits for it.
type heard struct{ pieces chan []byte }

func (h heard) Write(p []byte) (int, error) {
	h.pieces <- bytes.Clone(p)
	return len(p), nil
}

// until reads until a text has come.
func (h heard) until(b *testing.B, text string) {
	var got []byte
	for !bytes.Contains(got, []byte(text)) {
		select {
		case p := <-h.pieces:
			got = append(got, p...)
		case <-time.After(time.Minute):
			require.Fail(b, "it does not come", "%q in %q", text, got)
		}
	}
}

// farEnd is the address of what serve plays, for each who connects.
func farEnd(b *testing.B, serve func(net.Conn)) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	b.Cleanup(func() { _ = ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go serve(c)
		}
	}()
	return ln.Addr().String()
}

// far is what plays the far end of the one line of a service, and the service.
func far(b *testing.B, serve func(net.Conn)) *watched {
	return farBy(b, noConsole, "{line: {protocol: telnet, address: %q, secret: lines}}", serve)
}

// farBy is the same for one endpoint of any kind.
func farBy(b *testing.B, console fs.FS, endpoint string, serve func(net.Conn)) *watched {
	address := farEnd(b, serve)
	w := newService(b, console)
	w.send(b, "PUT", "/api/v1/secrets/lines", map[string]any{"kind": "login", "user": "u", "password": "p"})
	w.send(b, "PUT", "/api/v1/estate", map[string]string{"text": "plumb-estate: 1\nname: One\nstandpoint: here\nsites:\n  s: {name: S, zone: UTC}\ndevices:\n  here: {site: s, role: server}\n" +
		"  host: {site: s, role: box, network: [here], endpoints: " + fmt.Sprintf(endpoint, address) + "}\n"})
	return w
}

// each runs a benchmark at the line by the client and by the gate.
func each(b *testing.B, w *watched, run func(b *testing.B, typing io.Writer, h heard)) {
	b.Run("client", func(b *testing.B) {
		file := filepath.Join(b.TempDir(), "client.json")
		require.NoError(b, client.Config{URL: w.URL, Account: service.FirstAccount, Token: w.token}.Write(file))
		in, typing := io.Pipe()
		h := heard{make(chan []byte, 1000)}
		ended := make(chan int, 1)
		go func() { ended <- client.Main([]string{"serial", "host", "--config", file}, in, h, h) }()
		run(b, typing, h)
		_ = typing.Close()
		<-ended
	})
	b.Run("gate", func(b *testing.B) {
		address, _ := w.Gate()
		c, err := ssh.Dial("tcp", address, &ssh.ClientConfig{User: service.FirstAccount, Auth: []ssh.AuthMethod{ssh.Password(w.FirstPassword)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()}) //nolint:gosec // of a benchmark
		require.NoError(b, err)
		defer func() { _ = c.Close() }()
		s, err := c.NewSession()
		require.NoError(b, err)
		require.NoError(b, s.RequestPty("vt100", 24, 80, ssh.TerminalModes{}))
		typing, err := s.StdinPipe()
		require.NoError(b, err)
		h := heard{make(chan []byte, 1000)}
		s.Stdout = h
		require.NoError(b, s.Start("serial host"))
		run(b, typing, h)
	})
}

// BenchmarkSerialFlow: a second of numbered lines at 1 MB/s with the whole of the service in
// between, none of them lost. What it costs is the share of a core, of both ends together.
func BenchmarkSerialFlow(b *testing.B) {
	const rate, piece = 1 << 20, 8 << 10
	w := far(b, func(c net.Conn) {
		var key [64]byte
		for {
			if n, err := c.Read(key[:]); err != nil {
				return
			} else if !bytes.Contains(key[:n], []byte("g")) {
				continue // what Telnet asks
			}
			out := bufio.NewWriterSize(c, piece)
			for sent, n := 0, 0; sent < rate; {
				for out.Buffered() < piece-32 {
					k, _ := fmt.Fprintf(out, "line %08d\r\n", n)
					sent, n = sent+k, n+1
				}
				_ = out.Flush()
				time.Sleep(time.Second * piece / rate)
			}
		}
	})
	each(b, w, func(b *testing.B, typing io.Writer, h heard) {
		h.until(b, "has the keyboard")
		time.Sleep(time.Second)
		used := cpu(b) // one second says it, whatever b.N is
		_, err := io.WriteString(typing, "g")
		require.NoError(b, err)
		var rest []byte
		for n := 0; n < rate/15; {
			select {
			case p := <-h.pieces:
				rest = append(rest, p...)
			case <-time.After(time.Minute):
				require.Fail(b, "the lines do not come", "after %d", n)
			}
			for at := bytes.IndexByte(rest, '\n'); at >= 0; at = bytes.IndexByte(rest, '\n') {
				if bytes.HasPrefix(rest, []byte("line ")) {
					require.Equal(b, fmt.Sprintf("line %08d\r", n), string(rest[:at]))
					n++
				}
				rest = rest[at+1:]
			}
		}
		b.ReportMetric(100*(cpu(b)-used).Seconds(), "%core")
	})
}

// BenchmarkSerialKeys: from a key to its echo at a line with the whole of the service in
// between, by the client, by the gate and by a browser. BenchmarkSerialEcho/bare is what it is beside.
func BenchmarkSerialKeys(b *testing.B) {
	w := far(b, func(c net.Conn) { _, _ = io.Copy(c, c) })
	each(b, w, func(b *testing.B, typing io.Writer, h heard) {
		h.until(b, "has the keyboard")
		time.Sleep(time.Second)
		n := 0
		for b.Loop() {
			key := fmt.Sprint(n % 10)
			n++
			_, err := io.WriteString(typing, key)
			require.NoError(b, err)
			h.until(b, key)
		}
	})
	b.Run("browser", func(b *testing.B) { // without drawing, which waits for the next frame
		page, err := browser.Open(b.Context())
		require.NoError(b, err)
		defer page.Close()
		password, err := json.Marshal(w.FirstPassword)
		require.NoError(b, err)
		var ms float64
		require.NoError(b, page.Do(chromedp.Navigate(w.URL), chromedp.Evaluate(fmt.Sprintf(`(async () => {
			await fetch('/api/v1/session', { method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify({ account: 'admin', password: %s }) })
			const line = new WebSocket('ws://' + location.host + '/api/v1/devices/host/serial')
			line.binaryType = 'arraybuffer'
			const message = (wanted) => new Promise((done) => { line.onmessage = (e) => { if (wanted(e.data)) done() } })
			await message((d) => typeof d === 'string' && d.includes('"types":true') && d.includes('"up":true'))
			await new Promise((done) => setTimeout(done, 1000))
			const took = []
			for (let i = 0; i < 500; i++) {
				const began = performance.now()
				const echo = message((d) => typeof d !== 'string')
				line.send(new TextEncoder().encode('x'))
				await echo
				took.push(performance.now() - began)
			}
			line.close()
			return took.reduce((a, b) => a + b) / took.length
		})()`, password), &ms, awaited)))
		b.ReportMetric(ms*1e6, "ns/key")
	})
}
