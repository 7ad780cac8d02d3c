package service_test

import (
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/password"
)

// TestControllersOverTheAPI: what is read, what is changed and by whom, and
// what each kind of nonsense is answered with.
func TestControllersOverTheAPI(t *testing.T) {
	l := labtest.Start(t, labtest.Options{})
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	res, text := s.asks("PUT", "/api/v1/estate", `{"text":`+quoted(l.File)+`}`)
	require.Equal(t, http.StatusOK, res.StatusCode, text)
	const base = "/api/v1/devices/ostrel-virt-1"
	status, kind := s.kind("GET", base+"/controller", "")
	require.Equal(t, contract.GearRefused, kind, "its secret is not set")
	require.Equal(t, http.StatusBadGateway, status)
	body, err := json.Marshal(map[string]string{"kind": "ipmi", "user": lab.ControllerSecret.User, "password": lab.ControllerSecret.Password})
	require.NoError(t, err)
	res, _ = s.asks("PUT", "/api/v1/secrets/controllers", string(body))
	require.Equal(t, http.StatusNoContent, res.StatusCode)

	res, text = s.asks("GET", base+"/controller", "")
	require.Equal(t, http.StatusOK, res.StatusCode, text)
	require.NotContains(t, text, lab.ControllerSecret.Password)
	var settings contract.ControllerSettings
	require.NoError(t, json.Unmarshal([]byte(text), &settings))
	require.Equal(t, "comes on", settings.Restore)

	for path, want := range map[string]contract.ProblemKind{
		"GET " + "/api/v1/devices/nobody/sensors":            contract.NotFound,
		"GET " + "/api/v1/devices/nobody/sheet":              contract.NotFound,
		"GET " + "/api/v1/devices/skarvoe-router/sensors":    contract.Usage,
		"GET " + "/api/v1/devices/skarvoe-router/controller": contract.Usage,
		"GET " + base + "/events?since=yesterday":            contract.Usage,
	} {
		_, kind := s.kind(path[:3], path[4:], "")
		require.Equal(t, want, kind, path)
	}
	for change, want := range map[string]contract.ProblemKind{
		`{}`:                                  contract.Usage,
		`{"name":"x","setClock":true}`:        contract.Usage,
		`{"restore":"perhaps","apply":true}`:  contract.Usage,
		`{"limitW":-3,"apply":true}`:          contract.Usage,
		`{"restore":`:                         contract.Usage,
		`{"testAlert":9,"apply":true}`:        contract.GearRefused,
		`{"user":{"id":99},"apply":true}`:     contract.Usage,
		`{"restore":"as before"}`:             "",
		`{"identifySeconds":5,"apply":true}`:  "",
		`{"name":"a new name","apply":true}`:  "",
		`{"name":"a new name","apply":false}`: "",
	} {
		_, kind := s.kind("POST", base+"/controller", change)
		require.Equal(t, want, kind, change)
	}
	_, kind = s.kind("POST", base+"/events/clear", `{"version":"another"}`)
	require.Equal(t, contract.Conflict, kind, "what was not read is not erased")

	for _, may := range []struct {
		role         string
		light, other int
	}{
		{"viewer", http.StatusForbidden, http.StatusForbidden},
		{"operator", http.StatusOK, http.StatusForbidden},
		{"steward", http.StatusOK, http.StatusOK},
	} {
		role := may.role
		require.NoError(t, s.Store.CreateAccount(t.Context(), role, role, password.Hash("a good password")))
		s.logIn(role, "a good password")
		status, _ = s.kind("POST", base+"/controller", `{"identifySeconds":5,"apply":true}`)
		require.Equal(t, may.light, status, "%s and the light", role)
		status, _ = s.kind("POST", base+"/controller", `{"restore":"comes on","apply":true}`)
		if role == "steward" { // it comes on already, so there is nothing to do
			require.Equal(t, http.StatusOK, status)
		}
		status, _ = s.kind("POST", base+"/controller", `{"name":"by `+role+`","apply":true}`)
		require.Equal(t, may.other, status, "%s and a setting", role)
	}
	require.Eventually(t, func() bool {
		_, text := s.asks("GET", "/api/v1/journal?kind=controller", "")
		var es []contract.JournalEntry
		return json.Unmarshal([]byte(text), &es) == nil && len(es) >= 4 && es[0].Who == "steward"
	}, 30*time.Second, 50*time.Millisecond, "every change is on record")
}
