package e2e

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab"
	"plumbbob/internal/store"
)

// TestTheStory: a router hangs at a far pier; somebody sees why we say so, looks
// at what cutting its outlet takes down, cycles it, watches it come back, and
// finds the record afterwards.
func TestTheStory(t *testing.T) {
	w := begin(t)
	require.NoError(t, w.lab.Hang("skarvoe-router"))
	w.eventually(func() bool { return strings.Contains(w.says(0, "", "board"), "1 hung, 7 cut off, ") }, "it is found out")
	board := w.says(0, "", "board", "--verdict", "hung,cut-off")
	require.Contains(t, board, "cut off by skarvoe-router")
	show := w.says(0, "", "show", "skarvoe-router")
	for _, want := range []string{"skarvoe-router hung since", "W on skarvoe-pdu outlet 3", "has not answered", "skarvoe-bridge before it answers", "✕ skarvoe-router"} {
		require.Contains(t, show, want)
	}
	w.eventually(func() bool { return strings.Contains(w.flat(0, "", "incident", "list"), "skarvoe-router hung") }, "it is an incident, and one only")
	require.Contains(t, w.flat(0, "", "incident", "ack", "skarvoe-router", "--note", "the storm, I think"), "seen by admin")
	preview := w.flat(0, "", "cycle", "skarvoe-router", "--preview")
	require.Contains(t, preview, "Loses power: skarvoe-router, for about 10 s")
	require.Contains(t, preview, "Cannot be reached now, and stays so meanwhile: skarvoe-switch, skarvoe-recorder, skarvoe-kiosk, skarvoe-gate")
	require.Contains(t, preview, "Our way to skarvoe-pdu goes through skarvoe-cell and is not touched")
	require.True(t, w.closed(3), "looking changes nothing")

	followed := w.says(0, "", "cycle", "skarvoe-router", "--hold", "2s", "--yes", "--why", "hung since the storm", "--follow")
	require.Regexp(t, `(?s)✓ Switch outlet 3 off.*: 0.0 W.*✓ Wait 2 s.*✓ Switch outlet 3 on.*✓ Wait for the first answer of skarvoe-router`, followed)
	require.Regexp(t, `Cycled outlet 3 of skarvoe-pdu: 1\d\.\d W → 0\.0 W at \d\d:\d\d:\d\d, back to`, followed)
	w.eventually(func() bool { return w.verdict("skarvoe-router") == "steady" && w.verdict("skarvoe-gate") == "steady" }, "everything is back")

	asked, ended := w.recorded("skarvoe-router", store.EntryOperationAsked), w.recorded("skarvoe-router", store.EntryOperationEnded)
	require.Equal(t, "hung since the storm", asked.Why)
	require.Equal(t, "done", ended.Result)
	require.InDelta(t, 11.2, *ended.BeforeW, 1)
	require.Contains(t, w.flat(0, "", "cycle", "skarvoe-router", "--preview"), "skarvoe-router usually answers again after")
	require.Contains(t, w.flat(0, "", "draw", "skarvoe-router", "--last", "10m"), "peak")
	w.eventually(func() bool { return len(reads[[]contract.Incident](w, "incident", "list")) == 0 }, "it has ended")
	marks := []contract.HistoryMarkKind{}
	for _, m := range reads[contract.History](w, "history", "skarvoe-router", "draw", "--last", "1h").Marks {
		marks = append(marks, m.Kind)
	}
	require.ElementsMatch(t, []contract.HistoryMarkKind{contract.HistoryMarkKindOperation, contract.HistoryMarkKindIncident}, marks, "and both stand on the time axis")
	incident := w.flat(0, "", "incident", "show", "skarvoe-router")
	for _, want := range []string{"skarvoe-router was hung", "the storm, I think", "explains skarvoe-camera-cupboard", "by admin: Cycled outlet 3 of skarvoe-pdu", "ended"} {
		require.Contains(t, incident, want)
	}
}

// TestOffAndOn: what is switched off on purpose is parked, not dark.
func TestOffAndOn(t *testing.T) {
	w := begin(t)
	w.says(0, "", "off", "skarvoe-kiosk", "--means", "outlet", "--yes", "--why", "winter", "--follow")
	require.False(t, w.closed(6))
	w.eventually(func() bool { return w.verdict("skarvoe-kiosk") == "parked" }, "it is parked")
	require.Contains(t, w.flat(0, "", "show", "skarvoe-kiosk"), "switched off by admin: winter")
	require.Contains(t, w.flat(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--preview"), "is off already: it is only switched on")
	require.Contains(t, w.flat(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--yes", "--follow"), "was off already")
	require.True(t, w.closed(6))
	w.eventually(func() bool { return w.verdict("skarvoe-kiosk") == "steady" }, "it is back")

	require.NoError(t, w.lab.Flip(estate.OutletEnd("skarvoe-pdu", 6), false))
	w.eventually(func() bool { return w.verdict("skarvoe-kiosk") == "dark" }, "nobody here meant that")
}

// TestInterlocks: what is refused, how it is said, and what lifts it.
func TestInterlocks(t *testing.T) {
	w := begin(t)
	require.Contains(t, w.flat(3, "", "off", "skarvoe-gate", "--yes"), "outlet 9 of skarvoe-pdu cannot be switched")
	require.Contains(t, w.flat(3, "", "off", "skarvoe-recorder", "--yes"), "refused (guarded)")
	require.Contains(t, w.flat(3, "", "off", "skarvoe-cell", "--yes"), "nothing could switch it on again from here")
	require.Contains(t, w.flat(2, "", "off", "skarvoe-cell", "--yes", "--override", "own-path"), "--override needs a reason")
	for _, n := range []int{5, 7, 9} {
		require.True(t, w.closed(n), "outlet %d", n)
	}
	require.Contains(t, w.flat(0, "", "reset", "ostrel-firewall", "--preview"), `over its serial line at ostrel-console, which is the gentlest: it is told "reload now"`)
	// The PDU's own cycle is offered instead, and carried out by it alone.
	require.Contains(t, w.flat(0, "", "cycle", "skarvoe-cell", "--preview"), "skarvoe-pdu will switch it back on by itself after 10 s")
	done := w.says(0, "", "cycle", "skarvoe-cell", "--hold", "4s", "--yes", "--follow")
	require.Contains(t, done, "by the gear itself")
	require.True(t, w.closed(7))

	w.eventually(func() bool {
		return strings.Contains(w.flat(0, "", "off", "skarvoe-recorder", "--preview"), "By its chassis, which is gentler than its outlets")
	}, "its controller, which hangs on the gateway, is heard again")
	w.says(0, "", "off", "skarvoe-recorder", "--yes", "--name", "skarvoe-recorder")
	require.Contains(t, w.flat(3, "", "on", "skarvoe-recorder", "--yes"), "is running on the chassis of skarvoe-recorder")
	w.eventually(func() bool { return w.newest().State == contract.OperationStateDone }, "it ends")

	w.says(0, "", "off", "skarvoe-cell", "--yes", "--override", "own-path", "--why", "moving the gateway")
	w.eventually(func() bool { return w.verdict("skarvoe-pdu") == "cut-off" }, "we have cut our own way")
	w.eventually(func() bool { return w.newest().State != contract.OperationStateRunning }, "it ends")
	require.Contains(t, w.newest().Outcome, "it could not be read back, but skarvoe-cell fell silent")
	require.Contains(t, w.flat(4, "", "on", "skarvoe-cell", "--yes"), "skarvoe-pdu cannot be reached: its card does not answer")
}

// TestGearThatLies: a welded relay and a cable in the wrong outlet are found out.
func TestGearThatLies(t *testing.T) {
	w := begin(t)
	kiosk, recorder := estate.OutletEnd("skarvoe-pdu", 6), estate.OutletEnd("skarvoe-pdu", 5)
	require.NoError(t, w.lab.Weld(kiosk))
	out := w.flat(1, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "2s", "--yes", "--follow")
	require.Regexp(t, `still drawing 4\d\.\d W: the outlet did not open`, out)
	require.NoError(t, w.lab.Heal(""))

	require.NoError(t, w.lab.Swap(kiosk, recorder))
	out = w.flat(1, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "15s", "--yes", "--follow", "--override", "in-use", "--why", "it may only be starting")
	require.Contains(t, out, "the cable is not where the estate says")
	require.Contains(t, out, "cut short")
	require.True(t, w.closed(6), "power comes back at once")
}

// TestOneClearMessage: wrong input and broken surroundings each give one line
// that says what, where and what to do, with the exit status that fits.
func TestOneClearMessage(t *testing.T) {
	w := begin(t)
	require.Contains(t, w.flat(2, "", "show", "skarvoe-rooter"), `there is no device "skarvoe-rooter": plumb board lists them`)
	require.Contains(t, w.flat(2, "", "cycle", "skarvoe-rooter", "--yes"), `there is no device`)
	require.Contains(t, w.flat(2, "", "cycle", "skarvoe-router"), "nobody is there to agree")
	require.Contains(t, w.flat(2, "", "cycle", "skarvoe-router", "--yes", "--outlet", "skarvoe-pdu/4"), "outlet 4 of skarvoe-pdu does not feed skarvoe-router: it hangs on skarvoe-pdu/3")
	require.Contains(t, w.flat(2, "", "cycle", "skarvoe-router", "--yes", "--hold", "1h"), "a cycle stays off for")
	require.Contains(t, w.flat(2, "", "board", "--verdict", "broken"), "is none of hung, silent, dark")
	require.Contains(t, w.flat(2, "", "board", "--colour"), "unknown flag")
	require.Contains(t, w.flat(2, "", "bored"), "unknown command")
	require.Contains(t, w.flat(2, "", "op"), "write: plumb op cancel|file|list|show")
	require.Contains(t, w.flat(2, "", "op", "show", "nosuchop"), `there is no operation "nosuchop"`)
	require.Contains(t, w.flat(2, "", "secret", "remove", "nosuch"), `there is no secret "nosuch"`)
	require.Contains(t, w.flat(2, "", "secret", "remove", "controllers"), "is reached with secret controllers: give it another one first")
	for _, f := range []string{"json", "yaml", "csv"} {
		require.NotEmpty(t, w.says(0, "", "board", "--output", f))
	}

	// A faulty file changes nothing.
	file := filepath.Join(w.dir, "faulty.yaml")
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(w.lab.File, "role: router", "roll: router", 1)), 0o600))
	require.Regexp(t, `faulty.yaml:\d+: unknown key "roll"`, w.says(2, "", "estate", "import", "--yes", file))
	require.Equal(t, "steady", w.verdict("skarvoe-router"))
	exported := w.says(0, "", "estate", "export")
	require.Contains(t, exported, "# The pier.", "comments come back as well")
	require.NotContains(t, exported, lab.WriteSecret.Community)

	// A community that may only read.
	w.says(0, lab.ReadSecret.Community+"\n", "secret", "set", "skarvoe-pdu")
	out := w.flat(1, "", "cycle", "skarvoe-router", "--hold", "2s", "--yes", "--follow")
	require.Contains(t, out, "the credential may only read")
	require.True(t, w.closed(3))
	w.says(0, lab.WriteSecret.Community+"\n", "secret", "set", "skarvoe-pdu")

	// A card that is silent.
	require.NoError(t, w.lab.Silence("skarvoe-pdu"))
	w.eventually(func() bool { return w.verdict("skarvoe-router") == "strained" }, "a way in is lost")
	require.Contains(t, w.flat(4, "", "cycle", "skarvoe-router", "--yes"), "skarvoe-pdu cannot be reached: its card does not answer")
	require.NoError(t, w.lab.Heal(""))

	// Passwords. Guessing is slowed down.
	w.login = "other.json"
	require.Contains(t, w.flat(5, "", "board"), "not logged in: plumb login URL")
	for range 5 {
		require.Contains(t, w.flat(5, "wrong\n", "login", w.url), "check both")
	}
	require.Contains(t, w.flat(5, w.password+"\n", "login", w.url), "too many wrong passwords")
	require.Contains(t, w.flat(4, "x\n", "login", "http://127.0.0.1:1"), "does not answer")
	require.Contains(t, w.flat(2, "x\n", "login", "http://plumb.example"), "would send the password in clear")
}

// TestTheDatabaseIsKilled in the middle of an operation, and before another:
// power comes back, and the record is complete when the database is.
func TestTheDatabaseIsKilled(t *testing.T) { withoutTheDatabase(t, syscall.SIGKILL) }

// TestTheDatabaseHangs: it takes connections and answers nobody, which is no better.
func TestTheDatabaseHangs(t *testing.T) { withoutTheDatabase(t, syscall.SIGSTOP) }

func withoutTheDatabase(t *testing.T, how syscall.Signal) {
	w := begin(t)
	pid := w.service.DatabasePID()
	t.Cleanup(func() { _ = syscall.Kill(pid, syscall.SIGCONT) })
	w.says(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "4s", "--yes", "--why", "first")
	w.eventually(func() bool { return !w.closed(6) }, "it is off")
	require.NoError(t, syscall.Kill(pid, how))
	// Away now. Somebody who may act still can.
	out := w.says(0, "", "cycle", "skarvoe-router", "--hold", "2s", "--yes", "--why", "second")
	require.Contains(t, out, "is under way")
	w.eventually(func() bool { return !w.closed(3) }, "it acts without the database")
	w.eventually(func() bool { return w.closed(3) && w.closed(6) }, "and both come back on")
	if how == syscall.SIGSTOP {
		require.NoError(t, syscall.Kill(pid, syscall.SIGCONT))
	}
	w.eventually(w.well, "the database is back")

	var ended, said map[string]string
	w.eventually(func() bool {
		ended, said = map[string]string{}, map[string]string{}
		js := reads[[]contract.JournalEntry](w, "journal", "--limit", "50")
		for _, e := range js {
			if e.Kind == "operation-ended" {
				ended[e.Why], said[e.Why] = e.Result, e.Text
			}
		}
		return len(ended) == 2
	}, "the record is brought over")
	require.Equal(t, map[string]string{"first": "done", "second": "done"}, ended, "%v", said)
	w.eventually(func() bool { // dropped once it is in the database, and not before
		_, err := os.Stat(filepath.Join(w.dir, "data", "operations.ledger"))
		return errors.Is(err, fs.ErrNotExist)
	}, "the file is empty")
	w.eventually(func() bool { return w.verdict("skarvoe-kiosk") == "steady" }, "all is well")
}

// TestCancel: power comes back first, and then it ends.
func TestCancel(t *testing.T) {
	w := begin(t)
	w.says(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "5m", "--yes")
	w.eventually(func() bool { return !w.closed(6) }, "it is off")
	o := w.newest()
	w.eventually(func() bool { return w.newest().Steps[1].State == contract.StepStateWaiting }, "it waits")
	w.says(0, "", "op", "cancel", o.ID)
	w.eventually(func() bool { return w.closed(6) && w.newest().State == contract.OperationStateCancelled }, "it is on again")
	require.Contains(t, w.flat(1, "", "op", "cancel", o.ID), "has ended already")
}
