package lab_test

import (
	"context"
	"errors"
	"net"
	"net/http"
	"net/netip"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/wire/icmp"
)

const (
	soon  = 20 * time.Second
	often = 10 * time.Millisecond
	pdu   = "1.3.6.1.4.1.32473.77.1"
)

func outlet(n int) estate.End { return estate.OutletEnd("skarvoe-pdu", n) }

// answers says whether a TCP port takes a connection, and not merely refuses it.
func answers(t *testing.T, l *labtest.Lab, k estate.Key) bool {
	t.Helper()
	for _, p := range l.Estate.Device(k).Probes {
		if p.Kind != estate.TCP {
			continue
		}
		c, err := net.DialTimeout("tcp", p.Target, 150*time.Millisecond)
		if err != nil {
			return false
		}
		require.NoError(t, c.Close())
	}
	return true
}

func state(l *labtest.Lab, k estate.Key) lab.BoxState {
	for _, b := range l.State() {
		if b.Device == k {
			return b
		}
	}
	return lab.BoxState{}
}

// TestOneWorld: outlet off means no draw and no answer; power back means inrush,
// a while to start, and then answers; what is behind is unreachable meanwhile.
func TestOneWorld(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 30})
	require.True(t, answers(t, l, "skarvoe-switch"))
	normal := state(l, "skarvoe-router").W
	require.NoError(t, l.Flip(outlet(3), false))
	require.Eventually(t, func() bool { return !state(l, "skarvoe-router").Powered }, soon, often)
	require.Zero(t, state(l, "skarvoe-router").W)
	require.Eventually(t, func() bool { return !answers(t, l, "skarvoe-router") && !answers(t, l, "skarvoe-switch") }, soon, often)
	require.True(t, state(l, "skarvoe-switch").Up, "it is cut off, not without power")
	require.NoError(t, l.Flip(outlet(3), true))
	require.Eventually(t, func() bool { return state(l, "skarvoe-router").W > 1.3*normal }, soon, time.Millisecond, "inrush")
	require.False(t, state(l, "skarvoe-router").Up, "it takes a while to start")
	require.Eventually(t, func() bool { return answers(t, l, "skarvoe-router") && answers(t, l, "skarvoe-switch") }, soon, often)
	require.InDelta(t, normal, state(l, "skarvoe-router").W, 0.1*normal)
}

// TestAHungDeviceSaysNothing: neither an answer nor a refusal, and power cures it.
func TestAHungDeviceSaysNothing(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 60})
	require.NoError(t, l.Hang("skarvoe-router"))
	require.True(t, state(l, "skarvoe-router").Powered)
	require.Eventually(t, func() bool {
		_, err := net.DialTimeout("tcp", l.Estate.Device("skarvoe-router").Probes[0].Target, 100*time.Millisecond)
		var late net.Error
		return err != nil && isTimeout(err, &late)
	}, soon, often, "a connection is not refused: nothing comes back")
	require.NoError(t, l.Flip(outlet(3), false))
	require.Eventually(t, func() bool { return !state(l, "skarvoe-router").Powered }, soon, often)
	require.NoError(t, l.Flip(outlet(3), true))
	require.Eventually(t, func() bool { return answers(t, l, "skarvoe-router") }, soon, often)
}

// TestARefusalIsNoSilence: who refuses says so, and says nothing when it hangs as well; and
// what hangs elsewhere answers while its switch does not.
func TestARefusalIsNoSilence(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 60})
	dial := func(k estate.Key) error {
		c, err := net.DialTimeout("tcp", strings.Trim(l.Estate.Device(k).Probes[0].Target, "htp:/"), 100*time.Millisecond)
		if err == nil {
			_ = c.Close()
		}
		return err
	}
	silent := func(k estate.Key) func() bool {
		return func() bool { var late net.Error; err := dial(k); return err != nil && isTimeout(err, &late) }
	}
	require.NoError(t, l.Refuse("skarvoe-router"))
	require.Eventually(t, func() bool { return errors.Is(dial("skarvoe-router"), syscall.ECONNREFUSED) }, soon, often)
	require.NoError(t, l.Hang("skarvoe-router"))
	require.Eventually(t, silent("skarvoe-router"), soon, often)
	require.NoError(t, l.Heal("skarvoe-router"))
	require.Eventually(t, func() bool { return dial("skarvoe-router") == nil }, soon, often)
	require.NoError(t, l.Move("skarvoe-kiosk", "skarvoe-router"))
	require.NoError(t, l.Hang("skarvoe-switch"))
	require.Eventually(t, silent("skarvoe-switch"), soon, often)
	require.NoError(t, dial("skarvoe-kiosk"))
	require.NoError(t, l.Unplug("skarvoe-kiosk"))
	require.Eventually(t, silent("skarvoe-kiosk"), soon, often)
	require.NoError(t, l.Heal(""))
	require.Eventually(t, func() bool { return dial("skarvoe-kiosk") == nil }, soon, often)
	require.NoError(t, l.Restart("skarvoe-kiosk"))
	require.False(t, state(l, "skarvoe-kiosk").Up)
	require.Error(t, l.Move("skarvoe-kiosk", "nowhere"))
}

func isTimeout(err error, late *net.Error) bool {
	e, ok := err.(net.Error)
	*late = e
	return ok && e.Timeout()
}

func TestFaults(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	require.NoError(t, l.Weld(outlet(6)))
	require.NoError(t, l.Flip(outlet(6), false))
	time.Sleep(300 * time.Millisecond)
	require.True(t, state(l, "skarvoe-kiosk").Powered, "the contact is welded")
	require.NoError(t, l.Heal("skarvoe-pdu"))
	require.Eventually(t, func() bool { return !state(l, "skarvoe-kiosk").Powered }, soon, often, "and opens when it is not any more")
	require.Equal(t, 1, l.Opens(outlet(6)), "which counts as an opening, as it cuts what hangs there")

	require.NoError(t, l.Swap(outlet(5), outlet(1)))
	require.NoError(t, l.Flip(outlet(5), false))
	require.Eventually(t, func() bool { return !state(l, "skarvoe-bridge").Powered && state(l, "skarvoe-recorder").Powered }, soon, often)

	for _, bad := range [][]string{
		nil, {"explode"}, {"hang"}, {"hang", "nobody"}, {"weld", "skarvoe-pdu"}, {"weld", "skarvoe-pdu/77"}, {"swap", "skarvoe-pdu/1"},
		{"swap", "skarvoe-pdu/1", "x/1"}, {"lose", "skarvoe-cell", "much"}, {"lose", "skarvoe-cell", "200%"}, {"delay", "skarvoe-cell", "long"}, {"heal", "nobody"},
	} {
		require.Error(t, l.Do(bad), "%v", bad)
	}
	for _, good := range []string{"hang skarvoe-router", "silence skarvoe-pdu", "lose skarvoe-cell 20%", "delay skarvoe-cell 30ms", "open skarvoe-pdu/1", "close skarvoe-pdu/1", "heal all"} {
		require.NoError(t, l.Do(strings.Fields(good)), good)
	}
}

func TestControl(t *testing.T) {
	path := filepath.Join(t.TempDir(), "control")
	e := labtest.Start(t, labtest.Options{}).Estate // for an estate; its ports are taken
	free, problems := estate.New("x", e.Standpoint, e.Sites, withoutAddresses(e))
	require.Empty(t, problems)
	l, err := lab.Start(lab.Options{Estate: free, Control: path, NoEcho: true})
	require.NoError(t, err)
	_, err = lab.Start(lab.Options{Estate: free, Control: path, NoEcho: true})
	require.ErrorContains(t, err, "another lab runs already")
	_, err = lab.Tell(path, "hang", "skarvoe-router")
	require.NoError(t, err)
	boxes, err := lab.Tell(path, "state")
	require.NoError(t, err)
	require.Len(t, boxes, len(e.Devices))
	_, err = lab.Tell(path, "hang", "nobody")
	require.ErrorContains(t, err, `no device "nobody"`)
	require.NoError(t, l.Close())
	_, err = lab.Tell(path, "state")
	require.ErrorContains(t, err, "start one with plumb-lab or make demo")
}

func withoutAddresses(e *estate.Estate) []estate.Device {
	var out []estate.Device
	for _, d := range e.Devices {
		d.Probes, d.Endpoints, d.Wake, d.Use = nil, nil, nil, estate.Use{}
		out = append(out, d)
	}
	return out
}

// TestEcho: where the lab may make a TUN interface, devices answer ICMP, with
// loss and delay.
func TestEcho(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Echo: true})
	p, err := icmp.Listen()
	if err != nil || !l.Echo {
		require.True(t, err != nil || !l.Echo)
		t.Log("not permitted here: ", err)
		return
	}
	defer func() { require.NoError(t, p.Close()) }()
	target := netip.MustParseAddr(l.Estate.Device("skarvoe-router").Probes[0].Target)
	const busy = time.Minute // an answer that comes counts, however busy this machine is
	ping := func(within time.Duration) (time.Duration, error) {
		ctx, cancel := contextFor(t, within)
		defer cancel()
		return p.Ping(ctx, target)
	}
	_, err = ping(busy)
	require.NoError(t, err)
	require.NoError(t, l.Delay("skarvoe-bridge", 60*time.Millisecond))
	rtt, err := ping(busy)
	require.NoError(t, err)
	require.Greater(t, rtt, 60*time.Millisecond, "what delays the bridge delays what is behind it")
	require.NoError(t, l.Lose("skarvoe-bridge", 1))
	_, err = ping(300 * time.Millisecond)
	require.ErrorIs(t, err, icmp.ErrTimeout)
	require.NoError(t, l.Heal(""))
	require.NoError(t, l.Hang("skarvoe-router"))
	_, err = ping(300 * time.Millisecond)
	require.ErrorIs(t, err, icmp.ErrTimeout)
}

// TestTheAgent holds the PDU's card to RFC 3416, mistakes included.
func TestTheAgent(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	host, port, err := net.SplitHostPort(l.Estate.Device("skarvoe-pdu").Endpoints[0].Addresses[0])
	require.NoError(t, err)
	require.Equal(t, "1161", port)
	dial := func(community string, within time.Duration) *gosnmp.GoSNMP {
		g := &gosnmp.GoSNMP{Target: host, Port: 1161, Version: gosnmp.Version2c, Community: community, Timeout: within, MaxOids: 60}
		require.NoError(t, g.Connect())
		t.Cleanup(func() { _ = g.Close() })
		return g
	}
	g := dial(lab.WriteSecret.Community, time.Minute)
	res, err := g.Get([]string{pdu + ".1.1.0", pdu + ".9.9.0"})
	require.NoError(t, err)
	require.Equal(t, "LP-10", string(res.Variables[0].Value.([]byte)))
	require.Equal(t, gosnmp.NoSuchInstance, res.Variables[1].Type)

	all, err := g.BulkWalkAll(pdu)
	require.NoError(t, err)
	require.Len(t, all, 5+3+10*12+2, "identity, totals, outlets and one entry of the log")
	one, err := g.WalkAll(pdu) // with GETNEXT
	require.NoError(t, err)
	require.Len(t, one, len(all))
	for i := 1; i < len(all); i++ {
		require.NotEqual(t, all[i-1].Name, all[i].Name)
	}

	many := make([]string, 41)
	for i := range many {
		many[i] = pdu + ".1.1.0"
	}
	res, err = g.Get(many)
	require.NoError(t, err)
	require.Equal(t, gosnmp.TooBig, res.Error)

	set := func(g *gosnmp.GoSNMP, oid string, kind gosnmp.Asn1BER, value any) gosnmp.SNMPError {
		res, err := g.Set([]gosnmp.SnmpPDU{{Name: pdu + oid, Type: kind, Value: value}})
		require.NoError(t, err)
		return res.Error
	}
	require.Equal(t, gosnmp.NoError, set(g, ".3.1.2.2", gosnmp.OctetString, "spare"))
	require.Equal(t, gosnmp.WrongLength, set(g, ".3.1.2.2", gosnmp.OctetString, strings.Repeat("x", 33)))
	require.Equal(t, gosnmp.WrongType, set(g, ".3.1.2.2", gosnmp.Integer, 1))
	require.Equal(t, gosnmp.WrongValue, set(g, ".3.1.5.2", gosnmp.Integer, 9))
	require.Equal(t, gosnmp.NotWritable, set(g, ".3.1.4.2", gosnmp.Integer, 1))
	require.Equal(t, gosnmp.InconsistentValue, set(g, ".3.1.5.9", gosnmp.Integer, 2))
	require.Equal(t, gosnmp.NoCreation, set(g, ".3.1.5.11", gosnmp.Integer, 2))
	require.Equal(t, gosnmp.NoAccess, set(dial(lab.ReadSecret.Community, time.Minute), ".3.1.5.2", gosnmp.Integer, 2))
	_, err = dial("guess", 300*time.Millisecond).Get([]string{pdu + ".1.1.0"})
	require.Error(t, err, "a wrong community is not answered")
	closed, _ := l.Contact(outlet(2))
	require.True(t, closed, "nothing of this has switched anything")

	// All or nothing: the second part cannot be, so the first is not either.
	res, err = g.Set([]gosnmp.SnmpPDU{{Name: pdu + ".3.1.5.2", Type: gosnmp.Integer, Value: 2}, {Name: pdu + ".3.1.4.2", Type: gosnmp.Integer, Value: 2}})
	require.NoError(t, err)
	require.Equal(t, uint8(2), res.ErrorIndex)
	time.Sleep(300 * time.Millisecond)
	closed, _ = l.Contact(outlet(2))
	require.True(t, closed)
}

func TestTheWebPage(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	c := http.Client{Timeout: 300 * time.Millisecond, Transport: &http.Transport{DisableKeepAlives: true}}
	url := l.Estate.Device("skarvoe-kiosk").Probes[0].Target
	res, err := c.Get(url)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.NoError(t, l.Hang("skarvoe-kiosk"))
	require.Eventually(t, func() bool {
		res, err := c.Get(url)
		if err == nil {
			_ = res.Body.Close()
		}
		return err != nil
	}, soon, often)
}

func contextFor(t *testing.T, d time.Duration) (context.Context, context.CancelFunc) {
	return context.WithTimeout(t.Context(), d)
}
