package profile

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestBuiltin(t *testing.T) {
	require.Subset(t, Names(), []string{"lab-pdu", "lab-strip", "ups-mib", "poe-switch", "switch", "entity-sensors"})
	for _, name := range Names() {
		p, err := Find(name)
		require.NoError(t, err)
		require.Equal(t, name, p.Name)
		text, ok := Text(name)
		require.True(t, ok)
		require.Contains(t, text, "plumb-profile: 1")
	}
	p, err := Find("lab-pdu")
	require.NoError(t, err)
	require.True(t, p.CyclesItself())
	require.Equal(t, time.Second, p.Settle())
	require.Equal(t, "1.3.6.1.4.1.32473.77.1.3.1.8.3", p.Outlets.OID(p.Outlets.Power, 3))
	require.InDelta(t, 11.2, p.Outlets.Power.Worth(112), 1e-9)
	require.InDelta(t, 7.0, p.Outlets.OnDelay.Worth(7), 0, "no scale is one")
	require.Equal(t, "as before", p.Outlets.AfterLoss.Says("3"))
	require.Equal(t, "9", p.Outlets.AfterLoss.Says("9"), "what it has no word for it says itself")
	raw, ok := p.Outlets.AfterLoss.Raw("off")
	require.True(t, ok)
	require.Equal(t, "1", raw)
	for _, bad := range []string{"nobody", "../lab-pdu", "lab-pdu.yaml", ""} {
		_, err := Find(bad)
		require.Error(t, err, bad)
	}
}

func TestLibrary(t *testing.T) {
	p, err := Parse("f", []byte(goodSNMP))
	require.NoError(t, err)
	require.NoError(t, Add(p))
	found, err := Find("x")
	require.NoError(t, err)
	require.Same(t, p, found)
	require.False(t, Builtin("x"))
	Remove("x")
	_, err = Find("x")
	require.Error(t, err)
	Remove("lab-pdu")
	p, err = Find("lab-pdu")
	require.NoError(t, err, "what came with the program stays")
	require.ErrorContains(t, Add(p), "give yours another name")
}

const (
	goodSNMP = "plumb-profile: 1\nname: x\nprotocol: snmp\noutlets: {entry: 1.3.6.1, on: {column: 4, yes: 1}}\n"
	lights   = "panel: {leads: 1, power: {page: all, at: /x, yes: on}"
	headHTTP = "plumb-profile: 1\nname: x\nprotocol: http\npages: {all: /all}\n"
	goodHTTP = headHTTP + "outlets: {count: 2, on: {page: all, at: \"/o/{n}/on\", yes: true}, command: {on: {method: PUT, path: /o}, off: {method: PUT, path: /o}}}\n"
)

func TestParseRefuses(t *testing.T) {
	for _, good := range []string{goodSNMP, goodHTTP} {
		_, err := Parse("f", []byte(good))
		require.NoError(t, err)
	}
	const head = "plumb-profile: 1\nname: x\nprotocol: snmp\n"
	for text, want := range map[string]string{
		"":                                   "is empty",
		"plumb-profile: 2\n":                 "it must begin with plumb-profile: 1",
		"plumb-profile: 1\nprotocol: snmp\n": "cannot be the name of a profile",
		"plumb-profile: 1\nname: x\n":        `protocol: "" is not known: it can be snmp or http`,
		head:                                 "it maps nothing",
		goodSNMP + "colour: red\n":           "there is no key colour here",
		head + "standard: [magic]\n":         `standard: "magic" is not known`,
		head + "pages: {a: /a}\nstandard: [ups]\n":                                                                                                 "pages and login: are for protocol http only",
		head + "outlets: {entry: one, on: {column: 4, yes: 1}}\n":                                                                                  `outlets entry: "one" is not an object identifier`,
		head + "outlets: {entry: 1.3}\n":                                                                                                           "outlets on: is missing",
		head + "outlets: {entry: 1.3, on: {column: 4}}\n":                                                                                          "say which value means on",
		head + "standard: [ups]\ntotals: {power: {oid: x}}\n":                                                                                      `totals power: oid: "x" is not an object identifier`,
		head + "outlets: {entry: 1.3, on: {column: 1, yes: 1}, takes: a while}\n":                                                                  `"a while" is not a time`,
		head + "outlets: {entry: 1.3, on: {column: 1, yes: 1}, name: {page: all, at: /x}}\n":                                                       "page, at, find and set are for protocol http only",
		head + "outlets: {entry: 1.3, on: {column: 1, yes: 1}, after-loss: {column: 2, words: {1: perhaps}}}\n":                                    `"perhaps" is not known`,
		head + "outlets: {entry: 1.3, on: {column: 1, yes: 1}, command: {on: 1, off: 2}}\n":                                                        "say to which column",
		head + "sensors: [{name: a, value: {oid: 1.3}}]\n":                                                                                         "it needs a name, a kind and a value",
		head + "meters: [{kind: leg, current: {oid: 1.3}}]\n":                                                                                      `"leg" is not known`,
		headHTTP + "outlets: {count: 2, on: {page: other, at: /x, yes: 1}}\n":                                                                      `page: "other" is not among the pages`,
		headHTTP + "outlets: {count: 2, on: {page: all, at: x, yes: 1}}\n":                                                                         `"x" is not a JSON pointer`,
		headHTTP + "outlets: {count: 2, on: {page: all, find: 'a b', yes: 1}}\n":                                                                   "exactly one group",
		headHTTP + "outlets: {count: 2, on: {page: all, find: '(', yes: 1}}\n":                                                                     "find: error parsing regexp",
		headHTTP + "outlets: {count: 9, on: {page: all, find: '([{n}-5])', yes: 1}}\n":                                                             "find: for outlet 6: error parsing regexp: invalid character class range",
		headHTTP + "outlets: {count: 2, on: {page: all, find: '((a{30}){30})', yes: 1}}\n":                                                         "steps once its repetitions are written out",
		headHTTP + "outlets: {on: {page: all, at: /x, yes: 1}}\n":                                                                                  "outlets rows: is missing",
		headHTTP + "outlets: {count: 2, on: {page: all, at: /x, yes: 1}, command: {on: 1, off: 2}}\n":                                              "it needs a method and a path",
		headHTTP + "outlets: {count: 2, on: {page: all, at: /x, yes: 1}, command: {on: {method: SING, path: /x}, off: {method: PUT, path: /x}}}\n": `method: "SING" is not known`,
		headHTTP + "login: {kind: charm}\noutlets: {count: 2, on: {page: all, at: /x, yes: 1}}\n":                                                  `login kind: "charm" is not known`,
		headHTTP + "login: {kind: header}\noutlets: {count: 2, on: {page: all, at: /x, yes: 1}}\n":                                                 "login header: is missing",
		head + "panel: {leads: 1}\n":                                                                                                               "panel: is for protocol http only",
		headHTTP + "panel: {leads: 0}\n":                                                                                                           "panel leads: 0 is not between 1 and 64",
		headHTTP + "panel: {leads: 1}\n":                                                                                                           "a button that cannot be watched is not pressed",
		headHTTP + "panel: {leads: 1, power: {page: all, at: /x}}\n":                                                                               "with yes which value means on",
		headHTTP + lights + "}\n":                                                                                                                  "panel press: it needs a method and a path",
		headHTTP + lights + ", press: {method: PUT, path: /x}}\n":                                                                                  "say what the gear calls the power button",
		headHTTP + lights + ", press: {method: PUT, path: /x}, buttons: {power: p, turbo: t}}\n":                                                   `"turbo" is not known: it can be power or reset`,
		headHTTP + lights + ", press: {method: PUT, path: x}, buttons: {power: p}}\n":                                                              `panel press path: "x" does not begin with /`,
		head + "keyboard: {plugged: {oid: 1.3}}\n":                                                                                                 "keyboard: is for protocol http only",
		headHTTP + "keyboard: {plug: {method: PUT, path: /x}}\n":                                                                                   "so that none is left out",
		headHTTP + "keyboard: {plugged: {page: all, at: /x}}\n":                                                                                    "keyboard plugged: yes: is missing",
		headHTTP + "keyboard: {plugged: {page: all, at: /x, yes: a}}\n":                                                                            "keyboard plug: it needs a method and a path",
		head + "display: {is: {oid: 1.3}}\n":                                                                                                       "display: is for protocol http only",
		headHTTP + "display: {offers: {page: all, at: /x}, is: {page: all, at: /x}}\n":                                                             "with set how it is told to be another",
		headHTTP + "display: {is: {page: all, at: /x}}\n":                                                                                          "display offers: say with page and at",
		headHTTP + "channel: {ports: 2, show: {method: PUT, path: /x}}\n":                                                                          "channel shown: is missing",
		headHTTP + "channel: {ports: 2, shown: {page: all, at: /x}}\n":                                                                             "channel show: it needs a method and a path",
		headHTTP + "channel: {ports: 99, shown: {page: all, at: /x}, show: {method: PUT, path: /x}}\n":                                             "channel ports: 99 is not between 1 and 64",
	} {
		_, err := Parse("f", []byte(text))
		require.ErrorContains(t, err, want)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(goodSNMP))
	f.Add([]byte(goodHTTP))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := Parse("f", text)
		if (p == nil) == (err == nil) {
			t.Fatal("neither a profile nor an error")
		}
	})
}
