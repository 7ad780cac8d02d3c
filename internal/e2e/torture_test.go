package e2e

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/client"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/bmc"
)

// A victim is what the torture switches: an outlet, or the chassis of a host.
type victim struct {
	device string
	means  string
	outlet estate.End // of an outlet
	host   estate.Key // of a chassis
	opens  int        // seen at the beginning of the round
	resets int
}

func victims() []*victim {
	return []*victim{
		{device: "skarvoe-kiosk", means: "outlet", outlet: estate.OutletEnd("skarvoe-pdu", 6)},
		{device: "skarvoe-heater", means: "outlet", outlet: estate.OutletEnd("skarvoe-pdu", 8)},
		{device: "skarvoe-kvm", means: "outlet", outlet: estate.OutletEnd("skarvoe-pdu", 2)},
		{device: "inch-kiosk", means: "outlet", outlet: estate.OutletEnd("inch-strip", 3)},
		{device: "skarvoe-camera-east", means: "poe", outlet: estate.SourceEnd("skarvoe-switch", estate.PoE, 1)},
		{device: "ostrel-virt-1", means: "chassis", host: "ostrel-virt-1"},
		{device: "ostrel-virt-2", means: "chassis", host: "ostrel-virt-2"},
		{device: "ostrel-booking", means: "chassis", host: "ostrel-booking"},
	}
}

func (v *victim) kinds() []string {
	if v.means == "chassis" {
		return []string{"cycle", "cycle", "off", "on", "reset"}
	}
	return []string{"cycle", "cycle", "cycle", "off", "on"}
}

// torture is the figures of a run.
type torture struct {
	*world
	p                              *process
	rng                            *rand.Rand
	ops, done, failed, kills, away int
	faults, hangs, stops           int
	violations                     []string
}

func (x *torture) violated(format string, args ...any) {
	x.violations = append(x.violations, fmt.Sprintf(format, args...))
}

// TestTorture carries out many operations while, at random, the service and the
// database are killed, packets are lost, relays weld, controllers drop their
// sessions or fall silent, and two clients act at once. After each round nothing
// is in a state that nobody asked for, nothing was cut or reset more often than
// was asked for, every operation has an end and is on record once, and the
// journal's chain holds. make torture runs it for long.
func TestTorture(t *testing.T) {
	t.Parallel()
	rounds, seed := 2, uint64(7)
	if n, err := strconv.Atoi(os.Getenv("PLUMB_TORTURE_ROUNDS")); err == nil {
		rounds = n
	}
	if n, err := strconv.ParseUint(os.Getenv("PLUMB_TORTURE_SEED"), 10, 64); err == nil {
		seed = n
	}
	w, p := apart(t)
	x := &torture{world: w, p: p, rng: rand.New(rand.NewPCG(seed, 1))}
	began := time.Now()
	vs := victims()
	for round := range rounds {
		x.round(round, vs)
		require.Empty(t, x.violations, "seed %d, round %d", seed, round)
	}
	p.stop(t)
	t.Logf("seed %d: %d rounds, %d operations (%d done, %d failed), %d kills of the service, %d stops, %d kills of the database, %d hangs, %d faults, violations: %d",
		seed, rounds, x.ops, x.done, x.failed, x.kills, x.stops, x.away, x.hangs, x.faults, len(x.violations))
	if file := os.Getenv("PLUMB_TORTURE_REPORT"); file != "" {
		x.report(file, seed, rounds, time.Since(began))
	}
}

// round is a batch of operations with things going wrong, and then the reckoning.
func (x *torture) round(n int, vs []*victim) {
	for _, v := range vs {
		if v.host == "" {
			v.opens = x.lab.Opens(v.outlet)
		} else {
			_, v.opens, v.resets = x.lab.Chassis(v.host)
		}
	}
	why := fmt.Sprintf("round %d", n)
	var asking sync.WaitGroup
	for _, v := range vs {
		kind := v.kinds()[x.rng.IntN(5)]
		clients := 1 + x.rng.IntN(2) // two who click at once
		delay := time.Duration(x.rng.IntN(1500)) * time.Millisecond
		for range clients {
			asking.Go(func() {
				time.Sleep(delay)
				x.asks(kind, v, why)
			})
		}
	}
	for range 1 + x.rng.IntN(3) {
		time.Sleep(time.Duration(300+x.rng.IntN(2500)) * time.Millisecond)
		x.disturb(vs)
	}
	asking.Wait()
	time.Sleep(time.Duration(x.rng.IntN(3000)) * time.Millisecond)
	x.mend(vs)
	ops := x.reckon(why)
	for _, v := range vs {
		x.judge(v, ops)
	}
	x.journalHolds(ops)
}

// asks asks for an operation, and does not care what it is told: the service may
// be away, or somebody else first.
func (x *torture) asks(kind string, v *victim, why string) {
	var out bytes.Buffer
	args := []string{kind, v.device, "--yes", "--why", why, "--override", "in-use,too-many,overload", "--config", filepath.Join(x.dir, x.login)}
	if kind == "cycle" {
		args = append(args, "--hold", "2s")
	}
	if kind != "reset" {
		args = append(args, "--means", v.means)
	}
	client.Main(args, strings.NewReader(""), &out, &out)
}

// disturb has one thing go wrong.
func (x *torture) disturb(vs []*victim) {
	v := vs[x.rng.IntN(len(vs))]
	switch x.rng.IntN(10) {
	case 0, 1, 2:
		x.kills++
		x.p.kill(x.T)
		time.Sleep(time.Duration(x.rng.IntN(1500)) * time.Millisecond)
		x.p.start(x.T, x.p.program)
	case 3:
		pid, err := os.ReadFile(filepath.Join(x.p.dir, "database", "pid"))
		if n, _ := strconv.Atoi(strings.TrimSpace(string(pid))); err == nil && n > 1 {
			x.away++
			_ = syscall.Kill(n, syscall.SIGKILL)
		}
	case 8: // it takes connections, and answers nobody
		pid, err := os.ReadFile(filepath.Join(x.p.dir, "database", "pid"))
		if n, _ := strconv.Atoi(strings.TrimSpace(string(pid))); err == nil && n > 1 {
			x.hangs++
			_ = syscall.Kill(n, syscall.SIGSTOP)
			time.Sleep(time.Duration(1000+x.rng.IntN(6000)) * time.Millisecond)
			_ = syscall.Kill(n, syscall.SIGCONT)
		}
	case 9: // it is told to stop, and pays back what it owes before it does
		x.stops++
		x.p.stop(x.T)
		if strings.Contains(x.p.out.String(), "STAYS OFF") {
			x.violated("power stayed off at a stop: %s", x.p.out)
		}
		x.p.start(x.T, x.p.program)
	case 4:
		x.faults++
		_ = x.lab.Lose([]estate.Key{"skarvoe-cell", "skarvoe-bridge", "inch-cell", "ostrel-mgmt"}[x.rng.IntN(4)], 0.1+0.3*x.rng.Float64())
	case 5:
		if v.host == "" {
			x.faults++
			_ = x.lab.Weld(v.outlet)
		}
	case 6:
		if v.host != "" {
			x.faults++
			_ = x.lab.Upset(v.host, func(f *bmc.Faults) {
				switch x.rng.IntN(3) {
				case 0:
					f.Forgetful = true
				case 1:
					f.Full = true
				default:
					f.Slow = 1500 * time.Millisecond
				}
			})
		}
	default:
		x.faults++
		_ = x.lab.Silence([]estate.Key{"skarvoe-pdu", "inch-strip", "ostrel-virt-1"}[x.rng.IntN(3)])
	}
}

// mend takes back what went wrong, and nothing that was switched.
func (x *torture) mend(vs []*victim) {
	for _, k := range []estate.Key{"skarvoe-cell", "skarvoe-bridge", "inch-cell", "ostrel-mgmt"} {
		_ = x.lab.Lose(k, 0)
	}
	for _, k := range []estate.Key{"skarvoe-pdu", "inch-strip", "skarvoe-switch"} {
		_ = x.lab.Heal(k)
	}
	for _, v := range vs {
		if v.host != "" {
			_ = x.lab.Upset(v.host, func(f *bmc.Faults) { *f = bmc.Faults{} })
			_ = x.lab.Speak(v.host)
		}
	}
}

// reckon waits until every operation of a round has ended, and returns them.
func (x *torture) reckon(why string) (ops []contract.Operation) {
	deadline := time.Now().Add(5 * time.Minute)
	for {
		var out bytes.Buffer
		ops = nil
		running := client.Main([]string{"op", "list", "--limit", "60", "--output", "json", "--config", filepath.Join(x.dir, x.login)}, strings.NewReader(""), &out, &out) != 0
		if !running {
			all := reads[[]contract.Operation](x.world, "op", "list", "--limit", "60")
			for _, o := range all {
				running = running || o.State == contract.OperationStateRunning
				if o.Why == why {
					ops = append(ops, o)
				}
			}
		}
		if !running {
			break
		}
		if time.Now().After(deadline) {
			x.violated("%s: an operation has no end: %s", why, out.String())
			return ops
		}
		time.Sleep(often)
	}
	for _, o := range ops {
		x.ops++
		if o.State == contract.OperationStateDone {
			x.done++
		} else {
			x.failed++
		}
		if o.Outcome == "" || o.Ended == nil {
			x.violated("operation %s has no outcome, or no end", o.ID)
		}
	}
	return ops
}

// told is what the record says of some operations.
func told(ops []contract.Operation) string {
	var b strings.Builder
	for _, o := range ops {
		fmt.Fprintf(&b, "\n%s %s %s, asked %s: %s", o.ID, o.Kind, o.State, o.Asked.Format("15:04:05.000"), o.Outcome)
		for _, s := range o.Steps {
			fmt.Fprintf(&b, "\n  %s %s %s", s.Kind, s.State, deref(s.Note))
		}
	}
	return b.String()
}

func deref(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// judge compares what is with what was asked for.
func (x *torture) judge(v *victim, ops []contract.Operation) {
	var mine []contract.Operation // the newest first
	for _, o := range ops {
		if o.Device == v.device {
			mine = append(mine, o)
		}
	}
	cuts, resets, certain := 0, 0, 0
	for _, o := range mine {
		switch o.Kind {
		case contract.OperationKindCycle, contract.OperationKindOff:
			cuts++
			if o.State == contract.OperationStateDone && strings.Contains(o.Outcome, "→ 0.0 W") {
				certain++
			}
		case contract.OperationKindReset:
			resets++
		}
	}
	on, opens, struck := false, 0, 0
	if v.host == "" {
		on, _ = x.lab.Contact(v.outlet)
		opens = x.lab.Opens(v.outlet) - v.opens
	} else {
		on, opens, struck = x.lab.Chassis(v.host)
		opens, struck = opens-v.opens, struck-v.resets
	}
	if opens > cuts {
		x.violated("%s was cut %d times, and that was asked for %d times: %s", v.device, opens, cuts, told(mine))
	}
	if opens < certain {
		x.violated("%s was cut %d times, and %d were reported as measured", v.device, opens, certain)
	}
	if struck > resets {
		x.violated("%s was reset %d times, and that was asked for %d times", v.device, struck, resets)
	}
	for _, o := range mine {
		if o.Kind == contract.OperationKindReset || o.Kind == contract.OperationKindOff && o.State != contract.OperationStateDone {
			continue // it says nothing about how it should be
		}
		want := o.Kind != contract.OperationKindOff
		if o.Kind == contract.OperationKindOn && o.State != contract.OperationStateDone && !on {
			continue // it could not be switched on, and says so
		}
		if o.Kind == contract.OperationKindCycle && !on && strings.Contains(o.Outcome, "nothing was sent") {
			continue // it has left it as it was
		}
		if on != want {
			x.violated("%s: after %q it should be on: %v, and it is %v", v.device, o.Outcome, want, on)
		}
		break
	}
}

// journalHolds: each operation was asked for once and ended once, and the chain
// is whole.
func (x *torture) journalHolds(ops []contract.Operation) {
	x.eventually(func() bool {
		count := map[string]int{}
		for _, e := range reads[[]contract.JournalEntry](x.world, "journal", "--limit", "400") {
			count[e.Operation+" "+e.Kind]++
		}
		for _, o := range ops {
			if count[o.ID+" operation-asked"] > 1 || count[o.ID+" operation-ended"] > 1 {
				x.violated("operation %s is in the journal twice", o.ID)
				return true
			}
			if count[o.ID+" operation-asked"] != 1 || count[o.ID+" operation-ended"] != 1 {
				return false // what was written to the file is not over yet
			}
		}
		return true
	}, "every operation is in the journal")
	if seal := reads[contract.JournalSeal](x.world, "journal", "verify"); !seal.Holds {
		x.violated("the journal does not hold at entry %d", seal.Breaks[0].Entry)
	}
}

// report writes the figures down.
func (x *torture) report(file string, seed uint64, rounds int, took time.Duration) {
	text := fmt.Sprintf(`# Reliability

What `+"`make torture`"+` found last: operations against the lab while, at random, the service is killed with -9 or told to stop, the database is killed with -9 or stands still for seconds, packets are lost, relays weld, cards and controllers fall silent, drop their sessions or slow down, and two clients act at once on the same device.

| | |
| --- | --- |
| seed | %d |
| rounds | %d, in %s |
| operations | %d: %d done, %d failed and said so |
| kills of the service | %d |
| stops of the service, each waiting for power that is owed | %d |
| kills of the database | %d |
| times that the database stood still | %d |
| faults of gear and network | %d |
| **violations** | **%d** |

After each round it is checked, against what the simulated gear really did, that

- no outlet and no chassis is in a state that nobody asked for: what was cycled is on, what was switched off is off;
- nothing was cut, and nothing was reset, more often than that was asked for;
- what was reported as measured off was off;
- every operation has an end, an outcome in words, and is in the journal as asked for and as ended exactly once;
- the chain of the journal holds.

Repeat it with `+"`PLUMB_TORTURE_SEED=%d make torture`"+`. The seed fixes what is asked for and what goes wrong, and when; how threads are scheduled meanwhile it does not. A small run, of two rounds, is part of `+"`make test`"+`.
`, seed, rounds, took.Round(time.Second), x.ops, x.done, x.failed, x.kills, x.stops, x.away, x.hangs, x.faults, len(x.violations), seed)
	require.NoError(x, os.WriteFile(file, []byte(text), 0o644))
}
