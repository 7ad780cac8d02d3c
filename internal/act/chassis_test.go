package act

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/gear"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store/storetest"
)

const host = estate.Key("ostrel-virt-1")

// chassisRooms are rooms with one host to work on.
type chassisRooms struct {
	*rooms
	host estate.Key
}

func openChassis(t *testing.T, speed float64) (chassisRooms, func()) {
	l := labtest.Start(t, labtest.Options{Speed: speed})
	r, stop := open(t, l, storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	return chassisRooms{r, host}, stop
}

func (r chassisRooms) do(in operation.Intent) *operation.Operation {
	r.Helper()
	in.Device = r.host
	o, err := r.ask(in, operation.Consent{Why: "test"})
	require.NoError(r, err)
	require.Equal(r, operation.ByChassis, o.Means, "the gentlest that can work")
	return r.ends(o.ID)
}

func (r chassisRooms) becomes(s verdict.State) {
	r.Helper()
	require.Eventually(r, func() bool { return r.Keeper.Verdict(r.host).State == s }, 4*soon, often, "%v", lazy(func() any { return r.Keeper.Verdict(r.host) }))
}

func TestCycleByChassis(t *testing.T) {
	t.Parallel()
	r, stop := openChassis(t, 25)
	defer stop()
	o := r.do(operation.Intent{Kind: operation.Cycle, Hold: operation.MinHold})
	require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
	require.Contains(t, o.Outcome(time.UTC), "Cycled the chassis of ostrel-virt-1")
	r.becomes(verdict.Steady)
}

// TestResetByChassis: the host has to be silent for longer than it takes to
// give up three questions, however busy this machine is.
func TestResetByChassis(t *testing.T) {
	t.Parallel()
	r, stop := openChassis(t, 10)
	defer stop()
	o := r.do(operation.Intent{Kind: operation.Reset})
	require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
	require.NotZero(t, o.CameBackIn())
}

func TestShutdownByChassis(t *testing.T) {
	t.Parallel()
	r, stop := openChassis(t, 25)
	defer stop()
	o := r.do(operation.Intent{Kind: operation.Shutdown})
	require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
	r.becomes(verdict.Parked)
	o = r.do(operation.Intent{Kind: operation.Cycle, Hold: operation.MinHold})
	require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
	require.Contains(t, o.Outcome(time.UTC), "Switched the chassis of ostrel-virt-1 on: it was off already")
}

// TestShutdownUnheeded: it falls back to switching off only if told to.
func TestShutdownUnheeded(t *testing.T) {
	t.Parallel()
	r, stop := openChassis(t, 25)
	defer stop()
	require.NoError(t, r.lab.Stick(host))
	o := r.do(operation.Intent{Kind: operation.Shutdown, Within: 2 * time.Second})
	require.Equal(t, operation.Failed, o.State)
	require.Contains(t, o.Outcome(time.UTC), "did not shut down within 2 s; it is still on")
	o = r.do(operation.Intent{Kind: operation.Shutdown, Within: 2 * time.Second, Force: true})
	require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
	require.Contains(t, o.Outcome(time.UTC), "so it is switched off")
	r.becomes(verdict.Parked)
}

func TestDoneIsReadBack(t *testing.T) {
	t.Parallel()
	r, stop := openChassis(t, 25)
	defer stop()
	require.NoError(t, r.lab.Upset(host, func(f *bmc.Faults) { f.Obedient = true }))
	o := r.do(operation.Intent{Kind: operation.Off})
	require.Equal(t, operation.Failed, o.State)
	require.Contains(t, o.Outcome(time.UTC), "the chassis is still reported on")
}

// TestWhatStaysOff: an outlet cut would strand a host that is set to stay off,
// so the plan ends with its chassis being switched on.
func TestWhatStaysOff(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	r, stop := open(t, l, storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	const stays = estate.Key("ostrel-virt-2")
	in := operation.Intent{Kind: operation.Cycle, Device: stays, Means: operation.ByOutlet, Hold: operation.MinHold}
	p, err := r.Preview(t.Context(), in, admin)
	require.NoError(t, err)
	require.Equal(t, []estate.End{estate.ChassisEnd(stays)}, p.Restores)
	o, err := r.ask(in, operation.Consent{})
	require.NoError(t, err)
	_, err = r.ask(operation.Intent{Kind: operation.Reset, Device: stays}, operation.Consent{})
	var refused *RefusedError
	require.ErrorAs(t, err, &refused, "one at a time on a device, by whatever means")
	ended := r.ends(o.ID)
	require.Equal(t, operation.Done, ended.State, ended.Outcome(time.UTC))
	require.Contains(t, ended.Outcome(time.UTC), "chassis of ostrel-virt-2 on")
	require.Eventually(t, func() bool { return r.Keeper.Verdict(stays).State == verdict.Steady }, 3*soon, often)
}

// TestWhatControllersSay: their evidence makes the verdicts that probes cannot.
func TestWhatControllersSay(t *testing.T) {
	t.Parallel()
	l := labtest.Start(t, labtest.Options{Speed: 60})
	r, stop := open(t, l, storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	verdicts := func(k estate.Key, s verdict.State, reason string) {
		t.Helper()
		require.Eventually(t, func() bool {
			v := r.Keeper.Verdict(k)
			if v.State != s {
				return false
			}
			for _, x := range v.Reasons {
				if reason == "" || strings.Contains(x.Text.String(), reason) {
					return true
				}
			}
			return false
		}, 2*soon, often, "%s: %s, %s; it is %+v", k, s, reason, r.Keeper.Verdict(k))
	}
	// What is read seldom is read in its turn.
	require.Eventually(t, func() bool {
		store := r.Keeper.Inside("ostrel-store")
		weak := func(k estate.Key, want string) bool {
			return slices.Equal(names(r.Keeper.Inside(k).Weak), []string{want})
		}
		return store.Sheet.Serial != "" && len(store.Sensors) > 40 && len(store.Events.Events) > 0 &&
			weak("ostrel-virt-2", "stays-off") && weak("ostrel-booking", "shared-port") && weak("skarvoe-recorder", "password")
	}, 2*soon, often)
	require.NoError(t, l.Hang(host))
	verdicts(host, verdict.Hung, "its controller answers and finds nothing wrong inside")
	require.NoError(t, l.Press("ostrel-booking", false))
	verdicts("ostrel-booking", verdict.Dark, "nobody asked for that here")
	require.NoError(t, l.Sleep("ostrel-virt-2"))
	verdicts("ostrel-virt-2", verdict.Parked, "its own power management did it")
	require.NoError(t, l.Silence("ostrel-store"))
	verdicts("ostrel-store", verdict.Strained, "a way in is lost: its bmc does not answer")
}

func names(ws []reading.Weakness) (out []string) {
	for _, w := range ws {
		out = append(out, w.Name)
	}
	return out
}

// TestAResetIntoSetUp: its controller is told, its firmware takes it, and it waits there;
// where the reset is not obeyed, the next start is as usual again.
func TestAResetIntoSetUp(t *testing.T) {
	t.Parallel()
	r, stop := openChassis(t, 25)
	defer stop()
	boot := func() string {
		c, err := garage.Controller[gear.Configured](r.Garage, r.host)
		require.NoError(t, err)
		s, err := c.ReadSettings(t.Context())
		require.NoError(t, err)
		return s.Boot.Device
	}
	o := r.do(operation.Intent{Kind: operation.Reset, Into: operation.IntoSetup})
	require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
	require.Contains(t, o.Outcome(time.UTC), "Reset ostrel-virt-1 into set-up: ")
	require.Contains(t, o.Outcome(time.UTC), "its firmware took that at")
	require.Equal(t, "normal", boot())
	r.becomes(verdict.Hung)

	require.NoError(t, r.lab.Upset(r.host, func(f *bmc.Faults) { f.Obedient = true }))
	o = r.do(operation.Intent{Kind: operation.Reset, Into: operation.IntoNetwork})
	require.Equal(t, operation.Failed, o.State, "%+v", o.Steps)
	require.Contains(t, o.Outcome(time.UTC), "could not be set, so nothing was done: ")
	require.Contains(t, o.Outcome(time.UTC), "the boot device reads back as normal, not as network")
	require.False(t, o.Steps[1].MaySent, "nothing was reset")

	for want, in := range map[string]operation.Intent{
		"no controller can be told to open the boot menu: sit at its serial line (plumb serial ostrel-virt-1)": {Kind: operation.Reset, Into: "boot-menu", Device: r.host},
		`into "space": it can be setup, diagnostics, disk, network or disc`:                                    {Kind: operation.Reset, Into: "space", Device: r.host},
		"into is for reset and cycle":                         {Kind: operation.Off, Into: operation.IntoSetup, Device: r.host},
		"skarvoe-router has no controller that could be told": {Kind: operation.Cycle, Into: operation.IntoSetup, Device: "skarvoe-router"},
		"leave the means out, or say chassis":                 {Kind: operation.Cycle, Into: operation.IntoSetup, Device: r.host, Means: operation.ByOutlet},
	} {
		_, err := r.Preview(t.Context(), in, admin)
		require.ErrorContains(t, err, want)
	}
}
