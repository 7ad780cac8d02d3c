package service_test

import (
	"bufio"
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/service"
	"plumbbob/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

var console = fstest.MapFS{
	"index.html":    {Data: []byte("<title>Plumb Bob</title>")},
	"assets/app.js": {Data: []byte("// the console")},
}

// site is a running service without any gear.
type site struct {
	*testing.T
	*service.Service
	client *http.Client
	token  string
	dir    string
}

func start(t *testing.T, change func(*service.Options)) *site {
	t.Helper()
	o := service.Options{
		DataDir: t.TempDir(), Database: storetest.Config(t).FormatDSN(), Listen: "127.0.0.1:0",
		Console: console, Log: slog.New(slog.DiscardHandler),
	}
	if change != nil {
		change(&o)
	}
	s, err := service.Open(t.Context(), o)
	require.NoError(t, err)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	t.Cleanup(func() { stop(); require.NoError(t, <-ended) })
	return &site{T: t, Service: s, dir: o.DataDir, client: &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}}
}

// asks sends a request; headers are "Name: value". The body is JSON or empty.
func (s *site) asks(method, path, body string, headers ...string) (*http.Response, string) {
	s.Helper()
	req, err := http.NewRequestWithContext(s.Context(), method, s.URL+path, strings.NewReader(body))
	require.NoError(s, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if s.token != "" {
		req.Header.Set("Authorization", "Bearer "+s.token)
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		req.Header.Set(name, value)
	}
	res, err := s.client.Do(req)
	require.NoError(s, err)
	defer func() { _ = res.Body.Close() }()
	text, err := io.ReadAll(res.Body)
	require.NoError(s, err)
	return res, string(text)
}

// kind sends a request and returns the status and the kind of problem.
func (s *site) kind(method, path, body string, headers ...string) (int, contract.ProblemKind) {
	s.Helper()
	res, text := s.asks(method, path, body, headers...)
	var p contract.Problem
	if res.StatusCode >= 400 && strings.HasPrefix(res.Header.Get("Content-Type"), "application/problem+json") {
		require.NoError(s, json.Unmarshal([]byte(text), &p), text)
		require.Equal(s, res.StatusCode, p.Status)
		require.NotEmpty(s, *p.Detail)
	}
	return res.StatusCode, p.Kind
}

func (s *site) logIn(account, pass string) {
	s.Helper()
	_, text := s.asks("POST", "/api/v1/tokens", `{"account":"`+account+`","password":"`+pass+`"}`)
	var token contract.Token
	require.NoError(s, json.Unmarshal([]byte(text), &token), text)
	s.token = token.Token
}

func TestNothingWithoutALogIn(t *testing.T) {
	s := start(t, nil)
	for _, path := range []string{"/board", "/devices/x", "/devices/x/draw", "/operations", "/operations/x", "/journal", "/estate", "/secrets", "/session", "/events", "/sheets", "/devices/x/sensors", "/devices/x/events", "/devices/x/sheet", "/devices/x/controller"} {
		status, kind := s.kind("GET", "/api/v1"+path, "")
		require.Equal(t, http.StatusUnauthorized, status, path)
		require.Equal(t, contract.NotLoggedIn, kind, path)
		status, _ = s.kind("GET", "/api/v1"+path, "", "Authorization: Bearer nonsense")
		require.Equal(t, http.StatusUnauthorized, status, path)
		status, _ = s.kind("GET", "/api/v1"+path, "", "Cookie: plumb=nonsense")
		require.Equal(t, http.StatusUnauthorized, status, path)
	}
	res, text := s.asks("GET", "/healthz", "")
	require.Equal(t, http.StatusOK, res.StatusCode)
	require.Equal(t, "well\n", text)
	res, text = s.asks("GET", "/devices/whatever", "")
	require.Equal(t, http.StatusOK, res.StatusCode, "its pages are the console's")
	for _, path := range []string{"/metrics", "/api/v2/board", "/assets/gone.js"} {
		res, _ := s.asks("GET", path, "")
		require.Equal(t, http.StatusNotFound, res.StatusCode, path)
	}
	require.Contains(t, text, "Plumb Bob")
	require.Contains(t, res.Header.Get("Content-Security-Policy"), "default-src 'none'")
	require.Equal(t, "nosniff", res.Header.Get("X-Content-Type-Options"))
	res, _ = s.asks("GET", "/assets/app.js", "")
	require.Contains(t, res.Header.Get("Cache-Control"), "immutable")
}

func TestTheBrowsersLogIn(t *testing.T) {
	s := start(t, nil)
	body := `{"account":"admin","password":"` + s.FirstPassword + `"}`
	status, kind := s.kind("POST", "/api/v1/session", `{"account":"admin","password":"wrong"}`)
	require.Equal(t, http.StatusUnauthorized, status)
	require.Equal(t, contract.WrongPassword, kind)
	status, kind = s.kind("POST", "/api/v1/session", `{"account":"nobody","password":"wrong"}`, "X-Forwarded-For: 192.0.2.99", "X-Real-Ip: 192.0.2.99")
	require.Equal(t, http.StatusUnauthorized, status, "the same as for an account that exists")
	require.Equal(t, contract.WrongPassword, kind)
	status, kind = s.kind("POST", "/api/v1/session", body, "Sec-Fetch-Site: cross-site")
	require.Equal(t, http.StatusForbidden, status, "not from somebody else's page")
	require.Equal(t, contract.NotPermitted, kind, "in the form of every error")

	res, _ := s.asks("POST", "/api/v1/session", body)
	require.Equal(t, http.StatusOK, res.StatusCode)
	cookie := res.Cookies()[0]
	require.True(t, cookie.HttpOnly)
	require.Equal(t, http.SameSiteStrictMode, cookie.SameSite)
	mine := "Cookie: plumb=" + cookie.Value
	status, _ = s.kind("GET", "/api/v1/session", "", mine)
	require.Equal(t, http.StatusOK, status)
	status, _ = s.kind("GET", "/api/v1/board", "", "Authorization: Bearer "+cookie.Value)
	require.Equal(t, http.StatusUnauthorized, status, "a cookie is no bearer token")
	for _, foreign := range []string{"Sec-Fetch-Site: cross-site", "Origin: http://elsewhere.example"} {
		status, _ = s.kind("POST", "/api/v1/operations", `{}`, mine, foreign)
		require.Equal(t, http.StatusForbidden, status, foreign)
	}
	_, journal := s.asks("GET", "/api/v1/journal", "", mine)
	require.Contains(t, journal, "Wrong password from 127.0.0.1")
	require.NotContains(t, journal, "192.0.2.99", "nobody can say where they come from")
	status, _ = s.kind("DELETE", "/api/v1/session", "", mine)
	require.Equal(t, http.StatusNoContent, status)
	status, _ = s.kind("GET", "/api/v1/session", "", mine)
	require.Equal(t, http.StatusUnauthorized, status)
}

func TestProblems(t *testing.T) {
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	for _, c := range []struct {
		method, path, body string
		status             int
		kind               contract.ProblemKind
	}{
		{"GET", "/devices/nobody", "", 404, contract.NotFound},
		{"GET", "/devices/nobody/draw", "", 404, contract.NotFound},
		{"GET", "/operations/nobody", "", 404, contract.NotFound},
		{"POST", "/operations/nobody/cancel", "", 404, contract.NotFound},
		{"DELETE", "/secrets/nobody", "", 404, contract.NotFound},
		{"POST", "/previews", `{"kind":"cycle","device":"nobody"}`, 422, contract.Usage},
		{"POST", "/previews", `{"kind":"cycle","device":"x","outlets":["seven"]}`, 422, contract.Usage},
		{"POST", "/previews", `{"kind":`, 422, contract.Usage},
		{"POST", "/operations", `{"intent":{"kind":"off","device":"x"},"digest":"","override":["own-path"]}`, 422, contract.Usage},
		{"PUT", "/estate", `{"text":"plumb-estate: 9"}`, 422, contract.FaultyFile},
		{"PUT", "/secrets/Bad Name", `{"kind":"snmp-v2c","community":"x"}`, 422, contract.Usage},
		{"PUT", "/secrets/x", `{"kind":"snmp-v2c"}`, 422, contract.Usage},
		{"GET", "/journal?limit=many", "", 422, contract.Usage},
		{"GET", "/nothing", "", 404, contract.NotFound},
		{"PATCH", "/board", "", 405, contract.Usage},
	} {
		status, kind := s.kind(c.method, "/api/v1"+strings.ReplaceAll(c.path, " ", "%20"), c.body)
		require.Equal(t, c.status, status, "%s %s", c.method, c.path)
		require.Equal(t, c.kind, kind, "%s %s", c.method, c.path)
	}
	res, _ := s.asks("PUT", "/api/v1/estate", `{"text":"`+strings.Repeat("x", 10<<20)+`"}`)
	require.Equal(t, http.StatusRequestEntityTooLarge, res.StatusCode)
}

const estateFile = `plumb-estate: 1
standpoint: ops
sites: {pier: {name: Pier}}
devices:
  ops: {site: pier, role: server}
`

func TestTheEstateIsReplacedAsAWhole(t *testing.T) {
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	put := func(text string, version int) (int, contract.ProblemKind) {
		body, err := json.Marshal(contract.EstateImport{Text: text, Version: &version})
		require.NoError(t, err)
		return s.kind("PUT", "/api/v1/estate", string(body))
	}
	status, _ := put(estateFile, 0)
	require.Equal(t, http.StatusOK, status)
	status, kind := put(estateFile+"  more: {site: pier, role: router}\n", 0)
	require.Equal(t, http.StatusConflict, status, "somebody else was first")
	require.Equal(t, contract.Conflict, kind)
	status, _ = put(estateFile+"  more: {site: nowhere, role: router}\n", 1)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	_, text := s.asks("GET", "/api/v1/estate", "")
	var file contract.EstateFile
	require.NoError(t, json.Unmarshal([]byte(text), &file))
	require.Equal(t, estateFile, file.Text, "what was refused has changed nothing")
	_, text = s.asks("GET", "/api/v1/board", "")
	require.Contains(t, text, `"key":"ops"`)
	_, text = s.asks("GET", "/api/v1/journal", "")
	require.Contains(t, text, "Estate imported: estate: standpoint nothing → ops")
}

func TestSecretsAreNeverShown(t *testing.T) {
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	status, _ := s.kind("PUT", "/api/v1/secrets/pdu", `{"kind":"snmp-v2c","community":"do-not-show-me"}`)
	require.Equal(t, http.StatusNoContent, status)
	for _, path := range []string{"/secrets", "/estate", "/journal", "/board"} {
		_, text := s.asks("GET", "/api/v1"+path, "")
		require.NotContains(t, text, "do-not-show-me", path)
	}
	kept, err := s.Store.Secret(t.Context(), "pdu")
	require.NoError(t, err)
	require.False(t, bytes.Contains(kept.Sealed, []byte("do-not-show-me")), "sealed in the store")
}

// TestTheStream: changes arrive by themselves, and a connection that was lost
// goes on where it broke.
func TestTheStream(t *testing.T) {
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	ids, kinds := make(chan string, 64), make(chan string, 64)
	listen := func(after string) func() {
		ctx, stop := context.WithCancel(t.Context())
		req, err := http.NewRequestWithContext(ctx, "GET", s.URL+"/api/v1/events", nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+s.token)
		req.Header.Set("Last-Event-ID", after)
		res, err := s.client.Do(req)
		require.NoError(t, err)
		require.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
		go func() {
			defer func() { _ = res.Body.Close() }()
			for lines := bufio.NewScanner(res.Body); lines.Scan(); {
				if id, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
					ids <- id
				}
				if kind, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
					kinds <- kind
				}
			}
		}()
		return stop
	}
	wait := func(wanted ...string) { // in any order
		t.Helper()
		for late := time.After(30 * time.Second); len(wanted) > 0; {
			select {
			case k := <-kinds:
				wanted = slices.DeleteFunc(wanted, func(w string) bool { return w == k })
			case <-late:
				t.Fatalf("no event %s", wanted)
			}
		}
	}
	stop := listen("")
	s.asks("PUT", "/api/v1/estate", `{"text":`+quoted(estateFile)+`}`)
	wait("estate", "device")
	stop()
	var last string
	for len(ids) > 0 {
		last = <-ids
	}
	s.asks("PUT", "/api/v1/secrets/pdu", `{"kind":"snmp-v2c","community":"x"}`) // while nobody listens
	stop = listen(last)
	wait("journal")
	stop()
	stop = listen("from-another-run-1")
	wait("reset")
	stop()
}

func quoted(s string) string {
	b, _ := json.Marshal(s)
	return string(b)
}

func TestOnlyLoopbackIsServedInClear(t *testing.T) {
	s := start(t, func(o *service.Options) { o.Listen = "0.0.0.0:0" })
	require.True(t, strings.HasPrefix(s.URL, "https://"))
	require.Len(t, s.Fingerprint, 64)
	port := s.URL[strings.LastIndex(s.URL, ":"):]
	s.client.Transport = &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}} //nolint:gosec // its own certificate
	res, err := s.client.Get("https://127.0.0.1" + port + "/healthz")
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	require.NotEmpty(t, res.Header.Get("Strict-Transport-Security"))
	require.NotNil(t, res.TLS)
	plain, err := http.Get("http://127.0.0.1" + port + "/healthz")
	if err == nil {
		require.NoError(t, plain.Body.Close())
		require.NotEqual(t, http.StatusOK, plain.StatusCode)
	}
}

func TestWhatStopsTheStart(t *testing.T) {
	s := start(t, nil)
	open := func(change func(*service.Options)) error {
		o := service.Options{DataDir: t.TempDir(), Database: storetest.Config(t).FormatDSN(), Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler)}
		change(&o)
		x, err := service.Open(t.Context(), o)
		if err == nil {
			err = x.Close()
		}
		return err
	}
	require.ErrorContains(t, open(func(o *service.Options) { o.Listen = strings.TrimPrefix(s.URL, "http://") }), "is in use: stop what listens there")
	require.ErrorContains(t, open(func(o *service.Options) { o.Database = "what?" }), "write user:password@tcp(host:3306)/database")
	require.ErrorContains(t, open(func(o *service.Options) { o.TLSCert = "/nowhere" }), "--tls-cert")
	dir := t.TempDir()
	first := start(t, func(o *service.Options) { o.DataDir = dir })
	require.NotEmpty(t, first.URL)
	require.ErrorContains(t, open(func(o *service.Options) { o.DataDir = dir }), "another plumbd is using")
}
