package service_test

import (
	"net/http"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/service"
)

// TestSafe: everything can be looked at and mended, and nothing is asked or switched.
func TestSafe(t *testing.T) {
	t.Parallel()
	s := start(t, func(o *service.Options) { o.Safe = true })
	s.logIn("admin", s.FirstPassword)
	status, _ := s.kind("PUT", "/api/v1/estate", `{"text":`+quoted(estateFile)+`}`)
	require.Equal(t, http.StatusOK, status)
	_, text := s.asks("GET", "/api/v1/board", "")
	require.Contains(t, text, "started with --safe")
	_, text = s.asks("GET", "/healthz", "")
	require.Contains(t, text, "not well")
}

// TestTheKeyIsGone: a new one is made, and nobody takes that for health.
func TestTheKeyIsGone(t *testing.T) {
	t.Parallel()
	var o service.Options
	s := start(t, func(x *service.Options) { o = *x })
	s.logIn("admin", s.FirstPassword)
	status, _ := s.kind("PUT", "/api/v1/secrets/strips", `{"kind":"token","password":"made up"}`)
	require.Equal(t, http.StatusNoContent, status)
	dir := t.TempDir()
	later := start(t, func(x *service.Options) { x.Database, x.DataDir = o.Database, dir })
	later.token = s.token
	_, text := later.asks("GET", "/api/v1/board", "")
	require.Contains(t, text, filepath.Join(dir, "secrets.key")+" was not there, so a new key was made")
}
