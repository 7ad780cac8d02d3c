// Package bench measures how fast the service is, each time against a bare loop
// that does the same work with nothing around it, in the same run.
package bench

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/keep"
	"plumbbob/internal/lab"
	"plumbbob/internal/profile"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
	"plumbbob/internal/watch"
	"plumbbob/internal/wire/icmp"
)

func TestMain(m *testing.M) { storetest.Main(m) }

const (
	pdus    = 64
	outlets = 10
)

// strips is an estate of many PDUs, each with a card of its own.
func strips(b *testing.B, every time.Duration) *estate.Estate {
	devices := []estate.Device{{Key: "here", Site: "s", Role: "server"}}
	for i := range pdus {
		k := estate.Key(fmt.Sprintf("pdu-%d", i))
		d := estate.Device{
			Key: k, Site: "s", Role: "pdu", Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}},
			Endpoints: []estate.Endpoint{{
				Name: "card", Protocol: "snmp", Profile: "lab-pdu", Secret: "s", Every: every, Timeout: 3 * time.Second,
				Addresses: []string{fmt.Sprintf("127.70.1.%d:1161", i+1)}, Network: []estate.NetworkCable{{Via: estate.End{Device: "here"}}},
			}},
		}
		for n := range outlets {
			d.Outlets = append(d.Outlets, estate.Outlet{Number: n + 1})
		}
		devices = append(devices, d)
		for n := range outlets {
			devices = append(devices, estate.Device{Key: estate.Key(fmt.Sprintf("%s-box-%d", k, n+1)), Site: "s", Role: "box", Power: []estate.PowerCable{{From: estate.OutletEnd(k, n+1)}}})
		}
	}
	e, problems := estate.New("bench", "here", []estate.Site{{Key: "s", Zone: time.UTC, Hourly: 1_000_000}}, devices)
	require.Empty(b, problems)
	return e
}

// BenchmarkPolls: whole PDUs read per second, by the watch loop and by bare GETs
// of the same objects with the same number in flight.
func BenchmarkPolls(b *testing.B) {
	e := strips(b, time.Microsecond) // as fast as they answer
	l, err := lab.Start(lab.Options{Estate: e, Seed: 1, NoEcho: true})
	require.NoError(b, err)
	defer func() { require.NoError(b, l.Close()) }()

	b.Run("bare", func(b *testing.B) {
		oids := pollOIDs(b)
		var left atomic.Int64
		left.Store(int64(b.N))
		var all sync.WaitGroup
		for i := range pdus {
			all.Go(func() {
				g := &gosnmp.GoSNMP{Target: fmt.Sprintf("127.70.1.%d", i+1), Port: 1161, Version: gosnmp.Version2c, Community: lab.WriteSecret.Community, Timeout: time.Second, Retries: 2, MaxOids: 60}
				require.NoError(b, g.Connect())
				defer func() { _ = g.Close() }()
				for left.Add(-1) >= 0 {
					for rest := oids; len(rest) > 0; rest = rest[min(24, len(rest)):] {
						_, err := g.Get(rest[:min(24, len(rest))])
						require.NoError(b, err)
					}
				}
			})
		}
		all.Wait()
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "polls/s")
	})
	b.Run("watch", func(b *testing.B) {
		g := garage.New()
		defer func() { require.NoError(b, g.Close()) }()
		g.SetSecret("s", lab.WriteSecret)
		g.SetEstate(e)
		ctx, stop := context.WithCancel(b.Context())
		defer stop()
		var seen atomic.Int64
		w := watch.New(watch.Sources{Open: g.Open, Bus: hearing(func(o observation.Observation) {
			if o.Result.OK && seen.Add(1) >= int64(b.N) {
				stop()
			}
		})})
		go w.SetEstate(ctx, e)
		_ = w.Run(ctx)
		b.ReportMetric(float64(seen.Load())/b.Elapsed().Seconds(), "polls/s")
	})
}

// pollOIDs lists what one poll reads.
func pollOIDs(b *testing.B) []string {
	p, err := profile.Find("lab-pdu")
	require.NoError(b, err)
	oids := []string{p.Totals.Power.OID, p.Totals.Current.OID, p.Totals.Voltage.OID}
	for n := range outlets {
		for _, c := range []*profile.Value{p.Outlets.On, p.Outlets.Current, p.Outlets.Power, p.Outlets.Energy} {
			oids = append(oids, p.Outlets.OID(c, n+1))
		}
	}
	return oids
}

const (
	targets  = 5000
	inFlight = 500
)

func target(i int) netip.Addr {
	return netip.AddrFrom4([4]byte{127, 71, byte(i / 250), byte(i%250 + 1)})
}

// BenchmarkEcho: echo requests answered per second with 5,000 targets, by the
// Pinger and by a bare loop that sends and a bare loop that receives.
func BenchmarkEcho(b *testing.B) {
	b.Run("bare", func(b *testing.B) {
		c, err := net.ListenPacket("ip4:icmp", "0.0.0.0")
		if err != nil {
			b.Skip("needs a raw socket: ", err)
		}
		defer func() { _ = c.Close() }()
		_ = c.(*net.IPConn).SetReadBuffer(4 << 20)
		room := make(chan struct{}, inFlight)
		go func() {
			for i := range b.N {
				room <- struct{}{}
				msg := icmp.Echo{Seq: uint16(i), Token: [8]byte{1}}.AppendRequest(nil, false)
				_, _ = c.WriteTo(msg, &net.IPAddr{IP: target(i % targets).AsSlice()})
			}
		}()
		buf := make([]byte, 512)
		for got := 0; got < b.N; {
			n, _, err := c.ReadFrom(buf)
			require.NoError(b, err)
			if n > 0 && buf[0] == 0 { // a reply
				got++
				<-room
			}
		}
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "probes/s")
	})
	b.Run("pinger", func(b *testing.B) {
		p, err := icmp.Listen()
		if err != nil {
			b.Skip(err)
		}
		defer func() { _ = p.Close() }()
		var next atomic.Int64
		var all sync.WaitGroup
		var lost atomic.Int64
		for range inFlight {
			all.Go(func() {
				for i := next.Add(1); i <= int64(b.N); i = next.Add(1) {
					ctx, cancel := context.WithTimeout(b.Context(), 2*time.Second)
					if _, err := p.Ping(ctx, target(int(i)%targets)); err != nil {
						lost.Add(1)
					}
					cancel()
				}
			})
		}
		all.Wait()
		b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "probes/s")
		b.ReportMetric(float64(lost.Load()), "lost")
	})
}

// BenchmarkReadings: readings stored per second, from observations through the
// Keeper and by a bare loop of multi-row INSERTs of the same size.
func BenchmarkReadings(b *testing.B) {
	const batch = pdus * (outlets + 1) // of one round of polls
	b.Run("bare", func(b *testing.B) {
		c := storetest.Config(b)
		s, err := store.Open(b.Context(), c) // for the tables
		require.NoError(b, err)
		defer func() { _ = s.Close() }()
		require.NoError(b, s.Partition(b.Context(), time.Now(), store.DefaultRetention))
		db, err := sqlx.Open("mysql", c.FormatDSN())
		require.NoError(b, err)
		defer func() { _ = db.Close() }()
		query := `INSERT INTO reading (series_id, at, value) VALUES (?, ?, ?)` + strings.Repeat(`, (?, ?, ?)`, batch-1)
		at := time.Now().UTC()
		for b.Loop() {
			at = at.Add(time.Millisecond)
			args := make([]any, 0, 3*batch)
			for i := range batch {
				args = append(args, i, at, float64(i))
			}
			_, err := db.Exec(query, args...)
			require.NoError(b, err)
		}
		b.ReportMetric(float64(b.N)*batch/b.Elapsed().Seconds(), "readings/s")
	})
	b.Run("keep", func(b *testing.B) {
		s := storetest.Open(b)
		require.NoError(b, s.Partition(b.Context(), time.Now(), store.DefaultRetention))
		k := keep.New(s, slog.New(slog.DiscardHandler), &bus.Bus{})
		e := strips(b, time.Minute)
		k.SetEstate(e)
		round := 0
		poll := func() {
			round++
			for i := range e.Devices {
				if d := &e.Devices[i]; len(d.Outlets) > 0 {
					k.Observe(polled(d, round))
				}
			}
			require.NoError(b, k.Flush(b.Context()))
		}
		poll() // makes the series, once and for all
		for b.Loop() {
			poll()
		}
		b.ReportMetric(float64(b.N)*batch/b.Elapsed().Seconds(), "readings/s")
	})
}

// polled is what a poll of a PDU brings, different in every round.
func polled(d *estate.Device, round int) observation.Observation {
	r := observation.Outlets{TotalW: new(float64(100 + round%2*50))}
	for _, o := range d.Outlets {
		r.Outlets = append(r.Outlets, reading.Outlet{Number: o.Number, On: true, Metered: true, Switched: true, W: float64(o.Number + round%2*5)})
	}
	return observation.Observation{Device: d.Key, Endpoint: "card", Result: verdict.Result{SentAt: time.Now(), OK: true}, Brought: observation.Payloads{r}}
}

// hearing is a bus on which one listens to what is observed.
func hearing(f func(observation.Observation)) *bus.Bus {
	b := &bus.Bus{}
	b.Observed.Listen(f)
	return b
}
