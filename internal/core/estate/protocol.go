package estate

import "slices"

// Protocol is what is spoken to an endpoint.
type Protocol string

// The protocols.
const (
	SNMP    Protocol = "snmp"
	HTTPAPI Protocol = "http"
	IPMI    Protocol = "ipmi"
	SSH     Protocol = "ssh"    // a command line
	Telnet  Protocol = "telnet" // a command line, too: the device's own, or its serial port behind a console server
)

// Protocols lists them.
var Protocols = []Protocol{SNMP, HTTPAPI, IPMI, SSH, Telnet}

// A Gift is what an endpoint gives. Whoever looks for something on a device asks for
// the gift and not for a protocol, so that another one can give it as well.
type Gift string

// What endpoints give.
const (
	GivesHost     Gift = "host"     // a controller: the power of the host, and what is inside
	GivesGear     Gift = "gear"     // the card of a PDU, a UPS, a switch or a board, as its profile has it
	GivesCommands Gift = "commands" // a command line
	GivesLine     Gift = "line"     // a line that is listened to all the time
)

// gifts is what is given over each protocol.
var gifts = map[Protocol][]Gift{
	SNMP:    {GivesGear},
	HTTPAPI: {GivesGear},
	IPMI:    {GivesHost},
	SSH:     {GivesCommands},
	Telnet:  {GivesCommands, GivesLine},
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

// OverSerial says whether an endpoint leads to the serial port of the device. Then
// it is a console server that answers there, and not the device.
func (d *Device) OverSerial(ep Endpoint) bool { return ep.Gives(GivesLine) && len(d.Serial) > 0 }

// Listened says whether the service listens to the line of a device by itself.
func (d *Device) Listened() bool {
	return slices.ContainsFunc(d.Endpoints, func(ep Endpoint) bool { return ep.Listen })
}

// Talks says whether somebody can sit at a line of characters there: the serial port behind
// a console server or a controller, or a command line.
func (ep Endpoint) Talks() bool { return ep.Gives(GivesCommands) || ep.Gives(GivesHost) }

// HasLine says whether that can be done at one of the device's endpoints.
func (d *Device) HasLine() bool { return slices.ContainsFunc(d.Endpoints, Endpoint.Talks) }
