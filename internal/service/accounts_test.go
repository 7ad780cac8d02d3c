package service_test

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
)

// account adds one and returns its password.
func (s *site) account(name, role string) string {
	s.Helper()
	res, text := s.asks("POST", "/api/v1/accounts", `{"name":"`+name+`","role":"`+role+`"}`)
	require.Equal(s, http.StatusCreated, res.StatusCode, text)
	var p contract.NewPassword
	require.NoError(s, json.Unmarshal([]byte(text), &p))
	require.Equal(s, name, p.Account)
	return p.Password
}

func TestAccounts(t *testing.T) {
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	keeper := s.token
	pass := s.account("runa", "operator")
	require.NotEqual(t, pass, s.account("odd", "viewer"), "each has a password of its own")

	s.logIn("runa", pass)
	runa := s.token
	for _, what := range [][2]string{{"GET", "/accounts"}, {"POST", "/accounts"}, {"DELETE", "/accounts/admin"}, {"PUT", "/accounts/runa/role"}, {"POST", "/accounts/admin/password"}} {
		_, kind := s.kind(what[0], "/api/v1"+what[1], `{"name":"x","role":"keeper"}`)
		require.Equal(t, contract.NotPermitted, kind, what)
	}
	_, kind := s.kind("PUT", "/api/v1/password", `{"old":"wrong","new":"long enough for us"}`)
	require.Equal(t, contract.Usage, kind)
	_, kind = s.kind("PUT", "/api/v1/password", `{"old":"`+pass+`","new":"short"}`)
	require.Equal(t, contract.Usage, kind)
	s.logIn("runa", pass)
	second := s.token
	status, _ := s.kind("PUT", "/api/v1/password", `{"old":"`+pass+`","new":"long enough for us"}`)
	require.Equal(t, http.StatusNoContent, status)
	status, _ = s.kind("GET", "/api/v1/board", "")
	require.Equal(t, http.StatusOK, status, "whoever changes it stays logged in")
	s.token = runa
	status, _ = s.kind("GET", "/api/v1/board", "")
	require.Equal(t, http.StatusUnauthorized, status, "elsewhere that log-in has ended")

	s.token = keeper
	for what, body := range map[string]string{
		"POST /accounts":                `{"name":"runa","role":"viewer"}`,
		"POST /accounts ":               `{"name":"Not A Name","role":"viewer"}`,
		"POST /accounts  ":              `{"name":"fine","role":"king"}`,
		"PUT /accounts/admin/role":      `{"role":"viewer"}`,
		"PUT /accounts/runa/role":       `{"role":"king"}`,
		"DELETE /accounts/admin":        "",
		"POST /accounts/admin/password": "",
	} {
		method, path, _ := strings.Cut(strings.TrimSpace(what), " ")
		_, kind := s.kind(method, "/api/v1"+path, body)
		require.Equal(t, contract.Usage, kind, what)
	}
	_, kind = s.kind("DELETE", "/api/v1/accounts/nobody", "")
	require.Equal(t, contract.NotFound, kind)

	status, _ = s.kind("PUT", "/api/v1/accounts/runa/role", `{"role":"viewer"}`)
	require.Equal(t, http.StatusNoContent, status)
	s.token = second
	_, kind = s.kind("POST", "/api/v1/operations", `{"intent":{"kind":"on","device":"x"},"digest":""}`)
	require.Equal(t, contract.NotPermitted, kind, "a role that is taken away is gone at once")

	s.token = keeper
	res, text := s.asks("POST", "/api/v1/accounts/runa/password", "")
	require.Equal(t, http.StatusOK, res.StatusCode, text)
	res, _ = s.asks("DELETE", "/api/v1/accounts/odd", "")
	require.Equal(t, http.StatusNoContent, res.StatusCode)
	_, text = s.asks("GET", "/api/v1/accounts", "")
	var all []contract.Account
	require.NoError(t, json.Unmarshal([]byte(text), &all))
	require.Len(t, all, 2)
	require.Equal(t, contract.Viewer, all[1].Role)
	require.Zero(t, all[1].LogIns, "another password ends the log-ins")
	_, text = s.asks("GET", "/api/v1/journal", "")
	require.Contains(t, text, "Account runa is viewer now")
	require.NotContains(t, text, pass)
}
