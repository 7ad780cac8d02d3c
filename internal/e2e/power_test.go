package e2e

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
)

// TestUtilityFailure: the utility goes at the office. The UPS is found on its
// battery within one round, feed B goes dark and the hosts run on, and all of it
// ends by itself when the utility is back.
func TestUtilityFailure(t *testing.T) {
	w := begin(t)
	ups := func() contract.Supply { return reads[contract.Supply](w, "ups", "ostrel-ups") }
	device := func(k string) contract.DeviceSummary {
		for _, d := range reads[[]contract.DeviceSummary](w, "board") {
			if d.Key == k {
				return d
			}
		}
		t.Fatal("no device ", k)
		return contract.DeviceSummary{}
	}
	require.Equal(t, "on line", ups().Brief.State)
	require.NoError(t, w.lab.Blackout("ostrel-quay", true))
	w.eventually(func() bool { return ups().Brief.State == "on battery" }, "the UPS is on its battery")
	w.eventually(func() bool { return device("ostrel-ups").Verdict.State == contract.VerdictStateStrained }, "and strained by that")
	w.eventually(func() bool { d := device("ostrel-pdu-b"); return d.Verdict.State != contract.VerdictStateSteady }, "feed B is gone")
	out := w.says(0, "", "show", "ostrel-virt-1")
	require.Contains(t, out, "gone")
	require.Contains(t, out, "on battery", "the line shows what carries on")
	require.Contains(t, w.flat(0, "", "power", "--site", "ostrel-quay"), "the utility is gone")
	require.NotEqual(t, contract.VerdictStateDark, device("ostrel-virt-1").Verdict.State)
	b := ups().Brief
	require.NotNil(t, b.Minutes)
	require.Less(t, *b.Charge, 100.0)

	require.NoError(t, w.lab.Blackout("ostrel-quay", false))
	w.eventually(func() bool {
		for _, d := range reads[[]contract.DeviceSummary](w, "board") {
			if d.Verdict.State != contract.VerdictStateSteady {
				return false
			}
		}
		return true
	}, "all of it ends by itself")
	w.eventually(func() bool {
		journal := w.flat(0, "", "journal", "--device", "ostrel-ups")
		return strings.Contains(journal, "ostrel-ups: on battery") && strings.Contains(journal, "was on battery")
	}, "and both are in the journal")
	w.eventually(func() bool { return len(ups().Discharges) > 0 }, "the discharge is kept, for next time")
}

// TestPowerByCommand: outlets, ports, cards and profiles, with wrong input too.
func TestPowerByCommand(t *testing.T) {
	w := begin(t)
	out := w.says(0, "", "outlet", "list", "inch-strip")
	require.Contains(t, out, "inch-router")
	require.Contains(t, out, "as before")
	w.says(0, "", "outlet", "name", "inch-strip/2", "uplink router")
	w.says(0, "", "outlet", "after-loss", "inch-strip/2", "off")
	w.eventually(func() bool {
		o := reads[[]contract.Outlet](w, "outlet", "list", "inch-strip")[1]
		return o.Name == "uplink router" && o.AfterLoss != nil && *o.AfterLoss == "off"
	}, "the strip has kept it")
	require.Contains(t, w.says(2, "", "outlet", "after-loss", "inch-strip/2", "perhaps"), "is not off, on or as-before")
	require.Contains(t, w.says(2, "", "outlet", "name", "inch-strip", "x"), "names no outlet")
	require.Contains(t, w.says(2, "", "outlet", "name", "inch-strip/77", "x"), "has no outlet")
	require.Contains(t, w.says(2, "", "outlet", "delay", "inch-strip/2", "--on", "5"), "cannot delay switching on")
	require.Contains(t, w.flat(0, "", "cycle", "inch-kiosk", "--hold", "2s", "--yes", "--follow"), "Cycled outlet 3 of inch-strip", "over HTTP")
	require.Contains(t, w.flat(0, "", "cycle", "skarvoe-camera-east", "--hold", "2s", "--yes", "--follow"), "Cycled PoE port 1 of skarvoe-switch")

	require.Contains(t, w.flat(2, "", "off", "--pdu", "skarvoe-switch"), "nobody is there to agree")
	out = w.flat(0, "", "off", "--pdu", "skarvoe-switch", "--gap", "200ms", "--yes", "--follow")
	require.Contains(t, out, "Switch everything on skarvoe-switch off, 4 devices: done, 4 of 4 done")
	require.Contains(t, w.flat(0, "", "on", "--pdu", "skarvoe-switch", "--gap", "200ms", "--yes", "--follow"), "4 of 4 done")
	require.Contains(t, w.flat(0, "", "off", "--pdu", "skarvoe-pdu", "--preview"), "Left as it is: skarvoe-cell carries our own way to skarvoe-pdu")
	later := time.Now().Add(2 * time.Hour).Format("2006-01-02 15:04")
	require.Contains(t, w.flat(0, "", "cycle", "skarvoe-kiosk", "--at", later, "--yes"), "Take it back with plumb group cancel")
	g := reads[[]contract.Group](w, "group", "list")[0]
	require.Equal(t, contract.GroupStateScheduled, g.State)
	w.says(0, "", "group", "cancel", g.ID)
	w.eventually(func() bool { return strings.Contains(w.flat(0, "", "group", "show", g.ID), "cancelled") }, "it is taken back")
	require.Contains(t, w.flat(2, "", "on", "--site", "atlantis", "--yes"), `there is no site "atlantis"`)
	require.Contains(t, w.flat(2, "", "on", "--yes"), "nobody is meant")

	require.NoError(t, w.lab.Sleep("tamsin-workshop"))
	w.eventually(func() bool { return w.verdict("tamsin-workshop") == "parked" }, "it sleeps, which is not hanging")
	require.Contains(t, w.flat(0, "", "on", "tamsin-workshop", "--preview"), "By a magic packet")
	require.Contains(t, w.flat(0, "", "on", "tamsin-workshop", "--yes", "--follow"), "Woke tamsin-workshop")
	require.Contains(t, w.says(2, "", "off", "tamsin-workshop", "--means", "wake"), "the means wake can do on, not off")

	w.eventually(func() bool { return strings.Contains(w.says(0, "", "ports", "tamsin-switch"), "tamsin-workshop") }, "who has just woken is a neighbour again once that is read")
	require.Contains(t, w.says(0, "", "card", "show", "tamsin-pdu"), "card started")
	require.Contains(t, w.says(2, "", "card", "show", "tamsin-tide"), "a card that can do that")
	require.Contains(t, w.flat(0, "", "ups"), "tamsin-ups on line")
	require.Contains(t, w.flat(3, "", "ups", "shutdown", "tamsin-ups", "--yes"), "refused (own-path): it would cut our own path to tamsin-ups")
	require.Contains(t, w.flat(0, "", "ups", "reboot", "tamsin-ups", "--preview", "--hold", "20s"), "tamsin-ups will switch it back on by itself after 20 s")
	require.Contains(t, w.says(2, "", "ups", "skarvoe-router"), "is no UPS, as far as the estate knows")
	require.Contains(t, w.says(0, "", "ups", "test", "tamsin-ups", "--quick"), "told")
	require.Contains(t, w.flat(0, "", "ups", "auto-restart", "tamsin-ups", "off", "--why", "trial"), "comes on when the utility returns: no", "it is shown as it is then")
	require.Contains(t, w.flat(0, "", "ups", "auto-restart", "tamsin-ups", "on"), "comes on when the utility returns: yes")
	require.Contains(t, w.says(2, "", "history", "skarvoe-router", "nonsense"), "has no series")
	w.eventually(func() bool { return strings.Contains(w.says(0, "", "history", "ostrel-ups"), "ups:charge") }, "series are kept")
	require.Contains(t, w.says(0, "", "draw", "skarvoe-router", "--last", "5m"), "skarvoe-router, draw: mean")

	ep := w.lab.Estate.Device("inch-strip").Endpoints[0]
	file := w.write("mine.yaml", strings.Replace(w.says(0, "", "profile", "show", "lab-strip"), "name: lab-strip", "name: mine", 1))
	require.Contains(t, w.says(0, "", "profile", "check", file), "mine, over HTTP")
	found := w.says(0, "", "profile", "try", file, ep.Addresses[0], "--secret", "strips")
	require.Contains(t, found, "outlet 3")
	require.Contains(t, found, "cupboard")
	w.says(0, "", "profile", "add", file)
	require.Contains(t, w.says(0, "", "profile", "list"), "mine")
	w.says(0, "", "profile", "remove", "mine")
	require.Contains(t, w.says(2, "", "profile", "remove", "lab-strip"), "lab-strip")
	require.Contains(t, w.says(2, "", "profile", "check", w.write("bad.yaml", "plumb-profile: 1\nname: x\nprotocol: smoke\n")), "it can be snmp or http")
}

// TestWiringCheck: two cables are not where the estate says, and switching
// outlet after outlet finds out; what is guarded is left alone.
func TestWiringCheck(t *testing.T) {
	w := begin(t)
	require.NoError(t, w.lab.Swap(estate.OutletEnd("quill-pdu", 4), estate.OutletEnd("quill-pdu", 5)))
	require.Contains(t, w.says(2, "", "wiring", "check", "nowhere"), "there is no site")
	require.Contains(t, w.says(2, "", "wiring", "check", "quill-ness", "--all"), "add --why")
	require.Contains(t, w.says(2, "", "wiring", "check", "quill-ness", "--outlet", "skarvoe-pdu/1", "--why", "x", "--yes"), "is not at quill-ness")
	out := w.flat(0, "", "wiring", "check", "quill-ness", "--outlet", "quill-pdu/4", "--outlet", "quill-switch/poe-1", "--why", "after the electricians", "--yes")
	require.Contains(t, out, "quill-kiosk went on answering without it")
	require.Contains(t, out, "quill-switch/poe-1 empty")
	found := reads[contract.Wiring](w, "wiring", "check", "quill-ness")
	require.False(t, found.Running)
	require.Equal(t, contract.WiringFindingVerdictWrong, found.Switched[0].Verdict)
	out = w.flat(0, "", "wiring", "check", "skarvoe", "--outlet", "skarvoe-pdu/5", "--outlet", "skarvoe-pdu/2", "--why", "x", "--yes")
	require.Contains(t, out, "skipped skarvoe-recorder is guarded")
	require.Contains(t, out, "skarvoe-kvm fell silent with it")
	require.Contains(t, w.flat(0, "", "journal"), "not as the estate says")
	require.Contains(t, w.flat(0, "", "wiring", "check", "ostrel-quay"), "ostrel-pdu-a/4")
}
