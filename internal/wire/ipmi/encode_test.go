package ipmi

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestRecordsBothWays: whatever a record says is read as it was written.
func TestRecordsBothWays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := &SensorRecord{
			SensorKey: SensorKey{0x20, rapid.Uint8Range(0, 3).Draw(t, "lun"), rapid.Uint8().Draw(t, "number")}, Name: rapid.StringMatching(`[A-Za-z0-9][A-Za-z0-9 .]{0,13}[A-Za-z0-9]`).Draw(t, "name"),
			Entity: rapid.Uint8().Draw(t, "entity"), Instance: rapid.Uint8Range(0, 127).Draw(t, "instance"), Type: SensorType(rapid.Uint8().Draw(t, "type")), Event: ThresholdEvents,
			Threshold: WritableThresholds, Scanning: rapid.Bool().Draw(t, "scanning"), Units: Units{Base: rapid.Uint8Range(0, 92).Draw(t, "unit"), Rate: rapid.Uint8Range(0, 6).Draw(t, "rate"), Percent: rapid.Bool().Draw(t, "percent")},
			Format: Format(rapid.Uint8Range(0, 2).Draw(t, "format")), Linear: Linearization(rapid.Uint8Range(0, 11).Draw(t, "linear")),
			Factors: Factors{M: rapid.Int16Range(-512, 511).Draw(t, "M"), B: rapid.Int16Range(-512, 511).Draw(t, "B"), RExp: rapid.Int8Range(-8, 7).Draw(t, "RExp")},
			Max:     rapid.Uint8().Draw(t, "max"), Min: rapid.Uint8().Draw(t, "min"), Positive: 1, Negative: 2,
		}
		for n := range s.Thresholds.Has {
			if rapid.Bool().Draw(t, "has") {
				s.Thresholds.Has[n], s.Readable = true, s.Readable|1<<n
			}
			s.Thresholds.Value[n] = rapid.Uint8().Draw(t, "threshold")
		}
		if rapid.Bool().Draw(t, "nominal") {
			s.Nominal = new(rapid.Uint8().Draw(t, "nominal value"))
		}
		rec := Record{ID: rapid.Uint16().Draw(t, "id"), Type: FullSensor, Sensor: s}
		got, err := DecodeRecord(rec.Append(nil))
		require.NoError(t, err)
		require.Equal(t, []Record{rec}, got)
	})
	for _, rec := range []Record{
		{ID: 1, Type: EventOnly, Sensor: &SensorRecord{SensorKey: SensorKey{0x20, 0, 9}, Name: "Start", Entity: 7, Instance: 1, Type: RestartType, Event: SensorSpecific}},
		{ID: 2, Type: FRULocator, Locator: &Locator{Name: "Mainboard", Address: 0x20, FRU: 3, Logical: true, Entity: 7}},
		{ID: 3, Type: ControllerLocator, Locator: &Locator{Name: "Controller", Address: 0x20, Entity: 6}},
		{ID: 4, Type: OEMRecord, Raw: []byte{1, 2, 3}},
	} {
		got, err := DecodeRecord(rec.Append(nil))
		require.NoError(t, err)
		require.Equal(t, []Record{rec}, got)
	}
}

// TestTextsBothWays: packed texts lose nothing.
func TestTextsBothWays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.StringMatching(`([!-_]{4}){3,6}`).Draw(t, "text")
		require.True(t, sixBitText(s))
		require.Equal(t, s, Text(encSixBit, packSixBit(s)))
	})
}

// TestAskingForPower: what a request says, byte by byte.
func TestAskingForPower(t *testing.T) {
	limit := PowerLimit{Active: true, Watts: 300, Correction: 0, Sampling: 0}
	require.Equal(t, []byte{0, 0, 0, 0x11, 0x2c, 0x01, 0, 0, 0, 0, 0, 0, 0, 0}, limit.append(nil, 3))
	require.Equal(t, []byte{0x82, 2, 'a', 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}, passwordField(2, passwordSet, "a", true))
	require.Len(t, passwordField(2, passwordSet, "a", false), 18)
	require.Equal(t, []byte{0xa0, 0x18, 0, 0, 0}, BootFlags{Valid: true, UEFI: true, Device: BootSetup}.Append(nil))
	require.Equal(t, []byte{0xe0, 0x04, 0, 0, 0}, BootFlags{Valid: true, UEFI: true, Persistent: true, Device: BootNetwork}.Append(nil))
	for d, name := range bootNames {
		got, ok := ParseBootDevice(name)
		require.True(t, ok)
		require.Equal(t, d, got)
	}
}
