package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/store/storetest"
)

func TestMain(m *testing.M) { storetest.Main(m) }

// TestOneOfTwoActs: two services on one database. The second watches and begins
// nothing, until the first, stopped in the middle of a cycle, has lost its lease;
// then it finishes that cycle. The first, woken up, sends nothing more.
func TestOneOfTwoActs(t *testing.T) {
	t.Parallel()
	program := plumbd(t)
	shared := []string{"--database", storetest.Config(t).FormatDSN()}
	one := &process{owner: t, program: program, dir: filepath.Join(t.TempDir(), "one"), address: freeAddress(t), flags: shared}
	one.start(t, program)
	w := &world{T: t, lab: labtest.Start(t, labtest.Options{Speed: 40}), dir: t.TempDir(), login: "client.json", url: "http://" + one.address, password: one.password()}
	w.furnish(w.lab.File)

	two := &process{owner: t, program: program, dir: filepath.Join(t.TempDir(), "two"), address: freeAddress(t), flags: shared}
	require.NoError(t, os.MkdirAll(two.dir, 0o700))
	key, err := os.ReadFile(filepath.Join(one.dir, "secrets.key"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(two.dir, "secrets.key"), key, 0o600))
	two.start(t, program)
	other := &world{T: t, lab: w.lab, dir: t.TempDir(), login: "client.json", url: "http://" + two.address}
	other.says(0, w.password+"\n", "login", other.url)
	other.eventually(func() bool { return other.verdict("skarvoe-kiosk") == "steady" }, "the second watches as well")
	require.Contains(t, other.flat(0, "", "board"), "another service acts on this database")
	require.Contains(t, other.flat(1, "", "cycle", "skarvoe-kiosk", "--yes"), "this one watches, and begins nothing")

	end := estate.OutletEnd("skarvoe-pdu", 6)
	closed := func() bool { is, _ := w.lab.Contact(end); return is }
	before := w.lab.Opens(end)
	w.says(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "3s", "--yes", "--why", "fenced")
	w.eventually(func() bool { return !closed() }, "it is off")
	require.NoError(t, one.Process.Signal(syscall.SIGSTOP))
	require.Eventually(t, closed, 2*soon, often, "the second takes over, and switches it on")
	other.eventually(func() bool {
		o := other.newest()
		return o.Why == "fenced" && o.State == contract.OperationStateDone
	}, "and ends the operation")
	_, after := w.lab.Contact(end)
	require.Equal(t, 1, w.lab.Opens(end)-before, "once off, once on; an order may be sent again whose answer was late")

	require.NoError(t, one.Process.Signal(syscall.SIGCONT))
	w.eventually(func() bool { return strings.Contains(w.flat(0, "", "board"), "another service acts on this database") }, "the first finds out")
	require.Contains(t, w.flat(1, "", "cycle", "skarvoe-kiosk", "--yes"), "begins nothing")
	time.Sleep(2 * time.Second) // for anything that it might still send
	_, still := w.lab.Contact(end)
	require.Equal(t, after, still)
	one.stop(t)
	two.stop(t)
}
