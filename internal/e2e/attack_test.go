package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
)

// An attacker asks for anything, with or without a log-in.
type attacker struct {
	*world
	token string
}

// asks sends a request, and returns the status and what came back; 0 when nothing did.
func (a *attacker) asks(ctx context.Context, method, path, body string, headers ...string) (int, string) {
	req, err := http.NewRequestWithContext(ctx, method, a.url+path, strings.NewReader(body))
	require.NoError(a, err)
	req.Header.Set("Content-Type", "application/json")
	if a.token != "" {
		req.Header.Set("Authorization", "Bearer "+a.token)
	}
	for _, h := range headers {
		name, value, _ := strings.Cut(h, ": ")
		req.Header.Set(name, value)
		if name == "Host" {
			req.Host = value
		}
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, err.Error()
	}
	defer func() { _ = res.Body.Close() }()
	text, _ := io.ReadAll(res.Body)
	return res.StatusCode, string(text)
}

// TestAttack does to a service what somebody would who means harm: without a log-in, with
// one of little right, and with the connection cut. The journal has all that was done, no
// memory is lost to it, and whoever is in goes on.
func TestAttack(t *testing.T) {
	t.Parallel()
	w, p := apart(t)
	held := struct{ Token string }{}
	text, err := os.ReadFile(filepath.Join(w.dir, w.login))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &held))
	nobody, keeper := &attacker{world: w}, &attacker{world: w, token: held.Token}
	before := reckonOf(t, p.Process.Pid)

	nobody.floods(keeper)
	nobody.unfinished()
	require.Less(t, reckonOf(t, p.Process.Pid).most, before.most+100, "MiB at the most")
	nobody.names()
	keeper.cuts()
	keeper.escapes()
	for _, role := range []string{"viewer", "steward"} {
		a := &attacker{world: w, token: w.comesIn(role)}
		a.reaches(role)
	}
	_, _ = nobody.asks(t.Context(), "GET", "/", "")
	require.Contains(t, w.flat(0, "", "journal", "verify"), "holds")
	w.eventually(w.well, "it is well")
	p.stop(t)
	for line := range strings.Lines(p.out.String()) {
		require.NotContains(t, line, "goroutine ", "nothing has crashed")
	}
}

// floods tries a thousand passwords at once, while somebody who is in looks at the board.
func (a *attacker) floods(in *attacker) {
	var all sync.WaitGroup
	statuses := make([]int, 1000)
	for i := range statuses {
		all.Go(func() {
			statuses[i], _ = a.asks(a.Context(), "POST", "/api/v1/tokens", fmt.Sprintf(`{"account":"guess%d","password":"a guess"}`, i%40))
		})
	}
	status, _ := in.asks(a.Context(), "GET", "/api/v1/board", "")
	require.Equal(a, http.StatusOK, status)
	all.Wait()
	for _, s := range statuses {
		require.Contains(a, []int{http.StatusUnauthorized, http.StatusTooManyRequests}, s)
	}
}

// unfinished begins bodies that are long, and does not end them.
func (a *attacker) unfinished() {
	address := strings.TrimPrefix(a.url, "http://")
	part := bytes.Repeat([]byte("x"), 1<<20)
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			c, err := net.Dial("tcp", address)
			if err != nil {
				return
			}
			defer func() { _ = c.Close() }()
			_ = c.SetDeadline(time.Now().Add(5 * time.Second))
			_, _ = fmt.Fprintf(c, "POST /api/v1/session HTTP/1.1\r\nHost: %s\r\nContent-Type: application/json\r\nContent-Length: 9000000\r\n\r\n", address)
			for range 8 {
				if _, err := c.Write(part); err != nil {
					return
				}
			}
		})
	}
	all.Wait()
}

// hostile is what a name should not be.
var hostile = []string{"admin" + strings.Repeat(" ", 70), `\u001b[8m`, `\u001b]52;c;Y3VybA==\u0007`, "=HYPERLINK(1)", `x\n<109>1 forged`, `\u202eevil`}

// names tries names that would break the journal, a terminal or a spreadsheet.
func (a *attacker) names() {
	for _, name := range hostile {
		status, _ := a.asks(a.Context(), "POST", "/api/v1/tokens", `{"account":"`+name+`","password":"x"}`)
		require.Contains(a, []int{http.StatusUnauthorized, http.StatusUnprocessableEntity, http.StatusTooManyRequests}, status, name)
	}
	for _, form := range []string{"table", "csv"} {
		out := a.says(0, "", "journal", "--limit", "50", "--output", form)
		require.NotContains(a, out, "\x1b")
		require.NotContains(a, out, ",=")
		require.NotContains(a, out, "forged")
	}
}

// cuts has a thousand changes asked for, with the connection cut at any moment: what was
// changed is in the journal, once.
func (a *attacker) cuts() {
	const changes = 1000
	var all sync.WaitGroup
	room := make(chan struct{}, 8)
	for i := range changes {
		room <- struct{}{}
		all.Go(func() {
			defer func() { <-room }()
			ctx, cancel := context.WithTimeout(a.Context(), time.Duration(rand.IntN(40_000))*time.Microsecond)
			defer cancel()
			_, _ = a.asks(ctx, "PUT", fmt.Sprintf("/api/v1/secrets/cut-%d", i), `{"kind":"token","password":"made up"}`)
		})
	}
	all.Wait()
	time.Sleep(time.Second) // what is under way ends
	made := map[string]int{}
	for _, s := range reads[[]contract.Secret](a.world, "secret", "list") {
		if strings.HasPrefix(s.Name, "cut-") {
			made[s.Name]++
		}
	}
	told := map[string]int{}
	for line := range strings.Lines(a.says(0, "", "journal", "export")) {
		var e struct{ Text string }
		require.NoError(a, json.Unmarshal([]byte(line), &e))
		for word := range strings.FieldsSeq(e.Text) {
			if strings.HasPrefix(word, "cut-") {
				told[strings.TrimRight(word, ".,:;")]++
			}
		}
	}
	require.Greater(a, len(made), 20)
	require.Less(a, len(made), changes, "some were cut in time")
	require.Equal(a, made, told)
}

// escapes tries other names of the service, and what a page elsewhere would ask.
func (a *attacker) escapes() {
	status, _ := a.asks(a.Context(), "GET", "/api/v1/board", "", "Host: evil.example.test")
	require.Equal(a, http.StatusMisdirectedRequest, status)
	status, _ = a.asks(a.Context(), "POST", "/api/v1/session", `{"account":"admin","password":"x"}`, "Origin: https://evil.example.test", "Sec-Fetch-Site: cross-site")
	require.Equal(a, http.StatusForbidden, status)
	for _, path := range []string{"/../../etc/passwd", "/%2e%2e/%2e%2e/etc/passwd", "//evil.example.test/", "/assets/../../secrets.key"} {
		_, text := a.asks(a.Context(), "GET", path, "")
		require.NotContains(a, text, "root:", path)
	}
}

// comesIn makes an account of a role, and logs in with it.
func (w *world) comesIn(role string) string {
	pass := reads[contract.NewPassword](w, "account", "add", role+"-x", "--role", role).Password
	a := &attacker{world: w}
	status, text := a.asks(w.Context(), "POST", "/api/v1/tokens", `{"account":"`+role+`-x","password":"`+pass+`"}`)
	require.Equal(w, http.StatusCreated, status, text)
	var in contract.Token
	require.NoError(w, json.Unmarshal([]byte(text), &in))
	return in.Token
}

// reaches tries to get, with little right, at secrets, at other machines and at the power.
func (a *attacker) reaches(role string) {
	profile := `format: 1\nname: thief\nprotocol: http\nlogin: bearer\n`
	status, text := a.asks(a.Context(), "POST", "/api/v1/profile-trials", `{"text":"`+profile+`","address":"127.0.0.1:9","secret":"strips"}`)
	require.GreaterOrEqual(a, status, 400, "%s: %s", role, text)
	for _, address := range []string{"169.254.169.254", "[fe80::1]"} {
		estate := `format: 1\nsites: {x: {}}\ndevices: {y: {site: x, probes: [{tcp: '` + address + `:80'}]}}\n`
		status, text = a.asks(a.Context(), "PUT", "/api/v1/estate", `{"text":"`+estate+`"}`)
		require.GreaterOrEqual(a, status, 400, "%s: %s", role, text)
	}
	status, _ = a.asks(a.Context(), "PUT", "/api/v1/secrets/strips", `{"kind":"token","password":"mine now"}`)
	require.Equal(a, http.StatusForbidden, status)
	status, text = a.asks(a.Context(), "POST", "/api/v1/operations", `{"intent":{"kind":"off","device":"skarvoe-router"},"digest":"`+strings.Repeat("0", 64)+`"}`)
	require.Contains(a, []int{http.StatusForbidden, http.StatusConflict}, status, text)
	var big strings.Builder
	big.WriteString(`format: 1\nsites: {x: {}}\ndevices:\n`)
	for i := range 20_000 {
		fmt.Fprintf(&big, `  d%d: {site: x}\n`, i)
	}
	status, text = a.asks(a.Context(), "POST", "/api/v1/estate/diff", `{"text":"`+big.String()+`"}`)
	require.NotEqual(a, http.StatusInternalServerError, status, text)
}
