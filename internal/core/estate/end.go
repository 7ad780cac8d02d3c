package estate

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// End is one end of a cable, or one thing on a device that can be switched or told
// something: a device and, where it matters, what on it. It is written
// "skarvoe-pdu/3", "ostrel-store/chassis", or only "skarvoe-bridge".
//
// Kind says which of a closed set it is; only this file knows how that is written
// down. What can be done to each kind has one table, in core/operation.
type End struct {
	Device Key    `json:"device"`
	Port   string `json:"port"`
}

// EndKind is what an end names on its device.
type EndKind int

// The kinds of end.
const (
	Whole       EndKind = iota // the device itself; of a UPS, what hangs on it as a whole
	Source                     // what power can be taken from: see SourceKind
	Chassis                    // the power of a host, switched through its controller
	Panel                      // the buttons and lights on its front
	Output                     // the output of a UPS as a whole: all that hangs on it
	NetworkCard                // it wakes its device when it hears a magic packet
	CommandLine                // at an endpoint
	OwnComputer                // the controller or card behind an endpoint, which can be started anew
	NetworkPort                // of a switch, or whatever else is no more than the end of a cable
)

// EndKinds lists them.
var EndKinds = []EndKind{Whole, Source, Chassis, Panel, Output, NetworkCard, CommandLine, OwnComputer, NetworkPort}

// The ports of ends that are not numbered, and what stands before an endpoint's name.
const (
	chassisPort = "chassis"
	wakePort    = "wake"
	panelPort   = "panel"
	outputPort  = "output"
	commandMark = "command@"
	ownMark     = "@"
)

var fixedPorts = map[string]EndKind{"": Whole, chassisPort: Chassis, wakePort: NetworkCard, panelPort: Panel, outputPort: Output}

// Kind says what an end names.
func (e End) Kind() EndKind {
	if kind, ok := fixedPorts[e.Port]; ok {
		return kind
	}
	switch _, n := e.Source(); {
	case strings.HasPrefix(e.Port, commandMark):
		return CommandLine
	case strings.HasPrefix(e.Port, ownMark):
		return OwnComputer
	case n > 0:
		return Source
	}
	return NetworkPort
}

// ChassisEnd names the chassis of a device.
func ChassisEnd(k Key) End { return End{k, chassisPort} }

// PanelEnd names the buttons and lights on the front of a device.
func PanelEnd(k Key) End { return End{k, panelPort} }

// OutputEnd names the output of a UPS.
func OutputEnd(ups Key) End { return End{ups, outputPort} }

// WakeEnd names the network card that wakes a device.
func WakeEnd(k Key) End { return End{k, wakePort} }

// CommandEnd names the command line at an endpoint.
func (id EndpointID) CommandEnd() End { return End{id.Device, commandMark + id.Name} }

// OwnEnd names the controller or the card behind an endpoint.
func (id EndpointID) OwnEnd() End { return End{id.Device, ownMark + id.Name} }

// SourceEnd names a source of a device by its kind and number.
func SourceEnd(d Key, k SourceKind, n int) End { return End{d, portOf(k, n)} }

// OutletEnd names outlet n of a PDU.
func OutletEnd(pdu Key, n int) End { return SourceEnd(pdu, Socket, n) }

// Endpoint is the endpoint whose command line or own computer an end names; of
// other kinds its name is empty.
func (e End) Endpoint() EndpointID {
	return EndpointID{e.Device, cmp.Or(behind(e.Port, commandMark), behind(e.Port, ownMark))}
}

// behind is what follows a mark at the beginning of a port, or "".
func behind(port, mark string) string {
	if name, ok := strings.CutPrefix(port, mark); ok {
		return name
	}
	return ""
}

// Source returns the kind and the number of the source that an end names, or 0
// when it names none.
func (e End) Source() (SourceKind, int) {
	kind, number, dashed := strings.Cut(e.Port, "-")
	if !dashed {
		kind, number = "", e.Port
	}
	n, err := strconv.Atoi(number)
	if err != nil || n < 1 || !slices.Contains(SourceKinds, SourceKind(kind)) || dashed && kind == "" {
		return Socket, 0
	}
	return SourceKind(kind), n
}

// Outlet returns the number of the source that an end names, or 0.
func (e End) Outlet() int {
	_, n := e.Source()
	return n
}

// ParseEnd reads "device" or "device/port".
func ParseEnd(s string) (End, error) {
	device, port, slashed := strings.Cut(s, "/")
	if !ValidKey(device) || slashed && port == "" {
		return End{}, fmt.Errorf("%q is not DEVICE or DEVICE/PORT", s)
	}
	return End{Key(device), port}, nil
}

func (e End) String() string {
	if e.Port == "" {
		return string(e.Device)
	}
	return string(e.Device) + "/" + e.Port
}

// Place says in words where an end is: "outlet 3 of skarvoe-pdu", "PoE port 2
// of skarvoe-switch", "the chassis of ostrel-store".
func (e End) Place() string { return e.Words() + " of " + string(e.Device) }

// Words is Place without the device.
func (e End) Words() string {
	switch e.Kind() {
	case Chassis:
		return "the chassis"
	case NetworkCard:
		return "the network card"
	case Panel:
		return "the front panel"
	case Output, Whole:
		return "the output"
	case CommandLine:
		return "the command line"
	case OwnComputer:
		return "the " + e.Endpoint().Name
	case Source:
		kind, n := e.Source()
		return fmt.Sprintf("%s %d", kind.Words(), n)
	case NetworkPort:
	}
	return "port " + e.Port
}
