package service_test

import (
	"compress/gzip"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/password"
)

// written is the contract as it stands in its file, read without what the service reads
// it with.
type written struct {
	Paths map[string]map[string]yaml.Node `yaml:"paths"`
}

func readContract(t *testing.T) map[string]map[string]string {
	text, err := os.ReadFile("../api/openapi.yaml")
	require.NoError(t, err)
	var w written
	require.NoError(t, yaml.Unmarshal(text, &w))
	least := map[string]map[string]string{}
	for path, item := range w.Paths {
		least[path] = map[string]string{}
		for method, node := range item {
			if method == "parameters" {
				continue
			}
			var op struct {
				Least string `yaml:"x-least-role"`
			}
			require.NoError(t, node.Decode(&op))
			require.NotEmpty(t, op.Least, "%s %s", method, path)
			least[path][strings.ToUpper(method)] = op.Least
		}
	}
	return least
}

// TestEveryRouteByEveryRole walks the whole contract, and what is beside it: nothing is
// open to who may not, and nobody is refused who may.
func TestEveryRouteByEveryRole(t *testing.T) {
	s := start(t, nil)
	ranks := []string{"nobody", "viewer", "operator", "steward", "keeper"}
	for _, role := range ranks[1:] {
		require.NoError(t, s.Store.CreateAccount(t.Context(), role+"-1", role, password.Hash("a good password")))
	}
	least := readContract(t)
	require.Greater(t, len(least), 50)
	methods := []string{"GET", "POST", "PUT", "PATCH", "DELETE"}
	for rank, role := range ranks {
		s.token = ""
		if role != "nobody" {
			s.logIn(role+"-1", "a good password")
		}
		for _, path := range slices.Sorted(maps.Keys(least)) {
			if path == "/events" {
				continue // it does not end; who may is tried elsewhere
			}
			at := "/api/v1" + strings.NewReplacer("{", "no-such-", "}", "").Replace(path)
			for _, method := range methods {
				if role != "nobody" && method == "DELETE" && path == "/session" {
					continue // that would be all
				}
				status, kind := s.kind(method, at, map[bool]string{true: "{}"}[method != "GET"])
				needs, there := least[path][method]
				what := role + ": " + method + " " + at
				switch {
				case !there:
					require.Equal(t, http.StatusMethodNotAllowed, status, what)
				case needs == "nobody":
					require.Equal(t, http.StatusUnprocessableEntity, status, what)
				case rank == 0:
					require.Equal(t, contract.NotLoggedIn, kind, what)
				case rank < slices.Index(ranks, needs):
					require.Equal(t, contract.NotPermitted, kind, what)
				default:
					require.NotContains(t, []contract.ProblemKind{contract.NotPermitted, contract.NotLoggedIn, contract.Internal}, kind, what)
				}
			}
		}
	}
	s.token = ""
	status, _ := s.kind("GET", "/api/v1/events", "")
	require.Equal(t, http.StatusUnauthorized, status)
	for _, nowhere := range []string{"/api/v1", "/api/v1/", "/api/v1/board/x", "/api/v1/devices//draw", "/api/v1/nothing"} {
		status, kind := s.kind("GET", nowhere, "")
		require.Equal(t, http.StatusNotFound, status, nowhere)
		require.Equal(t, contract.NotFound, kind, nowhere)
	}
}

// TestWhatTheContractDoesNotDescribe is refused, and what is wrong is named.
func TestWhatTheContractDoesNotDescribe(t *testing.T) {
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	long := strings.Repeat("x", 600)
	for _, c := range []struct{ method, path, body, at, says string }{
		{"POST", "/previews", `{"kind":"cycle","device":"a","outlet":["p/4"]}`, "", `"outlet" is not known here: did you mean "outlets"?`},
		{"POST", "/previews", `{"kind":"cycle","device":"a","hold":10}`, "", `"hold" is not known here: there is `},
		{"POST", "/previews", `{"kind":"swing","device":"a"}`, "/kind", `/kind: "swing" is none of on, off, cycle`},
		{"POST", "/previews", `{"kind":"cycle"}`, "/device", `"device" is missing`},
		{"POST", "/previews", `{"kind":"cycle","device":7}`, "/device", "/device: is no string"},
		{"POST", "/previews", `{"kind":`, "", "no JSON that can be read"},
		{"POST", "/previews", ``, "", "a body in JSON is missing"},
		{"POST", "/operations", `{"intent":{"kind":"cycle","device":"a","hold":10},"digest":"x"}`, "/intent", `/intent: "hold" is not known here`},
		{"POST", "/operations", `{"intent":{"kind":"cycle","device":"a"},"digest":"x","why":"` + long + `"}`, "/why", "/why: has 600 characters, and 500 are the most"},
		{"POST", "/tokens", `{"account":"admin","password":"x","name":"` + long + `"}`, "/name", "are the most"},
		{"POST", "/windows", `{"on":"x","until":"2030-01-01T00:00:00Z","why":"a\u001b[2J"}`, "/why", "/why: has a character that is no text (U+001B)"},
		{"POST", "/incidents/x", `{"what":"note","text":"a\u202eb"}`, "/text", "/text: has a character that is no text (U+202E)"},
		{"POST", "/tokens", `{"account":"\u001b[8m","password":"\u001b fine here"}`, "/account", "/account: has a character"},
		{"GET", "/operations?state=bogus", ``, "?state", `?state: "bogus" is none of running, done`},
		{"GET", "/operations?limit=9999", ``, "?limit", "?limit: 9999 is more than 500"},
		{"GET", "/operations?limit=many", ``, "?limit", "?limit: "},
		{"GET", "/operations?devise=x", ``, "?devise", `"devise" is not known here: did you mean "device"?`},
		{"GET", "/devices/x/history?series=draw&points=999999", ``, "?points", "is more than 2000"},
	} {
		res, text := s.asks(c.method, "/api/v1"+c.path, c.body)
		require.Equal(t, http.StatusUnprocessableEntity, res.StatusCode, "%s: %s", c.path+c.body, text)
		require.Contains(t, text, `"kind":"usage"`)
		if c.at != "" {
			require.Contains(t, text, `"at":"`+c.at+`"`, c.path+c.body)
		}
		require.Contains(t, strings.ReplaceAll(text, `\"`, `"`), c.says, c.path+c.body)
	}
	res, text := s.asks("POST", "/api/v1/tokens", `{"account":"`+strings.Repeat("x", 5000)+`"}`)
	require.Equal(t, http.StatusRequestEntityTooLarge, res.StatusCode, text)
	res, text = s.asks("POST", "/api/v1/previews", `{"kind":"cycle","device":"nobody-there"}`, "Content-Type: ")
	require.Equal(t, http.StatusUnprocessableEntity, res.StatusCode)
	require.Contains(t, text, "nobody-there", "without a type it is JSON, because there is nothing else")
	_, text = s.asks("POST", "/api/v1/previews", `{"kind":"cycle","device":"a"}`, "Content-Type: application/x-www-form-urlencoded")
	require.Contains(t, text, "set Content-Type: application/json", "what curl says of itself unless it is told otherwise")
	res, _ = s.asks("PATCH", "/api/v1/board", "")
	require.Equal(t, "GET", res.Header.Get("Allow"))
	res, text = s.asks("GET", "/api/v1/openapi.yaml", "")
	require.Equal(t, "application/yaml", res.Header.Get("Content-Type"))
	require.Contains(t, text, "x-least-role")
	for zone, ok := range map[string]bool{"Europe/Oslo": true, "UTC": true, "-03:30": true, "Nowhere/Land": false, "../etc/passwd": false, "Local": false} {
		res, text := s.asks("GET", "/api/v1/operations", "", "Time-Zone: "+zone)
		require.Equal(t, ok, res.StatusCode == http.StatusOK, "%s: %s", zone, text)
	}
	_, text = s.asks("GET", "/api/v1/version", "")
	require.Contains(t, text, `"go":"go`)
}

// TestWhatIsWorthItIsCompressed: the board, the console and long answers.
func TestWhatIsWorthItIsCompressed(t *testing.T) {
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	_, plain := s.asks("GET", "/api/v1/board", "")
	for path, packed := range map[string]bool{"/api/v1/board": true, "/api/v1/openapi.yaml": true, "/api/v1/session": false} {
		res, text := s.asks("GET", path, "", "Accept-Encoding: gzip") // set by hand, it is not unpacked by itself
		require.Equal(t, packed, res.Header.Get("Content-Encoding") == "gzip", path)
		if !packed {
			continue
		}
		unpacked, err := gzip.NewReader(strings.NewReader(text))
		require.NoError(t, err, path)
		all, err := io.ReadAll(unpacked)
		require.NoError(t, err, path)
		require.Less(t, len(text), len(all)+64, path)
		if path == "/api/v1/board" {
			require.Equal(t, plain[:20], string(all[:20]))
		}
	}
}

// TestPagesAndLostAnswers: lists are paged in one way, and who asks again after an
// answer that was lost begins nothing twice.
func TestPagesAndLostAnswers(t *testing.T) {
	s := start(t, nil)
	s.logIn("admin", s.FirstPassword)
	for _, name := range []string{"a", "b", "c"} {
		status, _ := s.kind("PUT", "/api/v1/secrets/"+name, `{"kind":"snmp-v2c","community":"x"}`)
		require.Equal(t, http.StatusNoContent, status)
	}
	seen := 0
	for next := "/api/v1/journal?limit=2"; next != ""; seen++ {
		require.Less(t, seen, 10)
		res, text := s.asks("GET", next, "")
		require.Equal(t, http.StatusOK, res.StatusCode, text)
		next = ""
		if link := res.Header.Get("Link"); link != "" {
			require.Regexp(t, `^<[^>]*limit=2[^>]*>; rel="next"$`, link)
			next = link[1:strings.Index(link, ">")]
		}
	}
	require.Greater(t, seen, 2)
	for _, list := range []string{"operations", "groups", "incidents?all=true"} {
		join := map[bool]string{true: "&", false: "?"}[strings.Contains(list, "?")]
		res, text := s.asks("GET", "/api/v1/"+list, "")
		require.Equal(t, "[]\n", text, list)
		require.Empty(t, res.Header.Get("Link"))
		status, kind := s.kind("GET", "/api/v1/"+list+join+"before=nobody", "")
		require.Equal(t, http.StatusNotFound, status, list)
		require.Equal(t, contract.NotFound, kind)
	}
	status, _ := s.kind("POST", "/api/v1/operations", `{"intent":{"kind":"off","device":"x"},"digest":""}`, "Idempotency-Key: short")
	require.Equal(t, http.StatusUnprocessableEntity, status)
}
