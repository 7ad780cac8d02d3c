package service_test

import (
	"encoding/json"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/service"
	"plumbbob/internal/store/storetest"
)

// TestMetrics: shown to who has their token, and to nobody else; /readyz says whether this service
// does what it is for.
func TestMetrics(t *testing.T) {
	const token = "a-token-of-its-own"
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte(token+"\n"), 0o600))
	s := start(t, func(o *service.Options) { o.MetricsToken, o.MetricsReadings = file, []string{"inlet*"} })
	for _, given := range []string{"", "Bearer wrong", token} {
		res, text := s.asks("GET", "/metrics", "", "Authorization: "+given)
		require.Equal(t, http.StatusUnauthorized, res.StatusCode)
		require.Contains(t, text, "--metrics-token-file")
	}
	res, text := s.asks("GET", "/readyz", "")
	require.Equal(t, http.StatusServiceUnavailable, res.StatusCode)
	require.Equal(t, "not ready: there is no estate yet\n", text)
	s.logIn("admin", s.FirstPassword)
	body, err := json.Marshal(map[string]any{"text": "plumb-estate: 1\nsites: {pier: {zone: UTC}}\nstandpoint: ops\ndevices:\n  ops: {site: pier, role: server}\n", "version": 0})
	require.NoError(t, err)
	res, text = s.asks("PUT", "/api/v1/estate", string(body))
	require.Equal(t, http.StatusOK, res.StatusCode, text)
	require.Eventually(t, func() bool { res, _ := s.asks("GET", "/readyz", ""); return res.StatusCode == http.StatusOK }, time.Minute, 10*time.Millisecond)
	s.token = ""
	res, text = s.asks("GET", "/metrics", "", "Authorization: Bearer "+token, "Accept: application/openmetrics-text; version=1.0.0")
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.Contains(t, res.Header.Get("Content-Type"), "application/openmetrics-text")
	require.Contains(t, text, `plumb_verdict{device="ops",site="pier",state=`)
	require.Contains(t, text, "plumb_database_up 1.0\n")
	require.Contains(t, text, "plumb_notes{state=\"queued\"} 0.0\n")
	require.Contains(t, text, "\n# EOF\n")

	require.NoError(t, os.WriteFile(file, []byte("short"), 0o600))
	_, err = service.Open(t.Context(), service.Options{DataDir: t.TempDir(), Listen: "127.0.0.1:0", MetricsToken: file, Log: slog.New(slog.DiscardHandler), Database: storetest.Config(t).FormatDSN()})
	require.ErrorContains(t, err, "is shorter than 16 characters")
}
