package ipmi

import (
	"fmt"
	"math/bits"
	"strings"
)

// SensorType is what a sensor looks at (table 42-3).
type SensorType uint8

// The types that somebody has to know by number.
const (
	Temperature          SensorType = 0x01
	Voltage              SensorType = 0x02
	Current              SensorType = 0x03
	Fan                  SensorType = 0x04
	Intrusion            SensorType = 0x05
	Processor            SensorType = 0x07
	PowerSupply          SensorType = 0x08
	PowerUnit            SensorType = 0x09
	OtherUnits           SensorType = 0x0b
	Memory               SensorType = 0x0c
	Drive                SensorType = 0x0d
	EventLogState        SensorType = 0x10
	firmwareWatchdogType SensorType = 0x11
	SystemEvent          SensorType = 0x12
	CriticalInt          SensorType = 0x13
	ButtonType           SensorType = 0x14
	RestartType          SensorType = 0x1d
	StopType             SensorType = 0x20
	ACPIType             SensorType = 0x22
	WatchdogType         SensorType = 0x23
	BatteryType          SensorType = 0x29
	VersionChange        SensorType = 0x2b
	sensorOEMStart                  = 0xc0
)

var sensorTypes = [...]string{
	"", "temperature", "voltage", "current", "fan", "intrusion", "platform security", "processor", "power supply", "power unit",
	"cooling device", "other", "memory", "drive bay", "memory resize", "system firmware", "event log", "watchdog", "system event",
	"critical interrupt", "button", "module or board", "microcontroller", "add-in card", "chassis", "chip set", "other part", "cable",
	"terminator", "restart", "boot error", "start of the operating system", "stop of the operating system", "slot or connector", "ACPI power state", "watchdog",
	"platform alert", "entity presence", "monitoring circuit", "network", "management subsystem", "battery", "session", "version change", "part state",
}

func (t SensorType) String() string {
	switch {
	case int(t) < len(sensorTypes) && t != 0:
		return sensorTypes[t]
	case t >= sensorOEMStart:
		return fmt.Sprintf("maker's own type %02Xh", uint8(t))
	}
	return fmt.Sprintf("type %02Xh", uint8(t))
}

// EventType is how the states of a sensor are to be read (table 42-1).
type EventType uint8

// The event types.
const (
	ThresholdEvents EventType = 0x01
	SensorSpecific  EventType = 0x6f
	oemEventStart             = 0x70
)

// thresholdStates are in the order of table 42-2.
var thresholdStates = []string{
	"below its lower warning threshold, falling", "below its lower warning threshold, rising",
	"below its lower critical threshold, falling", "below its lower critical threshold, rising",
	"below its lower limit, falling", "below its lower limit, rising",
	"above its upper warning threshold, falling", "above its upper warning threshold, rising",
	"above its upper critical threshold, falling", "above its upper critical threshold, rising",
	"above its upper limit, falling", "above its upper limit, rising",
}

// genericStates is table 42-2 but for thresholds, by event type.
var genericStates = map[EventType][]string{
	0x02: {"idle", "active", "busy"},
	0x03: {"not asserted", "asserted"},
	0x04: {"no failure predicted", "failure predicted"},
	0x05: {"within its limit", "beyond its limit"},
	0x06: {"performance met", "performance lags"},
	0x07: {"in order", "no longer in order", "critical, was less", "unrecoverable, was less", "no longer critical", "critical", "unrecoverable", "being watched", "for information"},
	0x08: {"absent", "present"},
	0x09: {"disabled", "enabled"},
	0x0a: {"running", "in test", "switched off", "on line", "off line", "off duty", "degraded", "saving power", "failed to install"},
	0x0b: {"fully redundant", "redundancy lost", "redundancy degraded", "not redundant, enough to run, was redundant", "not redundant, enough to run, was not enough", "not redundant, not enough to run", "redundancy degraded, was full", "redundancy degraded, was none"},
	0x0c: {"D0, working", "D1", "D2", "D3, off"},
}

// typeStates is table 42-3: the states of sensor-specific sensors, by type.
var typeStates = map[SensorType][]string{
	0x05: {"chassis open", "drive bay open", "card area open", "processor area open", "network cable unplugged", "unauthorized dock", "fan area open"},
	0x06: {"secure mode broken by force", "wrong user password before start", "wrong set-up password before start", "wrong network password before start", "other wrong password before start", "wrong password from afar"},
	0x07: {"internal error", "overheated and stopped", "self test failed", "hung while starting", "failed to start", "configuration error", "uncorrectable memory error", "present", "disabled", "terminator present", "throttled by heat", "machine check, uncorrectable", "machine check, corrected"},
	0x08: {"present", "failed", "failure predicted", "input lost", "input lost or out of range", "input out of range", "configuration error", "on standby"},
	0x09: {"off", "power cycled", "240 VA limit tripped", "interlock tripped", "mains lost", "soft power control failed", "failed", "failure predicted"},
	0x0c: {"correctable error", "uncorrectable error", "parity error", "scrub failed", "disabled", "limit of correctable errors reached", "present", "configuration error", "spare", "throttled", "overheated"},
	0x0d: {"drive present", "drive failed", "failure predicted", "hot spare", "consistency check running", "in critical array", "in failed array", "rebuilding", "rebuild stopped"},
	0x0f: {"error while starting", "hung while starting", "progress"},
	0x10: {"correctable memory errors are not logged", "one kind of event is not logged", "log cleared", "nothing is logged", "log full", "log almost full", "correctable machine checks are not logged"},
	0x11: {"restarted by firmware watchdog", "restarted by watchdog", "powered off by watchdog", "power cycled by watchdog", "firmware watchdog ran out", "watchdog interrupt", "watchdog ran out", ""},
	0x12: {"reconfigured", "restarted by its maker's firmware", "undetermined hardware failure", "entry added to an auxiliary log", "alert filter acted", "clock set"},
	0x13: {"front panel interrupt", "bus time-out", "I/O channel check", "software interrupt", "bus parity error", "bus system error", "fail-safe time-out", "bus correctable error", "bus uncorrectable error", "fatal interrupt", "bus fatal error", "bus degraded"},
	0x14: {"power button pressed", "sleep button pressed", "reset button pressed", "latch open", "service button pressed"},
	0x19: {"soft power control failed", "thermal trip"},
	0x1b: {"connected", "wrongly connected"},
	0x1d: {"started by power-up", "started by hard reset", "started by warm reset", "started from the network by request", "started diagnostics by itself", "operating system ordered a hard restart", "operating system ordered a restart", "restarted"},
	0x1e: {"nothing to start from", "no diskette", "no server to start from", "boot sector not valid", "no source chosen in time"},
	0x1f: {"started from A:", "started from C:", "started from the network", "started diagnostics", "started from CD", "started from ROM", "started", "started with the maker's own", "installation began", "installation done", "installation stopped", "installation failed"},
	0x20: {"stopped while loading", "crashed while running", "stopped in good order", "shut down in good order", "soft shutdown by alert", "agent does not answer"},
	0x21: {"fault", "identify on", "device installed", "ready for installing", "ready for removing", "power off", "removal asked for", "interlock open", "disabled", "spare"},
	0x22: {"working (S0)", "asleep (S1)", "asleep (S2)", "asleep (S3)", "asleep on disk (S4)", "off (S5)", "off (S4 or S5)", "without power (G3)", "asleep", "asleep (G1)", "off by override", "on", "off", "", "state unknown"},
	0x23: {"ran out, nothing done", "restarted the host", "powered the host off", "power cycled the host", "", "", "", "", "warned before running out"},
	0x24: {"page sent", "alert sent", "trap sent", "trap generated"},
	0x25: {"present", "absent", "disabled"},
	0x27: {"heartbeat lost", "heartbeat there"},
	0x28: {"degraded or unavailable", "off line", "unavailable", "sensor failed", "unit failed"},
	0x29: {"low", "failed", "present"},
	0x2a: {"session opened", "session closed", "wrong user or password", "too many wrong passwords"},
	0x2b: {"hardware changed", "firmware or software changed", "hardware incompatible", "firmware or software incompatible", "hardware not supported", "firmware or software not supported", "hardware change done", "firmware or software change done"},
	0x2c: {"not installed", "inactive", "activation asked for", "being activated", "active", "deactivation asked for", "being deactivated", "communication lost"},
}

// States lists the words for the states of a sensor, by offset. Empty words
// stand for states that no standard names.
func States(t SensorType, e EventType) []string {
	switch {
	case e == ThresholdEvents:
		return thresholdStates
	case e == SensorSpecific:
		return typeStates[t]
	}
	return genericStates[e]
}

// StateWord puts one state into words.
func StateWord(t SensorType, e EventType, offset uint8) string {
	if words := States(t, e); int(offset) < len(words) && words[offset] != "" {
		return words[offset]
	}
	if e >= oemEventStart && e != SensorSpecific {
		return fmt.Sprintf("maker's own state %d", offset)
	}
	return fmt.Sprintf("state %d", offset)
}

// StateWords puts the states of a discrete sensor into words; empty for none.
func StateWords(t SensorType, e EventType, states uint16) string {
	var out []string
	for ; states != 0; states &= states - 1 {
		out = append(out, StateWord(t, e, uint8(bits.TrailingZeros16(states))))
	}
	return strings.Join(out, ", ")
}

// PresentState is the state of a sensor of this type that says that its thing is
// there; 0 for none.
func PresentState(t SensorType, e EventType) uint16 {
	if e != SensorSpecific {
		return 0
	}
	return map[SensorType]uint16{Processor: 1 << 7, PowerSupply: 1, Memory: 1 << 6, Drive: 1, BatteryType: 1 << 2}[t]
}

// Gravity is how bad a state is.
type Gravity uint8

// The gravities, the milder first.
const (
	Fine Gravity = iota
	Warning
	Critical
)

// bad lists the states of sensor-specific sensors that are not as they should
// be: masks of warning and of critical ones. What is only an event of the past
// is no state to worry about.
var bad = map[SensorType]struct{ warning, critical uint16 }{
	0x05: {0x007f, 0},
	0x06: {0x003f, 0},
	0x07: {0x1500, 0x087f}, // present is bit 7, terminator bit 9
	0x08: {0x007c, 0x0002},
	0x09: {0x0080, 0x007c},
	0x0c: {0x0631, 0x008e},
	0x0d: {0x01a4, 0x0042},
	0x0f: {0, 0x0003},
	0x10: {0x0020, 0x0018},
	0x13: {0x0880, 0x077f},
	0x19: {0x0001, 0x0002},
	0x1b: {0, 0x0002},
	0x1e: {0, 0x001f},
	0x20: {0x0020, 0x0003},
	0x21: {0x0100, 0x0001},
	0x23: {0x0100, 0x000f},
	0x25: {0x0004, 0},
	0x27: {0, 0x0001},
	0x28: {0x0001, 0x001e},
	0x29: {0x0001, 0x0002},
	0x2b: {0, 0x003c},
	0x2c: {0, 0x0080},
}

var badGeneric = map[EventType]struct{ warning, critical uint16 }{
	0x04: {0x0002, 0},
	0x05: {0, 0x0002},
	0x06: {0x0002, 0},
	0x07: {0x0012, 0x006c},
	0x0a: {0x0040, 0x0100},
	0x0b: {0x00de, 0x0020},
}

// GravityOf says how bad the states of a discrete sensor are together.
func GravityOf(t SensorType, e EventType, states uint16) Gravity {
	b := badGeneric[e]
	if e == SensorSpecific {
		b = bad[t]
	}
	switch {
	case states&b.critical != 0:
		return Critical
	case states&b.warning != 0:
		return Warning
	}
	return Fine
}

// entities is table 43-13, as far as it says something to people.
var entities = map[uint8]string{
	3: "processor", 4: "disk", 6: "management module", 7: "system board", 8: "memory module", 9: "processor module", 10: "power supply",
	11: "add-in card", 12: "front panel", 13: "back panel", 15: "drive backplane", 19: "power unit", 20: "power module", 21: "power distribution",
	23: "chassis", 26: "disk bay", 29: "fan", 30: "cooling unit", 32: "memory device", 34: "system firmware", 35: "operating system",
	38: "remote console", 39: "battery", 55: "air inlet", 64: "air inlet", 65: "processor", 66: "system board",
}

// EntityWord says where a sensor measures, or nothing where that is not known.
func EntityWord(id uint8) string { return entities[id] }
