package snmpgear

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/geartest"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/profile"
	"plumbbob/internal/secret"
)

const (
	patient = estatefile.DefaultPollTimeout // as the product
	hasty   = 450 * time.Millisecond
)

func open(t *testing.T, l *labtest.Lab, s secret.Value, timeout time.Duration) gear.Outlets {
	t.Helper()
	p, err := profile.Find("lab-pdu")
	require.NoError(t, err)
	ep, _ := l.Estate.Device("skarvoe-pdu").OutletEndpoint()
	d, err := Open(Options{Name: "skarvoe-pdu", Addresses: ep.Addresses, Profile: p, Secret: s, Timeout: timeout})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, d.Close()) })
	return part[gear.Outlets](t, d)
}

// part returns what a driver has to be able to do.
func part[T any](t *testing.T, d gear.Driver) T {
	t.Helper()
	p, ok := gear.As[T](d)
	require.True(t, ok)
	return p
}

func outlet(t *testing.T, d gear.Outlets, n int) reading.Outlet {
	t.Helper()
	r, err := d.ReadOutlets(t.Context())
	require.NoError(t, err)
	return r.Outlets[n-1]
}

func TestReadAndSwitch(t *testing.T) {
	for name, s := range map[string]secret.Value{"v2c": lab.WriteSecret, "v3": lab.V3Secret} {
		t.Run(name, func(t *testing.T) {
			l := labtest.Start(t, labtest.Options{})
			d := open(t, l, s, patient)
			r, err := d.ReadOutlets(t.Context())
			require.NoError(t, err)
			require.Len(t, r.Outlets, 10)
			o := r.Outlets[2]
			require.Equal(t, "skarvoe-router", o.Name)
			require.True(t, o.On && o.Switched && o.Metered)
			require.InDelta(t, 11.2, o.W, 0.5)
			require.InDelta(t, 0.049, o.A, 0.005)
			require.False(t, r.Outlets[8].Switched)
			require.Greater(t, *r.TotalW, 900.0)

			require.NoError(t, d.SwitchOutlet(t.Context(), 3, false))
			require.Eventually(t, func() bool { o := outlet(t, d, 3); return !o.On && o.W == 0 }, 30*time.Second, 20*time.Millisecond)
			require.NoError(t, d.SwitchOutlet(t.Context(), 3, true))
			require.Eventually(t, func() bool { o := outlet(t, d, 3); return o.On && o.W > 5 }, 30*time.Second, 20*time.Millisecond)
		})
	}
}

func TestGearCyclesByItself(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	d := open(t, l, lab.WriteSecret, patient)
	require.NoError(t, d.(gear.OutletCycler).CycleOutlet(t.Context(), 7, time.Second))
	end := estate.OutletEnd("skarvoe-pdu", 7)
	isOpen := func() bool { closed, _ := l.Contact(end); return !closed }
	require.Eventually(t, isOpen, 30*time.Second, 10*time.Millisecond)
	_, err := d.ReadOutlets(t.Context())
	require.Equal(t, gear.Unreachable, gear.KindOf(err), "the card hangs on what was cut")
	require.Eventually(t, func() bool { return !isOpen() }, 30*time.Second, 10*time.Millisecond)
	require.Eventually(t, func() bool { _, err := d.ReadOutlets(t.Context()); return err == nil }, 30*time.Second, 50*time.Millisecond)
}

func TestErrorsSayWhatBecameOfIt(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	wrongV3 := lab.V3Secret
	wrongV3.AuthPass = "not the pass phrase"
	ended, cancel := context.WithCancel(t.Context())
	cancel()
	for _, c := range []struct {
		name    string
		ctx     context.Context
		secret  secret.Value
		before  func()
		outlet  int
		kind    gear.Kind
		outcome sending.Outcome
	}{
		{"a community that may only read", t.Context(), lab.ReadSecret, nil, 3, gear.NotPermitted, sending.Refused},
		{"a wrong v3 pass phrase", t.Context(), wrongV3, nil, 3, gear.BadSecret, sending.Refused},
		{"an unswitched outlet", t.Context(), lab.WriteSecret, nil, 9, gear.Malformed, sending.Refused},
		{"a context that has ended", ended, lab.WriteSecret, nil, 3, gear.Unreachable, sending.NotSent},
		{"a card that is silent", t.Context(), lab.WriteSecret, func() { require.NoError(t, l.Silence("skarvoe-pdu")) }, 3, gear.Unreachable, sending.Unclear},
	} {
		t.Run(c.name, func(t *testing.T) {
			if c.before != nil {
				c.before()
			}
			err := open(t, l, c.secret, hasty).SwitchOutlet(c.ctx, c.outlet, false)
			require.Error(t, err)
			require.Equal(t, c.kind, gear.KindOf(err), err.Error())
			require.Equal(t, c.outcome, gear.OutcomeOf(err), err.Error())
			closed, _ := l.Contact(estate.OutletEnd("skarvoe-pdu", c.outlet))
			require.True(t, closed)
		})
	}
}

func TestLossAndDelay(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	require.NoError(t, l.Lose("skarvoe-cell", 0.2))
	require.NoError(t, l.Delay("skarvoe-cell", 30*time.Millisecond))
	d := open(t, l, lab.WriteSecret, hasty)
	good := 0
	for range 8 {
		if _, err := d.ReadOutlets(t.Context()); err == nil {
			good++
		}
	}
	require.GreaterOrEqual(t, good, 4, "retries must ride out a bad link")
}

func TestItConforms(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	for _, c := range []struct{ device, profile string }{{"skarvoe-pdu", "lab-pdu"}, {"tamsin-ups", "ups-mib"}, {"skarvoe-switch", "switch"}} {
		p, err := profile.Find(c.profile)
		require.NoError(t, err)
		ep, ok := l.Estate.Device(estate.Key(c.device)).CardEndpoint()
		require.True(t, ok)
		guessed := lab.V3Secret
		guessed.AuthPass = "guessed by us"
		at := func(v secret.Value) func(*testing.T, string) gear.Driver {
			return func(t *testing.T, address string) gear.Driver {
				d, err := Open(Options{Name: c.device, Addresses: []string{address}, Profile: p, Secret: v, Timeout: patient})
				require.NoError(t, err)
				t.Cleanup(func() { require.NoError(t, d.Close()) })
				return d
			}
		}
		t.Run(c.device, func(t *testing.T) {
			geartest.Conforms(t, geartest.Subject{
				Address: ep.Addresses[0], Network: "udp", Open: at(lab.V3Secret), Stranger: at(guessed), Password: guessed.AuthPass, Refusals: []gear.Kind{gear.BadSecret},
			})
		})
	}
}
