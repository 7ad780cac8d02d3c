package bench

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/attach"
	"plumbbob/internal/broker"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/seat"
	"plumbbob/internal/core/serial"
	"plumbbob/internal/health"
	"plumbbob/internal/store"
)

// nowhere is where lines are kept here: what a store takes is measured elsewhere.
type nowhere struct{}

func (nowhere) SaveLinePart(context.Context, store.LinePart) error { return nil }
func (nowhere) AddLineEvents(context.Context, estate.Key, estate.Key, bool, []serial.Found) error {
	return nil
}
func (nowhere) SavePicture(context.Context, store.Picture) error    { return nil }
func (nowhere) DropPictures(context.Context, estate.Key, int) error { return nil }
func (nowhere) DropLines(context.Context, estate.Key, int) error    { return nil }

// serialDesk is a room of lines, each with a far end of its own that serve plays.
func serialDesk(b *testing.B, serve func(net.Conn)) *broker.Room {
	address := farEnd(b, serve)
	var mu sync.Mutex
	lines := map[estate.Key]*attach.Line{}
	room := broker.New(broker.Parts{
		Estate: estate.Empty, Bus: &bus.Bus{}, Record: func(store.Entry) {}, Records: nowhere{}, Health: health.New(slog.New(slog.DiscardHandler)),
		Paths: func(k estate.Key) ([]broker.Path, error) {
			mu.Lock()
			defer mu.Unlock()
			if lines[k] == nil {
				lines[k] = attach.New(attach.Options{Addresses: []string{address}, Timeout: time.Minute})
			}
			return []broker.Path{{Name: "line", Line: lines[k]}}, nil
		},
	})
	ctx, stop := context.WithCancel(context.Background())
	ran := make(chan error, 1)
	go func() { ran <- room.Run(ctx) }()
	b.Cleanup(func() {
		stop()
		<-ran
		for _, l := range lines {
			require.NoError(b, l.Close())
		}
	})
	return room
}

// sitDown takes a seat once that can be, and waits until the line is up.
func sitDown(b *testing.B, room *broker.Room, k estate.Key, who string) *broker.Seat {
	var sits *broker.Seat
	require.Eventually(b, func() bool {
		s, err := room.Sit(k, broker.Coming{Seat: seat.Seat{Who: who, Role: operation.Operator}, After: -1})
		sits = s
		return err == nil
	}, time.Minute, time.Millisecond)
	for {
		n, err := sits.Next(context.Background())
		require.NoError(b, err)
		if n.State != nil && n.State.Up {
			return sits
		}
	}
}

// BenchmarkSerialEcho: from a key to its echo, through a seat at a line and on a bare
// connection to the same far end.
func BenchmarkSerialEcho(b *testing.B) {
	echo := func(c net.Conn) {
		var p [64]byte
		for {
			n, err := c.Read(p[:])
			if err != nil {
				return
			}
			_, _ = c.Write(p[:n])
		}
	}
	b.Run("bare", func(b *testing.B) {
		c, err := net.Dial("tcp", farEnd(b, echo))
		require.NoError(b, err)
		defer func() { _ = c.Close() }()
		var p [1]byte
		for b.Loop() {
			_, _ = c.Write([]byte("x"))
			_, _ = c.Read(p[:])
		}
	})
	b.Run("seat", func(b *testing.B) {
		seat := sitDown(b, serialDesk(b, echo), "host", "kari")
		for b.Loop() {
			require.NoError(b, seat.Type([]byte("x")))
			for {
				n, err := seat.Next(context.Background())
				require.NoError(b, err)
				if len(n.Said) > 0 {
					break
				}
			}
		}
	})
}

// BenchmarkSerialLines: numbered lines at 1 MB/s for a second, to one seat and to fifty, none
// of them lost. What it costs is the share of a core.
func BenchmarkSerialLines(b *testing.B) {
	const rate, piece = 1 << 20, 8 << 10
	for _, seats := range []int{1, 50} {
		b.Run(fmt.Sprintf("%d-seats", seats), func(b *testing.B) {
			begin := make(chan struct{})
			room := serialDesk(b, func(c net.Conn) {
				<-begin
				w, n := bufio.NewWriterSize(c, piece), 0
				for sent := 0; sent < rate; {
					for w.Buffered() < piece-32 {
						k, _ := fmt.Fprintf(w, "line %08d\r\n", n)
						sent, n = sent+k, n+1
					}
					_ = w.Flush()
					time.Sleep(time.Second * piece / rate)
				}
			})
			var all []*broker.Seat
			for i := range seats {
				all = append(all, sitDown(b, room, "host", fmt.Sprint("s", i)))
			}
			used := cpu(b) // one second says it, whatever b.N is
			close(begin)
			var work sync.WaitGroup
			for _, s := range all {
				work.Go(func() { count(b, s, rate) })
			}
			work.Wait()
			b.ReportMetric(100*(cpu(b)-used).Seconds(), "%core")
		})
	}
}

// count reads numbered lines, and fails when one is missing.
func count(b *testing.B, s *broker.Seat, bytesWanted int) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	next, read := 0, 0
	var rest []byte
	for read < bytesWanted {
		n, err := s.Next(ctx)
		if err != nil || n.Missed > 0 {
			b.Error(errors.Join(err, fmt.Errorf("%d bytes were missed", n.Missed)))
			return
		}
		read += len(n.Said)
		rest = append(rest, n.Said...)
		for {
			i := bytes.IndexByte(rest, '\n')
			if i < 0 {
				break
			}
			if want := fmt.Sprintf("line %08d\r", next); string(rest[:i]) != want {
				b.Errorf("%q, and not %q", rest[:i], want)
				return
			}
			rest, next = rest[i+1:], next+1
		}
	}
}

// BenchmarkSerialSilent: what 500 lines cost at which somebody sits and nothing is said, their
// far ends included.
func BenchmarkSerialSilent(b *testing.B) {
	const lines, span = 500, 5 * time.Second
	var before, after runtime.MemStats
	runtime.GC()
	runtime.ReadMemStats(&before)
	room := serialDesk(b, func(c net.Conn) {
		var p [1]byte
		_, _ = c.Read(p[:])
	})
	for i := range lines {
		sitDown(b, room, estate.Key(fmt.Sprint("host", i)), "kari")
	}
	runtime.GC()
	runtime.ReadMemStats(&after)
	used := cpu(b)
	time.Sleep(span)
	b.ReportMetric(100*(cpu(b)-used).Seconds()/span.Seconds(), "%core")
	b.ReportMetric(float64(after.HeapInuse+after.StackInuse-before.HeapInuse-before.StackInuse)/lines/1024, "KiB/line")
}
