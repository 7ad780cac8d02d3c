package estatefile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"plumbbob/demo"
	"plumbbob/internal/core/estate"
)

func TestTheDemoEstate(t *testing.T) {
	e, err := Parse("demo", []byte(demo.Estate(demo.Default)))
	require.NoError(t, err)
	require.Equal(t, estate.Key("ostrel-ops"), e.Standpoint)
	require.Len(t, e.Device("skarvoe-pdu").Outlets, 10)
	require.True(t, e.Device("skarvoe-recorder").Guarded)
	require.Equal(t, [][]estate.Key{{"ostrel-ops", "ostrel-core", "skarvoe-bridge", "skarvoe-router", "skarvoe-switch", "skarvoe-kiosk"}}, e.ReachLine("skarvoe-kiosk", ""))
	require.Equal(t, [][]estate.Key{{"ostrel-ops", "ostrel-core", "skarvoe-cell", "skarvoe-pdu"}}, e.ReachLine("skarvoe-pdu", "card"))

	require.Equal(t, [][]estate.Key{{"ostrel-ops", "ostrel-mgmt", "ostrel-console", "ostrel-core"}}, e.ReachLine("ostrel-core", "line"), "the way to a serial port is that to its console server")

	without, err := Parse("demo", []byte(demo.Estate(demo.Addresses{Loopback: 90, NoEcho: true})))
	require.NoError(t, err)
	for _, p := range without.Device("skarvoe-router").Probes {
		require.Equal(t, estate.TCP, p.Kind)
		require.Contains(t, p.Target, "127.90.")
	}
}

// head is a sound beginning, of eleven lines.
const head = `plumb-estate: 1
standpoint: ops
sites:
  pier: {zone: Atlantic/Faroe}
devices:
  ops: {site: pier, role: server}
  pdu:
    site: pier
    role: pdu
    power: [utility]
    outlets: {count: 4, unswitched: [4]}
`

func TestFaults(t *testing.T) {
	for _, c := range []struct {
		name, text, want string
	}{
		{"nothing at all", "", "f:1: is empty: begin it with plumb-estate: 1"},
		{"a port that there is not", head + "  r: {site: pier, role: router, network: [ops], probes: [{tcp: \"127.0.0.1:99999\"}]}\n", `f:12: "127.0.0.1:99999": a port is a number from 1 to 65535, not 99999`},
		{"a host that cannot be", head + "  r: {site: pier, role: router, network: [ops], probes: [{tcp: \"no such host:22\"}]}\n", `f:12: "no such host:22": "no such host" is neither an address nor the name of a host`},
		{"less than nothing", head + "  r: {site: pier, role: router, idle: -3}\n", "f:12: r idle: -3 is less than 0"},
		{"a month to start", head + "  r: {site: pier, role: router, boot: 900h}\n", "f:12: r boot: 900h0m0s is longer than a day: nothing takes that long to start"},
		{"half an outlet", head + "  r: {site: pier, role: pdu, outlets: {count: 4.5}}\n", `f:12: "4.5" is not a whole number`},
		{"control characters", head + "  r: {site: pier, role: router, title: \"a\\e[2J\"}\n", `f:12: r title: "a\x1b[2J" has characters that are no text: take them out`},
		{"a text that turns round", head + "  r: {site: pier, role: router, title: \"a\\u202eb\"}\n", `f:12: r title: "a\u202eb" has characters that are no text: take them out`},
		{"a second document", head + "  r: {site: pier, role: router}\n---\nplumb-estate: 1\n", "f:1: there is a second document, behind ---: an estate is one document"},
		{"needs in a circle", head + "  a: {site: pier, role: router, needs: [b]}\n  b: {site: pier, role: router, needs: [a]}\n", "f:12: a needs: a needs itself: a → b → a. Take one of these needs out"},
		{"an old name that is still there", head + "  a: {site: pier, role: router, was: b}\n  b: {site: pier, role: router}\n", "f:12: a was: there is still a device b: it cannot be the old name of a"},
		{"another format", "plumb-estate: 7\n", "f:1: the file must begin with plumb-estate: 1, the version of its format"},
		{"not YAML", "plumb-estate: 1\n  sites: [\n", "f:2: mapping values are not allowed in this context"},
		{"an unknown key", head + "  r: {site: pier, role: router, colour: red}\n", `f:12: unknown key "colour": what can stand here is was, site, role, title, place, tags, notes, guarded, essential, idle, asleep, boot, needs-feeds, power, network, outlets, endpoints, probes, poe, dc, usb, slots, inlet, ups, wake, video, serial, panel, inrush, use, needs`},
		{"a slip of the fingers", head + "  u: {site: pier, role: ups, ups: {ratnig: 3000}}\n", `f:12: unknown key "ratnig": is "rating" meant? Otherwise what can stand here is rating, low-minutes, shutdown-minutes`},
		{"a tab", head + "\tr: {site: pier}\n", "f:12: begins with a tab: indent with blanks"},
		{"Latin-1", head + "  r: {site: pier, role: caf\xe9}\n", "f:12: has bytes that are not UTF-8: save the file as UTF-8"},
		{"a device twice", head + "  r: {site: pier, role: router}\n  r: {site: pier, role: switch}\n", "f:13: mapping key \"r\" already defined at line 12"},
		{"a key twice", head + "  r: {site: pier, site: pier, role: router}\n", "f:12: mapping key \"site\" already defined at line 12"},
		{"an anchor that nothing named", head + "  r: {site: pier, role: *x}\n", "f:12: *x means what &x named before, and nothing did"},
		{"an unknown key further in", head + "  u: {site: pier, role: ups, ups: {watts: 3000}}\n", `f:12: unknown key "watts": what can stand here is rating, low-minutes, shutdown-minutes`},
		{"a list where there is none", head + "  r: {site: pier, role: [router]}\n", "f:12: a list does not belong here: text is expected"},
		{"a bad key", head + "  Router_1: {site: pier, role: router}\n", `f:12: "Router_1" cannot be a key: use lower-case letters, digits and hyphens, 63 at the most`},
		{"a protocol that nobody knows", head + "  r:\n    site: pier\n    role: server\n    network: [ops]\n    endpoints:\n      bmc: {protocol: smoke, address: \"h:1\", secret: s}\n", `f:17: bmc protocol: "smoke" is not known: it can be snmp, http, ipmi, ssh, telnet, tty, modem, rfb or camera`},
		{"a profile for IPMI", head + "  r:\n    site: pier\n    role: server\n    network: [ops]\n    endpoints:\n      bmc: {protocol: ipmi, address: \"h:1\", secret: s, profile: lab-pdu}\n", "f:17: bmc profile: is for protocol snmp or http only: take it out"},
		{"a prompt for SSH", head + "  r:\n    site: pier\n    role: router\n    network: [ops]\n    endpoints:\n      cli: {protocol: ssh, address: \"h:1\", secret: s, prompt: ok}\n", "f:17: cli prompt: is for protocol telnet or tty only: take it out"},
		{"a prompt that is no expression", head + "  r:\n    site: pier\n    role: router\n    network: [ops]\n    endpoints:\n      line: {protocol: telnet, address: \"h:1\", secret: s, prompt: (}\n", "f:17: line prompt: \"(\" is not a regular expression of up to 200 bytes, such as '\\w+ ready:'"},
		{"listening to a card", head + "  r:\n    site: pier\n    role: router\n    network: [ops]\n    endpoints:\n      card: {protocol: snmp, profile: lab-pdu, address: \"h:1\", secret: s, listen: true}\n", "f:17: card listen: is for protocol ssh, telnet, ipmi or tty only: take it out"},
		{"a pattern that is no expression", head + "  r:\n    site: pier\n    role: router\n    network: [ops]\n    endpoints:\n      line: {protocol: telnet, address: \"h:1\", secret: s, recognise: {bad: (}}\n", "f:17: line recognise bad: \"(\" is not a regular expression of up to 200 bytes, such as 'ring \\d+ lost'"},
		{"commands for a PDU", head + "  r:\n    site: pier\n    role: router\n    network: [ops]\n    endpoints:\n      card: {protocol: snmp, profile: lab-pdu, address: \"h:1\", secret: s, commands: {reset: x}}\n", "f:17: card commands: is for protocol ssh, telnet or tty only: take it out"},
		{"a port without its number", head + "  r:\n    site: pier\n    role: kvm\n    network: [ops]\n    endpoints:\n      cli: {protocol: ssh, address: \"h:1\", secret: s, commands: {port: next}}\n", "f:17: cli commands port: write {port} where the number of the port stands, as in \"show port {port}\""},
		{"a cipher suite for SNMP", head + "  r:\n    site: pier\n    role: server\n    network: [ops]\n    endpoints:\n      card: {protocol: snmp, profile: lab-pdu, address: \"h:1\", secret: s, cipher-suites: [1]}\n", "f:17: card cipher-suites: is for protocol ipmi only: take it out"},
		{"a cipher suite that checks nothing", head + "  r:\n    site: pier\n    role: server\n    network: [ops]\n    endpoints:\n      bmc: {protocol: ipmi, address: \"h:1\", secret: s, cipher-suites: [0]}\n", "f:17: bmc cipher-suites: 0 cannot be allowed: 17 and 3 always are, and of the weak ones 16, 2, 15 and 1 can be"},
		{"no role", head + "  r: {site: pier}\n", "f:12: r: role is missing: say what it is, such as router, switch, pdu or server"},
		{"an unknown site", head + "  r: {site: peir, role: router}\n", `f:12: r site: there is no site "peir": add it under sites, or correct the name`},
		{"an unknown time zone", strings.Replace(head, "Faroe", "Atlantis", 1), `f:4: pier zone: "Atlantic/Atlantis" is not a time zone such as Atlantic/Faroe`},
		{"an unknown standpoint", strings.Replace(head, "standpoint: ops", "standpoint: oops", 1), `f:2: standpoint: there is no device "oops": add it under devices, or correct the name`},
		{"an outlet that is not there", head + "  r:\n    site: pier\n    role: router\n    power:\n      - pdu/9\n", "f:16: r power: pdu has no outlet 9: it has 4 outlets"},
		{"no outlet said", head + "  r: {site: pier, role: router, power: [pdu]}\n", "f:12: r power: say which outlet of pdu: pdu/NUMBER"},
		{"an outlet used twice", head + "  r: {site: pier, role: router, power: [pdu/1]}\n  s: {site: pier, role: switch, power: [pdu/1]}\n", "f:13: s power: outlet 1 of pdu already feeds r: one outlet has one plug, so correct one of the two"},
		{"the same feed twice", head + "  r: {site: pier, role: router, power: [pdu/1, pdu/1]}\n", "f:12: r power (entry 2): outlet 1 of pdu already feeds r: one outlet has one plug, so correct one of the two"},
		{"behind itself", head + "  r: {site: pier, role: router, network: [r]}\n", "f:12: r network: r cannot be reached through itself"},
		{"a loop in the network", head + "  a: {site: pier, role: router, network: [b]}\n  b: {site: pier, role: router, network: [c]}\n  c: {site: pier, role: router, network: [a]}\n", "f:12: a network: a is reached through itself: a → b → c → a. Take one of these cables out"},
		{"a stranger acts there", strings.Replace(head, "pier: {", "pier: {acts: nobody, ", 1), "f:4: pier acts: there is no device \"nobody\": say here, or the device on which the service runs that acts there"},
		{"one acts there whom nobody hears", strings.Replace(head, "pier: {", "pier: {acts: pdu, ", 1), "f:4: pier acts: pdu has no probes, so nobody would know whether the service there still runs: give it one of /healthz"},
		{"a loop in the power", strings.Replace(head, "utility", "other/1", 1) + "  other: {site: pier, role: pdu, power: [pdu/1], outlets: {count: 2}}\n", "f:10: pdu power: pdu is fed from itself: pdu → other → pdu. Take one of these cables out"},
		{"probes, and no way there", head + "  r: {site: pier, role: router, probes: [{icmp: 192.0.2.1}]}\n", "f:12: r probes: are asked over the network, but no network cable says what r is reached through: add network: [DEVICE]"},
		{"a probe that asks nothing", head + "  r: {site: pier, role: router, network: [ops], probes: [{must: true}]}\n", "f:12: a probe asks exactly one of icmp, tcp, http, tls, dns and udp"},
		{"a probe that expects what it cannot", head + "  r: {site: pier, role: router, network: [ops], probes: [{icmp: 192.0.2.1, status: 200}]}\n", "f:12: status: a probe of icmp cannot expect that"},
		{"a name server that is asked for nothing", head + "  r: {site: pier, role: router, network: [ops], probes: [{dns: '192.0.2.1:53'}]}\n", "f:12: dns: say with name which name the server is asked for"},
		{"no address", head + "  r: {site: pier, role: router, network: [ops], probes: [{icmp: router.example}]}\n", `f:12: icmp: "router.example" is not an IP address`},
		{"no time", head + "  r: {site: pier, role: router, boot: soon}\n", `f:12: "soon" is not a time such as 5s or 2m`},
		{"an unswitched outlet too many", strings.Replace(head, "[4]", "[5]", 1), "f:11: outlets unswitched: there is no outlet 5 among 4"},
		{"a secret forgotten", head + "    endpoints: {card: {protocol: snmp, address: \"192.0.2.1:161\", profile: lab-pdu, network: [ops]}}\n", "f:12: card: secret is missing: name one, and set it with plumb secret set NAME"},
		{"a profile that is not there", head + "    endpoints: {card: {protocol: snmp, address: \"192.0.2.1:161\", profile: other, secret: s, network: [ops]}}\n", `f:12: card profile: "other" is not known: there is entity-sensors, gateway, lab-board, lab-kvm, lab-pdu, lab-strip, poe-switch, switch, ups-mib`},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Parse("f", []byte(c.text))
			var f *Faults
			require.ErrorAs(t, err, &f)
			require.Equal(t, c.want, f.Error())
		})
	}
	e, err := Parse("f", []byte(head))
	require.NoError(t, err)
	require.True(t, e.Device("pdu").Outlets[3].Unswitched)
}

// TestAliasesAreBounded: a small file cannot be made an endless one.
func TestAliasesAreBounded(t *testing.T) {
	text := head + "  r: {site: pier, role: router, tags: &t [" + strings.Repeat("a,", 2000) + "a]}\n"
	for i := range 3000 {
		text += fmt.Sprintf("  r%d: {site: pier, role: router, tags: *t}\n", i)
	}
	_, err := Parse("f", []byte(text))
	require.ErrorContains(t, err, "once its aliases are written out")
}

// TestAnchors: what is the same of several devices may be written once.
func TestAnchors(t *testing.T) {
	e, err := Parse("f", []byte(head+"  r: &r {site: pier, role: router, network: [ops]}\n  s: {<<: *r, role: switch}\n  t: *r\n"))
	require.NoError(t, err)
	require.Equal(t, "switch", e.Device("s").Role)
	require.Len(t, e.Device("t").Network, 1)
	_, err = Parse("f", []byte(head+"  r: &r {site: pier, role: router, colour: red}\n  s: {<<: *r, role: switch}\n"))
	require.ErrorContains(t, err, "unknown key \"colour\"")
}

func TestTheSchemaFits(t *testing.T) {
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(Schema))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("estate.json", doc))
	schema, err := c.Compile("estate.json")
	require.NoError(t, err)
	valid := func(text string) error {
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(text), &v))
		plain, err := json.Marshal(v)
		require.NoError(t, err)
		x, err := jsonschema.UnmarshalJSON(bytes.NewReader(plain))
		require.NoError(t, err)
		return schema.Validate(x)
	}
	require.NoError(t, valid(demo.Estate(demo.Default)))
	require.NoError(t, valid(head))
	require.Error(t, valid(head+"  r: {site: pier, role: router, colour: red}\n"))

	var s struct {
		Properties map[string]struct {
			AdditionalProperties struct{ Properties map[string]any }
		}
	}
	require.NoError(t, json.Unmarshal(Schema, &s))
	for _, k := range keysOf(device{}) {
		require.Contains(t, s.Properties["devices"].AdditionalProperties.Properties, k, "the schema has every key that the reader knows")
	}
}

// TestEveryShapeIsKnown: a complaint about an unknown key lists those that can
// stand there, wherever that is.
func TestEveryShapeIsKnown(t *testing.T) {
	var look func(x reflect.Type)
	look = func(x reflect.Type) {
		switch x.Kind() {
		case reflect.Slice, reflect.Map, reflect.Pointer:
			look(x.Elem())
		case reflect.Struct:
			require.Contains(t, shapes, x.Name())
			for i := range x.NumField() {
				look(x.Field(i).Type)
			}
		}
	}
	look(reflect.TypeFor[file]())
}

func TestDiff(t *testing.T) {
	old, err := Parse("f", []byte(head+"  r: {site: pier, role: router, power: [pdu/1]}\n  gone: {site: pier, role: switch}\n"))
	require.NoError(t, err)
	now, err := Parse("f", []byte(head+"  gate: {site: pier, role: router, was: r, power: [{from: pdu/2, feed: A}]}\n  new: {site: pier, role: switch}\n"))
	require.NoError(t, err)
	var said []string
	for _, c := range estate.Diff(old, now) {
		said = append(said, c.String())
	}
	require.Equal(t, []string{
		"device gate renamed from r", "device gate: power pdu/1 → pdu/2 A", "device new added", "device gone removed",
	}, said)
	require.Empty(t, estate.Diff(now, now))
}

func FuzzParse(f *testing.F) {
	f.Add(head)
	f.Add(demo.Estate(demo.Default))
	f.Add("plumb-estate: 1\ndevices: {a: {power: [{from: b/1, colour: c}]}}")
	f.Add("a: &x [*x]")
	f.Add("!: &x [*x]")
	f.Add("<<: &x [*x]")
	f.Fuzz(func(t *testing.T, text string) {
		e, err := Parse("f", []byte(text))
		var faults *Faults
		if err != nil && !errors.As(err, &faults) || (e == nil) == (err == nil) {
			t.Fatalf("neither an estate nor faults: %v", err)
		}
	})
}
