package snmpgear

import (
	"context"
	"fmt"
	"math"
	"unicode/utf8"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/gear"
)

// The columns of ENTITY-SENSOR-MIB (RFC 3433) and ENTITY-MIB (RFC 6933).
const (
	entPhySensorEntry = "1.3.6.1.2.1.99.1.1.1"
	sensorType        = 1
	sensorScale       = 2
	sensorPrecision   = 3
	sensorValue       = 4
	sensorStatus      = 5
	sensorDisplay     = 6

	entPhysicalName  = "1.3.6.1.2.1.47.1.1.1.1.7"
	entPhysicalDescr = "1.3.6.1.2.1.47.1.1.1.1.2"

	maxSensors = 512
	maxUnit    = 8 // characters of entPhySensorUnitsDisplay: as wide as the records are
	maxDigits  = 9 // behind the point

	valueOver = 1_000_000_000 // at or beyond, EntitySensorValue says over or under range
)

// sensorKinds are the data types of RFC 3433, EntitySensorDataType, with their units.
var sensorKinds = map[int]struct{ kind, unit string }{
	1: {"other", ""}, 2: {"other", ""}, 3: {"voltage", "V AC"}, 4: {"voltage", "V"}, 5: {"current", "A"}, 6: {"power", "W"}, 7: {"frequency", "Hz"},
	8: {"temperature", "°C"}, 9: {"humidity", "%"}, 10: {"fan", "rpm"}, 11: {"airflow", "m³/min"}, 12: {"contact", ""},
}

const truthValue = 12

// sensors is the part of a card that measures its surroundings.
type sensors struct{ *Driver }

var _ gear.Sensors = (*sensors)(nil)

// ReadSensors reads what the profile maps, and what the agent lists by itself.
func (d *sensors) ReadSensors(ctx context.Context) ([]reading.Sensor, error) {
	var out []reading.Sensor
	err := d.read.use(ctx, func() error {
		p := d.o.Profile
		var names []string
		for _, s := range p.Sensors {
			names = append(names, oids(s.Value)...)
		}
		got, err := d.read.get(names)
		if err != nil {
			return err
		}
		out = lookup("", got).Sensors(p)
		if p.Standardly("sensors") {
			var listed []reading.Sensor
			listed, err = d.entities()
			out = append(out, listed...)
		}
		return err
	})
	return out, err
}

func (d *sensors) entities() ([]reading.Sensor, error) {
	cells, err := d.read.walk(instance(entPhySensorEntry, sensorType), maxSensors)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, c := range cells {
		for _, column := range []int{sensorType, sensorScale, sensorPrecision, sensorValue, sensorStatus, sensorDisplay} {
			names = append(names, instance(entPhySensorEntry, column, c.index...))
		}
		names = append(names, entPhysicalName+indexSuffix(c.index), entPhysicalDescr+indexSuffix(c.index))
	}
	got, err := d.read.get(names)
	if err != nil {
		return nil, err
	}
	var out []reading.Sensor
	for _, c := range cells {
		out = append(out, entity(got, c.index))
	}
	return out, nil
}

// entity reads one row. The value is worth 10^(3·(scale−9)) units, with so many
// of its digits behind the point (RFC 3433, section 4); states are no zeros.
func entity(got answers, index []int) reading.Sensor {
	at := func(column int) string { return instance(entPhySensorEntry, column, index...) }
	kind := got.integer(at(sensorType))
	s := reading.Sensor{Name: got.text(entPhysicalName + indexSuffix(index)), Where: got.text(entPhysicalDescr + indexSuffix(index)), Level: reading.Absent}
	s.Kind, s.Unit = sensorKinds[kind].kind, sensorKinds[kind].unit
	if s.Name == "" {
		s.Name = s.Where
	}
	s.Series = gear.Key(s.Name)
	if unit := got.text(at(sensorDisplay)); s.Unit == "" && unit != "" && kind != truthValue {
		if s.Unit = unit; utf8.RuneCountInString(unit) > maxUnit {
			s.Unit, s.Name = "", s.Name+" ("+unit+")"
		}
	}
	switch v := got.number(at(sensorValue), 1); {
	case got.integer(at(sensorStatus)) == 2:
		s.Words = "cannot be read now"
	case got.integer(at(sensorStatus)) == 3 || v == nil:
		s.Words, s.Level = "broken", reading.Warning
	case kind == truthValue:
		s.Words, s.Level = map[bool]string{true: "yes", false: "no"}[*v == truthTrue], reading.Fine
	case *v >= valueOver || *v <= -valueOver:
		s.Words, s.Level = map[bool]string{true: "more than it can measure", false: "less than it can measure"}[*v > 0], reading.Warning
	default:
		scaled(&s, *v, got.integer(at(sensorScale)), got.integer(at(sensorPrecision)))
	}
	return s
}

// scaled gives a sensor its value, with as many digits as mean something.
func scaled(s *reading.Sensor, v float64, scale, precision int) {
	if scale < 1 || scale > 17 || precision < -8 || precision > 9 {
		s.Words, s.Level = fmt.Sprintf("a value that cannot be read: scale %d, precision %d", scale, precision), reading.Warning
		return
	}
	places := precision - 3*(scale-9)
	x := v * math.Pow(10, float64(-places))
	s.Value, s.Digits, s.Level = &x, min(maxDigits, max(0, places)), reading.Fine
}

func indexSuffix(index []int) string { return instance("", index[0], index[1:]...) }
