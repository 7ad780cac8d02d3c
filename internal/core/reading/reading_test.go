package reading

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWords(t *testing.T) {
	v, limit, last := 97.4, 95.0, 100.0
	hot := Sensor{Name: "CPU 1 temp", Kind: "temperature", Unit: "°C", Value: &v, Level: Critical, Limits: Limits{HighCritical: &limit, HighFatal: &last}}
	require.Equal(t, "CPU 1 temp is 97 °C, above its critical limit of 95 °C", hot.Trouble())
	psu := Sensor{Name: "PSU 2", Words: "input lost", Level: Warning}
	require.Equal(t, "PSU 2: input lost", psu.Trouble())
	cool := Sensor{Name: "Inlet", Kind: "temperature", Unit: "°C", Value: new(21.0), Level: Fine}
	gone := Sensor{Name: "Fan 1", Words: "not measured now", Level: Absent}

	s, ok := Telling([]Sensor{gone, cool, psu, hot})
	require.True(t, ok)
	require.Equal(t, "CPU 1 temp", s.Name, "the worst")
	s, ok = Telling([]Sensor{gone, cool})
	require.True(t, ok)
	require.Equal(t, "21 °C", s.Text(), "or the temperature, when all is well")
	_, ok = Telling([]Sensor{gone})
	require.False(t, ok)
	require.True(t, Critical.Worse(Warning) && Warning.Worse(Fine) && Fine.Worse(Absent))
}
