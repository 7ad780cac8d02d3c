package estatefile

import (
	"encoding/hex"
	"fmt"
	"maps"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/core/keyboard"
	"plumbbob/internal/core/operation"
	"plumbbob/internal/core/plain"
)

// people says where the ways of those begin who ask for something.
func (p *parser) people(list []people, e *estate.Estate) (out []estate.People) {
	for i, x := range list {
		path := []string{"people", fmt.Sprint(i)}
		from, err := netip.ParsePrefix(x.From)
		if err != nil {
			p.fault(append(path, "from"), "people from: %q is not a network such as 198.51.100.0/24", x.From)
		}
		if e.Device(estate.Key(x.Via)) == nil {
			p.fault(append(path, "via"), "people via: there is no device %q: add it under devices, or correct the name", x.Via)
		}
		out = append(out, estate.People{From: from, Via: estate.Key(x.Via)})
	}
	return out
}

// actsHere says that the service which reads the file acts at a site, as it does unless it is said.
const actsHere = "here"

// acting checks who acts at the sites: another service can only be left to act while it is heard.
func (p *parser) acting(e *estate.Estate) {
	for _, s := range e.Sites {
		path := []string{"sites", string(s.Key), "acts"}
		switch d := e.Device(s.Acts); {
		case s.Acts == "":
		case d == nil:
			p.fault(path, "%s acts: there is no device %q: say here, or the device on which the service runs that acts there", s.Key, s.Acts)
		case s.Acts == e.Standpoint:
			p.fault(path, "%s acts: %s is where this service stands: say here", s.Key, s.Acts)
		case len(d.Probes) == 0:
			p.fault(path, "%s acts: %s has no probes, so nobody would know whether the service there still runs: give it one of /healthz", s.Key, s.Acts)
		}
	}
}

func (p *parser) use(path []string, u *use) (out estate.Use) {
	if u == nil {
		return out
	}
	out.Watts, out.Calendar = u.Watts, u.Calendar
	if u.Probe != nil {
		probe := p.probe(append(path, "probe"), *u.Probe)
		out.Probe = &probe
	}
	if u.Calendar != "" && !estate.ValidKey(u.Calendar) {
		p.fault(append(path, "calendar"), "use calendar: %q cannot be a name: use lower-case letters, digits and hyphens", u.Calendar)
	}
	return out
}

// endpointSettings are those that only some protocols take.
var endpointSettings = []struct {
	key string
	set func(endpoint) bool
	of  []estate.Protocol
}{
	{"profile", func(e endpoint) bool { return e.Profile != "" }, []estate.Protocol{estate.SNMP, estate.HTTPAPI}},
	{"pin", func(e endpoint) bool { return e.Pin != "" }, []estate.Protocol{estate.HTTPAPI, estate.SSH, estate.RFB, estate.Camera}},
	{"cipher-suites", func(e endpoint) bool { return e.Suites != nil }, []estate.Protocol{estate.IPMI}},
	{"legacy", func(e endpoint) bool { return e.Legacy }, []estate.Protocol{estate.IPMI}},
	{"shared-port", func(e endpoint) bool { return e.Shared }, []estate.Protocol{estate.IPMI}},
	{"commands", func(e endpoint) bool { return e.Commands != nil }, []estate.Protocol{estate.SSH, estate.Telnet, estate.TTY}},
	{"listen", func(e endpoint) bool { return e.Listen }, talking},
	{"recognise", func(e endpoint) bool { return e.Recognise != nil }, append([]estate.Protocol{estate.RFB}, talking...)},
	{"watch", func(e endpoint) bool { return e.Watch }, []estate.Protocol{estate.RFB, estate.Camera}},
	{"path", func(e endpoint) bool { return e.Path != "" }, []estate.Protocol{estate.Camera}},
	{"shows", func(e endpoint) bool { return e.Shows != "" }, []estate.Protocol{estate.RFB}},
	{"port-keys", func(e endpoint) bool { return e.PortKeys != "" }, []estate.Protocol{estate.RFB}},
	{"prompt", func(e endpoint) bool { return e.Prompt != "" }, []estate.Protocol{estate.Telnet, estate.TTY}},
}

// talking are the protocols that lead to a serial line.
var talking = []estate.Protocol{estate.SSH, estate.Telnet, estate.IPMI, estate.TTY}

// takes says whether a protocol takes a setting.
func takes(key string, protocol estate.Protocol) bool {
	for _, s := range endpointSettings {
		if s.key == key {
			return slices.Contains(s.of, protocol)
		}
	}
	return true
}

// only complains about settings that are for other protocols.
func (p *parser) only(path []string, name string, protocol estate.Protocol, e endpoint) {
	for _, s := range endpointSettings {
		if s.set(e) && !slices.Contains(s.of, protocol) {
			p.fault(append(path, s.key), "%s %s: is for protocol %s only: take it out", name, s.key, anyOf(s.of))
		}
	}
}

// anyOf lists protocols: "snmp, http or ssh".
func anyOf(list []estate.Protocol) string {
	words := make([]string, len(list))
	for i, p := range list {
		words[i] = string(p)
	}
	if last := len(words) - 1; last > 0 {
		return strings.Join(words[:last], ", ") + " or " + words[last]
	}
	return words[0]
}

const maxPrompt = 200

// prompt is a regular expression for what stands at the end of a prompt.
func (p *parser) prompt(path []string, name, s string) string {
	if _, err := regexp.Compile(s); err != nil || len(s) > maxPrompt {
		p.fault(append(path, "prompt"), "%s prompt: %q is not a regular expression of up to %d bytes, such as '\\w+ ready:'", name, s, maxPrompt)
	}
	return s
}

// path is where the pictures of a camera are.
func (p *parser) path(path []string, name, s string) string {
	if s == "" {
		return "/"
	}
	if u, err := url.Parse(s); err != nil || !strings.HasPrefix(s, "/") || strings.HasPrefix(s, "//") || u.Fragment != "" || len(s) > maxPath {
		p.fault(append(path, "path"), "%s path: %q is no path on a web server: write /picture.jpg", name, s)
	}
	return s
}

const (
	maxPath     = 500
	maxPortKeys = 200
	portBlank   = "{port}"
)

// portKeys are keys that have a KVM show a port.
func (p *parser) portKeys(path []string, name, s string) string {
	at := append(path, "port-keys")
	if _, err := keyboard.Row(strings.ReplaceAll(s, portBlank, "1")); s != "" && err != nil {
		p.fault(at, "%s port-keys: %s", name, err)
	}
	if s != "" && (!strings.Contains(s, portBlank) || len(s) > maxPortKeys) {
		p.fault(at, "%s port-keys: write {port} where the number of the port is pressed, as in \"scroll-lock scroll-lock {port}\"", name)
	}
	return s
}

const (
	maxPatterns    = 20
	maxPatternName = 40
)

// recognise is what a serial line may say that is worth knowing, by name.
func (p *parser) recognise(path []string, name string, list map[string]string) map[string]string {
	if len(list) > maxPatterns {
		p.fault(append(path, "recognise"), "%s recognise: %d patterns are more than the %d that are looked for", name, len(list), maxPatterns)
	}
	for what, match := range list {
		at := append(path, "recognise", what)
		if _, err := regexp.Compile(match); err != nil || match == "" || len(match) > maxPrompt {
			p.fault(at, "%s recognise %s: %q is not a regular expression of up to %d bytes, such as 'ring \\d+ lost'", name, what, match, maxPrompt)
		}
		if what == "" || len(what) > maxPatternName || plain.Line(what) != what {
			p.fault(at, "%s recognise: %q is no name: write up to %d characters on one line", name, what, maxPatternName)
		}
	}
	return list
}

// commandKinds are the operations for which a command can be stated, and the choice of a port.
var commandKinds = []string{string(operation.Reset), string(operation.Shutdown), string(operation.Sleep), estate.PortCommand}

const maxCommand = 500

// commands are what is typed on a command line, by the kind of operation.
func (p *parser) commands(path []string, name string, list map[string]string) map[string]string {
	for _, kind := range slices.Sorted(maps.Keys(list)) {
		at := append(path, "commands", kind)
		switch {
		case !slices.Contains(commandKinds, kind):
			p.fault(at, "%s commands: %q is not known: there can be a command for %s", name, kind, strings.Join(commandKinds, ", "))
		case list[kind] == "" || len(list[kind]) > maxCommand || strings.ContainsAny(list[kind], "\n\r\x00"):
			p.fault(at, "%s commands %s: write the command, on one line of up to %d bytes", name, kind, maxCommand)
		case kind == estate.PortCommand && !strings.Contains(list[kind], portBlank):
			p.fault(at, "%s commands port: write {port} where the number of the port stands, as in \"show port {port}\"", name)
		}
	}
	return list
}

// pin is a SHA-256, with or without colons.
func (p *parser) pin(path []string, name, s string) string {
	pin := strings.ToLower(strings.ReplaceAll(s, ":", ""))
	if raw, err := hex.DecodeString(pin); s != "" && (err != nil || len(raw) != 32) {
		p.fault(append(path, "pin"), "%s pin: %q is not the SHA-256 of a certificate or a host key: 64 hexadecimal digits", name, s)
	}
	return pin
}
