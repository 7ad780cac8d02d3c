package e2e

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
)

// TestKilledAtEveryStep kills the service with no warning at each step of a
// cycle, and starts it again: the outlet ends on, it was off once at the most,
// and the record says what happened.
func TestKilledAtEveryStep(t *testing.T) {
	t.Parallel()
	w, p := apart(t)
	end := estate.OutletEnd("skarvoe-pdu", 6)
	outlet := func() (closed bool, orders int) { return w.lab.Contact(end) }
	wait := func(what string, f func() bool) {
		ctx, cancel := context.WithTimeout(t.Context(), soon)
		defer cancel()
		for !f() {
			require.NoError(t, ctx.Err(), what)
			time.Sleep(5 * time.Millisecond)
		}
	}
	for name, moment := range map[string]func(){
		"1 before anything is sent": func() {},
		"2 while off is on its way": func() { wait("off is sent", func() bool { _, n := outlet(); return n%2 == 1 }) },
		"3 when it is off":          func() { wait("it is off", func() bool { closed, _ := outlet(); return !closed }) },
		"4 in the wait":             func() { w.step(contract.StepKindWait, contract.StepStateWaiting) },
		"5 when it is on again": func() {
			wait("it is off", func() bool { closed, _ := outlet(); return !closed })
			wait("it is on", func() bool { closed, _ := outlet(); return closed })
		},
		"6 before its first answer": func() { w.step(contract.StepKindAnswer, contract.StepStateWaiting) },
	} {
		t.Run(name, func(t *testing.T) {
			w.T = t
			w.eventually(func() bool { return w.verdict("skarvoe-kiosk") == "steady" }, "all is well before")
			_, before := outlet()
			w.says(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "3s", "--yes", "--why", name)
			moment()
			p.kill(t)
			p.start(t, p.program)
			w.eventually(func() bool {
				o := w.newest()
				return o.Why == name && o.State != contract.OperationStateRunning
			}, "it is taken up, and ends")
			closed, after := outlet()
			require.True(t, closed, "the outlet ends on")
			require.Equal(t, 2, after-before, "once off, once on: %s", w.newest().Outcome)
			require.Contains(t, w.newest().Outcome, "Cycled outlet 6 of skarvoe-pdu")
		})
	}
	w.T = t
	p.stop(t)
}

// TestKilledWhileTheChassisIsOff: what a controller switched off for us comes
// on again too, and a reset is not pressed twice.
func TestKilledWhileTheChassisIsOff(t *testing.T) {
	t.Parallel()
	w, p := apart(t)
	const host = "ostrel-virt-1"
	on := func() bool { return w.lab.State()[slot(w, host)].W > 20 }
	again := func(why string) contract.Operation {
		p.kill(t)
		p.start(t, p.program)
		w.eventually(func() bool {
			o := w.newest()
			return o.Why == why && o.State != contract.OperationStateRunning
		}, "it is taken up, and ends")
		return w.newest()
	}
	w.eventually(func() bool { return w.verdict(host) == "steady" }, "all is well before")
	w.eventually(func() bool { return len(reads[contract.EventLog](w, "events", host, "--log").Events) > 0 }, "its log has been read")
	w.says(0, "", "cycle", host, "--hold", "3s", "--yes", "--why", "a cycle")
	w.eventually(func() bool { return !on() }, "it is off")
	o := again("a cycle")
	require.Equal(t, contract.OperationStateDone, o.State, o.Outcome)
	require.Equal(t, contract.MeansChassis, o.Means)
	require.True(t, on(), "the chassis ends on")

	w.eventually(func() bool { return w.verdict(host) == "steady" }, "all is well again")
	w.says(0, "", "reset", host, "--yes", "--why", "a reset")
	w.step(contract.StepKindReset, contract.StepStateChecking)
	o = again("a reset")
	require.Equal(t, contract.OperationStateDone, o.State, o.Outcome)
	log := reads[contract.EventLog](w, "events", host, "--log")
	require.NotEmpty(t, log.Events, "and its log is on record as soon as the service is back")
	p.stop(t)
}

// step waits until a step of the newest operation is in a state.
func (w *world) step(kind contract.StepKind, state contract.StepState) {
	w.eventually(func() bool {
		for _, s := range w.newest().Steps {
			if s.Kind == kind && s.State == state {
				return true
			}
		}
		return false
	}, fmt.Sprintf("step %s is %s", kind, state))
}

// TestNothingIsLeftBehind: a killed service leaves no database server, and a
// stopped one no process and no half of anything.
func TestNothingIsLeftBehind(t *testing.T) {
	t.Parallel()
	p := &process{owner: t, dir: filepath.Join(t.TempDir(), "data"), address: freeAddress(t)}
	program := plumbd(t)
	p.start(t, program)
	require.Regexp(t, `^[a-z0-9]{6}(-[a-z0-9]{6}){3}$`, p.password(), "the first password is generated")
	server := func() string {
		pid, err := os.ReadFile(filepath.Join(p.dir, "database", "pid"))
		if err != nil {
			return ""
		}
		comm, _ := os.ReadFile(filepath.Join("/proc", strings.TrimSpace(string(pid)), "comm"))
		return strings.TrimSpace(string(comm))
	}
	require.Equal(t, "mariadbd", server())
	p.kill(t)
	require.Eventually(t, func() bool { return server() == "" }, soon, often, "the server goes with the service")
	p.start(t, program)
	require.Empty(t, p.password(), "the password is shown once")
	p.stop(t)
	require.Empty(t, server())
	for _, name := range []string{"secrets.key", "lock"} {
		info, err := os.Stat(filepath.Join(p.dir, name))
		require.NoError(t, err)
		require.Equal(t, os.FileMode(0o600), info.Mode().Perm(), name)
	}
}
