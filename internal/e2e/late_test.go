package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store/storetest"
)

// TestAStartWithoutTheDatabase: what was switched off comes back, who was logged in can
// act, a rescue code lets somebody in once, and all of it is on record in the end.
func TestAStartWithoutTheDatabase(t *testing.T) {
	t.Parallel()
	c := storetest.Config(t)
	way := newWire(t, "unix", c.Addr)
	c.Net, c.Addr = "tcp", way.at
	p := &process{owner: t, program: plumbd(t), dir: filepath.Join(t.TempDir(), "data"), address: freeAddress(t), flags: []string{"--alone", "--database", c.FormatDSN()}}
	p.start(t, p.program)
	w := &world{T: t, lab: labtest.Start(t, labtest.Options{Speed: 40}), dir: t.TempDir(), login: "client.json", url: "http://" + p.address, password: p.password()}
	w.furnish(w.lab.File)
	closed := func(n int) bool { on, _ := w.lab.Contact(estate.OutletEnd("skarvoe-pdu", n)); return on }
	w.eventually(func() bool {
		text, _ := os.ReadFile(filepath.Join(p.dir, "last-known.json"))
		for name := range lab.Secrets {
			if !strings.Contains(string(text), `"Name":"`+name+`"`) {
				return false
			}
		}
		return strings.Contains(string(text), `.2.4:2022":`) // the host key of its router
	}, "what a start needs is kept beside the database")

	w.says(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "3s", "--yes", "--why", "before")
	w.eventually(func() bool { return !closed(6) }, "it is off")
	p.kill(t)
	way.cut()
	p.start(t, p.program)
	w.eventually(func() bool { return closed(6) }, "power is back, without any database")
	require.Contains(t, w.flat(0, "", "board"), "has started without its database")
	w.eventually(func() bool { return w.verdict("skarvoe-router") == "steady" }, "it watches")
	w.says(0, "", "cycle", "skarvoe-router", "--hold", "2s", "--yes", "--why", "without")
	w.eventually(func() bool { return !closed(3) }, "and switches")
	w.eventually(func() bool { return closed(3) }, "and back")

	other := &world{T: t, lab: w.lab, dir: t.TempDir(), login: "client.json", url: w.url}
	other.flat(5, "wrong\n", "login", w.url)
	other.says(0, w.password+"\n", "login", w.url)
	require.Contains(t, other.flat(0, "", "whoami"), "admin, keeper")
	out, err := exec.Command(p.program, "code", "--data-dir", p.dir).Output()
	require.NoError(t, err)
	code, _, _ := strings.Cut(string(out), "\n")
	require.NotContains(t, other.flat(5, code[1:]+"\n", "login", w.url, "--account", "rescue"), code[1:])
	other.says(0, strings.ToLower(code)+"\n", "login", w.url, "--account", "rescue")
	other.says(0, "", "cycle", "skarvoe-heater", "--hold", "2s", "--yes", "--why", "rescued")
	other.login = "again.json"
	other.flat(5, code+"\n", "login", w.url, "--account", "rescue")

	way.join()
	w.eventually(w.well, "the database is there")
	done := map[string]string{}
	w.eventually(func() bool {
		for _, o := range reads[[]contract.Operation](w, "op", "list") {
			done[o.Why] = string(o.State)
		}
		return done["before"] == "done" && done["without"] == "done" && done["rescued"] == "done"
	}, "all of it is on record")
	w.eventually(func() bool {
		return strings.Contains(w.flat(0, "", "journal", "--limit", "50"), "Logged in with a rescue code")
	}, "and who came in, how")
	require.Contains(t, w.flat(0, "", "journal", "verify"), "holds")
	require.NoFileExists(t, filepath.Join(p.dir, "rescue-code"))
	p.stop(t)
}
