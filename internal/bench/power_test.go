package bench

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/observation"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/lab"
	"plumbbob/internal/watch"
)

const (
	manyPDUs     = 500
	manySupplies = 200
	manyOutlets  = 24
	pollEvery    = 30 * time.Second
)

// fleet is an estate of many PDUs and UPSes.
func fleet(b *testing.B, every time.Duration) *estate.Estate {
	devices := []estate.Device{{Key: "here", Site: "s", Role: "server"}}
	add := func(i int, k estate.Key, role, profile string) *estate.Device {
		devices = append(devices, estate.Device{
			Key: k, Site: "s", Role: role, Power: []estate.PowerCable{{From: estate.End{Device: estate.Utility}}},
			Endpoints: []estate.Endpoint{{
				Name: "card", Protocol: "snmp", Profile: profile, Secret: "s", Every: every, Timeout: 3 * time.Second,
				Addresses: []string{fmt.Sprintf("127.71.%d.%d:1161", i/200, i%200+1)}, Network: []estate.NetworkCable{{Via: estate.End{Device: "here"}}},
			}},
		})
		return &devices[len(devices)-1]
	}
	for i := range manyPDUs {
		d := add(i, estate.Key(fmt.Sprintf("pdu-%d", i)), "pdu", "lab-pdu")
		for n := range manyOutlets {
			d.Outlets = append(d.Outlets, estate.Outlet{Number: n + 1})
		}
	}
	for i := range manySupplies {
		add(manyPDUs+i, estate.Key(fmt.Sprintf("supply-%d", i)), "ups", "ups-mib").Supply = &estate.Supply{RatingW: 1000}
	}
	e, problems := estate.New("fleet", "here", []estate.Site{{Key: "s", Zone: time.UTC}}, devices)
	require.Empty(b, problems)
	return e
}

// cpu is what this process has used, the stand-ins in it included.
func cpu(b *testing.B) time.Duration {
	var u syscall.Rusage
	require.NoError(b, syscall.Getrusage(syscall.RUSAGE_SELF, &u))
	return time.Duration(u.Utime.Nano() + u.Stime.Nano())
}

// BenchmarkFleet: CPU seconds a minute for 500 PDUs of 24 outlets and 200 UPSes,
// each every 30 s, by the watch loop and by bare GETs of about as many objects.
// Both count the stand-ins that answer.
func BenchmarkFleet(b *testing.B) {
	e := fleet(b, time.Microsecond) // as fast as they answer
	l, err := lab.Start(lab.Options{Estate: e, Seed: 1, NoEcho: true})
	require.NoError(b, err)
	defer func() { require.NoError(b, l.Close()) }()
	report := func(b *testing.B, used time.Duration, polls float64) {
		perMinute := polls / float64(manyPDUs+manySupplies) // rounds
		b.ReportMetric(used.Seconds()/perMinute*float64(time.Minute/pollEvery), "cpu-s/min")
	}
	b.Run("bare", func(b *testing.B) {
		began := cpu(b)
		polls := int64(b.N)
		var left atomic.Int64
		left.Store(polls)
		var all sync.WaitGroup
		for range 64 {
			all.Go(func() {
				for n := left.Add(-1); n >= 0; n = left.Add(-1) {
					d := &e.Devices[1+int(n)%(manyPDUs+manySupplies)]
					bareGets(b, d)
				}
			})
		}
		all.Wait()
		report(b, cpu(b)-began, float64(polls))
	})
	b.Run("watch", func(b *testing.B) {
		g := garage.New()
		defer func() { require.NoError(b, g.Close()) }()
		g.SetSecret("s", lab.WriteSecret)
		g.SetEstate(e)
		ctx, stop := context.WithCancel(b.Context())
		defer stop()
		const all = manyPDUs + manySupplies
		var seen atomic.Int64
		var began atomic.Int64
		w := watch.New(watch.Sources{Open: g.Open, Bus: hearing(func(o observation.Observation) {
			if !o.Result.OK || o.Beside {
				return
			}
			switch n := seen.Add(1); {
			case n == 2*all: // each has been asked what hardly changes
				began.Store(int64(cpu(b)))
				b.ResetTimer()
			case n >= int64(2*all+b.N):
				stop()
			}
		})})
		before := heap()
		go w.SetEstate(ctx, e)
		_ = w.Run(ctx)
		b.ReportMetric((float64(heap())-float64(before))/all, "B/endpoint")
		report(b, cpu(b)-time.Duration(began.Load()), float64(seen.Load()-2*all))
	})
}

var bareSessions sync.Map // address → *gosnmp.GoSNMP

// bareGets asks a card for as many objects as one poll does.
func bareGets(b *testing.B, d *estate.Device) {
	host := d.Endpoints[0].Addresses[0][:len(d.Endpoints[0].Addresses[0])-len(":1161")]
	got, ok := bareSessions.LoadAndDelete(host)
	if !ok {
		g := &gosnmp.GoSNMP{Target: host, Port: 1161, Version: gosnmp.Version2c, Community: lab.WriteSecret.Community, Timeout: time.Second, Retries: 2, MaxOids: 60}
		require.NoError(b, g.Connect())
		got = g
	}
	g := got.(*gosnmp.GoSNMP)
	defer bareSessions.Store(host, g)
	var oids []string
	if d.Supply != nil {
		for group, last := range map[int]int{1: 6, 2: 7, 3: 2, 4: 3, 5: 2, 6: 1, 7: 6, 8: 5, 9: 10} {
			for n := 1; n <= last; n++ {
				oids = append(oids, fmt.Sprintf("1.3.6.1.2.1.33.1.%d.%d.0", group, n))
			}
		}
	} else {
		for n := 1; n <= manyOutlets; n++ {
			for _, column := range []int{4, 7, 8, 9} {
				oids = append(oids, fmt.Sprintf("1.3.6.1.4.1.32473.77.1.3.1.%d.%d", column, n))
			}
		}
	}
	for len(oids) > 0 {
		n := min(24, len(oids))
		_, err := g.Get(oids[:n])
		require.NoError(b, err)
		oids = oids[n:]
	}
}
