package observation

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/core/reading"
	"plumbbob/internal/core/verdict"
)

// What is written is read again, whatever it brought; what is not known is left out.
func TestAnObservationCanBeToldToOthers(t *testing.T) {
	at := time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC)
	watts, on := 41.5, true
	o := Observation{
		Site: "skarvoe", Device: "skarvoe-pdu", Endpoint: "card", Beside: true,
		Result: verdict.Result{SentAt: at, RTT: 30 * time.Millisecond, OK: true, Why: "why", Refused: true, Updating: true},
		Brought: Payloads{
			Outlets{Outlets: []reading.Outlet{{Number: 3, Name: "router", On: true, Giving: &on}}, TotalW: &watts},
			Chassis{On: true, Watts: &watts, At: at}, Supply{}, Fronts{{Lead: 1, Power: true, Disk: &on}},
			Sensors{{Name: "inlet", Value: &watts}}, Events{Version: "7"}, Sheet{Serial: "x"}, Weak{{Text: "t"}}, Neighbours{{Port: "1", Up: true}},
		},
	}
	require.Len(t, o.Brought, len(types), "every kind is tried here")
	text, err := json.Marshal(o)
	require.NoError(t, err)
	var back Observation
	require.NoError(t, json.Unmarshal(text, &back))
	require.Equal(t, o, back)

	require.NoError(t, json.Unmarshal([]byte(`{"device":"x","probe":2,"brought":[{"kind":"picture","value":"AA"},{"kind":"fronts","value":[]}]}`), &back))
	require.Equal(t, Payloads{Fronts{}}, back.Brought)
	require.Equal(t, verdict.ProbeID{Device: "x", Index: 2}, back.ProbeID())
	for _, bad := range []string{`{"brought":[{"kind":"chassis","value":[]}]}`, `{"brought":{}}`} {
		require.Error(t, json.Unmarshal([]byte(bad), &back))
	}
}
