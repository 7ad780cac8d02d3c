package bmc

import (
	"math"

	"plumbbob/internal/wire/ipmi"
)

// sensor is one sensor: its record, and what it says of a box.
type sensor struct {
	ipmi.SensorRecord
	kind   ipmi.RecordType
	value  func(State) float64 // analogue ones
	states func(State) uint16  // discrete ones
	idle   bool                // it measures without the host being on
	share  int                 // so many sensors share its record
	curve  func(raw uint8) ipmi.Factors
}

// Numbers that the event log refers to.
const (
	numberSupply     = 0x60 // and the next for the second
	numberRedundancy = 0x62
	numberIntrusion  = 0x63
	numberProcessor  = 0x64
	numberMemory     = 0x65
	numberLog        = 0x66
	numberWatchdog   = 0x67
	numberACPI       = 0x68
	numberBattery    = 0x69
	numberVersion    = 0x6a
	numberRestart    = 0x6b
	numberButton     = 0x6c
	numberStop       = 0x6d
	numberFans       = 0x6e
	numberPredict    = 0x6f
	numberDrives     = 0x70 // and those after it
	numberFan        = 0x30 // and those after it
)

// The limits of a sensor; NaN stands for none.
type limits struct{ lnr, lc, lnc, unc, uc, unr float64 }

var none = math.NaN()

func upper(unc, uc, unr float64) limits { return limits{none, none, none, unc, uc, unr} }
func lower(lc, lnc float64) limits      { return limits{none, lc, lnc, none, none, none} }
func within(lc, lnc, unc, uc float64) limits {
	return limits{none, lc, lnc, unc, uc, none}
}

func factors(m, b int16, bExp, rExp int8) ipmi.Factors {
	return ipmi.Factors{M: m, B: b, BExp: bExp, RExp: rExp, Tolerance: 1, Accuracy: 100}
}

// analog makes a linear sensor, with thresholds.
func analog(n uint8, name string, t ipmi.SensorType, unit, entity uint8, f ipmi.Factors, l limits, value func(State) float64) sensor {
	s := sensor{kind: ipmi.FullSensor, value: value}
	s.SensorRecord = ipmi.SensorRecord{
		SensorKey: ipmi.SensorKey{Owner: 0x20, Number: n}, Name: name, Entity: entity, Instance: 1, Type: t, Event: ipmi.ThresholdEvents,
		Units: ipmi.Units{Base: unit}, Factors: f, Max: 255, Threshold: ipmi.WritableThresholds, Scanning: true, Positive: 1, Negative: 1,
	}
	return s.limited(l)
}

// limited sets the thresholds, which are raw numbers of the sensor's own.
func (s sensor) limited(l limits) sensor {
	s.Readable, s.Assertion, s.Deassertion = 0, 0, 0
	s.Thresholds = ipmi.RawThresholds{}
	for n, v := range []float64{l.lnc, l.lc, l.lnr, l.unc, l.uc, l.unr} {
		if math.IsNaN(v) {
			continue
		}
		raw, err := s.Raw(v)
		if err != nil {
			continue
		}
		s.Thresholds.Value[n], s.Thresholds.Has[n] = raw, true
		s.Readable |= 1 << n
		s.Assertion |= 1 << (2*n + n/3)
		s.Deassertion = s.Assertion
	}
	return s
}

// as changes how the raw number is to be understood.
func (s sensor) as(f ipmi.Format, l limits) sensor {
	s.Format = f
	return s.limited(l)
}

func (s sensor) linear(l ipmi.Linearization) sensor {
	s.Linear = l
	return s.limited(limits{none, none, none, none, none, none})
}

func (s sensor) always() sensor { s.idle = true; return s }

// discrete makes a sensor with states.
func discrete(n uint8, name string, t ipmi.SensorType, e ipmi.EventType, entity uint8, states func(State) uint16) sensor {
	s := sensor{kind: ipmi.CompactSensor, states: states, idle: true}
	s.SensorRecord = ipmi.SensorRecord{
		SensorKey: ipmi.SensorKey{Owner: 0x20, Number: n}, Name: name, Entity: entity, Instance: 1, Type: t, Event: e,
		Assertion: 0x7fff, Deassertion: 0x7fff, Readable: 0x7fff, Format: ipmi.NotAnalog, Scanning: true,
	}
	return s
}

func eventOnly(n uint8, name string, t ipmi.SensorType, e ipmi.EventType) sensor {
	s := sensor{kind: ipmi.EventOnly}
	s.SensorRecord = ipmi.SensorRecord{SensorKey: ipmi.SensorKey{Owner: 0x20, Number: n}, Name: name, Entity: 7, Instance: 1, Type: t, Event: e}
	return s
}

func constant(v float64) func(State) float64 { return func(State) float64 { return v } }

func fixed(states uint16) func(State) uint16 { return func(State) uint16 { return states } }

func turning(fans []bool) (n int) {
	for _, f := range fans {
		if f {
			n++
		}
	}
	return n
}

// heat is how much warmer than the room it gets inside: more load, more; fewer
// fans, much more.
func heat(s State) float64 {
	fans := max(1, turning(s.Fans))
	return (8 + 26*s.Load) * float64(max(1, len(s.Fans))) / float64(fans)
}

func fanSpeed(s State, n int) float64 {
	if !s.Fans[n] {
		return 0
	}
	return 4200 + 5200*s.Load + 90*max(0, s.Ambient-22) + 60*math.Sin(float64(n)+s.Since.Seconds()/11)
}

// working are the supplies that have input and are not broken.
func working(s State, n int) bool { return s.Feeds[n] && s.Supply[n] }

// sensorsOf makes the sensors of a model. Sensor number 0 is used: it is legal.
func sensorsOf(m Model) []sensor {
	if m.Rich {
		return append(serverSensors(6, 2), richSensors()...)
	}
	if m.Small {
		return serverSensors(2, 1)
	}
	return serverSensors(4, 2)
}

func serverSensors(fans, supplies int) []sensor {
	out := []sensor{
		analog(0, "Inlet temp", ipmi.Temperature, ipmi.UnitCelsius, 64, factors(1, 0, 0, 0), limits{}, func(s State) float64 { return s.Ambient }).
			as(ipmi.TwosComplement, limits{none, 0, 4, 38, 42, 47}).always(),
		analog(1, "Exhaust temp", ipmi.Temperature, ipmi.UnitCelsius, 7, factors(1, 0, 0, 0), upper(68, 75, none), func(s State) float64 { return s.Ambient + heat(s)*0.7 }).always(),
		analog(2, "CPU 1 temp", ipmi.Temperature, ipmi.UnitCelsius, 3, factors(1, 0, 0, 0), upper(85, 95, 100), func(s State) float64 { return s.Ambient + heat(s) + 6 }),
		analog(3, "CPU 1 margin", ipmi.Temperature, ipmi.UnitCelsius, 3, factors(1, 0, 0, 0), limits{}, func(s State) float64 { return s.Ambient + heat(s) + 6 - 100 }).
			as(ipmi.OnesComplement, limits{none, none, none, -12, -5, none}),
		analog(6, "Board temp", ipmi.Temperature, ipmi.UnitCelsius, 7, factors(5, 0, 0, -1), upper(65, 75, none), func(s State) float64 { return s.Ambient + heat(s)*0.5 + 4 }).always(),
		analog(0x10, "12 V", ipmi.Voltage, ipmi.UnitVolts, 7, factors(6, 0, 0, -2), within(11.1, 11.4, 12.6, 12.9), func(s State) float64 { return 12.12 - 0.1*s.Load }),
		analog(0x11, "5 V", ipmi.Voltage, ipmi.UnitVolts, 7, factors(25, 0, 0, -3), within(4.6, 4.75, 5.25, 5.4), constant(5.03)),
		analog(0x12, "3.3 V", ipmi.Voltage, ipmi.UnitVolts, 7, factors(16, 0, 0, -3), within(3.05, 3.15, 3.46, 3.55), constant(3.31)),
		analog(0x13, "Battery", ipmi.Voltage, ipmi.UnitVolts, 7, factors(16, 0, 0, -3), lower(2.5, 2.7), constant(3.04)).always(),
		analog(0x14, "CPU 1 core", ipmi.Voltage, ipmi.UnitVolts, 3, factors(8, 40, 0, -3), within(0.6, 0.65, 1.4, 1.5), func(s State) float64 { return 0.86 + 0.2*s.Load }),
		analog(0x50, "Power", ipmi.OtherUnits, ipmi.UnitWatts, 7, factors(4, 0, 0, 0), limits{none, none, none, none, none, none}, func(s State) float64 { return s.Watts }).always(),
	}
	for n := range fans {
		out = append(out, analog(numberFan+uint8(n), "Fan "+string(rune('1'+n)), ipmi.Fan, ipmi.UnitRPM, 29, factors(75, 0, 0, 0), lower(900, 1500), func(s State) float64 { return fanSpeed(s, n) }))
	}
	for n := range supplies {
		name := "PSU " + string(rune('1'+n))
		out = append(out,
			analog(0x51+uint8(n), name+" in", ipmi.Current, ipmi.UnitAmps, 10, factors(2, 0, 0, -2), upper(4, 4.6, none), func(s State) float64 {
				if !working(s, n) {
					return 0
				}
				return s.Watts / 230 / float64(max(1, liveSupplies(s)))
			}).always(),
			discrete(numberSupply+uint8(n), name, ipmi.PowerSupply, ipmi.SensorSpecific, 10, func(s State) uint16 {
				states := uint16(1)
				if !s.Supply[n] {
					states |= 1 << 1
				}
				if !s.Feeds[n] {
					states |= 1 << 3
				}
				return states
			}))
	}
	if supplies > 1 {
		out = append(out, discrete(numberRedundancy, "Power redundancy", ipmi.PowerUnit, 0x0b, 19, func(s State) uint16 {
			if liveSupplies(s) < len(s.Supply) {
				return 1 << 1
			}
			return 1
		}))
	}
	return append(out, discreteSensors()...)
}

func liveSupplies(s State) (n int) {
	for i := range s.Supply {
		if working(s, i) {
			n++
		}
	}
	return n
}

func discreteSensors() []sensor {
	drives := discrete(numberDrives, "Drive ", ipmi.Drive, ipmi.SensorSpecific, 26, fixed(1))
	drives.share = 4
	return []sensor{
		discrete(numberIntrusion, "Lid", ipmi.Intrusion, ipmi.SensorSpecific, 23, func(s State) uint16 { return when(s.Open, 1) }),
		discrete(numberProcessor, "CPU 1", ipmi.Processor, ipmi.SensorSpecific, 3, func(s State) uint16 { return 1<<7 | when(s.Ambient+heat(s) > 94, 1<<10) }),
		discrete(numberMemory, "Memory", ipmi.Memory, ipmi.SensorSpecific, 8, fixed(1<<6)),
		discrete(numberLog, "Event log", ipmi.EventLogState, ipmi.SensorSpecific, 6, fixed(0)),
		discrete(numberWatchdog, "Watchdog", ipmi.WatchdogType, ipmi.SensorSpecific, 6, fixed(0)),
		discrete(numberACPI, "Power state", ipmi.ACPIType, ipmi.SensorSpecific, 7, func(s State) uint16 {
			switch {
			case !s.On:
				return 1 << 5
			case s.Asleep:
				return 1 << 3
			}
			return 1
		}),
		discrete(numberBattery, "Clock battery", ipmi.BatteryType, ipmi.SensorSpecific, 39, fixed(1<<2)),
		discrete(numberStop, "System", ipmi.StopType, ipmi.SensorSpecific, 35, func(s State) uint16 { return when(s.Crashed, 1<<1) }),
		discrete(numberFans, "Fan redundancy", ipmi.Fan, 0x0b, 30, func(s State) uint16 {
			if turning(s.Fans) < len(s.Fans) {
				return 1 << 1
			}
			return 1
		}),
		discrete(numberPredict, "Drive health", ipmi.Drive, 0x04, 26, fixed(1)),
		discrete(numberButton, "Buttons", ipmi.ButtonType, ipmi.SensorSpecific, 12, fixed(0)),
		drives,
		eventOnly(numberVersion, "Firmware", ipmi.VersionChange, ipmi.SensorSpecific),
		eventOnly(numberRestart, "Start", ipmi.RestartType, ipmi.SensorSpecific),
	}
}

func when(on bool, states uint16) uint16 {
	if on {
		return states
	}
	return 0
}

// richSensors are one of each linearization, as no single make has them.
func richSensors() []sensor {
	none := limits{none, none, none, none, none, none}
	plain := func(n uint8, name string, t ipmi.SensorType, unit uint8, m int16, rExp int8, l ipmi.Linearization, value func(State) float64) sensor {
		return analog(n, name, t, unit, 7, factors(m, 0, 0, rExp), none, value).linear(l)
	}
	other := ipmi.OtherUnits
	speed := plain(0x8a, "Duct speed", other, 34, 1, 0, ipmi.CubeRoot, func(s State) float64 { return 3 + 2*s.Load })
	speed.Units.Rate = 3 // per second
	load := analog(0x8b, "CPU load", other, 0, 3, factors(1, 0, 0, 0), none, func(s State) float64 { return 100 * s.Load })
	load.Units.Percent = true
	thermistor := plain(0x8c, "Coil temp", ipmi.Temperature, ipmi.UnitCelsius, 1, 0, ipmi.NonLinear, func(s State) float64 { return s.Ambient + 9 })
	thermistor.curve = func(raw uint8) ipmi.Factors {
		if raw < 128 { // a curve in two straight pieces
			return factors(5, 0, 0, -1)
		}
		return factors(1, -64, 0, 0)
	}
	return []sensor{
		plain(0x80, "Pump", ipmi.Fan, ipmi.UnitRPM, 4, -6, ipmi.Inverse, constant(3000)),
		plain(0x81, "Duct flow", other, ipmi.UnitCFM, 40, 0, ipmi.SquareRoot, func(s State) float64 { return 40 + 20*s.Load }),
		plain(0x82, "Drives power", other, ipmi.UnitWatts, 1, -1, ipmi.Square, func(s State) float64 { return 24 + 30*s.Load }),
		plain(0x83, "Blower power", other, ipmi.UnitWatts, 2, -2, ipmi.Cube, func(s State) float64 { return 6 + 9*s.Load }),
		plain(0x84, "Vibration", other, 0, 1, 0, ipmi.Log10, constant(1.3)),
		plain(0x85, "Filter age", other, 0, 1, 0, ipmi.Ln, constant(2.7)),
		plain(0x86, "Queue depth", other, 0, 1, 0, ipmi.Log2, constant(5)),
		plain(0x87, "Door light", other, 12, 2, -2, ipmi.Exp, constant(60)),
		plain(0x88, "Dust", other, 58, 1, -2, ipmi.Exp10, constant(45)),
		plain(0x89, "Link rate", other, 68, 5, -2, ipmi.Exp2, constant(1000)),
		speed, load, thermistor,
	}
}

// recordsOf writes the repository: the sensors, the inventory and the
// controller's own record.
func recordsOf(list []sensor, m Model) [][]byte {
	const sharing = 23 // where the two bytes about sharing stand in a compact record
	var out [][]byte
	for _, s := range list {
		rec := ipmi.Record{ID: uint16(len(out)), Type: s.kind, Sensor: &s.SensorRecord}.Append(nil)
		if s.share > 1 {
			rec[sharing], rec[sharing+1] = byte(s.share), 0x80|1 // numbered from 1
		}
		out = append(out, rec)
	}
	out = append(out, ipmi.Record{ID: uint16(len(out)), Type: ipmi.FRULocator, Locator: &ipmi.Locator{Name: "Mainboard", Address: 0x20, Logical: true, Entity: 7}}.Append(nil))
	out = append(out, ipmi.Record{ID: uint16(len(out)), Type: ipmi.ControllerLocator, Locator: &ipmi.Locator{Name: "Controller", Address: 0x20, Entity: 6}}.Append(nil))
	return append(out, ipmi.Record{ID: uint16(len(out)), Type: ipmi.OEMRecord, Raw: []byte{byte(m.Firmware.Manufacturer), byte(m.Firmware.Manufacturer >> 8), 0, 1, 2, 3}}.Append(nil))
}
