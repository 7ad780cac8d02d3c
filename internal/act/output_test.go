package act

import (
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store"
	"plumbbob/internal/store/storetest"
)

const ups = estate.Key("tamsin-ups")

// openSlip starts rooms on a site that hangs on a UPS, and in which our way to it
// hangs on something else, or not.
func openSlip(t *testing.T, ownWay bool) (*rooms, func()) {
	o := labtest.Options{Speed: 30}
	if !ownWay {
		text := demo.Estate(demo.Addresses{Loopback: demo.Default.Loopback, NoEcho: true})
		for _, carrier := range []string{"1", "2", "3", "4"} {
			text = strings.ReplaceAll(text, "[tamsin-pdu/"+carrier+"]", "[utility]")
		}
		o.Text = text
	}
	return open(t, labtest.Start(t, o), storetest.Open(t), filepath.Join(t.TempDir(), "ledger"))
}

func locks(ls []operation.Interlock) (names []string) {
	for _, l := range ls {
		names = append(names, l.Name)
	}
	return names
}

// TestAUPSIsSwitchedLikeAnythingElse: its output has the preview, the interlocks
// and the record of any other source.
func TestAUPSIsSwitchedLikeAnythingElse(t *testing.T) {
	t.Parallel()
	r, stop := openSlip(t, true)
	defer stop()
	off := operation.Intent{Kind: operation.Off, Device: ups}
	operator := operation.Asker{Name: "l.oduya", Role: operation.Operator}
	window := operation.Window{Site: "tamsin-slip", By: "admin", Why: "rewiring", From: time.Now().Add(-time.Minute), Until: time.Now().Add(time.Hour)}
	_, err := r.store.OpenWindow(t.Context(), window, store.Entry{Kind: store.EntryWindow})
	require.NoError(t, err)
	p, err := r.Preview(t.Context(), off, operator)
	require.NoError(t, err)
	require.Equal(t, operation.ByOutput, p.Means)
	require.Equal(t, "Switch the output of tamsin-ups off", p.Title())
	require.Subset(t, locks(p.Interlocks), []string{operation.LockOwnPath, operation.LockWindow})
	var dark []estate.Key
	for _, l := range p.Loses {
		if l.Dark {
			dark = append(dark, l.Device)
		}
	}
	require.Subset(t, dark, []estate.Key{"tamsin-pdu", "tamsin-bridge", "tamsin-cell", "tamsin-workshop"})
	require.Contains(t, p.CutOff, estate.Key("quill-router"), "and what is reached through its radio")
	_, err = r.Request(t.Context(), Request{Intent: off, Digest: p.Digest, Consent: operation.Consent{Override: locks(p.Interlocks), Why: "sure"}, By: operator})
	var refused *RefusedError
	require.ErrorAs(t, err, &refused, "an operator may not")
	require.ElementsMatch(t, []string{operation.LockOwnPath, operation.LockWindow}, locks(refused.Interlocks))

	// A cycle goes all the same: the UPS switches itself on again.
	cycle := operation.Intent{Kind: operation.Cycle, Device: ups, Hold: 20 * time.Second}
	p, err = r.Preview(t.Context(), cycle, admin)
	require.NoError(t, err)
	require.True(t, p.ByGear)
	o, err := r.Request(t.Context(), Request{Intent: cycle, Digest: p.Digest, Consent: operation.Consent{Names: dark, Override: locks(p.Interlocks), Why: "test"}, By: admin})
	require.NoError(t, err)
	require.Equal(t, operation.Done, r.ends(o.ID).State, o.Outcome(time.UTC))
}

// TestTheOutputGoesOffAndOn, and is measured to.
func TestTheOutputGoesOffAndOn(t *testing.T) {
	t.Parallel()
	r, stop := openSlip(t, false)
	defer stop()
	ask := func(kind operation.Kind) *operation.Operation {
		t.Helper()
		in := operation.Intent{Kind: kind, Device: ups, Hold: map[operation.Kind]time.Duration{operation.Cycle: operation.MinHold}[kind]}
		p, err := r.Preview(t.Context(), in, admin)
		require.NoError(t, err)
		o, err := r.Request(t.Context(), Request{Intent: in, Digest: p.Digest, Consent: operation.Consent{Override: locks(p.Interlocks), Why: "test"}, By: admin})
		require.NoError(t, err)
		return r.ends(o.ID)
	}
	is := func(k estate.Key, s verdict.State) {
		t.Helper()
		require.Eventually(t, func() bool { return r.Keeper.Verdict(k).State == s }, 4*soon, often, "%v", lazy(func() any { return r.Keeper.Verdict(k) }))
	}
	o := ask(operation.Off)
	require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
	require.Contains(t, o.Outcome(time.UTC), "Switched the output of tamsin-ups off: ")
	is(ups, verdict.Parked)
	is("tamsin-workshop", verdict.Parked)
	require.Contains(t, r.Keeper.Verdict(ups).Reasons[0].Text.String(), "its output was switched off by admin")

	o = ask(operation.On)
	require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
	is(ups, verdict.Steady)
	is("tamsin-workshop", verdict.Steady)

	o = ask(operation.Cycle)
	require.Equal(t, operation.Done, o.State, o.Outcome(time.UTC))
	require.False(t, o.ByGear)
	is("tamsin-workshop", verdict.Steady)

	require.NoError(t, r.lab.Weld(estate.OutputEnd(ups)))
	o = ask(operation.Off)
	require.Equal(t, operation.Failed, o.State, "it accepted that, and went on giving power")
	require.Contains(t, o.Outcome(time.UTC), "the output did not open")
}
