// Package estatefile reads the estate from YAML: a format of our own, described
// by estate.schema.json. Every complaint names the line and what to do.
package estatefile

import (
	_ "embed" // for the schema
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/profile"
)

// Schema is the JSON Schema of the format, for editors.
//
//go:embed estate.schema.json
var Schema []byte

// Version is the version of the format that this package reads.
const Version = 1

// MaxSize bounds what is read of a file: a larger one is a mistake.
const MaxSize = 8 << 20

// What is assumed when the file does not say.
const (
	DefaultEvery        = 5 * time.Second
	DefaultScreenEvery  = time.Minute // asking is a log-in, and screens have room for few
	DefaultProbeTimeout = 2 * time.Second
	DefaultPollTimeout  = 3 * time.Second
	DefaultSensors      = 30 * time.Second
	minEvery            = time.Second
	maxOutlets          = 256
)

// A Fault is one thing that is wrong in a file, and where.
type Fault struct {
	Line int // 1 is the first; 0 when the whole file is meant
	Text string
}

// Faults is everything that is wrong in one file. It is never empty.
type Faults struct {
	File string
	List []Fault
}

func (f *Faults) Error() string {
	lines := make([]string, len(f.List))
	for i, x := range f.List {
		lines[i] = fmt.Sprintf("%s:%d: %s", f.File, x.Line, x.Text)
	}
	return strings.Join(lines, "\n")
}

// The file as it is written. Maps keep no order, so that is read separately.
type (
	file struct {
		Format     int               `yaml:"plumb-estate"`
		Name       string            `yaml:"name"`
		Standpoint string            `yaml:"standpoint"`
		Sites      map[string]site   `yaml:"sites"`
		Devices    map[string]device `yaml:"devices"`
		People     []people          `yaml:"people"`
	}
	site struct {
		Name string `yaml:"name"`
		Kind string `yaml:"kind"`
		Zone string `yaml:"zone"`

		Hourly int    `yaml:"operations-per-hour"`
		Acts   string `yaml:"acts"`
	}
	people struct {
		From string `yaml:"from"`
		Via  string `yaml:"via"`
	}
	device struct {
		Was        string              `yaml:"was"`
		Site       string              `yaml:"site"`
		Role       string              `yaml:"role"`
		Title      string              `yaml:"title"`
		Place      string              `yaml:"place"`
		Tags       []string            `yaml:"tags"`
		Notes      string              `yaml:"notes"`
		Guarded    bool                `yaml:"guarded"`
		Essential  *bool               `yaml:"essential"`
		Idle       float64             `yaml:"idle"`
		Asleep     float64             `yaml:"asleep"`
		Boot       duration            `yaml:"boot"`
		NeedsFeeds int                 `yaml:"needs-feeds"`
		Power      []powerCable        `yaml:"power"`
		Network    []string            `yaml:"network"`
		Outlets    outlets             `yaml:"outlets"`
		Endpoints  map[string]endpoint `yaml:"endpoints"`
		Probes     []probe             `yaml:"probes"`

		PoE    sources  `yaml:"poe"`
		DC     sources  `yaml:"dc"`
		USB    sources  `yaml:"usb"`
		Slots  sources  `yaml:"slots"`
		Inlet  *inlet   `yaml:"inlet"`
		UPS    *ups     `yaml:"ups"`
		Wake   *wake    `yaml:"wake"`
		Video  []string `yaml:"video"`
		Serial []string `yaml:"serial"`
		Panel  []string `yaml:"panel"`
		Inrush float64  `yaml:"inrush"`
		Use    *use     `yaml:"use"`
		Needs  []string `yaml:"needs"`
	}
	outlets struct {
		Count      whole          `yaml:"count"`
		Unswitched []int          `yaml:"unswitched"`
		Names      map[int]string `yaml:"names"`
		Banks      []bank         `yaml:"banks"`
	}
	sources struct {
		Count whole          `yaml:"count"`
		Names map[int]string `yaml:"names"`
	}
	bank struct {
		Name    string  `yaml:"name"`
		Outlets []int   `yaml:"outlets"`
		Rating  float64 `yaml:"rating"`
		Phase   string  `yaml:"phase"`
		Whole   bool    `yaml:"whole"`
	}
	inlet struct {
		Rating float64 `yaml:"rating"`
		Volts  float64 `yaml:"volts"`
	}
	ups struct {
		Rating   float64 `yaml:"rating"`
		Low      float64 `yaml:"low-minutes"`
		Shutdown float64 `yaml:"shutdown-minutes"`
	}
	wake struct {
		MAC       string `yaml:"mac"`
		Broadcast string `yaml:"broadcast"`
		Secret    string `yaml:"secret"`
	}
	endpoint struct {
		Protocol  string   `yaml:"protocol"`
		Address   string   `yaml:"address"`
		Addresses []string `yaml:"addresses"`
		Profile   string   `yaml:"profile"`
		Pin       string   `yaml:"pin"`
		Secret    string   `yaml:"secret"`
		Every     duration `yaml:"every"`
		Timeout   duration `yaml:"timeout"`
		Network   []string `yaml:"network"`
		Sensors   duration `yaml:"sensors"`
		Suites    []int    `yaml:"cipher-suites"`
		Legacy    bool     `yaml:"legacy"`
		Shared    bool     `yaml:"shared-port"`

		Commands map[string]string `yaml:"commands"`
		Prompt   string            `yaml:"prompt"`

		Listen    bool              `yaml:"listen"`
		Recognise map[string]string `yaml:"recognise"`

		Watch    bool   `yaml:"watch"`
		Path     string `yaml:"path"`
		Shows    string `yaml:"shows"`
		PortKeys string `yaml:"port-keys"`
	}
	probe struct {
		ICMP    string   `yaml:"icmp"`
		TCP     string   `yaml:"tcp"`
		HTTP    string   `yaml:"http"`
		TLS     string   `yaml:"tls"`
		DNS     string   `yaml:"dns"`
		UDP     string   `yaml:"udp"`
		Must    bool     `yaml:"must"`
		Every   duration `yaml:"every"`
		Timeout duration `yaml:"timeout"`

		Status      int    `yaml:"status"`
		Text        string `yaml:"text"`
		Name        string `yaml:"name"`
		Answer      string `yaml:"answer"`
		Certificate bool   `yaml:"certificate"`
		Days        int    `yaml:"days"`
	}
	use struct {
		Probe    *probe  `yaml:"probe"`
		Watts    float64 `yaml:"watts"`
		Calendar string  `yaml:"calendar"`
	}
	powerCable struct {
		From string `yaml:"from"`
		Feed string `yaml:"feed"`
	}
	duration time.Duration
)

// UnmarshalYAML reads "outlet" as well as {from: outlet, feed: A}.
func (c *powerCable) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		c.From = n.Value
		return nil
	}
	type plain powerCable // without this method
	if n.Kind == yaml.MappingNode {
		for i := 0; i < len(n.Content); i += 2 {
			if k := n.Content[i]; k.Value != "from" && k.Value != "feed" {
				return &yaml.TypeError{Errors: []string{fmt.Sprintf("line %d: field %s not found in type estatefile.powerCable", k.Line, k.Value)}}
			}
		}
	}
	return n.Decode((*plain)(c))
}

// UnmarshalYAML reads "5s" or "2m30s".
func (d *duration) UnmarshalYAML(n *yaml.Node) error {
	v, err := time.ParseDuration(n.Value)
	if err != nil || v < 0 {
		return &yaml.TypeError{Errors: []string{fmt.Sprintf("line %d: %q is not a time such as 5s or 2m", n.Line, n.Value)}}
	}
	*d = duration(v)
	return nil
}

// Read reads a whole estate. The error is a *Faults, or that of r.
func Read(name string, r io.Reader) (*estate.Estate, error) {
	text, err := io.ReadAll(io.LimitReader(r, MaxSize+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if len(text) > MaxSize {
		return nil, &Faults{name, []Fault{{0, fmt.Sprintf("is larger than %d MiB: that cannot be an estate", MaxSize>>20)}}}
	}
	return Parse(name, text)
}

// Parse reads an estate from text. The error is a *Faults; name stands in it.
func Parse(name string, text []byte) (*estate.Estate, error) {
	p := parser{index: map[*yaml.Node]map[string]int{}, faults: Faults{File: name}}
	e := p.parse(text)
	if len(p.faults.List) > 0 {
		slices.SortStableFunc(p.faults.List, func(a, b Fault) int { return a.Line - b.Line })
		return nil, &p.faults
	}
	return e, nil
}

// Recall reads an estate that was accepted once, perhaps by another version of this
// program, or with a profile that has gone since: one bad device spoils only itself,
// and what hangs from it. Nil when nothing of it can be read; what was left out, or
// is not right any more, is in the faults, which are nil when there are none.
func Recall(name string, text []byte) (*estate.Estate, *Faults) {
	p := parser{index: map[*yaml.Node]map[string]int{}, faults: Faults{File: name}, lenient: true}
	e := p.parse(text)
	if len(p.faults.List) == 0 {
		return e, nil
	}
	return e, &p.faults
}

type parser struct {
	root    yaml.Node
	index   map[*yaml.Node]map[string]int // where in a mapping a key is
	faults  Faults
	lenient bool // devices that cannot be are left out
}

func (p *parser) parse(text []byte) *estate.Estate {
	if line, bad := notUTF8(text); bad {
		p.faults.List = append(p.faults.List, Fault{line, "has bytes that are not UTF-8: save the file as UTF-8"})
		return nil
	}
	f := p.decode(text)
	if f == nil {
		return nil
	}
	if f.Format != Version {
		p.fault([]string{"plumb-estate"}, "the file must begin with plumb-estate: %d, the version of its format", Version)
		return nil
	}
	var sites []estate.Site
	for _, k := range p.keys("sites") {
		sites = append(sites, p.site(k, f.Sites[k]))
	}
	var devices []estate.Device
	for _, k := range p.keys("devices") {
		devices = append(devices, p.device(k, f.Devices[k]))
	}
	e, problems := estate.New(f.Name, estate.Key(f.Standpoint), sites, devices)
	p.problems(problems)
	for p.lenient && e == nil {
		left := without(devices, problems)
		if len(left) == len(devices) {
			return nil // it is not about devices
		}
		devices = left
		e, problems = estate.New(f.Name, estate.Key(f.Standpoint), sites, devices)
		p.problems(problems)
	}
	if e != nil {
		e.People = p.people(f.People, e)
		p.acting(e)
	}
	return e
}

func (p *parser) problems(list []estate.Problem) {
	for _, x := range list {
		p.fault(x.Path, "%s: %s", p.words(x.Path), x.Text)
	}
}

// without leaves out the devices that problems are about.
func without(devices []estate.Device, problems []estate.Problem) []estate.Device {
	bad := map[estate.Key]bool{}
	for _, x := range problems {
		if len(x.Path) > 1 && x.Path[0] == "devices" {
			bad[estate.Key(x.Path[1])] = true
		}
	}
	return slices.DeleteFunc(slices.Clone(devices), func(d estate.Device) bool { return bad[d.Key] })
}

func (p *parser) site(k string, s site) estate.Site {
	path := []string{"sites", k}
	p.key(path, k)
	zone := time.UTC
	if s.Zone != "" {
		z, err := time.LoadLocation(s.Zone)
		if err != nil {
			p.fault(append(path, "zone"), "%s zone: %q is not a time zone such as Atlantic/Faroe", k, s.Zone)
		} else {
			zone = z
		}
	}
	p.plain(append(path, "name"), k+" name", s.Name)
	p.atLeast(append(path, "operations-per-hour"), k+" operations-per-hour", float64(s.Hourly), 0)
	out := estate.Site{Key: estate.Key(k), Name: s.Name, Kind: s.Kind, Zone: zone, Hourly: max(0, s.Hourly)}
	if s.Acts != actsHere {
		out.Acts = estate.Key(s.Acts)
	}
	return out
}

func (p *parser) device(k string, d device) estate.Device {
	path := []string{"devices", k}
	p.key(path, k)
	out := estate.Device{
		Key: estate.Key(k), Was: estate.Key(d.Was), Site: estate.Key(d.Site), Role: d.Role, Title: d.Title, Place: d.Place,
		Tags: d.Tags, Notes: d.Notes, Guarded: d.Guarded, Essential: d.Essential == nil || *d.Essential,
		IdleW: d.Idle, SleepW: d.Asleep, Boot: time.Duration(d.Boot), NeedsFeeds: d.NeedsFeeds,
		InrushW: d.Inrush, Use: p.use(append(path, "use"), d.Use),
	}
	p.sound(path, k, d)
	if d.Role == "" {
		p.fault(path, "%s: role is missing: say what it is, such as router, switch, pdu or server", k)
	}
	for i, c := range d.Power {
		out.Power = append(out.Power, estate.PowerCable{From: p.end(append(path, "power", fmt.Sprint(i)), c.From), Feed: c.Feed})
	}
	for _, n := range d.Needs {
		out.Needs = append(out.Needs, estate.Key(n))
	}
	out.Network = p.network(append(path, "network"), d.Network)
	p.sources(path, d, &out)
	for _, name := range p.keys("devices", k, "endpoints") {
		ep := p.endpoint(append(path, "endpoints", name), name, d.Endpoints[name])
		if out.OverSerial(ep) && len(ep.Network) == 0 { // the way to a serial port is the way to what it is plugged into
			for _, end := range out.Serial {
				ep.Network = append(ep.Network, estate.NetworkCable{Via: estate.End{Device: end.Device}})
			}
		}
		out.Endpoints = append(out.Endpoints, ep)
	}
	for i, pr := range d.Probes {
		out.Probes = append(out.Probes, p.probe(append(path, "probes", fmt.Sprint(i)), pr))
	}
	return out
}

func (p *parser) endpoint(path []string, name string, e endpoint) estate.Endpoint {
	addresses := e.Addresses
	if e.Address != "" {
		addresses = append([]string{e.Address}, addresses...)
	}
	if len(addresses) == 0 {
		p.fault(path, "%s: address is missing: add address: HOST:PORT", name)
	}
	for _, a := range addresses {
		p.address(append(path, "address"), estate.Protocol(e.Protocol), a)
	}
	if e.Secret == "" && !withoutLogin(e) {
		p.fault(path, "%s: secret is missing: name one, and set it with plumb secret set NAME", name)
	}
	out := estate.Endpoint{
		Name: name, Protocol: estate.Protocol(e.Protocol), Addresses: addresses, Profile: e.Profile, Secret: e.Secret,
		Every: p.every(path, e.Every), Timeout: orElse(e.Timeout, DefaultPollTimeout),
		Network: p.network(append(path, "network"), e.Network), Sensors: orElse(e.Sensors, DefaultSensors),
	}
	if e.Every == 0 && out.Gives(estate.GivesScreen) {
		out.Every = DefaultScreenEvery
	}
	if !slices.Contains(estate.Protocols, out.Protocol) {
		p.fault(append(path, "protocol"), "%s protocol: %q is not known: it can be %s", name, e.Protocol, anyOf(estate.Protocols))
		return out
	}
	p.only(path, name, out.Protocol, e)
	if takes("profile", out.Protocol) {
		p.profile(path, name, out, e)
	}
	out.Pin, out.Prompt = p.pin(path, name, e.Pin), p.prompt(path, name, e.Prompt)
	out.Suites, out.Legacy, out.Shared = p.suites(path, name, e.Suites), e.Legacy, e.Shared
	out.Commands = p.commands(path, name, e.Commands)
	if out.Protocol == estate.Camera {
		out.Path = p.path(path, name, e.Path)
	}
	out.Watch, out.Shows, out.PortKeys = e.Watch, e.Shows, p.portKeys(path, name, e.PortKeys)
	out.Listen, out.Recognise = e.Listen, p.recognise(path, name, e.Recognise)
	return out
}

// withoutLogin: gear that need not ask who comes.
func withoutLogin(e endpoint) bool {
	if (estate.Endpoint{Protocol: estate.Protocol(e.Protocol)}).Local() && len(e.Commands) == 0 {
		return true // who sits at the line logs in
	}
	if (estate.Endpoint{Protocol: estate.Protocol(e.Protocol)}).Gives(estate.GivesScreen) {
		return true // there are those that let everybody in
	}
	x, err := profile.Find(e.Profile)
	return err == nil && e.Protocol == profile.HTTP && !x.TakesSecret()
}

// suites are those that may be allowed; 17 and 3 always are, and 0 never.
func (p *parser) suites(path []string, name string, list []int) []int {
	for _, s := range list {
		if !slices.Contains([]int{1, 2, 15, 16}, s) {
			p.fault(append(path, "cipher-suites"), "%s cipher-suites: %d cannot be allowed: 17 and 3 always are, and of the weak ones 16, 2, 15 and 1 can be", name, s)
		}
	}
	return list
}

func (p *parser) every(path []string, d duration) time.Duration {
	if d != 0 && time.Duration(d) < minEvery {
		p.fault(append(path, "every"), "every: %s is too often: %s is the least", time.Duration(d), minEvery)
	}
	return orElse(d, DefaultEvery)
}

func (p *parser) network(path []string, via []string) []estate.NetworkCable {
	var out []estate.NetworkCable
	for i, v := range via {
		out = append(out, estate.NetworkCable{Via: p.end(append(path, fmt.Sprint(i)), v)})
	}
	return out
}

func (p *parser) end(path []string, s string) estate.End {
	e, err := estate.ParseEnd(s)
	if err != nil {
		p.fault(path, "%s", err)
	}
	return e
}

func (p *parser) key(path []string, k string) {
	if !estate.ValidKey(k) {
		p.fault(path, "%q cannot be a key: use lower-case letters, digits and hyphens, 63 at the most", k)
	}
}

func orElse(d duration, otherwise time.Duration) time.Duration {
	if d == 0 {
		return otherwise
	}
	return time.Duration(d)
}
