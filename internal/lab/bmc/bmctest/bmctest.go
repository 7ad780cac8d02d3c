// Package bmctest starts simulated controllers for tests, each on a socket of
// its own.
package bmctest

import (
	"context"
	"math/rand/v2"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// The log-in of every test controller.
const (
	User     = "plumb"
	Password = "mast-lantern-42"
)

// Box is a machine whose state a test sets, and that notes what is done to it.
type Box struct {
	mu      sync.Mutex
	state   bmc.State
	restore ipmi.RestorePolicy
	Done    []ipmi.ChassisControl
}

// State returns how the box is.
func (b *Box) State(time.Time) bmc.State {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.state
}

// Set changes it.
func (b *Box) Set(f func(*bmc.State)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	f(&b.state)
}

// Control notes what is done, and does it.
func (b *Box) Control(do ipmi.ChassisControl, _ time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.Done = append(b.Done, do)
	switch do {
	case ipmi.PowerDown, ipmi.SoftOff:
		b.state.On = false
	case ipmi.PowerUp:
		b.state.On = true
	}
}

// SetRestore and Restore are the power-restore policy.
func (b *Box) SetRestore(p ipmi.RestorePolicy) { b.restore = p }

// Restore returns it.
func (b *Box) Restore() ipmi.RestorePolicy { return b.restore }

// Commands counts what has been done.
func (b *Box) Commands() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.Done)
}

// Controller is a running stand-in.
type Controller struct {
	*bmc.Controller
	Box     *Box
	Address string
}

// Model is what Start makes unless told otherwise.
func Model() bmc.Model {
	return bmc.Model{
		Name: "ostrel-virt-1", User: User, Password: Password, Rich: true, Restore: ipmi.AlwaysOn,
		Firmware: ipmi.DeviceID{ID: 0x20, Revision: 1, HasSDRs: true, Major: 2, Minor: 37, IPMI: 0x20, Manufacturer: 32473, Product: 0x0107},
		FRU: &ipmi.FRU{
			Chassis: &ipmi.ChassisInfo{Type: 0x17, Part: "CH-2U-08", Serial: "CS0412"},
			Board:   &ipmi.BoardInfo{Made: time.Date(2024, 3, 5, 7, 0, 0, 0, time.UTC), Maker: "Gannet Works", Product: "Mainboard G2", Serial: "GB-2024-0417", Part: "G2-MB-3"},
			Product: &ipmi.ProductInfo{Maker: "Gannet Works", Product: "Gannet 2U", Part: "G2-208", Version: "C", Serial: "GW-208-00417", Asset: "TSF-0031"},
		},
	}
}

// Start starts a controller. It ends with the test. Change may change the
// model; fate may be nil.
func Start(t testing.TB, change func(*bmc.Model), fate bmc.Fate) *Controller {
	t.Helper()
	m := Model()
	if change != nil {
		change(&m)
	}
	box := &Box{state: bmc.State{
		On: true, Since: time.Hour, Watts: 212, Load: 0.3, Ambient: 22, Feeds: []bool{true, true}, Supply: []bool{true, true}, Fans: []bool{true, true, true, true, true, true},
	}}
	conn, err := net.ListenUDP("udp", &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1)})
	require.NoError(t, err)
	c := &Controller{Controller: bmc.New(m, box, 7, time.Now()), Box: box, Address: conn.LocalAddr().String()}
	ctx, cancel := context.WithCancel(context.Background())
	var done sync.WaitGroup
	done.Go(func() { _ = c.Serve(ctx, conn, fate) })
	t.Cleanup(func() { cancel(); done.Wait() })
	return c
}

// Settled is the controller once it has handled all that was sent to it before. A
// client does not wait until a handshake is given up; a ping behind it in the same
// socket does.
func (c *Controller) Settled(t testing.TB) *bmc.Controller {
	t.Helper()
	conn, err := net.Dial("udp", c.Address)
	require.NoError(t, err)
	defer func() { _ = conn.Close() }()
	_, err = conn.Write(rmcp.AppendPing(nil, 1))
	require.NoError(t, err)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
	_, err = conn.Read(make([]byte, rmcp.MaxPacket))
	require.NoError(t, err)
	return c.Controller
}

// Dial returns a client of a controller, closed with the test.
func (c *Controller) Dial(t testing.TB, change func(*ipmi.Options)) *ipmi.Client {
	t.Helper()
	o := ipmi.Options{Address: c.Address, User: User, Password: Password}
	if change != nil {
		change(&o)
	}
	client, err := ipmi.Dial(o)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, client.Close()) })
	return client
}

// Bad is a network that loses a share of the packets, brings some twice, and
// delays others, so that they come out of order. It is safe for concurrent use.
func Bad(loss float64, seed uint64) bmc.Fate {
	var mu sync.Mutex
	rng := rand.New(rand.NewPCG(seed, 1))
	return func() (int, time.Duration) {
		mu.Lock()
		defer mu.Unlock()
		delay := time.Duration(0)
		if rng.Float64() < 0.2 {
			delay = time.Duration(rng.IntN(30)) * time.Millisecond
		}
		switch x := rng.Float64(); {
		case x < loss:
			return 0, delay
		case x > 0.9:
			return 2, delay
		}
		return 1, delay
	}
}
