package reading

import (
	"fmt"
	"strings"
	"time"
)

// Supply is what a UPS says of itself. Its parts are those of UPS-MIB, RFC
// 1628; nil is what it does not say.
type Supply struct {
	Maker, Model, Name string
	Firmware, Agent    string // of the UPS, and of its card
	Attached           string // what hangs on it, as somebody has told it
	Battery            Battery
	Inputs             []Phase
	InputBads          *float64 // how often the input was out of bounds
	Source             Source
	OutputHz           *float64
	Outputs            []Phase
	BypassHz           *float64
	Bypasses           []Phase
	Alarms             []Alarm
	Test               Test
	Control            Control
	Config             SupplyConfig
}

// Source is where a UPS takes what it gives out (upsOutputSource).
type Source string

// The sources. Absent is what it does not say.
const (
	SourceOther   Source = "other"
	SourceNone    Source = "none"
	SourceNormal  Source = "line"
	SourceBypass  Source = "bypass"
	SourceBattery Source = "battery"
	SourceBooster Source = "booster"
	SourceReducer Source = "reducer"
)

// Battery is the battery of a UPS.
type Battery struct {
	Status    string        // unknown, normal, low, depleted
	OnBattery time.Duration // since the utility failed; 0 when it is there
	Minutes   *float64      // that it thinks are left
	Charge    *float64      // %
	V, A, C   *float64      // voltage, current, temperature
}

// Phase is one line of an input, an output or a bypass.
type Phase struct {
	Hz, V, A, W *float64
	Load        *float64 // % of what it can carry
}

// Alarm is one thing that a UPS complains of.
type Alarm struct {
	Name  string // of the well-known one, such as "upsAlarmOnBattery"; or its object identifier
	Text  string
	Level Level
	For   time.Duration // since when, by its own clock
}

// Test is the newest self-test of a UPS.
type Test struct {
	Kind   string // none, general, quick battery, deep calibration
	Result string // passed, warning, error, aborted, in progress, none
	Detail string
	Ago    time.Duration // since it began
	Took   time.Duration
}

// Control is what a UPS has been told to do. Nil is nothing.
type Control struct {
	ShutdownIn, StartupIn, RebootFor *time.Duration
	What                             string // is shut down: output, system
	AutoRestart                      *bool  // it comes on when the utility returns
}

// SupplyConfig is how a UPS is set up.
type SupplyConfig struct {
	InV, InHz, OutV, OutHz *float64
	OutVA, OutW            *float64 // what it can carry
	LowMinutes             *float64 // left, when it complains of a low battery
	Audible                string   // disabled, enabled, muted
	LowTransferV           *float64
	HighTransferV          *float64
}

// W is what a UPS gives out, in W, when it says.
func (s *Supply) W() (w float64, known bool) {
	for _, p := range s.Outputs {
		if p.W == nil {
			return 0, false
		}
		w, known = w+*p.W, true
	}
	return w, known
}

// Load is the share of what it can carry that a UPS gives out, in %: of
// several lines, the fullest.
func (s *Supply) Load() (load float64, known bool) {
	for _, p := range s.Outputs {
		if p.Load != nil {
			load, known = max(load, *p.Load), true
		}
	}
	return load, known
}

// OnBattery says whether it lives on its battery now.
func (s *Supply) OnBattery() bool { return s.Source == SourceBattery || s.Battery.OnBattery > 0 }

// Told says whether the UPS says at all where its power comes from: what it does
// not say is neither on line nor off.
func (s *Supply) Told() bool { return s.Source != "" || s.OnBattery() }

// State says in a word how a UPS is: what happens to it is a change of this.
func (s *Supply) State() string {
	switch {
	case s.Source == SourceNone:
		return "output off"
	case !s.Told():
		return "source not known"
	case s.OnBattery() && (s.Battery.Status == "low" || s.Battery.Status == "depleted"):
		return "low battery"
	case s.OnBattery():
		return "on battery"
	case s.Source == SourceBypass:
		return "bypass"
	case s.Overloaded():
		return "overload"
	case s.BatteryBad():
		return "battery bad"
	case s.Source == SourceBooster, s.Source == SourceReducer:
		return string(s.Source)
	}
	return "on line"
}

// Overloaded: more hangs on it than it can carry.
func (s *Supply) Overloaded() bool {
	load, known := s.Load()
	return known && load > 100 || s.alarmed("upsAlarmOutputOverload")
}

// BatteryBad: its battery wants replacing.
func (s *Supply) BatteryBad() bool {
	return s.alarmed("upsAlarmBatteryBad") || s.Test.Result == "error"
}

func (s *Supply) alarmed(name string) bool {
	for _, a := range s.Alarms {
		if a.Name == name {
			return true
		}
	}
	return false
}

// Troubles says what is wrong with a UPS, the worst first.
func (s *Supply) Troubles() []Sensor {
	var out []Sensor
	add := func(l Level, name, format string, args ...any) {
		out = append(out, Sensor{Name: name, Words: fmt.Sprintf(format, args...), Level: l})
	}
	left := ""
	if m := s.Battery.Minutes; m != nil {
		left = fmt.Sprintf(", %.0f min left by its own reckoning", *m)
	}
	switch s.State() {
	case "output off":
		add(Critical, "output", "off")
	case "low battery":
		add(Critical, "battery", "low%s", left)
	case "on battery":
		add(Warning, "supply", "on battery for %s%s", words(s.Battery.OnBattery), left)
	case "bypass":
		add(Warning, "supply", "on bypass: its battery protects nothing now")
	}
	if s.Overloaded() {
		load, _ := s.Load()
		add(Critical, "load", "overloaded at %.0f %%", load)
	}
	if s.BatteryBad() {
		add(Warning, "battery", "bad: it wants replacing")
	}
	for _, a := range s.Alarms {
		switch a.Name {
		case "upsAlarmOnBattery", "upsAlarmLowBattery", "upsAlarmOutputOverload", "upsAlarmBatteryBad", "upsAlarmOnBypass", "upsAlarmInputBad":
			continue // said above, or the reason for what was
		}
		if a.Level.Worse(Fine) {
			add(a.Level, "alarm", "%s", a.Text)
		}
	}
	return out
}

func words(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%d s", int(d.Seconds()))
	}
	return fmt.Sprintf("%d min", int(d.Minutes()))
}

// Neighbour is who is on a port of a switch.
type Neighbour struct {
	Port    string // of the switch, as it names it
	Alias   string // what somebody has called that port
	Up      bool
	Chassis string // of the neighbour: its identity, as LLDP has it
	Name    string // of the neighbour
	Remote  string // its port
}

// Says writes a neighbour in a line.
func (n Neighbour) Says() string {
	return strings.TrimSpace(n.Name + " " + n.Remote)
}

// Meter is what is measured of something that carries current beside outlets.
type Meter struct {
	Kind, Name    string // inlet, phase, bank
	A, V, W, Wh   *float64
	RatingA       *float64
	BreakerClosed *bool
}
