package ipmigear

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/wire/ipmi"
)

// TestWhatCannotBeReadKeepsItsRow: a fan that has been taken out is not gone
// without a word.
func TestWhatCannotBeReadKeepsItsRow(t *testing.T) {
	fan := &ipmi.SensorRecord{Name: "FAN1", Type: ipmi.Fan, Event: ipmi.ThresholdEvents}
	r := unread(fan, &ipmi.CompletionError{Code: ipmi.NotPresent})
	require.Equal(t, reading.Sensor{Name: "FAN1", Kind: "fan", Level: reading.Absent, Words: "not there: it has been taken out, or is without power"}, r)
	require.Equal(t, "its controller gives no reading", unread(fan, errors.New("x")).Words)
	events := &ipmi.SensorRecord{Name: "events alone"}
	repo := &ipmi.Repository{Records: []ipmi.Record{{Type: ipmi.FullSensor, Sensor: fan}, {Type: ipmi.EventOnly, Sensor: events}}}
	require.Equal(t, []*ipmi.SensorRecord{fan}, repo.Readable(), "what sends nothing but events is not asked")
	require.Len(t, repo.Sensors(), 2, "but its events have its name")
}

// TestLimitsOfWhatIsNotLinear: the factors of the record are not theirs.
func TestLimitsOfWhatIsNotLinear(t *testing.T) {
	s := &ipmi.SensorRecord{Factors: ipmi.Factors{M: 1}}
	var raw ipmi.RawThresholds
	raw.Has[ipmi.UpperCritical], raw.Value[ipmi.UpperCritical] = true, 60
	require.InDelta(t, 60, *limitsOf(s, raw).HighCritical, 0)
	s.Linear = ipmi.NonLinear
	require.Equal(t, reading.Limits{}, limitsOf(s, raw))
	e := ipmi.Event{Kind: ipmi.SystemEventRecord, Type: ipmi.Temperature, Event: ipmi.ThresholdEvents, Data: [3]byte{0x59, 60, 60}}
	require.NotContains(t, e.Words(s), "60")
}

// TestPresence: a supply that is not there is not one that has nothing to report.
func TestPresence(t *testing.T) {
	d := &Driver{}
	for _, c := range []struct {
		readable, states uint16
		words            string
		level            reading.Level
	}{{0x00ff, 0x0001, "present", reading.Fine}, {0x00ff, 0, "not there", reading.Absent}, {0x0008, 0, "nothing to report", reading.Fine}, {0x00ff, 0x0003, "present, failed", reading.Critical}} {
		s := &ipmi.SensorRecord{Name: "PSU1", Type: ipmi.PowerSupply, Event: ipmi.SensorSpecific, Readable: c.readable}
		r, err := d.sensor(t.Context(), nil, s, ipmi.Reading{Scanning: true, States: c.states})
		require.NoError(t, err)
		require.Equal(t, c.words, r.Words)
		require.Equal(t, c.level, r.Level)
	}
}
