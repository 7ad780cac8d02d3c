package bench

import (
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"net"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab/bmc/bmctest"
	"plumbbob/internal/wire/ipmi"
)

// sealedLen is the length of a sealed sensor reading, there and back.
const sealedLen = 72

// bareCrypto is the work that one packet costs each end: a new vector, AES over
// two blocks, and HMAC-SHA256 over the packet.
type bareCrypto struct {
	block cipher.Block
	enc   cipher.BlockMode
	iv    [16]byte
	sum   []byte
	mac   interface {
		Write([]byte) (int, error)
		Sum([]byte) []byte
		Reset()
	}
}

func newBareCrypto() *bareCrypto {
	block, _ := aes.NewCipher(make([]byte, 16))
	c := &bareCrypto{block: block, mac: hmac.New(sha256.New, make([]byte, 32))}
	c.enc = cipher.NewCBCEncrypter(block, c.iv[:])
	return c
}

func (c *bareCrypto) once(b []byte, random bool) {
	if random {
		_, _ = rand.Read(c.iv[:])
	}
	c.enc.CryptBlocks(b[28:60], b[28:60])
	c.mac.Reset()
	_, _ = c.mac.Write(b[4:56])
	c.sum = c.mac.Sum(c.sum[:0])
}

// packet is what both ends do for one packet: seal it, and open it.
func (c *bareCrypto) seal(b []byte) { c.once(b, true) }
func (c *bareCrypto) open(b []byte) { c.once(b, false) }

// bareController answers packets of the same size after the same work.
func bareController(b *testing.B) string {
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(b, err)
	b.Cleanup(func() { _ = conn.Close() })
	go func() {
		crypt, buf := newBareCrypto(), make([]byte, 1024)
		for {
			n, from, err := conn.ReadFromUDPAddrPort(buf)
			if err != nil {
				return
			}
			crypt.open(buf)
			crypt.seal(buf)
			_, _ = conn.WriteToUDPAddrPort(buf[:n], from)
		}
	}()
	return conn.LocalAddr().String()
}

type asker func() error

func bareAsker(b *testing.B, address string) asker {
	conn, err := net.Dial("udp", address)
	require.NoError(b, err)
	b.Cleanup(func() { _ = conn.Close() })
	crypt, out, in := newBareCrypto(), make([]byte, sealedLen), make([]byte, 1024)
	return func() error {
		crypt.seal(out)
		if _, err := conn.Write(out); err != nil {
			return err
		}
		_ = conn.SetReadDeadline(time.Now().Add(time.Second))
		_, err := conn.Read(in)
		crypt.open(in)
		return err
	}
}

func ourAsker(b *testing.B) asker {
	c := bmctest.Start(b, nil, nil)
	client := c.Dial(b, nil)
	var m ipmi.Reading
	s := &ipmi.SensorRecord{SensorKey: ipmi.SensorKey{Owner: 0x20, Number: 0x63}}
	require.NoError(b, client.ReadInto(b.Context(), s, &m))
	ctx := context.Background()
	return func() error { return client.ReadInto(ctx, s, &m) }
}

// BenchmarkSensorReads: over one session, and over 500 controllers at once.
func BenchmarkSensorReads(b *testing.B) {
	for _, n := range []int{1, 500} {
		for _, kind := range []string{"bare", "ours"} {
			b.Run(fmt.Sprintf("%d/%s", n, kind), func(b *testing.B) {
				askers := make([]asker, n)
				for i := range askers {
					if kind == "bare" {
						askers[i] = bareAsker(b, bareController(b))
					} else {
						askers[i] = ourAsker(b)
					}
				}
				b.ReportAllocs()
				b.ResetTimer()
				var left atomic.Int64
				left.Store(int64(b.N))
				var all sync.WaitGroup
				for _, ask := range askers {
					all.Go(func() {
						for left.Add(-1) >= 0 {
							if err := ask(); err != nil {
								b.Error(err)
								return
							}
						}
					})
				}
				all.Wait()
				b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "reads/s")
			})
		}
	}
}

// BenchmarkIdleControllers: the memory of a client with an open session.
func BenchmarkIdleControllers(b *testing.B) {
	const n = 100
	controllers := make([]*bmctest.Controller, n)
	for i := range controllers {
		controllers[i] = bmctest.Start(b, nil, nil)
	}
	for b.Loop() {
		clients := make([]*ipmi.Client, n)
		before := heap()
		for i := range clients {
			var err error
			clients[i], err = ipmi.Dial(ipmi.Options{Address: controllers[i].Address, User: bmctest.User, Password: bmctest.Password})
			require.NoError(b, err)
			_, err = clients[i].ChassisStatus(b.Context())
			require.NoError(b, err)
		}
		b.ReportMetric(float64(heap()-before)/n, "B/controller") // with what the controller keeps of its session
		for _, c := range clients {
			require.NoError(b, c.Close())
		}
	}
}

func heap() uint64 {
	var m runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&m)
	return m.HeapAlloc + m.StackInuse
}

// BenchmarkPolling1000: what it costs in CPU to read 40 sensors of each of
// 1,000 controllers every 30 s, for both ends together.
func BenchmarkPolling1000(b *testing.B) {
	const controllers, sensors, every = 1000, 40, 30.0
	ask := ourAsker(b)
	var before, after syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &before))
	for b.Loop() {
		require.NoError(b, ask())
	}
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &after))
	cpu := func(u syscall.Rusage) float64 {
		return float64(u.Utime.Sec+u.Stime.Sec) + float64(u.Utime.Usec+u.Stime.Usec)/1e6
	}
	perRead := (cpu(after) - cpu(before)) / float64(b.N)
	b.ReportMetric(perRead*controllers*sensors/every*100, "%-of-a-core")
}
