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
	"plumbbob/internal/core/sending"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store/storetest"
)

// A deed is one operation, and what has to come of it.
type deed struct {
	in    operation.Intent
	means operation.Means // that is proposed, or was chosen
	says  string          // part of the outcome
	then  verdict.State   // what the device is believed to be afterwards
}

// TestEveryMeans: each means that the demo has is used on it, one after the
// other, and what it did is measured.
func TestEveryMeans(t *testing.T) {
	t.Parallel()
	const speed = 8 // a start takes longer than it takes to be sure of a silence
	r, stop := open(t, labtest.Start(t, labtest.Options{Speed: speed}), storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	t.Cleanup(stop)
	r.settled("skarvoe-kiosk", "skarvoe-kvm", "tamsin-workshop", "ostrel-pdu-a", "ostrel-virt-2")
	for name, deeds := range map[string][]deed{
		"a kiosk with panel leads and a command line": {
			{operation.Intent{Kind: operation.Shutdown, Device: "skarvoe-kiosk"}, operation.ByCommand, "Shut skarvoe-kiosk down: off at ", verdict.Parked},
			{operation.Intent{Kind: operation.On, Device: "skarvoe-kiosk"}, operation.ByPanel, "Switched skarvoe-kiosk on: on at ", verdict.Steady},
			{operation.Intent{Kind: operation.Cycle, Device: "skarvoe-kiosk", Hold: operation.MinHold}, operation.ByPanel, "Cycled skarvoe-kiosk: off at ", verdict.Steady},
			{operation.Intent{Kind: operation.Reset, Device: "skarvoe-kiosk", Means: operation.ByPanel}, operation.ByPanel, "Reset skarvoe-kiosk: at ", verdict.Steady},
			{operation.Intent{Kind: operation.Shutdown, Device: "skarvoe-kiosk", Means: operation.ByPanel}, operation.ByPanel, "Shut skarvoe-kiosk down: off at ", verdict.Parked},
			{operation.Intent{Kind: operation.Press, Device: "skarvoe-kiosk"}, operation.ByPanel, "and its light went on", verdict.Steady},
			{operation.Intent{Kind: operation.Press, Device: "skarvoe-kiosk", Hold: sending.LongPress}, operation.ByPanel, "Pressed the power button of skarvoe-kiosk for 6 s: at ", verdict.Parked},
		},
		"a workshop machine that sleeps": {
			{operation.Intent{Kind: operation.Sleep, Device: "tamsin-workshop"}, operation.ByCommand, "Put tamsin-workshop to sleep: silent at ", verdict.Parked},
			{operation.Intent{Kind: operation.On, Device: "tamsin-workshop"}, operation.ByWake, "Woke tamsin-workshop: at ", verdict.Steady},
		},
		"a camera on a PoE port": {
			{operation.Intent{Kind: operation.Cycle, Device: "skarvoe-camera-east", Hold: operation.MinHold}, operation.ByPoE, "Cycled PoE port 1 of skarvoe-switch: ", verdict.Steady},
		},
		"the card of a PDU": {
			{operation.Intent{Kind: operation.Restart, Device: "ostrel-pdu-a"}, operation.ByEndpoint, "Restarted the card of ostrel-pdu-a: ", verdict.Steady},
		},
		"the controller of a server": {
			{operation.Intent{Kind: operation.Restart, Device: "ostrel-virt-2", Force: true}, operation.ByEndpoint, "Restarted the bmc of ostrel-virt-2: ", verdict.Steady},
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			sub := &rooms{T: t, Actor: r.Actor, lab: r.lab, store: r.store}
			for _, d := range deeds {
				sub.do(d)
			}
		})
	}
}

// TestResetByCommand: the router has to be silent for longer than it takes to
// give up three questions, however busy this machine is.
func TestResetByCommand(t *testing.T) {
	t.Parallel()
	r, stop := open(t, labtest.Start(t, labtest.Options{Speed: 4}), storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	r.settled("tamsin-router")
	r.do(deed{operation.Intent{Kind: operation.Reset, Device: "tamsin-router"}, operation.ByCommand, "Reset tamsin-router: at ", verdict.Steady})
	r.settled("ostrel-core") // over its serial line
	ended := r.do(deed{operation.Intent{Kind: operation.Reset, Device: "ostrel-core"}, operation.ByCommand, "Reset ostrel-core: at ", verdict.Steady})

	require.Contains(t, ended.Proof.After, operation.Fact{Name: "screen of its serial line", Text: "the screen of ostrel-core", Line: true})
	// What was said on the line is proof: the end of it in the record, all of it beside.
	i := slices.IndexFunc(ended.Proof.After, func(f operation.Fact) bool { return f.Name == "last lines of line" })
	require.GreaterOrEqual(t, i, 0, ended.Proof.After)
	if proof := ended.Proof.After[i]; proof.File != nil {
		require.Eventually(t, func() bool {
			f, err := r.File(t.Context(), ended.ID, proof.File.ID)
			return err == nil && f.Type == "text/plain" && strings.Contains(string(f.Content), "> reload now\n") && strings.Contains(string(f.Content), proof.Text)
		}, soon, often)
	} else {
		require.Contains(t, proof.Text, "reload now")
	}
}

func (r *rooms) do(d deed) *operation.Operation {
	r.Helper()
	p, err := r.Preview(r.Context(), d.in, admin)
	require.NoError(r, err)
	require.Equal(r, d.means, p.Means, "%s: %v", p.Title(), p.Ways)
	o, err := r.ask(d.in, operation.Consent{Why: "test"})
	require.NoError(r, err)
	ended := r.ends(o.ID)
	require.Equal(r, operation.Done, ended.State, ended.Outcome(time.UTC))
	require.Contains(r, ended.Outcome(time.UTC), d.says)
	require.Eventually(r, func() bool {
		s := r.Keeper.Verdict(d.in.Device).State
		return s == d.then || d.then == verdict.Steady && s == verdict.Strained
	}, 6*soon, often, "%s, and then %v", p.Title(), lazy(func() any { return r.Keeper.Verdict(d.in.Device) }))
	return ended
}

// settled waits until every endpoint of some devices has been asked.
func (r *rooms) settled(keys ...estate.Key) {
	r.Helper()
	require.Eventually(r, func() bool {
		ev := r.Keeper.World().Evidence
		for _, k := range keys {
			for _, ep := range r.lab.Estate.Device(k).Endpoints {
				if !ev.Endpoints[estate.EndpointID{Device: k, Name: ep.Name}].Answers() {
					return false
				}
			}
		}
		return true
	}, soon, often)
}

// TestAShutdownThatIsNotHeeded stays on, and goes off by force only when that was
// asked for.
func TestAShutdownThatIsNotHeeded(t *testing.T) {
	t.Parallel()
	r, stop := open(t, labtest.Start(t, labtest.Options{Speed: 60}), storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
	defer stop()
	require.NoError(t, r.lab.Stick("skarvoe-kiosk"))
	r.settled("skarvoe-kvm")
	o, err := r.ask(operation.Intent{Kind: operation.Shutdown, Device: "skarvoe-kiosk", Means: operation.ByPanel, Within: 3 * time.Second}, operation.Consent{})
	require.NoError(t, err)
	ended := r.ends(o.ID)
	require.Equal(t, operation.Failed, ended.State)
	require.Contains(t, ended.Outcome(time.UTC), "did not shut down within 3 s; it is still on")
	o, err = r.ask(operation.Intent{Kind: operation.Shutdown, Device: "skarvoe-kiosk", Means: operation.ByPanel, Within: 3 * time.Second, Force: true}, operation.Consent{})
	require.NoError(t, err)
	ended = r.ends(o.ID)
	require.Equal(t, operation.Done, ended.State, ended.Outcome(time.UTC))
	require.Contains(t, ended.Outcome(time.UTC), "did not shut down within 3 s, so it is switched off")
}
