package lab_test

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/lab/labtest"
)

// TestTwoViews: a second service sees the same gear from where it stands.
func TestTwoViews(t *testing.T) {
	l := labtest.Start(t, labtest.Options{Speed: 400, Pier: true})
	hears := func(url string) bool {
		c := &http.Client{Timeout: 300 * time.Millisecond, Transport: &http.Transport{DisableKeepAlives: true}}
		res, err := c.Get(url)
		if err == nil {
			_ = res.Body.Close()
		}
		return err == nil && res.StatusCode == http.StatusTeapot
	}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTeapot) }))
	defer service.Close()
	require.NoError(t, l.Runs(demo.Post, service.URL))
	require.NoError(t, l.Runs(demo.Office, service.URL))
	inward, outward := l.Estate.Device(demo.Post).Probes[0].Target, l.Pier.Device(demo.Office).Probes[0].Target
	both := func(in, out bool, what string) {
		t.Helper()
		require.Eventually(t, func() bool { return hears(inward) == in && hears(outward) == out }, 20*time.Second, 20*time.Millisecond, what)
	}
	both(true, true, "at first")
	for what, spoil := range map[string]func() error{
		"the gateway hangs":     func() error { return l.Hang("skarvoe-cell") },
		"its line is stuck":     func() error { return l.StickLine("skarvoe-cell") },
		"its line is down":      func() error { return l.DropLine("skarvoe-cell") },
		"the pier has no power": func() error { return l.Blackout("skarvoe", true) },
	} {
		require.NoError(t, spoil())
		both(false, false, what)
		require.NoError(t, l.Heal(""))
		both(true, true, "after "+what)
	}
	e, err := estatefile.Parse("other", []byte("plumb-estate: 1\nstandpoint: elsewhere\nsites: {pier: {}}\ndevices: {elsewhere: {site: pier, role: server}}\n"))
	require.NoError(t, err)
	require.ErrorContains(t, l.Beside(e), `the lab has no device "elsewhere"`)
}
