package rfbgear

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/geartest"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/secret"
)

func at(password string) func(*testing.T, string) gear.Driver {
	return func(t *testing.T, address string) gear.Driver {
		d, err := Open(Options{Name: "kvm", Addresses: []string{address}, Secret: secret.Value{Kind: secret.Token, Password: password}, Timeout: 5 * time.Second})
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, d.Close()) })
		return d
	}
}

func address(t *testing.T, l *labtest.Lab, k estate.Key) string {
	ep, ok := l.Estate.Device(k).Endpoint("screen")
	require.True(t, ok)
	return ep.Addresses[0]
}

func TestConforms(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	geartest.Conforms(t, geartest.Subject{
		Address: address(t, l, "skarvoe-kvm"), Network: "tcp", Open: at(lab.ScreenSecret.Password), Stranger: at("guessed"), Password: "guessed", Refusals: []gear.Kind{gear.BadSecret},
	})
}

// TestAttach: the picture comes, keys arrive, and the end of a connection is told in words.
func TestAttach(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 100})
	d := at(lab.ScreenSecret.Password)(t, address(t, l, "skarvoe-kvm")).(*Driver)
	a, err := d.Attach(t.Context())
	require.NoError(t, err)
	require.NoError(t, a.Look(true))
	c := a.Canvas()
	require.Eventually(t, func() bool { p := c.Picture(); return p.W == 1024 && p.Pix[100*1024+500] == 0xe9e4d8 }, time.Minute, time.Millisecond)
	require.True(t, a.Takes().ByPosition)
	require.NoError(t, a.Key(true, 'x', 0x2d))
	require.NoError(t, a.Point(100, 160, 1))
	require.Eventually(t, func() bool { return l.ScreenText("skarvoe-kiosk") == "button 1, name x" }, time.Minute, time.Millisecond)
	require.NoError(t, d.Answer(t.Context()), "somebody looks, so it can be looked at")
	require.NoError(t, l.Flip(estate.OutletEnd("skarvoe-pdu", 6), false))
	require.Eventually(t, func() bool { return c.Picture().W == 640 }, time.Minute, time.Millisecond, "no signal")
	require.NoError(t, l.Flip(estate.OutletEnd("skarvoe-pdu", 2), false)) // the power of the KVM
	select {
	case <-a.Ended():
		require.ErrorContains(t, a.Err(), "the screen of kvm at")
	case <-time.After(time.Minute):
		require.Fail(t, "it goes on without power")
	}
}
