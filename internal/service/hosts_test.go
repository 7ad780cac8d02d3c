package service_test

import (
	"crypto/tls"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/service"
)

// TestWhichNamesItAnswersTo: a page of somebody else's, whose name stands for this
// address, gets nothing.
func TestWhichNamesItAnswersTo(t *testing.T) {
	t.Parallel()
	s := start(t, func(o *service.Options) {
		o.Hosts, o.Proxies = []string{"Plumb.Example.Test"}, []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	})
	port := s.URL[strings.LastIndex(s.URL, ":"):]
	for host, want := range map[string]int{
		"evil.example.test" + port: http.StatusMisdirectedRequest, "127.0.0.1.evil.example.test": http.StatusMisdirectedRequest,
		"localhost" + port: http.StatusOK, "127.0.0.1" + port: http.StatusOK, "[::1]" + port: http.StatusOK, "plumb.example.test": http.StatusOK, "PLUMB.example.test.": http.StatusOK,
	} {
		for _, path := range []string{"/", "/healthz"} {
			req, err := http.NewRequestWithContext(t.Context(), "GET", s.URL+path, nil)
			require.NoError(t, err)
			req.Host = host
			res, err := s.client.Do(req)
			require.NoError(t, err)
			_ = res.Body.Close()
			require.Equal(t, want, res.StatusCode, "%s %s", host, path)
		}
	}
	// A proxy's word counts, and only the last that it has not said itself.
	s.asks("POST", "/api/v1/tokens", `{"account":"admin","password":"wrong"}`, "X-Forwarded-For: 203.0.113.9, 198.51.100.7")
	s.logIn("admin", s.FirstPassword)
	_, text := s.asks("GET", "/api/v1/journal", "")
	require.Contains(t, text, "Wrong password from 198.51.100.7")
	res, _ := s.asks("POST", "/api/v1/session", `{"account":"admin","password":"`+s.FirstPassword+`"}`)
	require.Contains(t, res.Header.Get("Set-Cookie"), "Secure", "the proxy serves TLS")
}

// TestACertificateIsRenewed: what stands in its file is used, and one that is no good is not.
func TestACertificateIsRenewed(t *testing.T) {
	t.Parallel()
	first, second := start(t, func(o *service.Options) { o.Listen = "0.0.0.0:0" }), start(t, func(o *service.Options) { o.Listen = "0.0.0.0:0" })
	pems := [][]byte{certificateOf(t, first), certificateOf(t, second)}
	file := filepath.Join(t.TempDir(), "cert.pem")
	put := func(text []byte, at time.Time) {
		require.NoError(t, os.WriteFile(file, text, 0o600))
		require.NoError(t, os.Chtimes(file, at, at))
	}
	put(pems[0], time.Now().Add(-time.Hour))
	s := start(t, func(o *service.Options) { o.TLSCert, o.TLSKey = file, file })
	shown := func() string {
		c, err := tls.Dial("tcp", strings.TrimPrefix(s.URL, "https://"), &tls.Config{InsecureSkipVerify: true}) //nolint:gosec // it is looked at
		require.NoError(t, err)
		defer func() { _ = c.Close() }()
		return string(c.ConnectionState().PeerCertificates[0].Raw)
	}
	was := shown()
	put(pems[1], time.Now())
	now := shown()
	require.NotEqual(t, was, now)
	put([]byte("nonsense"), time.Now().Add(time.Minute))
	require.Equal(t, now, shown(), "one that is no good is not taken")
	_, err := tls.Dial("tcp", strings.TrimPrefix(s.URL, "https://"), &tls.Config{InsecureSkipVerify: true, MaxVersion: tls.VersionTLS12, CipherSuites: []uint16{tls.TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA}}) //nolint:gosec // it has to be refused
	require.Error(t, err)
}

// certificateOf is the one that a service has made for itself.
func certificateOf(t *testing.T, s *site) []byte {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(s.dir, "tls.pem"))
	require.NoError(t, err)
	return text
}

// TestLogInsAreBounded: the one that has not been used for the longest time makes room.
func TestLogInsAreBounded(t *testing.T) {
	t.Parallel()
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	oldest := s.token
	for range 50 {
		s.logIn("admin", s.FirstPassword)
	}
	status, _ := s.kind("GET", "/api/v1/session", "")
	require.Equal(t, http.StatusOK, status)
	s.token = oldest
	status, _ = s.kind("GET", "/api/v1/session", "")
	require.Equal(t, http.StatusUnauthorized, status)
}
