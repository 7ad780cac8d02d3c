// Package reading is what management gear says about a box, as values: what
// its sensors measure, how its chassis is, what stands in its event log and on
// its type plate, and what is weak about its settings.
package reading

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Level says how bad a reading or an event is.
type Level string

// The levels, the worst last. Absent is a reading that cannot be had now,
// which is neither good nor bad.
const (
	Absent   Level = "absent"
	Fine     Level = "fine"
	Warning  Level = "warning"
	Critical Level = "critical"
)

var levels = []Level{Absent, Fine, Warning, Critical}

// Worse says whether l is worse than other.
func (l Level) Worse(other Level) bool {
	return slices.Index(levels, l) > slices.Index(levels, other)
}

// Limits are the thresholds of a sensor; nil for those that it does not have.
type Limits struct {
	LowFatal, LowCritical, LowWarning    *float64
	HighWarning, HighCritical, HighFatal *float64
}

// Level says how bad a value is against the limits.
func (l Limits) Level(v *float64) Level {
	above := func(limit *float64) bool { return limit != nil && *v >= *limit }
	below := func(limit *float64) bool { return limit != nil && *v <= *limit }
	switch {
	case v == nil:
		return Absent
	case above(l.HighFatal), above(l.HighCritical), below(l.LowFatal), below(l.LowCritical):
		return Critical
	case above(l.HighWarning), below(l.LowWarning):
		return Warning
	}
	return Fine
}

// A Sensor is one reading of one sensor.
type Sensor struct {
	Name   string
	Series string // its name within the device, fit for a key: unique and lasting
	Kind   string // "temperature", "fan"
	Where  string // "processor"; may be empty
	Unit   string
	Value  *float64 // nil when it has states instead, or cannot be read now
	Digits int      // behind the decimal point, that mean something
	Words  string   // its states, or why there is no value
	Level  Level
	Limits Limits
}

// Text writes the reading as people read it: "41 °C", "present".
func (s Sensor) Text() string {
	if s.Value == nil {
		return s.Words
	}
	return strings.TrimSpace(fmt.Sprintf("%.*f %s", s.Digits, *s.Value, s.Unit))
}

// Trouble says what is wrong with a reading: "CPU 1 temp is 97 °C, above its
// critical limit of 95 °C".
func (s Sensor) Trouble() string {
	if s.Value == nil {
		return s.Name + ": " + s.Words
	}
	name, limit := s.crossed()
	if limit == nil {
		return fmt.Sprintf("%s is %s", s.Name, s.Text())
	}
	return fmt.Sprintf("%s is %s, %s of %.*f %s", s.Name, s.Text(), name, s.Digits, *limit, s.Unit)
}

// crossed finds the worst limit that the value is beyond.
func (s Sensor) crossed() (string, *float64) {
	l, v := s.Limits, *s.Value
	for _, x := range []struct {
		name  string
		limit *float64
		upper bool
	}{
		{"above its last limit", l.HighFatal, true}, {"below its last limit", l.LowFatal, false},
		{"above its critical limit", l.HighCritical, true}, {"below its critical limit", l.LowCritical, false},
		{"above its limit", l.HighWarning, true}, {"below its limit", l.LowWarning, false},
	} {
		if x.limit != nil && (x.upper && v >= *x.limit || !x.upper && v <= *x.limit) {
			return x.name, x.limit
		}
	}
	return "", nil
}

// Worst returns the worst reading: of several that are as bad, the first. ok is
// false when none is worse than fine.
func Worst(list []Sensor) (s Sensor, ok bool) {
	s.Level = Fine
	for _, x := range list {
		if x.Level.Worse(s.Level) {
			s, ok = x, true
		}
	}
	return s, ok
}

// Telling returns the reading that says most about a box: the worst, or, when
// all is well, its first temperature.
func Telling(list []Sensor) (Sensor, bool) {
	if s, ok := Worst(list); ok {
		return s, true
	}
	for _, s := range list {
		if s.Kind == "temperature" && s.Value != nil {
			return s, true
		}
	}
	return Sensor{}, false
}

// Restore is what a chassis does when mains power comes back.
type Restore string

// The ways. Unknown when its controller does not say.
const (
	StaysOff   Restore = "stays off"
	AsBefore   Restore = "as before"
	ComesOn    Restore = "comes on"
	RestoreUnk Restore = "unknown"
)

// Chassis is how a box is, as its controller says.
type Chassis struct {
	At       time.Time // when it was asked
	On       bool
	Asleep   bool
	State    string // its ACPI power state in words
	Restore  Restore
	Watts    *float64
	Watchdog *Watchdog // armed: it may restart the host by itself
	Updating bool      // the controller says that it is busy with itself
	Faults   []string  // in words
	Open     bool      // the lid
	Lit      bool      // the identify light
	LooksAs  string    // the privilege that we have, where that is too low to switch anything
}

// Watchdog is a timer that acts on the host by itself when nobody resets it.
type Watchdog struct {
	Action string
	Left   time.Duration
	Of     time.Duration
	For    string // who is to reset it
}

// An Event is one entry of a controller's event log.
type Event struct {
	ID     int
	At     *time.Time     // by the controller's clock; nil before that was set
	After  *time.Duration // then: how long after the controller's start
	Sensor string
	Kind   string
	Text   string
	Gone   bool
	Level  Level
	Starts bool   // it says that the system was started, or restarted
	Raw    string // the record in hexadecimal digits
}

// EventLog is a controller's log, oldest first.
type EventLog struct {
	Events  []Event
	Full    bool // entries have been dropped
	Free    int  // entries that still fit
	Version string
}

// Sheet is what stands on a box's type plate, and at what firmware it is.
type Sheet struct {
	Maker, Product, Part, Version, Serial, Asset string
	BoardMaker, Board, BoardSerial, BoardPart    string
	BoardMade                                    *time.Time
	ChassisPart, ChassisSerial                   string
	GUID                                         string
	Firmware                                     string // of the controller
	Protocol                                     string // "IPMI 2.0"
	Manufacturer                                 int    // IANA enterprise number
	Address, MAC, Name                           string // of the controller
	OnFor                                        time.Duration
	Up                                           time.Duration // since it last started; 0 when it does not say
	Starts                                       int           // how often its agent has; 0 when it does not say
	LastStart                                    string        // why it last did; empty when it does not say
	More                                         []string      // whatever else it has, in words: custom fields, further units
	Faults                                       []string      // what of it could not be read
}

// A Weakness is a standing fault in set-up or security, with what to do about it.
type Weakness struct {
	Name   string // stable, for programs
	Text   string
	Remedy string
}
