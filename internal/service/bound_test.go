package service_test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
)

const tokenProfile = "plumb-profile: 1\nname: mine\nprotocol: http\nlogin: {kind: bearer}\npages: {all: /}\noutlets: {count: 1, on: {page: all, find: '(x)', yes: x}}\n"

// TestASecretGoesWhereItIsBoundTo: whoever may try profiles and import estates cannot
// have it sent to themselves.
func TestASecretGoesWhereItIsBoundTo(t *testing.T) {
	t.Parallel()
	var got atomic.Value
	got.Store("")
	listener := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { got.Store(r.Header.Get("Authorization")) }))
	t.Cleanup(listener.Close)
	mine := strings.TrimPrefix(listener.URL, "http://")

	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	stewards := s.account("runa", "steward")
	put := func(card string) (int, string) {
		body, err := json.Marshal(map[string]string{"text": estateFile + "  p: {site: pier, role: pdu, outlets: {count: 1}, endpoints: {card: {protocol: http, profile: lab-strip, address: '" + card + "', secret: strips, network: [ops]}}}\n"})
		require.NoError(t, err)
		res, text := s.asks("PUT", "/api/v1/estate", string(body))
		return res.StatusCode, text
	}
	status, text := put("198.51.100.7:80")
	require.Equal(t, http.StatusOK, status, text)
	res, text := s.asks("PUT", "/api/v1/secrets/strips", `{"kind":"token","password":"made up"}`)
	require.Equal(t, http.StatusNoContent, res.StatusCode, text)
	_, text = s.asks("GET", "/api/v1/secrets", "")
	require.Contains(t, text, `"to":["http://198.51.100.7:80"]`, "where the estate uses it")

	trial, err := json.Marshal(map[string]string{"text": tokenProfile, "address": mine, "secret": "strips"})
	require.NoError(t, err)
	admin := s.token
	s.logIn("runa", stewards)
	_, text = s.asks("POST", "/api/v1/profile-trials", string(trial))
	require.Contains(t, text, "may not be sent to http://"+mine)
	status, text = put(mine)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "a keeper allows it with plumb secret bind strips http://"+mine)
	status, _ = s.kind("PATCH", "/api/v1/secrets/strips", `{"to":["http://`+mine+`"]}`)
	require.Equal(t, http.StatusForbidden, status)
	require.Empty(t, got.Load(), "nothing was sent")
	_, text = s.asks("GET", "/api/v1/journal", "")
	require.Contains(t, text, "Profile mine tried at "+mine+" with the secret strips")

	s.token = admin
	_, text = s.asks("POST", "/api/v1/profile-trials", string(trial))
	require.Equal(t, "Bearer made up", got.Load(), "who may bind it may try it: %s", text)
	status, text = put(mine)
	require.Equal(t, http.StatusOK, status, text)
	_, text = s.asks("GET", "/api/v1/journal", "")
	require.Contains(t, text, "Secret strips bound to http://"+mine+" as well, with the estate")
	for body, want := range map[string]int{`{"to":["ftp:x"]}`: 422, `{"to":["snmp://198.51.100.0/24"],"also":true}`: 200, `{"to":[]}`: 200} {
		res, text := s.asks("PATCH", "/api/v1/secrets/strips", body)
		require.Equal(t, want, res.StatusCode, text)
	}
	status, _ = s.kind("PATCH", "/api/v1/secrets/nobody", `{"to":[]}`)
	require.Equal(t, http.StatusNotFound, status)
}
