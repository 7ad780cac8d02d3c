package readiness

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/verdict"
	"plumbbob/internal/estatefile"
)

// A cupboard: the card of the PDU hangs on the cell, which hangs on the PDU; a host has two feeds and a
// controller, and a lamp nothing at all.
const cupboard = `plumb-estate: 1
standpoint: post
sites: {pier: {}, quay: {acts: far}}
devices:
  post: {site: pier, role: server}
  cell: {site: pier, role: gateway, power: [pdu/1], network: [post], probes: [{tcp: "192.0.2.1:1"}]}
  core: {site: pier, role: switch, power: [utility], network: [post], probes: [{tcp: "192.0.2.2:1"}]}
  pdu: {site: pier, role: pdu, power: [utility], outlets: {count: 4, unswitched: [4]}, endpoints: {card: {protocol: snmp, profile: lab-pdu, address: "192.0.2.3:1", secret: s, network: [cell]}}}
  other: {site: pier, role: pdu, power: [utility], outlets: {count: 4}, endpoints: {card: {protocol: snmp, profile: lab-pdu, address: "192.0.2.4:1", secret: s, network: [core]}}}
  router: {site: pier, role: router, power: [pdu/2], network: [core], probes: [{tcp: "192.0.2.5:1"}]}
  host: {site: pier, role: server, power: [pdu/3, other/1], network: [core], probes: [{tcp: "192.0.2.6:1"}], endpoints: {bmc: {protocol: ipmi, address: "192.0.2.7:1", secret: s}}}
  gate: {site: pier, role: controller, power: [pdu/4], network: [core], probes: [{tcp: "192.0.2.8:1"}]}
  lamp: {site: pier, role: light, power: [other/2]}
  far: {site: quay, role: server, network: [core], probes: [{tcp: "192.0.2.9:1"}]}
`

var now = time.Date(2026, 11, 27, 3, 0, 0, 0, time.UTC)

func world(t *testing.T, change func(ev *verdict.Evidence)) operation.World {
	e, err := estatefile.Parse("f", []byte(cupboard))
	require.NoError(t, err)
	ev := verdict.NewEvidence()
	answers := verdict.Result{SentAt: now, OK: true}
	for _, id := range []estate.EndpointID{{Device: "pdu", Name: "card"}, {Device: "other", Name: "card"}, {Device: "host", Name: "bmc"}} {
		ev.Endpoint(id, answers)
	}
	for _, k := range []estate.Key{"pdu", "other"} {
		for n := 1; n <= 4; n++ {
			ev.Outlet(estate.OutletEnd(k, n), verdict.Outlet{At: now, On: true, Metered: true, W: 11, Switched: true})
		}
	}
	change(ev)
	return operation.World{
		Estate: e, Evidence: ev, Now: now.Add(time.Second), Verdicts: map[estate.Key]verdict.Verdict{"pdu": {State: verdict.Strained, Reasons: []verdict.Reason{{Text: verdict.Say("its bank runs hot")}}}},
		Gear: func(estate.Key) operation.GearTraits { return operation.GearTraits{Settle: time.Second} },
	}
}

func silent(id estate.EndpointID) func(*verdict.Evidence) {
	return func(ev *verdict.Evidence) {
		for i := range 4 {
			ev.Endpoint(id, verdict.Result{SentAt: now.Add(time.Duration(i) * 100 * time.Millisecond)})
		}
	}
}

func everything(*estate.Device) bool { return true }

func find(all []Device, k estate.Key) *Device {
	for i := range all {
		if all[i].Key == k {
			return &all[i]
		}
	}
	return nil
}

func TestReadiness(t *testing.T) {
	all := All(world(t, func(*verdict.Evidence) {}), everything)
	require.Nil(t, find(all, "post"), "we stand there")
	require.Nil(t, find(all, "lamp"), "it cannot hang")

	router := find(all, "router")
	require.Equal(t, Ready, router.State)
	require.Equal(t, []estate.Key{"cell", "pdu"}, router.Single, "each of them takes the only way away")
	require.Equal(t, []string{"pdu is strained: its bank runs hot"}, router.Ways[0].Weak)

	host := find(all, "host")
	require.Equal(t, Ready, host.State)
	require.Len(t, host.Ways, 2)
	require.Equal(t, operation.ByChassis, host.Ways[0].Means)
	require.Equal(t, []estate.Key{"core"}, host.Ways[0].Needs)
	require.ElementsMatch(t, []estate.Key{"cell", "pdu", "core", "other"}, host.Ways[1].Needs)
	require.Equal(t, []estate.Key{"core"}, host.Single)

	cell := find(all, "cell")
	require.Equal(t, Lost, cell.State, "who would rescue it is reached through it")
	require.Contains(t, cell.Why, "its outlets: ")
	require.Equal(t, None, find(all, "gate").State, "its outlet cannot be switched")
	require.Equal(t, None, find(all, "core").State)
	far := find(all, "far")
	require.Equal(t, Elsewhere, far.State)
	require.Equal(t, "the service on far acts there", far.Why)
	require.Contains(t, Words(all), "1 of 3 could not be rescued now: cell (its outlets: ")
	require.Equal(t, estate.Key("cell"), all[0].Key)
}

// TestWaysThatDoNotWork: what keeps a way from working is said, and nothing is ready by silence.
func TestWaysThatDoNotWork(t *testing.T) {
	card, bmc := estate.EndpointID{Device: "pdu", Name: "card"}, estate.EndpointID{Device: "host", Name: "bmc"}
	for name, c := range map[string]struct {
		change func(*verdict.Evidence)
		state  State
		why    string // of the last way of the host
	}{
		"the card is silent":       {silent(card), Ready, "pdu cannot be reached: its card does not answer"},
		"the card refuses us":      {func(ev *verdict.Evidence) { ev.Endpoint(card, verdict.Result{SentAt: now, Refused: true}) }, Ready, "refuses"},
		"nothing is known of it":   {func(ev *verdict.Evidence) { delete(ev.Endpoints, card) }, Ready, "pdu card has not answered yet"},
		"the controller is silent": {silent(bmc), Ready, ""},
		"both are":                 {func(ev *verdict.Evidence) { silent(card)(ev); silent(bmc)(ev) }, Lost, "cannot be reached"},
		"the state of an outlet is old": {func(ev *verdict.Evidence) {
			ev.Outlet(estate.OutletEnd("pdu", 3), verdict.Outlet{At: now.Add(-time.Hour), On: true})
		}, Ready, ""},
	} {
		t.Run(name, func(t *testing.T) {
			host := find(All(world(t, c.change), everything), "host")
			require.Equal(t, c.state, host.State, host.Why)
			last := host.Ways[len(host.Ways)-1]
			require.Equal(t, c.why == "", last.Works)
			require.Contains(t, last.Why, c.why)
		})
	}
	require.Equal(t, "No device has a way by which it could be rescued.", Words(nil))
	require.Equal(t, "The one device that has a way could be rescued now.", Words([]Device{{State: Ready}}))
}
