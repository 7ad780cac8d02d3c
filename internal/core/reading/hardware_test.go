package reading

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestBroken(t *testing.T) {
	sensors := []Sensor{
		{Name: "Fan 1", Kind: "fan", Words: "5400 rpm", Level: Fine}, {Name: "Fan 2", Kind: "fan", Words: "stands still", Level: Critical},
		{Name: "Inlet", Kind: "temperature", Words: "hot", Level: Critical}, {Name: "Bay 3", Kind: "drive bay", Words: "failed", Level: Warning},
	}
	ups := &Supply{Alarms: []Alarm{{Name: "upsAlarmOnBattery", Text: "it draws from its battery"}, {Name: "upsAlarmBatteryBad", Text: "the battery is bad"}}}
	require.Equal(t, []string{"Fan 2: stands still", "Bay 3: failed", "the battery is bad"}, Broken(sensors, ups), "heat and a power cut have their causes elsewhere")
	require.Empty(t, Broken(sensors[:1], nil))
}
