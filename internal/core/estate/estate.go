// Package estate is the model of everything that is looked after: sites,
// devices, their management endpoints, and the cables between them.
//
//	estate.go    the things, and New, which refuses an estate that cannot be true
//	check.go     what New refuses, and where it stands
//	protocol.go  what endpoints give
//	reach.go     the network graph: what a device is reached through
//	end.go       what is at an end of a cable, or is switched
//	source.go    what power can be taken from: outlets, PoE ports, a UPS
//	power.go     the power graph: what a device is fed from, and what a cut takes down
//
// An Estate does not change once it is made: a new import makes a new one.
package estate

import (
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Key is the name by which people know a device or a site, such as
// "skarvoe-router". Lower case, digits and hyphens; unique in the estate.
type Key string

// Utility stands for the mains, where every power line begins.
const Utility Key = "utility"

// ValidKey says whether s may be the key of a device or a site.
func ValidKey(s string) bool {
	if s == "" || len(s) > 63 || s[0] == '-' || s[len(s)-1] == '-' {
		return false
	}
	for _, c := range s {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '-' {
			return false
		}
	}
	return true
}

// A Site is a place, with its time zone.
type Site struct {
	Key    Key
	Name   string
	Kind   string         // in words: "pier", "office"
	Zone   *time.Location // never nil
	Hourly int            // how many operations within an hour are not too many; 0: DefaultHourly
	Acts   Key            // the device on which the service runs that acts there; empty: this one does
}

// DefaultHourly is how many operations at one site within an hour are taken to
// be meant.
const DefaultHourly = 60

// People says where the ways of those begin who come from a network.
type People struct {
	From netip.Prefix
	Via  Key
}

// A Device is one box.
type Device struct {
	Key   Key
	Was   Key // the key that it had before, when it has been renamed
	Site  Key
	Role  string
	Title string // what it is, in words: "ticket kiosk"
	Place string // rack and unit, or words
	Tags  []string
	Notes string

	Guarded   bool          // not cut unless its name is typed
	Essential bool          // not to be shed on battery
	IdleW     float64       // a draw at or below this many watts is no sign of life
	SleepW    float64       // a draw of up to so many watts, but some, says that it sleeps
	Boot      time.Duration // how long it may take from power to its first answer
	InrushW   float64       // what it takes for a moment when power returns; 0: not known
	Use       Use
	Needs     []Key // what has to be up before it starts, beside what it hangs from

	NeedsFeeds int // how many of its feeds it runs on at the least
	Power      []PowerCable
	Network    []NetworkCable // of its production side; several mean that any is enough
	Outlets    []Outlet       // of all kinds of source
	Banks      []Bank
	Inlet      Inlet
	Supply     *Supply // of a UPS
	Wake       *Wake
	Endpoints  []Endpoint
	Probes     []Probe

	// The boxes through which its screen, its console and its buttons are reached.
	Video, Serial, Panel []End

	index int
}

// Index is the place of a device among those of its estate.
func (d *Device) Index() int { return d.index }

// A PowerCable leads from an outlet, or from the utility, to the device.
type PowerCable struct {
	From End
	Feed string // "A", "B"
}

// A NetworkCable leads to the device through which this side is reached.
type NetworkCable struct{ Via End }

// An Endpoint is one management address of a device.
type Endpoint struct {
	Name      string
	Protocol  Protocol
	Addresses []string // in order of preference, host:port
	Profile   string   // of SNMP and HTTP
	Pin       string   // SHA-256 of the certificate (HTTP over TLS) or of the host key (SSH), in hexadecimal digits
	Secret    string   // the name of a secret, never its value
	Every     time.Duration
	Timeout   time.Duration
	Network   []NetworkCable

	Sensors time.Duration // how often the sensors are read

	// Of SSH and Telnet: what is typed on the command line for each kind of operation.
	Commands map[string]string
	Prompt   string // of Telnet: a regular expression for the end of its prompt

	// Of SSH, Telnet and IPMI: the serial line.
	Listen    bool              // it is listened to while nobody sits at it
	Recognise map[string]string // what it may say beside the usual: regular expressions by name

	// Of RFB and cameras: the screen.
	Watch bool   // it is watched while nobody sits at it
	Path  string // of a camera: where its pictures are, from /

	// Of RFB, at a KVM with several ports.
	Shows    string // the port that it shows; empty: whichever the KVM is told to show
	PortKeys string // the keys that choose one, where nothing else does: {port} is its number

	// Of IPMI.
	Suites []int // cipher suites that are allowed beside 17 and 3
	Legacy bool  // IPMI 1.5 is allowed
	Shared bool  // it shares the host's network port
}

// ProbeKind says what a probe asks.
type ProbeKind string

// The questions that a probe can ask of a production address.
const (
	ICMP ProbeKind = "icmp" // echo request
	TCP  ProbeKind = "tcp"  // connect
	HTTP ProbeKind = "http" // GET, answered with any status below 500
	TLS  ProbeKind = "tls"  // handshake
	DNS  ProbeKind = "dns"  // a name that a server is asked for
	UDP  ProbeKind = "udp"  // echo (RFC 862)
)

// A Probe is one repeated question to a device's production side.
type Probe struct {
	Kind    ProbeKind
	Target  string // an address, host:port, or a URL
	Expect  Expect // beside an answer
	Must    bool   // without it the device does not count as answering
	Every   time.Duration
	Timeout time.Duration
}

// Expect is what an answer has to be. Zero values are not looked at.
type Expect struct {
	Status      int    // of HTTP
	Text        string // that the page has in it
	Name        string // that is asked for, of DNS; that the certificate is for, of TLS
	Answer      string // an address that is among the answers of DNS
	Certificate bool   // it is good: signed by somebody whom this machine trusts, for the name, and in time
	Days        int    // that it is good for yet
}

// String names the probe as people do: "ICMP", "TCP 22".
func (p Probe) String() string {
	kind := strings.ToUpper(string(p.Kind))
	if p.Kind == TCP || p.Kind == TLS || p.Kind == UDP {
		if i := strings.LastIndexByte(p.Target, ':'); i >= 0 {
			return kind + " " + p.Target[i+1:]
		}
	}
	return kind
}

// Use is what shows that somebody is working with a device now. Zero values are
// not looked at.
type Use struct {
	Probe    *Probe  // it is answered while somebody does
	Watts    float64 // it draws more than this while somebody does
	Calendar string  // the name of a calendar in which the times are
}

// Questions are all that a device's production side is asked: its probes, and
// behind them the one that shows whether it is in use.
func (d *Device) Questions() []Probe {
	if d.Use.Probe == nil {
		return d.Probes
	}
	return append(slices.Clip(d.Probes), *d.Use.Probe)
}

// Words returns the device's title, or its role when it has none.
func (d *Device) Words() string {
	if d.Title != "" {
		return d.Title
	}
	return d.Role
}

// Endpoint returns the endpoint with that name.
func (d *Device) Endpoint(name string) (Endpoint, bool) {
	i := slices.IndexFunc(d.Endpoints, func(e Endpoint) bool { return e.Name == name })
	if i < 0 {
		return Endpoint{}, false
	}
	return d.Endpoints[i], true
}

// Estate is all of it, indexed, and known to be free of contradictions.
type Estate struct {
	Name       string
	Standpoint Key
	People     []People
	Sites      []Site
	Devices    []Device // in the order of the file

	device map[Key]*Device
	site   map[Key]*Site
	fed    map[End][]Key // outlet → devices with a power cable from it
	order  []Key         // devices, each after all that it is reached through
	behind map[Key][]EndpointID
	near   near
}

// New indexes an estate and checks it. When problems are returned the estate
// is nil; a problem's Path leads to where it stands.
func New(name string, standpoint Key, sites []Site, devices []Device) (*Estate, []Problem) {
	e := &Estate{
		Name: name, Standpoint: standpoint, Sites: sites, Devices: devices,
		device: make(map[Key]*Device, len(devices)),
		site:   make(map[Key]*Site, len(sites)),
		fed:    map[End][]Key{},
	}
	for i := range sites {
		e.site[sites[i].Key] = &sites[i]
	}
	for i := range devices {
		d := &devices[i]
		d.index = i
		e.device[d.Key] = d
		for _, c := range d.Power {
			e.fed[c.From] = append(e.fed[c.From], d.Key)
		}
	}
	if problems := e.check(); len(problems) > 0 {
		return nil, problems
	}
	e.order = e.reachOrder()
	e.behind = e.onlyBehind()
	e.findNear()
	return e, nil
}

// Empty is the estate of a service that has not been given one yet.
func Empty() *Estate {
	e, _ := New("", "", nil, nil)
	return e
}

// Device returns the device with that key, or nil.
func (e *Estate) Device(k Key) *Device { return e.device[k] }

// Site returns the site with that key, or nil.
func (e *Estate) Site(k Key) *Site { return e.site[k] }

// WayOf returns the device through which somebody comes in who comes from an
// address: that of the narrowest network, or "".
func (e *Estate) WayOf(from netip.Addr) Key {
	via, bits := Key(""), -1
	for _, p := range e.People {
		if p.From.Contains(from.Unmap()) && p.From.Bits() > bits {
			via, bits = p.Via, p.From.Bits()
		}
	}
	return via
}

// SiteOf returns the site of a device, or nil.
func (e *Estate) SiteOf(k Key) *Site {
	if d := e.Device(k); d != nil {
		return e.Site(d.Site)
	}
	return nil
}

// Zone returns the time zone of a device's site, or UTC.
func (e *Estate) Zone(k Key) *time.Location {
	if d := e.device[k]; d != nil {
		if s := e.site[d.Site]; s != nil {
			return s.Zone
		}
	}
	return time.UTC
}

// ReachOrder lists all devices, each after every device that it is reached through.
func (e *Estate) ReachOrder() []Key { return e.order }
