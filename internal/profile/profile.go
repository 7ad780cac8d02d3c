// Package profile reads profiles: data files that say how one kind of gear maps
// onto our capabilities. A profile names what to read and what to write; the
// drivers in gear/snmpgear and gear/httpgear know how, and nothing of any maker.
//
//	profile.go  the format
//	check.go    what makes a profile one that can work
//	library.go  the built-in profiles, and those that people have added
//
// docs/profiles.md describes the format for people who write one.
package profile

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// Version is the version of the format that this package reads.
const Version = 1

// The protocols that a profile can be for.
const (
	SNMP = "snmp"
	HTTP = "http"
)

// The standard MIBs that gear may implement beside what a profile maps.
const (
	UPS        = "ups"        // UPS-MIB, RFC 1628
	PoE        = "poe"        // POWER-ETHERNET-MIB, RFC 3621
	Sensors    = "sensors"    // ENTITY-SENSOR-MIB, RFC 3433, with the names of ENTITY-MIB, RFC 6933
	Interfaces = "interfaces" // IF-MIB, RFC 2863
	Neighbours = "neighbours" // LLDP-MIB, IEEE 802.1AB
)

// Standards lists them.
var Standards = []string{UPS, PoE, Sensors, Interfaces, Neighbours}

// A Profile maps one kind of gear.
type Profile struct {
	Format   int               `yaml:"plumb-profile"`
	Name     string            `yaml:"name"`
	Title    string            `yaml:"title"`
	Protocol string            `yaml:"protocol"`
	Matches  string            `yaml:"matches"`  // of SNMP: sysObjectID begins with this
	Standard []string          `yaml:"standard"` // of SNMP: the standard MIBs that it implements
	Login    *Login            `yaml:"login"`    // of HTTP
	Pages    map[string]string `yaml:"pages"`    // of HTTP: what is fetched, by a name for it
	Totals   Totals            `yaml:"totals"`
	Sheet    Sheet             `yaml:"sheet"`
	Outlets  *Outlets          `yaml:"outlets"`
	Meters   []Meter           `yaml:"meters"`
	Sensors  []Sensor          `yaml:"sensors"`
	Log      *Log              `yaml:"log"`
	Clock    *Value            `yaml:"clock"` // seconds since 1970-01-01 UTC
	Restart  *Order            `yaml:"restart"`
	Panel    *Panel            `yaml:"panel"`    // of HTTP
	Channel  *Channel          `yaml:"channel"`  // of HTTP
	Keyboard *Keyboard         `yaml:"keyboard"` // of HTTP
	Display  *Display          `yaml:"display"`  // of HTTP
}

// Login says how the gear wants to be told who asks.
type Login struct {
	Kind   string `yaml:"kind"`   // basic, digest, bearer, header
	Header string `yaml:"header"` // of kind header: its name
}

// Totals are values that describe the gear as a whole.
type Totals struct {
	Power   *Value `yaml:"power"`   // W
	Current *Value `yaml:"current"` // A
	Voltage *Value `yaml:"voltage"` // V
	Energy  *Value `yaml:"energy"`  // Wh
}

// Sheet is what stands on its type plate.
type Sheet struct {
	Maker    *Value `yaml:"maker"`
	Product  *Value `yaml:"product"`
	Serial   *Value `yaml:"serial"`
	Firmware *Value `yaml:"firmware"`
}

// A Value says where one value is found, and what it means. Of SNMP, OID or,
// within a table, Column; of HTTP, Page with At (a JSON pointer, RFC 6901) or
// Find (a regular expression whose first group is the value). In a table over
// HTTP, {n} in any of these stands for the number of the row.
type Value struct {
	OID    string            `yaml:"oid"`
	Column int               `yaml:"column"`
	Page   string            `yaml:"page"`
	At     string            `yaml:"at"`
	Find   string            `yaml:"find"`
	Scale  float64           `yaml:"scale"` // what one unit is worth; 0 means 1
	Yes    string            `yaml:"yes"`   // of a value that says yes or no: what means yes
	Words  map[string]string `yaml:"words"` // of an enumeration: what each value means
	Fixed  bool              `yaml:"fixed"` // changes so rarely that it is read every few minutes only
	Write  bool              `yaml:"write"` // of SNMP: it can be written
	Set    *Request          `yaml:"set"`   // of HTTP: how it is written
}

// Outlets maps one row for each outlet. Of SNMP, Entry is the table, with the
// number of the outlet as its index; of HTTP, Rows is a page with a list, or
// Count says how many there are.
type Outlets struct {
	Entry    string `yaml:"entry"`
	Rows     *Value `yaml:"rows"`
	Count    int    `yaml:"count"`
	Number   *Value `yaml:"number"` // of HTTP: the number of a row; absent: its place in the list
	Name     *Value `yaml:"name"`
	Switched *Value `yaml:"switched"` // absent: all are, when there is a command
	On       *Value `yaml:"on"`
	Current  *Value `yaml:"current"` // A
	Power    *Value `yaml:"power"`   // W
	Energy   *Value `yaml:"energy"`  // Wh
	// What the gear does with an outlet when power comes back to it: off, on, as before.
	AfterLoss    *Value   `yaml:"after-loss"`
	OnDelay      *Value   `yaml:"on-delay"`  // s, from power or a command to the contact
	OffDelay     *Value   `yaml:"off-delay"` // s
	Command      *Command `yaml:"command"`
	CycleSeconds *Value   `yaml:"cycle-seconds"` // absent: the gear's cycle has a time of its own
	Takes        Duration `yaml:"takes"`         // from a command to the contact
}

// A Panel maps the leads to the buttons and lights on the fronts of devices. In
// its values and requests {n} stands for the number of the lead, {button} for
// what Buttons calls it, and {ms} for how long it is pressed.
type Panel struct {
	Leads   int               `yaml:"leads"` // how many there are
	Power   *Value            `yaml:"power"` // whether the power light is on
	Disk    *Value            `yaml:"disk"`  // whether the disk light is
	Press   *Request          `yaml:"press"`
	Buttons map[string]string `yaml:"buttons"` // power, reset: what the gear calls them
	Takes   Duration          `yaml:"takes"`   // from a press to the light
}

// A Channel maps a KVM of which one port is seen at a time. In its request {n}
// stands for the number of a port.
type Channel struct {
	Ports int      `yaml:"ports"` // how many there are
	Shown *Value   `yaml:"shown"` // the number of the port that is seen
	Show  *Request `yaml:"show"`  // has another one seen
	Takes Duration `yaml:"takes"` // from the request to the picture
}

// A Keyboard maps the one that a KVM pretends to be to its host: as if plugged in, or not. In its
// request {n} stands for 1 or 0.
type Keyboard struct {
	Plugged *Value   `yaml:"plugged"` // whether it is
	Plug    *Request `yaml:"plug"`
}

// A Display maps the one that a KVM pretends to be to its host (VESA E-EDID).
type Display struct {
	Offers *Value `yaml:"offers"` // the list of those that it could be, by name
	Is     *Value `yaml:"is"`     // the name of that which it is; its set has it be another
}

// A Command is how outlets are switched.
type Command struct {
	Column int    `yaml:"column"` // of SNMP: where the value is written
	On     Order  `yaml:"on"`
	Off    Order  `yaml:"off"`
	Cycle  *Order `yaml:"cycle"` // absent: the gear cannot cycle by itself
}

// An Order is one command: of SNMP a number, to be written to the column or,
// for gear as a whole, to an object; of HTTP a request.
type Order struct {
	OID     string
	Value   int
	Request *Request
}

// A Request changes something over HTTP. In its path and its body, {n} stands
// for the number of the outlet, {value} for what is written, and {seconds} for
// a time; a body that is JSON has {value} escaped.
type Request struct {
	Method string `yaml:"method"`
	Path   string `yaml:"path"`
	Body   string `yaml:"body"`
	Type   string `yaml:"type"` // of the body; application/json when not said
}

// UnmarshalYAML reads a number, {oid, value}, or a request.
func (o *Order) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		v, err := strconv.Atoi(n.Value)
		if err != nil {
			return fmt.Errorf("line %d: %q is not a number", n.Line, n.Value)
		}
		o.Value = v
		return nil
	}
	var x struct {
		OID     string `yaml:"oid"`
		Value   int    `yaml:"value"`
		Request `yaml:",inline"`
	}
	if err := known(n, "oid", "value", "method", "path", "body", "type"); err != nil {
		return err
	}
	if err := n.Decode(&x); err != nil {
		return fmt.Errorf("line %d: %w", n.Line, err)
	}
	o.OID, o.Value = x.OID, x.Value
	if x.Path != "" {
		o.Request = &x.Request
	}
	return nil
}

// known complains about keys that a mapping cannot have: a type that reads
// itself is not asked about those.
func known(n *yaml.Node, keys ...string) error {
	for i := 0; n.Kind == yaml.MappingNode && i < len(n.Content); i += 2 {
		if k := n.Content[i]; !strings.Contains(" "+strings.Join(keys, " ")+" ", " "+k.Value+" ") {
			return fmt.Errorf("line %d: %q cannot stand here: what can is %s", k.Line, k.Value, strings.Join(keys, ", "))
		}
	}
	return nil
}

// A Meter is something that carries current beside single outlets: an inlet, a
// phase of it, a bank with its breaker.
type Meter struct {
	Kind    string `yaml:"kind"` // inlet, phase, bank
	Name    string `yaml:"name"`
	Current *Value `yaml:"current"` // A
	Voltage *Value `yaml:"voltage"` // V
	Power   *Value `yaml:"power"`   // W
	Energy  *Value `yaml:"energy"`  // Wh
	Breaker *Value `yaml:"breaker"` // yes: it is closed
	Rating  *Value `yaml:"rating"`  // A
}

// A Sensor measures the surroundings, or is a contact.
type Sensor struct {
	Name  string `yaml:"name"`
	Kind  string `yaml:"kind"` // temperature, humidity, door, smoke, water, …
	Unit  string `yaml:"unit"`
	Where string `yaml:"where"`
	Value *Value `yaml:"value"`
	// Of a contact: the words that its value means, and which of them are a trouble.
	Warning  []string `yaml:"warning"`
	Critical []string `yaml:"critical"`
	Low      *float64 `yaml:"low"`  // a value at or below this is a warning
	High     *float64 `yaml:"high"` // a value at or above this is a warning
}

// Log maps the gear's own event log: a table with one row for each entry.
type Log struct {
	Entry string `yaml:"entry"`
	Rows  *Value `yaml:"rows"`
	At    *Value `yaml:"at"` // seconds since 1970-01-01 UTC
	Text  *Value `yaml:"text"`
}

// Duration is a time.Duration that is written "1s".
type Duration time.Duration

// UnmarshalYAML reads a duration.
func (d *Duration) UnmarshalYAML(n *yaml.Node) error {
	v, err := time.ParseDuration(n.Value)
	if err != nil {
		return fmt.Errorf("line %d: %q is not a time such as 1s", n.Line, n.Value)
	}
	*d = Duration(v)
	return nil
}

// Worth is a raw number in the unit of its value.
func (v *Value) Worth(raw float64) float64 {
	if v.Scale == 0 {
		return raw
	}
	return raw * v.Scale
}

// Says returns what an enumerated value means: its word, or, when the profile
// has none, the value itself.
func (v *Value) Says(raw string) string {
	if w, ok := v.Words[raw]; ok {
		return w
	}
	return raw
}

// Raw returns the value that stands for a word: Says the other way round.
func (v *Value) Raw(word string) (string, bool) {
	for raw, w := range v.Words {
		if w == word {
			return raw, true
		}
	}
	return "", false
}

// Writable says whether a value can be written.
func (v *Value) Writable() bool { return v != nil && (v.Write || v.Set != nil) }

// Standardly says whether the gear implements one of the standard MIBs.
func (p *Profile) Standardly(mib string) bool {
	for _, s := range p.Standard {
		if s == mib {
			return true
		}
	}
	return false
}

// Maps says in words what a profile is about.
func (p *Profile) Maps() []string {
	out := append([]string{}, p.Standard...)
	if p.Outlets != nil {
		out = append(out, "outlets")
	}
	if len(p.Meters) > 0 {
		out = append(out, "meters")
	}
	if len(p.Sensors) > 0 {
		out = append(out, "sensors")
	}
	if p.Log != nil {
		out = append(out, "log")
	}
	if p.Panel != nil {
		out = append(out, "panel")
	}
	if p.Channel != nil {
		out = append(out, "channel")
	}
	if p.Keyboard != nil {
		out = append(out, "keyboard")
	}
	if p.Display != nil {
		out = append(out, "display")
	}
	return out
}

// TakesSecret: whether the gear is told who asks. Over HTTP some is not.
func (p *Profile) TakesSecret() bool { return p.Protocol != HTTP || p.Login != nil }

// HasOutlets says whether the gear has anything that power can be taken from.
func (p *Profile) HasOutlets() bool { return p.Outlets != nil || p.Standardly(PoE) }

// CyclesItself says whether the gear can carry out a whole cycle.
func (p *Profile) CyclesItself() bool {
	return p.Outlets != nil && p.Outlets.Command != nil && p.Outlets.Command.Cycle != nil
}

// poeSettle is how long a switch may take to power a port down or up: it goes
// through detection and classification first (IEEE 802.3, clause 33).
const poeSettle = 3 * time.Second

// Settle is how long the gear takes from a command to the contact.
func (p *Profile) Settle() time.Duration {
	if p.Panel != nil {
		return time.Duration(p.Panel.Takes)
	}
	if p.Outlets == nil {
		return poeSettle
	}
	return time.Duration(p.Outlets.Takes)
}

// OID returns the object of a column for one row.
func (o *Outlets) OID(v *Value, row int) string { return columnOID(o.Entry, v.Column, row) }

func columnOID(entry string, column, row int) string {
	return entry + "." + strconv.Itoa(column) + "." + strconv.Itoa(row)
}
