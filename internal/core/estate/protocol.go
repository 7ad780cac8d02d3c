package estate

import (
	"slices"
	"strings"
)

// Protocol is what is spoken to an endpoint.
type Protocol string

// The protocols.
const (
	SNMP    Protocol = "snmp"
	HTTPAPI Protocol = "http"
	IPMI    Protocol = "ipmi"
	SSH     Protocol = "ssh"    // a command line
	Telnet  Protocol = "telnet" // a command line, too: the device's own, or its serial port behind a console server
	TTY     Protocol = "tty"    // its serial port, at one of the service's own machine
	Modem   Protocol = "modem"  // its serial port, by telephone, from a modem at one
	RFB     Protocol = "rfb"    // its screen, keyboard and pointer, or those of what is wired to it
	Camera  Protocol = "camera" // pictures over HTTP
)

// Protocols lists them.
var Protocols = []Protocol{SNMP, HTTPAPI, IPMI, SSH, Telnet, TTY, Modem, RFB, Camera}

// A Gift is what an endpoint gives. Whoever looks for something on a device asks for
// the gift and not for a protocol, so that another one can give it as well.
type Gift string

// What endpoints give.
const (
	GivesHost     Gift = "host"     // a controller: the power of the host, and what is inside
	GivesGear     Gift = "gear"     // the card of a PDU, a UPS, a switch or a board, as its profile has it
	GivesCommands Gift = "commands" // a command line
	GivesLine     Gift = "line"     // a line that is listened to all the time
	GivesPhone    Gift = "phone"    // a line that is called when somebody wants it
	GivesScreen   Gift = "screen"   // a screen
)

// gifts is what is given over each protocol.
var gifts = map[Protocol][]Gift{
	SNMP:    {GivesGear},
	HTTPAPI: {GivesGear},
	IPMI:    {GivesHost},
	SSH:     {GivesCommands},
	Telnet:  {GivesCommands, GivesLine},
	TTY:     {GivesCommands, GivesLine},
	Modem:   {GivesPhone},
	RFB:     {GivesScreen},
	Camera:  {GivesScreen},
}

// Gives says whether an endpoint gives something.
func (e Endpoint) Gives(g Gift) bool { return slices.Contains(gifts[e.Protocol], g) }

// giving is the first endpoint of a device that gives something.
func (d *Device) giving(g Gift) (Endpoint, bool) {
	i := slices.IndexFunc(d.Endpoints, func(e Endpoint) bool { return e.Gives(g) })
	if i < 0 {
		return Endpoint{}, false
	}
	return d.Endpoints[i], true
}

// Controller returns the endpoint of the device's management controller.
func (d *Device) Controller() (Endpoint, bool) { return d.giving(GivesHost) }

// CardEndpoint returns the endpoint of the card, or the board, of a device.
func (d *Device) CardEndpoint() (Endpoint, bool) { return d.giving(GivesGear) }

// OutletEndpoint returns the endpoint through which what the device gives
// power through is read and switched.
func (d *Device) OutletEndpoint() (Endpoint, bool) {
	if len(d.Outlets) == 0 && d.Supply == nil {
		return Endpoint{}, false
	}
	return d.CardEndpoint()
}

// CommandLines are the endpoints on which a device can be told to do something,
// the first that the estate states first.
func (d *Device) CommandLines(kind string) []Endpoint {
	return slices.DeleteFunc(slices.Clone(d.Endpoints), func(ep Endpoint) bool { return ep.Commands[kind] == "" })
}

// PortCommand is the kind of command that has a KVM show the port that stands for {port} in it.
const PortCommand = "port"

// OverSerial says whether an endpoint leads to the serial port of the device. Then
// it is a console server that answers there, or a port or a modem here, and not the device.
func (d *Device) OverSerial(ep Endpoint) bool {
	return ep.Local() || ep.Gives(GivesLine) && len(d.Serial) > 0
}

// Answers says whether there is anything that a device itself answers to.
func (d *Device) Answers() bool {
	return len(d.Probes) > 0 || slices.ContainsFunc(d.Endpoints, func(ep Endpoint) bool { return !d.OverSerial(ep) })
}

// LineAt is where the serial line is at which such an endpoint leads to the device.
func (d *Device) LineAt(ep Endpoint) string {
	if ep.Local() || len(d.Serial) == 0 {
		return strings.Join(ep.Addresses, ", ")
	}
	return string(d.Serial[0].Device)
}

// Local says whether an endpoint is reached by a serial port of the service's own machine,
// and through no network.
func (ep Endpoint) Local() bool { return ep.Protocol == TTY || ep.Protocol == Modem }

// Listened says whether the service listens to the line of a device by itself.
func (d *Device) Listened() bool {
	return slices.ContainsFunc(d.Endpoints, func(ep Endpoint) bool { return ep.Listen })
}

// Watched says whether the service watches the screen of a device by itself.
func (e *Estate) Watched(d *Device) bool {
	return slices.ContainsFunc(e.ScreensOf(d), func(at ScreenAt) bool {
		ep, _ := e.Device(at.ID.Device).Endpoint(at.ID.Name)
		return ep.Watch && len(e.ShownBy(d.Key)) == 0 // a KVM has none of its own
	})
}

// Talks says whether somebody can sit at a line of characters there: the serial port behind
// a console server or a controller, or a command line.
func (ep Endpoint) Talks() bool {
	return ep.Gives(GivesCommands) || ep.Gives(GivesHost) || ep.Gives(GivesPhone)
}

// HasLine says whether that can be done at one of the device's endpoints.
func (d *Device) HasLine() bool { return slices.ContainsFunc(d.Endpoints, Endpoint.Talks) }

// A ScreenAt is an endpoint at which the screen of a device is seen.
type ScreenAt struct {
	ID     EndpointID
	Port   string // of a KVM; empty: the device's own
	Switch Key    // the KVM of whose ports that is one: that of ID, or one behind it
}

// ScreensOf are the endpoints at which the screen of a device is seen: its own, those of the
// KVMs that it is wired to, and those of what shows what such a KVM shows.
func (e *Estate) ScreensOf(d *Device) (all []ScreenAt) {
	add := func(of *Device, at End, chosen End) {
		for _, ep := range of.Endpoints {
			if ep.Gives(GivesScreen) && (at.Port == "" || ep.Shows == "" || ep.Shows == at.Port) {
				all = append(all, ScreenAt{EndpointID{of.Key, ep.Name}, chosen.Port, chosen.Device})
			}
		}
	}
	add(d, End{}, End{})
	for _, end := range d.Video {
		kvm := e.Device(end.Device)
		if kvm == nil || kvm.Key == d.Key {
			continue
		}
		add(kvm, end, end)
		for _, behind := range kvm.Video {
			if outer := e.Device(behind.Device); outer != nil && outer.Key != d.Key && outer.Key != kvm.Key {
				add(outer, behind, end)
			}
		}
	}
	return all
}

// ShownBy lists the devices that are wired to a KVM.
func (e *Estate) ShownBy(kvm Key) (all []Key) {
	for i := range e.Devices {
		if slices.ContainsFunc(e.Devices[i].Video, func(end End) bool { return end.Device == kvm }) {
			all = append(all, e.Devices[i].Key)
		}
	}
	return all
}
