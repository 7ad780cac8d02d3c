// Package geartest holds every driver to what its callers rest on, whatever it can
// do: that it fails in words and in time, that what was not sent is known not to
// have been sent, and that it may be used by many at once.
package geartest

import (
	"context"
	"net"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/sending"
	"plumbbob/internal/gear"
)

// A Subject is a driver, and the gear that it is tried on.
type Subject struct {
	Address string // of gear that answers, and takes the credential
	Network string // "udp" or "tcp"
	Open    func(t *testing.T, address string) gear.Driver

	// Stranger opens it with a credential that the gear does not take. Refusals are
	// the kinds of error that may come of that.
	Stranger func(t *testing.T, address string) gear.Driver
	Refusals []gear.Kind
	Password string // of the stranger: it must not be in any error

	// Connects is set where a connection is all the answer that a line gives by itself.
	Connects bool
}

// a question asks one thing of a driver; asked is false when it cannot.
type question struct {
	name string
	ask  func(context.Context, gear.Driver) (err error, asked bool)
}

func about[T any](name string, ask func(context.Context, T) error) question {
	return question{name, func(ctx context.Context, d gear.Driver) (error, bool) {
		as, ok := gear.As[T](d)
		if !ok {
			return nil, false
		}
		return ask(ctx, as), true
	}}
}

// presence needs no right: who is told "no" has been answered.
var presence = about("answer", func(ctx context.Context, d gear.Answerer) error { return d.Answer(ctx) })

// questions read, and change nothing.
var questions = []question{
	about("identify", func(ctx context.Context, d gear.Identified) error { return second(d.Identify(ctx)) }),
	about("outlets", func(ctx context.Context, d gear.Outlets) error { return second(d.ReadOutlets(ctx)) }),
	about("chassis", func(ctx context.Context, d gear.Chassis) error { return second(d.ReadChassis(ctx)) }),
	about("panel", func(ctx context.Context, d gear.Panel) error { return second(d.ReadPanel(ctx)) }),
	about("supply", func(ctx context.Context, d gear.Supply) error { return second(d.ReadSupply(ctx)) }),
	about("sensors", func(ctx context.Context, d gear.Sensors) error { return second(d.ReadSensors(ctx)) }),
	about("sheet", func(ctx context.Context, d gear.Inventory) error { return second(d.ReadSheet(ctx)) }),
	about("events", func(ctx context.Context, d gear.EventLog) error { return second(d.ReadEvents(ctx)) }),
	about("neighbours", func(ctx context.Context, d gear.Neighbours) error { return second(d.ReadNeighbours(ctx)) }),
	about("clock", func(ctx context.Context, d gear.Clock) error { return second(d.ReadClock(ctx)) }),
	about("settings", func(ctx context.Context, d gear.Configured) error { return second(d.ReadSettings(ctx)) }),
	about("weaknesses", func(ctx context.Context, d gear.Inspected) error { return second(d.Weaknesses(ctx)) }),
}

// commands would change something. They are only ever given where they must not
// arrive.
var commands = []question{
	about("switch an outlet", func(ctx context.Context, d gear.Outlets) error { return d.SwitchOutlet(ctx, 1, false) }),
	about("cycle an outlet", func(ctx context.Context, d gear.OutletCycler) error { return d.CycleOutlet(ctx, 1, 10*time.Second) }),
	about("switch a chassis", func(ctx context.Context, d gear.Chassis) error { return d.CommandChassis(ctx, gear.ChassisOff) }),
	about("press a button", func(ctx context.Context, d gear.Panel) error {
		return d.PressButton(ctx, 1, sending.PowerButton, sending.ShortPress)
	}),
	about("switch an output", func(ctx context.Context, d gear.Output) error { return d.SwitchOutput(ctx, false) }),
	about("tell a UPS", func(ctx context.Context, d gear.SupplyControl) error {
		return d.CommandSupply(ctx, gear.SupplyCommand{Do: gear.TestQuick})
	}),
	about("tell a command line", func(ctx context.Context, d gear.CommandLine) error { return d.Tell(ctx, "halt") }),
	about("restart", func(ctx context.Context, d gear.Restarter) error { return d.Restart(ctx, false) }),
}

func second[T any](_ T, err error) error { return err }

// Conforms tries a driver.
func Conforms(t *testing.T, s Subject) {
	t.Run("it answers many at once", func(t *testing.T) { manyAtOnce(t, s) })
	t.Run("whose time has ended sends nothing", func(t *testing.T) { ended(t, s) })
	t.Run("gear that never answers is out of reach", func(t *testing.T) { silence(t, s) })
	t.Run("a stranger is told so", func(t *testing.T) { stranger(t, s) })
	t.Run("it can be closed", func(t *testing.T) { closes(t, s) })
}

const patience = time.Minute

// manyAtOnce: what it says that it can be asked it answers, to everybody; and one
// who gives up meanwhile takes nothing from the others.
func manyAtOnce(t *testing.T, s Subject) {
	d := s.Open(t, s.Address)
	ctx, cancel := context.WithTimeout(t.Context(), patience)
	defer cancel()
	able := 0
	var work sync.WaitGroup
	for _, q := range slices.Concat([]question{presence}, questions) {
		if err, asked := q.ask(ctx, d); asked {
			able++
			require.NoError(t, err, q.name)
			for i := range 3 {
				work.Go(func() {
					mine := ctx
					if i == 0 {
						gone, leave := context.WithTimeout(ctx, time.Millisecond)
						defer leave()
						mine = gone
					}
					if err, _ := q.ask(mine, d); i > 0 && err != nil {
						t.Errorf("%s, with others: %s", q.name, err)
					}
				})
			}
		}
	}
	work.Wait()
	require.Positive(t, able, "it can be asked something")
}

func ended(t *testing.T, s Subject) {
	d := s.Open(t, s.Address)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	for _, q := range slices.Concat([]question{presence}, questions, commands) {
		if err, asked := q.ask(ctx, d); asked {
			require.Error(t, err, q.name)
			require.Equal(t, sending.NotSent, gear.OutcomeOf(err), "%s: %s", q.name, err)
		}
	}
}

// silence: the address takes whatever it is sent, and says nothing.
func silence(t *testing.T, s Subject) {
	d := s.Open(t, deaf(t, s.Network))
	all := slices.Concat(questions, commands)
	if !s.Connects {
		all = append(all, presence)
	}
	for _, q := range all {
		ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
		err, asked := q.ask(ctx, d)
		cancel()
		if asked {
			require.Equal(t, gear.Unreachable, gear.KindOf(err), "%s: %v", q.name, err)
			require.NotContains(t, []sending.Outcome{sending.Accepted, sending.Refused}, gear.OutcomeOf(err), "%s: %v", q.name, err)
			require.NotEmpty(t, err.Error())
		}
	}
}

func stranger(t *testing.T, s Subject) {
	d := s.Stranger(t, s.Address)
	for _, q := range slices.Concat(questions, commands) {
		ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
		err, asked := q.ask(ctx, d)
		cancel()
		if asked {
			require.Error(t, err, q.name)
			require.Contains(t, s.Refusals, gear.KindOf(err), "%s: %v", q.name, err)
			require.NotEqual(t, sending.Accepted, gear.OutcomeOf(err), "%s: %v", q.name, err)
			require.NotContains(t, err.Error(), s.Password)
		}
	}
}

func closes(t *testing.T, s Subject) {
	require.NoError(t, s.Open(t, deaf(t, s.Network)).Close(), "one that was never used")
	d := s.Open(t, s.Address)
	for _, q := range slices.Concat([]question{presence}, questions) {
		if err, asked := q.ask(t.Context(), d); asked {
			require.NoError(t, err, q.name)
			break
		}
	}
	require.NoError(t, d.Close())
	require.NoError(t, d.Close(), "a second time")
}

// deaf is an address where everything is taken, and nothing said.
func deaf(t *testing.T, network string) string {
	t.Helper()
	if network == "udp" {
		c, err := net.ListenPacket("udp", "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(func() { require.NoError(t, c.Close()) })
		return c.LocalAddr().String()
	}
	l, err := net.Listen("tcp", "127.0.0.1:0") // the kernel completes connections that nobody takes
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, l.Close()) })
	return l.Addr().String()
}
