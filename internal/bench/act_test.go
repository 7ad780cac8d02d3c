package bench

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/act"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/keep"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store/storetest"
	"plumbbob/internal/watch"
)

// acting is an actor on an estate, with everything that it works with.
type acting struct {
	*testing.B
	*act.Actor
	keeper *keep.Keeper
	garage *garage.Garage
}

func startActing(b *testing.B, e *estate.Estate, secrets func(*garage.Garage)) *acting {
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	g := garage.New()
	secrets(g)
	g.SetEstate(e)
	s := storetest.Open(b)
	bus := &bus.Bus{}
	k := keep.New(s, log, bus)
	k.SetEstate(e)
	w := watch.New(watch.Sources{Open: g.Open, Bus: bus})
	a, err := act.New(act.Parts{
		Store: s, Keeper: k, Watcher: w, Garage: g, Log: log, Ledger: filepath.Join(b.TempDir(), "ledger"), Bus: bus,
	})
	require.NoError(b, err)
	ctx, stop := context.WithCancel(context.Background())
	var running sync.WaitGroup
	running.Go(func() { _ = w.Run(ctx) })
	running.Go(func() { _ = k.Run(ctx) })
	w.SetEstate(ctx, e)
	running.Go(func() { _ = a.Run(ctx) })
	b.Cleanup(func() { stop(); running.Wait(); require.NoError(b, g.Close()) })
	time.Sleep(3 * time.Second) // everything has been read
	return &acting{b, a, k, g}
}

var keeper = operation.Asker{Name: "bench", Role: operation.Keeper}

// request asks for an operation as its preview is, and says when it did.
func (a *acting) request(in operation.Intent) (id string, began time.Time) {
	p, err := a.Preview(a.Context(), in, keeper)
	require.NoError(a, err)
	began = time.Now()
	o, err := a.Request(a.Context(), act.Request{
		Intent: in, Digest: p.Digest, By: keeper,
		Consent: operation.Consent{Why: "bench", Override: []string{operation.LockTooMany, operation.LockInUse}, Names: []estate.Key{in.Device}},
	})
	require.NoError(a, err)
	return o.ID, began
}

func (a *acting) ends(id string) {
	for {
		o, err := a.Find(a.Context(), id)
		require.NoError(a, err)
		if o.State != operation.Running {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// until waits until the gear has been told, and returns how long that took.
func until(told func() bool, began time.Time) time.Duration {
	for !told() {
		time.Sleep(100 * time.Microsecond)
	}
	return time.Since(began)
}

// BenchmarkActing: from asking for an operation until its command has reached
// the gear, with a look before it and the records committed; against a bare look
// and a bare command on a session that is open already.
func BenchmarkActing(b *testing.B) {
	l := labtest.Start(b, labtest.Options{Speed: 100})
	a := startActing(b, l.Estate, func(g *garage.Garage) {
		for name, v := range lab.Secrets {
			g.SetSecret(name, v)
		}
	})
	heater := estate.OutletEnd("skarvoe-pdu", 8)
	orders := func() int { _, n := l.Contact(heater); return n }

	b.Run("snmp/bare", func(b *testing.B) {
		g := &gosnmp.GoSNMP{Target: host(l.Estate, "skarvoe-pdu"), Port: 1161, Version: gosnmp.Version2c, Community: lab.WriteSecret.Community, Timeout: time.Second, MaxOids: 60}
		require.NoError(b, g.Connect())
		defer func() { _ = g.Close() }()
		const entry = "1.3.6.1.4.1.32473.77.1.2.1.1"
		var took time.Duration
		for range b.N {
			began := time.Now()
			_, err := g.Get([]string{entry + ".4.8"})
			require.NoError(b, err)
			_, err = g.Set([]gosnmp.SnmpPDU{{Name: entry + ".5.8", Type: gosnmp.Integer, Value: 1}})
			require.NoError(b, err)
			took += time.Since(began)
		}
		b.ReportMetric(float64(took.Microseconds())/1000/float64(b.N), "ms/command")
	})
	b.Run("snmp/operation", func(b *testing.B) {
		var took time.Duration
		for range b.N {
			closed, _ := l.Contact(heater)
			was := orders()
			id, began := a.request(operation.Intent{Kind: other(closed), Device: "skarvoe-heater"})
			took += until(func() bool { return orders() > was }, began)
			a.ends(id)
		}
		b.ReportMetric(float64(took.Microseconds())/1000/float64(b.N), "ms/command")
	})
	const virt = estate.Key("ostrel-virt-1")
	b.Run("ipmi/bare", func(b *testing.B) {
		c, err := garage.Controller[gear.Chassis](a.garage, virt)
		require.NoError(b, err)
		var took time.Duration
		for i := range b.N {
			began := time.Now()
			_, err := c.ReadChassis(b.Context())
			require.NoError(b, err)
			require.NoError(b, c.CommandChassis(b.Context(), [2]gear.ChassisCommand{gear.ChassisOff, gear.ChassisOn}[i%2]))
			took += time.Since(began)
		}
		require.NoError(b, c.CommandChassis(b.Context(), gear.ChassisOn))
		b.ReportMetric(float64(took.Microseconds())/1000/float64(b.N), "ms/command")
	})
	b.Run("ipmi/operation", func(b *testing.B) {
		var took time.Duration
		for range b.N {
			was, _, _ := l.Chassis(virt)
			id, began := a.request(operation.Intent{Kind: other(was), Device: virt, Means: operation.ByChassis})
			took += until(func() bool { on, _, _ := l.Chassis(virt); return on != was }, began)
			a.ends(id)
		}
		b.ReportMetric(float64(took.Microseconds())/1000/float64(b.N), "ms/command")
	})
}

// other is the operation that changes what is.
func other(on bool) operation.Kind {
	if on {
		return operation.Off
	}
	return operation.On
}

func host(e *estate.Estate, k estate.Key) string {
	a := e.Device(k).Endpoints[0].Addresses[0]
	return a[:len(a)-len(":1161")]
}

// atOnce is how many operations are asked for at the same moment.
const atOnce = 200

// BenchmarkManyOperations: so many operations at once, on as many outlets of 64
// PDUs, until all have ended with what they did read back.
func BenchmarkManyOperations(b *testing.B) {
	e := strips(b, 5*time.Second)
	l, err := lab.Start(lab.Options{Estate: e, Seed: 1, NoEcho: true})
	require.NoError(b, err)
	defer func() { require.NoError(b, l.Close()) }()
	a := startActing(b, e, func(g *garage.Garage) { g.SetSecret("s", lab.WriteSecret) })
	var took time.Duration
	for range b.N {
		closed, _ := l.Contact(estate.OutletEnd("pdu-0", 1))
		began := time.Now()
		var asking sync.WaitGroup
		for n := range atOnce {
			device := estate.Key(fmt.Sprintf("pdu-%d-box-%d", n%pdus, n/pdus+1))
			asking.Go(func() {
				id, _ := a.request(operation.Intent{Kind: other(closed), Device: device})
				a.ends(id)
			})
		}
		asking.Wait()
		took += time.Since(began)
	}
	b.ReportMetric(took.Seconds()/float64(b.N), "s/200-operations")
	b.ReportMetric(took.Seconds()*1000/float64(b.N)/atOnce, "ms/operation")
}
