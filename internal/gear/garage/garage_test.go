package garage

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
)

var card = estate.EndpointID{Device: "skarvoe-pdu", Name: "card"}

func TestOneDriverForEveryEndpoint(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	g := New()
	defer func() { require.NoError(t, g.Close()) }()
	g.SetEstate(l.Estate)
	_, err := g.Open(card)
	require.Equal(t, gear.BadSecret, gear.KindOf(err))
	require.Equal(t, sending.NotSent, gear.OutcomeOf(err))
	require.EqualError(t, err, "secret skarvoe-pdu is not set: plumb secret set skarvoe-pdu")

	g.SetSecret("skarvoe-pdu", lab.ReadSecret)
	reading, err := g.Open(card)
	require.NoError(t, err)
	again, err := g.Outlets("skarvoe-pdu")
	require.NoError(t, err)
	same, _ := gear.As[gear.Outlets](reading)
	require.Same(t, same, again, "watching and acting share it")
	require.Equal(t, gear.NotPermitted, gear.KindOf(again.SwitchOutlet(t.Context(), 3, false)))

	g.SetSecret("skarvoe-pdu", lab.WriteSecret)
	writing, err := g.Outlets("skarvoe-pdu")
	require.NoError(t, err)
	require.NotSame(t, again, writing, "a new secret opens a new session")
	require.NoError(t, writing.SwitchOutlet(t.Context(), 2, true))

	g.SetEstate(l.Estate)
	unchanged, err := g.Outlets("skarvoe-pdu")
	require.NoError(t, err)
	require.Same(t, writing, unchanged, "what has not changed stays open")
	g.RemoveSecret("skarvoe-pdu")
	_, err = g.Open(card)
	require.Error(t, err)
	g.SetEstate(estate.Empty())
	for _, open := range []func() error{
		func() error { _, err := g.Open(card); return err },
		func() error { _, err := g.Outlets("skarvoe-pdu"); return err },
	} {
		err := open()
		require.ErrorContains(t, err, "is not in the estate any more")
		require.Equal(t, sending.NotSent, gear.OutcomeOf(err))
	}
}

// TestControllers: the driver follows from the protocol, and the secret has to
// be of its kind.
func TestControllers(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	g := New()
	t.Cleanup(func() { require.NoError(t, g.Close()) })
	g.SetEstate(l.Estate)
	g.SetSecret("controllers", lab.WriteSecret)
	_, err := Controller[gear.Chassis](g, "ostrel-store")
	require.EqualError(t, err, "secret controllers is of kind snmp-v2c, and ostrel-store bmc needs ipmi")
	require.Equal(t, gear.BadSecret, gear.KindOf(err))
	g.SetSecret("controllers", lab.ControllerSecret)
	require.Equal(t, lab.ControllerSecret.User, g.UserOf("controllers"))
	chassis, err := Controller[gear.Chassis](g, "ostrel-store")
	require.NoError(t, err)
	c, err := chassis.ReadChassis(t.Context())
	require.NoError(t, err)
	require.True(t, c.On)
	sensors, err := Controller[gear.Sensors](g, "ostrel-store")
	require.NoError(t, err)
	require.Same(t, chassis, sensors, "one session for all")
	require.Equal(t, 1, l.Controller("ostrel-store").Sessions())
	_, err = Controller[gear.Outlets](g, "ostrel-store")
	require.ErrorContains(t, err, "ostrel-store bmc has not got a controller that can do that")
	_, err = Controller[gear.Chassis](g, "skarvoe-router")
	require.Equal(t, gear.Unsupported, gear.KindOf(err))
	_, err = Controller[gear.Chassis](g, "nobody")
	require.ErrorContains(t, err, "is not in the estate any more")
	require.NoError(t, g.Close())
	require.Zero(t, l.Controller("ostrel-store").Sessions(), "and it is closed at the end")
}

func TestTraits(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	g := New()
	traits := g.Traits(l.Estate, "skarvoe-pdu")
	require.True(t, traits.CyclesItself)
	require.NotZero(t, traits.Settle)
	require.Zero(t, g.Traits(l.Estate, "skarvoe-router"))
	require.Zero(t, g.Traits(l.Estate, "nobody"))
}

func TestWrongKindsOfThings(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	g := New()
	g.SetEstate(l.Estate)
	_, err := g.Outlets("skarvoe-router")
	require.EqualError(t, err, "skarvoe-router has no endpoint for outlets that can be switched")
	_, err = g.Open(estate.EndpointID{Device: "skarvoe-pdu", Name: "other"})
	require.EqualError(t, err, `skarvoe-pdu has no endpoint "other" any more`)
	require.Equal(t, sending.Unclear, gear.OutcomeOf(errUnsorted{}), "an error that does not say is taken with care")
	require.Equal(t, gear.Unreachable, gear.KindOf(errUnsorted{}))
	require.Equal(t, sending.Accepted, gear.OutcomeOf(nil))
}

type errUnsorted struct{}

func (errUnsorted) Error() string { return "?" }

// TestPortsOfAKVM: chosen by its card where it has one, by keys where those are stated, and else
// not at all; an endpoint for one port is of that one alone.
func TestPortsOfAKVM(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	g := New()
	defer func() { require.NoError(t, g.Close()) }()
	g.SetSecret("boards", lab.BoardSecret)
	g.SetSecret("screens", lab.ScreenSecret)
	g.SetEstate(l.Estate)
	look := func(k estate.Key) gear.View {
		t.Helper()
		all, err := g.Screens(k)
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0]
	}
	v := look("ostrel-virt-2")
	require.Equal(t, "ostrel-kvm screen", v.Port.KVM)
	require.NoError(t, v.Port.Show(t.Context(), nil))
	shown, err := v.Port.Shown(t.Context())
	require.NoError(t, err)
	require.Equal(t, "2", shown)
	require.Nil(t, look("skarvoe-kiosk").Port, "nothing else is seen there")

	kvm := l.Estate.Device("ostrel-kvm")
	screen := &kvm.Endpoints[1]
	kvm.Endpoints[0].Profile = "lab-board" // a card that chooses nothing
	kvm.Endpoints[0].Every++               // and is another one
	g.SetEstate(l.Estate)
	_, err = g.Screens("ostrel-virt-2")
	require.ErrorContains(t, err, "ostrel-kvm shows one of ostrel-virt-1, ostrel-virt-2, ostrel-store, and cannot be told from here which")
	screen.PortKeys = "scroll-lock scroll-lock {port}"
	v = look("ostrel-store")
	require.Nil(t, v.Port.Shown, "it cannot be read back")
	a, err := v.Attach(t.Context())
	require.NoError(t, err)
	defer func() { require.NoError(t, a.Close()) }()
	require.NoError(t, a.Look(true))
	require.NoError(t, v.Port.Show(t.Context(), a))
	require.Eventually(t, func() bool { return l.Seen("ostrel-kvm") == 3 }, time.Minute, time.Millisecond)
	screen.Shows = "1"
	require.Nil(t, look("ostrel-virt-1").Port)
	_, err = g.Screens("ostrel-store")
	require.ErrorContains(t, err, "no screen of ostrel-store is in the estate")
}

// TestASwitchBehindAKVM: what shows one port has a box behind it that shows one of several, and is
// told which on its command line.
func TestASwitchBehindAKVM(t *testing.T) {
	text := demo.Estate(demo.Default)
	before, rest, _ := strings.Cut(text, "      card: {protocol: http, address: \"127.77.1.31:8081\"")
	_, after, _ := strings.Cut(rest, "secret: screens, every: 10s}\n")
	text = before + `      line: {protocol: ssh, address: "127.77.1.31:2022", secret: command-lines, commands: {port: "port {port}"}}` + "\n    video: [ostrel-outer/1]\n" + after + `
  ostrel-outer: {site: ostrel-quay, role: kvm, network: [ostrel-mgmt], power: [utility], endpoints: {screen: {protocol: rfb, address: "127.77.1.39:5900", secret: screens}}}
`
	l := labtest.Start(t, labtest.Options{Text: text})
	g := New()
	defer func() { require.NoError(t, g.Close()) }()
	g.SetSecret("command-lines", lab.ShellSecret)
	g.SetSecret("screens", lab.ScreenSecret)
	g.SetEstate(l.Estate)
	all, err := g.Screens("ostrel-virt-2")
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Equal(t, "ostrel-outer screen", all[0].Name)
	require.Nil(t, all[0].Port.Shown, "a command line does not say which")
	require.NoError(t, all[0].Port.Show(t.Context(), nil))
	require.Equal(t, 2, l.Seen("ostrel-kvm"))
	a, err := all[0].Attach(t.Context())
	require.NoError(t, err)
	defer func() { require.NoError(t, a.Close()) }()
	require.NoError(t, a.Look(true))
	require.Eventually(t, func() bool { return a.Canvas().Picture().H == 400 }, time.Minute, 10*time.Millisecond, "its text, and not that of no signal")

	l.Estate.Device("ostrel-booking").Video = []estate.End{{Device: "ostrel-outer", Port: "2"}}
	g.SetEstate(l.Estate)
	_, err = g.Screens("ostrel-virt-2")
	require.ErrorContains(t, err, "ostrel-kvm is behind ostrel-outer, which shows one of ostrel-booking, ostrel-kvm itself")
}
