package snmpgear

import (
	"testing"

	"github.com/gosnmp/gosnmp"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/reading"
)

func number32(v int) gosnmp.SnmpPDU { return gosnmp.SnmpPDU{Type: gosnmp.Integer, Value: v} }

func words(s string) gosnmp.SnmpPDU {
	return gosnmp.SnmpPDU{Type: gosnmp.OctetString, Value: []byte(s)}
}

// TestEntitySensorTexts: a value keeps the digits that mean something, whatever
// its scale, and what is out of range is no value (RFC 3433).
func TestEntitySensorTexts(t *testing.T) {
	for _, c := range []struct {
		kind, scale, precision, value int
		display, text                 string
		level                         reading.Level
	}{
		{5, 7, 0, 250, "", "0.000250 A", reading.Fine},
		{4, 8, 0, 12034, "", "12.034 V", reading.Fine},
		{5, 8, 1, 34567, "", "3.4567 A", reading.Fine},
		{6, 10, 3, 1234, "", "1234 W", reading.Fine},
		{8, 9, 1, 215, "ignored", "21.5 °C", reading.Fine},
		{1, 9, 0, 612, "ppm", "612 ppm", reading.Fine},
		{2, 9, 0, 7, "micrograms per litre", "7", reading.Fine},
		{3, 9, 0, 1_000_000_000, "", "more than it can measure", reading.Warning},
		{3, 9, 0, -1_000_000_000, "", "less than it can measure", reading.Warning},
		{3, 40, 0, 5, "", "a value that cannot be read: scale 40, precision 0", reading.Warning},
		{3, 9, 99, 5, "", "a value that cannot be read: scale 9, precision 99", reading.Warning},
		{12, 9, 0, 1, "yes or no", "yes", reading.Fine},
	} {
		got := answers{entPhysicalName + ".7": words("x")}
		for column, v := range map[int]int{sensorType: c.kind, sensorScale: c.scale, sensorPrecision: c.precision, sensorValue: c.value, sensorStatus: 1} {
			got[instance(entPhySensorEntry, column, 7)] = number32(v)
		}
		got[instance(entPhySensorEntry, sensorDisplay, 7)] = words(c.display)
		s := entity(got, []int{7})
		require.Equal(t, c.text, s.Text(), "%+v", c)
		require.Equal(t, c.level, s.Level, "%+v", c)
		require.Equal(t, c.kind == 2, s.Name == "x (micrograms per litre)", "what is too long for a unit stands with the name")
	}
}

// TestAPortWithAFaultSaysSo: that is another thing than nobody being there.
func TestAPortWithAFaultSaysSo(t *testing.T) {
	for detected, trouble := range map[int]string{2: "", 3: "", 4: "a fault on the line", 5: "it is being tested", 6: "a fault of the switch"} {
		r, ok := poePort(answers{instance(pethPortEntry, pethAdminEnable, 1, 7): number32(truthTrue), instance(pethPortEntry, pethDetection, 1, 7): number32(detected)}, []int{1, 7}, 7)
		require.True(t, ok)
		require.Equal(t, trouble, r.Trouble)
		require.Equal(t, detected == deliveringPower, *r.Giving)
	}
	_, ok := poePort(answers{}, []int{1, 7}, 7)
	require.False(t, ok, "a port of which nothing is said")
}

// TestWhatNoUPSCanMean is not known, and not shown.
func TestWhatNoUPSCanMean(t *testing.T) {
	at := func(group string, n int) string { return instance(group, n, 0) }
	s := supplyOf(answers{
		at(upsBattery, 3): number32(-2147483648), at(upsBattery, 4): number32(250), at(upsBattery, 5): number32(-5), at(upsBattery, 6): number32(-31),
		at(upsBattery, 7): {Type: gosnmp.Counter64, Value: uint64(18_446_744_073_709_551_615)}, at(upsOutput, 1): words("line"),
	})
	require.Nil(t, s.Battery.Minutes)
	require.Nil(t, s.Battery.Charge)
	require.Nil(t, s.Battery.V)
	require.Nil(t, s.Battery.C)
	require.InDelta(t, -3.1, *s.Battery.A, 1e-9, "a battery that is drawn from has a negative current")
	require.Equal(t, "source not known", s.State())
	s = supplyOf(answers{at(upsOutput, 1): number32(3), at(upsBattery, 7): number32(-10)})
	require.Equal(t, "on line", s.State())
	require.InDelta(t, -10, *s.Battery.C, 0)
}

func TestEverybodyOnAPortIsListed(t *testing.T) {
	p := port{number: 4, Neighbour: reading.Neighbour{Port: "port 4", Up: true}}
	require.Equal(t, []reading.Neighbour{p.Neighbour}, p.with(nil))
	all := p.with([]reading.Neighbour{{Name: "phone"}, {Name: "desk"}})
	require.Equal(t, []reading.Neighbour{{Port: "port 4", Up: true, Name: "phone"}, {Port: "port 4", Up: true, Name: "desk"}}, all)
}
