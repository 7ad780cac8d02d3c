package estate

import (
	"slices"
	"strconv"
)

// SourceKind is what kind of thing on a device power can be taken from.
type SourceKind string

// The kinds of source. Each but Socket stands in front of the number of a
// port: "3" is a socket, "poe-3" a switch port that carries power.
const (
	Socket SourceKind = ""     // an outlet of a PDU
	PoE    SourceKind = "poe"  // a port of a switch
	DC     SourceKind = "dc"   // an output of direct current
	USB    SourceKind = "usb"  // a port of a host
	Slot   SourceKind = "slot" // of an enclosure
)

// SourceKinds lists them in the order in which a device's ports are shown.
var SourceKinds = []SourceKind{Socket, DC, PoE, USB, Slot}

var sourceWords = map[SourceKind]string{Socket: "outlet", PoE: "PoE port", DC: "DC output", USB: "USB port", Slot: "slot"}

// Words is what people call it: "outlet", "PoE port".
func (k SourceKind) Words() string { return sourceWords[k] }

// An Outlet is what a power cable comes from: a socket of a PDU, or another
// kind of source.
type Outlet struct {
	Kind       SourceKind
	Number     int
	Name       string
	Unswitched bool // always on: it cannot be switched
}

// Port is the outlet as the port of an end.
func (o Outlet) Port() string { return portOf(o.Kind, o.Number) }

func portOf(k SourceKind, n int) string {
	if k == Socket {
		return strconv.Itoa(n)
	}
	return string(k) + "-" + strconv.Itoa(n)
}

// SourceAt returns the outlet at a port of the device.
func (d *Device) SourceAt(port string) (Outlet, bool) {
	i := slices.IndexFunc(d.Outlets, func(o Outlet) bool { return o.Port() == port })
	if i < 0 {
		return Outlet{}, false
	}
	return d.Outlets[i], true
}

// Supply says that a device is a UPS. What hangs on it as a whole is fed from
// the device itself, without a port.
type Supply struct {
	RatingW    float64 // 0: as the UPS says
	LowMinutes float64 // fewer than these are a trouble
	Shutdown   float64 // minutes left at which what hangs on it should be down
}

// A Bank is a group of outlets behind one breaker of a PDU.
type Bank struct {
	Name    string
	Outlets []int
	RatingA float64
	Phase   string // "L1"
	Whole   bool   // it can only be switched as a whole
}

// Inlet is how a PDU is fed, and what may go through it.
type Inlet struct {
	RatingA float64 // for each phase; 0 when not known
	Volts   float64 // 0 means 230
}

// DefaultVolts is the mains voltage that is assumed where nothing is said.
const DefaultVolts = 230

// Voltage is what the inlet is fed with, in V.
func (i Inlet) Voltage() float64 {
	if i.Volts == 0 {
		return DefaultVolts
	}
	return i.Volts
}

// Wake is how a device is woken over the network.
type Wake struct {
	MAC       string
	Broadcast string // host:port that reaches its segment
	Secret    string // the name of its SecureOn password; may be empty
}

// BankOf returns the bank in which an outlet is.
func (d *Device) BankOf(outlet int) (Bank, bool) {
	i := slices.IndexFunc(d.Banks, func(b Bank) bool { return slices.Contains(b.Outlets, outlet) })
	if i < 0 {
		return Bank{}, false
	}
	return d.Banks[i], true
}
