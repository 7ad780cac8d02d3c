package e2e

import (
	"bytes"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/client"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/report"
	"plumbbob/internal/store/mariadb"
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

// torture is one run, and its figures.
type torture struct {
	*world
	ps     []*process      // the service, or two on one database
	server *mariadb.Server // that database; nil when it is the service's own
	disk   string          // where its own is, when that disk may be filled
	doors  []string        // log-ins to ask with: at each service, and by a line that is cut
	line   *wire
	rng    *rand.Rand
	first  string // password of the first account
	seed   uint64
	rounds int
	took   time.Duration

	ops, done, failed int
	runs              int            // of a routine
	times             map[string]int // by what went wrong
	violations        []string
}

func (x *torture) violated(format string, args ...any) {
	x.violations = append(x.violations, fmt.Sprintf(format, args...))
}

// TestTorture carries out many operations while, at random, everything goes wrong that
// disturbances lists. After each round nothing is in a state that nobody asked for,
// nothing was cut or reset more often than was asked for, every operation has an end and
// is on record once, and the journal's chain holds. make torture runs it for long, with
// several seeds, the last of them with two services on one database.
func TestTorture(t *testing.T) {
	t.Parallel()
	rounds, seeds := 2, []string{"7"}
	if n, err := strconv.Atoi(os.Getenv("PLUMB_TORTURE_ROUNDS")); err == nil {
		rounds = n
	}
	if s := strings.Fields(os.Getenv("PLUMB_TORTURE_SEEDS")); len(s) > 0 {
		seeds = s
	}
	var runs []*torture
	for i, s := range seeds {
		seed, err := strconv.ParseUint(s, 10, 64)
		require.NoError(t, err)
		t.Run("seed "+s, func(t *testing.T) {
			x := &torture{seed: seed, rounds: rounds, rng: rand.New(rand.NewPCG(seed, 1)), times: map[string]int{}}
			runs = append(runs, x)
			x.run(t, i > 0 && i == len(seeds)-1)
		})
	}
	report.Section(t, "Torture", tortureReport(runs))
}

func (x *torture) run(t *testing.T, two bool) {
	began := time.Now()
	x.begin(t, two)
	vs := victims()
	for round := range x.rounds {
		x.round(round, vs)
		if round%4 == 3 {
			x.appointment(vs[x.rng.IntN(4)])
		}
		require.Empty(t, x.violations, "seed %d, round %d", x.seed, round)
	}
	x.messagesHold()
	require.Empty(t, x.violations, "seed %d, messages", x.seed)
	for _, p := range x.ps {
		p.stop(t)
	}
	x.took = time.Since(began)
	t.Logf("%d operations (%d done, %d failed), violations: %d; %v", x.ops, x.done, x.failed, len(x.violations), x.times)
}

// begin starts the service, after it was killed some times while it was first being set
// up, or two services.
func (x *torture) begin(t *testing.T, two bool) {
	program := plumbd(t)
	flags := []string{"--missed-after", "1s"}
	if two {
		dir := t.TempDir()
		var err error
		x.server, err = mariadb.Start(t.Context(), dir, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		t.Cleanup(func() { _ = x.server.Close() })
		flags = append(flags, "--database", x.server.Config().FormatDSN())
	}
	p := &process{owner: t, program: program, dir: x.directory(t), address: freeAddress(t), flags: flags}
	x.ps = append(x.ps, p)
	for range 1 + min(x.rounds/4, 8) {
		p.launch(t)
		time.Sleep(time.Duration(100+x.rng.IntN(3000)) * time.Millisecond)
		x.times[killedAtFirst]++
		p.kill(t)
		x.seen(p)
	}
	p.start(t, program)
	x.seen(p)
	if x.first == "" { // killed before it was shown
		p.stop(t)
		x.first = setPassword(t, p)
		p.start(t, program)
	}
	w := &world{T: t, lab: labtest.Start(t, labtest.Options{Speed: 40}), dir: t.TempDir(), login: "client.json", url: "http://" + p.address, password: x.first}
	x.world = w
	w.furnish(w.lab.File)
	w.says(0, "", "channel", "set", "post", "--mail", w.lab.Post.Address, "--from", "plumb@pier.example", "--tls", "none")
	w.says(0, "", "telling", "import", w.write("telling.yaml", "plumb-telling: 1\npeople: {ann: {ways: [{channel: post, to: ann@pier.example}]}}\nrules: [{name: all, tell: [{who: [ann]}]}]\n"))
	w.says(0, "", "routine", "import", w.write("routine.yaml", tortureRoutine))
	x.doors = []string{"client.json"}
	x.line = newWire(t, "tcp", p.address)
	x.door("line.json", "http://"+x.line.at)
	if two {
		other := &process{owner: t, program: program, dir: filepath.Join(t.TempDir(), "two"), address: freeAddress(t), flags: flags}
		require.NoError(t, os.MkdirAll(other.dir, 0o700))
		key, err := os.ReadFile(filepath.Join(p.dir, "secrets.key"))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(other.dir, "secrets.key"), key, 0o600))
		other.start(t, program)
		x.ps = append(x.ps, other)
		x.door("two.json", "http://"+other.address)
	}
}

// seen notes the first password, which is shown once.
func (x *torture) seen(p *process) {
	if word := p.password(); word != "" {
		x.first = word
	}
}

// setPassword sets that of the first account, as its owner would.
func setPassword(t *testing.T, p *process) string {
	args := []string{"password", "admin", "--data-dir", p.dir}
	if i := slices.Index(p.flags, "--database"); i >= 0 {
		args = append(args, p.flags[i:i+2]...)
	}
	cmd := exec.Command(p.program, args...)
	cmd.Stdin = strings.NewReader("long enough now\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	return "long enough now"
}

// door makes the same log-in be used by another way.
func (x *torture) door(name, url string) {
	text, err := os.ReadFile(filepath.Join(x.dir, "client.json"))
	require.NoError(x, err)
	require.NoError(x, os.WriteFile(filepath.Join(x.dir, name), bytes.ReplaceAll(text, []byte(x.url), []byte(url)), 0o600))
	x.doors = append(x.doors, name)
}

// directory is that of the data: on a small disk of its own where one can be had.
func (x *torture) directory(t *testing.T) string {
	dir := filepath.Join(t.TempDir(), "data")
	require.NoError(t, os.Mkdir(dir, 0o700))
	if exec.Command("mount", "-t", "tmpfs", "-o", "size=700m,mode=700", "tmpfs", dir).Run() == nil {
		x.disk = dir
		t.Cleanup(func() { _ = exec.Command("umount", "-l", dir).Run() })
	}
	return dir
}

// root is how to ask the database for what only its administrator may.
func (x *torture) root() *mysql.Config {
	c := mysql.NewConfig()
	if x.server != nil {
		c = x.server.Config()
	} else {
		text, _ := os.ReadFile(filepath.Join(x.ps[0].dir, "database", "init.sql"))
		_, after, _ := strings.Cut(string(text), "root@localhost IDENTIFIED BY '")
		c.Passwd, _, _ = strings.Cut(after, "'")
		c.Net, c.Addr = "unix", filepath.Join(x.ps[0].dir, "database", "socket")
	}
	c.User, c.DBName = "root", ""
	return c
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
	_ = x.lab.Hang(toldOf) // it is there
	why := fmt.Sprintf("round %d", n)
	var asking sync.WaitGroup
	for _, v := range vs {
		kind := v.kinds()[x.rng.IntN(5)]
		clients := 1 + x.rng.IntN(2) // two who click at once
		delay := time.Duration(x.rng.IntN(1500)) * time.Millisecond
		for range clients {
			door := x.doors[x.rng.IntN(len(x.doors))]
			asking.Go(func() {
				time.Sleep(delay)
				x.asks(door, kind, v, why)
			})
		}
	}
	before, outlet, door := x.routinesEnd(), vs[x.rng.IntN(4)], x.doors[x.rng.IntN(len(x.doors))]
	asking.Go(func() { x.begins(door, outlet, why) })
	for range 1 + x.rng.IntN(3) {
		time.Sleep(time.Duration(300+x.rng.IntN(2500)) * time.Millisecond)
		x.disturb(vs)
	}
	asking.Wait()
	time.Sleep(time.Duration(x.rng.IntN(3000)) * time.Millisecond)
	x.mend(vs)
	begun := x.routinesEnd() - before
	ops := x.reckon(why)
	x.routineHolds(ops, begun, why)
	for _, v := range vs {
		x.judge(v, ops)
	}
	x.journalHolds(ops)
}

// asks asks for an operation, and does not care what it is told: the service may
// be away, or somebody else first.
func (x *torture) asks(door, kind string, v *victim, why string, more ...string) {
	var out bytes.Buffer
	args := append([]string{kind, v.device, "--yes", "--why", why, "--override", "in-use,too-many,overload", "--config", filepath.Join(x.dir, door)}, more...)
	if kind == "cycle" {
		args = append(args, "--hold", "2s")
	}
	if kind != "reset" {
		args = append(args, "--means", v.means)
	}
	client.Main(args, strings.NewReader(""), &out, &out)
}

// tortureRoutine cycles twice what it is given.
const tortureRoutine = `plumb-routine: 1
name: torture
with: {device: "", why: ""}
steps:
  - repeat: 2
    steps:
      - cycle: ${device}
        by: outlet
        hold: 2s
        lift: [in-use, too-many, overload]
        why: ${why}
        otherwise: go on
`

// begins begins that routine, and does not care either.
func (x *torture) begins(door string, v *victim, why string) {
	var out bytes.Buffer
	client.Main([]string{"routine", "run", "torture", "--with", "device=" + v.device, "--with", "why=" + why, "--yes", "--config", filepath.Join(x.dir, door)}, strings.NewReader(""), &out, &out)
}

// routinesEnd waits until every run has ended, and says how many there have been.
func (x *torture) routinesEnd() (n int) {
	require.Eventually(x, func() bool {
		all := list[[]contract.RoutineRun](x, "routine", "runs", "torture", "--limit", "500")
		n = len(all)
		return !slices.ContainsFunc(all, func(r contract.RoutineRun) bool { return r.Ended == nil })
	}, 6*soon, often, "every run of the routine ends")
	return n
}

// routineHolds: whatever died in between, each run has asked for no more than its two cycles.
func (x *torture) routineHolds(ops []contract.Operation, begun int, why string) {
	x.runs += begun
	asked := 0
	for _, o := range ops {
		if o.By == "standing order torture" {
			asked++
		}
	}
	if asked > 2*begun {
		x.violated("%s: %d runs of a routine of two cycles have asked for %d", why, begun, asked)
	}
}

// list asks for a list until it is given.
func list[T any](x *torture, args ...string) (v T) {
	require.Eventually(x, func() bool { // a database that was killed on a full disk takes its time
		var out bytes.Buffer
		return client.Main(append(args, "--output", "json", "--config", filepath.Join(x.dir, x.login)), strings.NewReader(""), &out, &out) == 0
	}, 5*soon, often, strings.Join(args, " "))
	return reads[T](x.world, args...)
}

// appointment asks for something in two seconds, and has nobody there at that time.
func (x *torture) appointment(v *victim) {
	opens := x.lab.Opens(v.outlet)
	why := fmt.Sprintf("appointment %d", x.times[missed])
	x.times[missed]++
	x.asks("client.json", "cycle", v, why, "--at", time.Now().Add(2*time.Second).Format(time.RFC3339))
	for _, p := range x.ps {
		p.kill(x.T)
	}
	time.Sleep(4 * time.Second)
	for _, p := range x.ps {
		p.start(x.T, p.program)
	}
	x.eventually(func() bool {
		for _, g := range list[[]contract.Group](x, "group", "list") {
			if g.Why == why {
				return g.State == contract.GroupStateMissed
			}
		}
		return true // it was not even asked for
	}, why+" is missed")
	if n := x.lab.Opens(v.outlet); n != opens {
		x.violated("%s: %s was cut all the same", why, v.device)
	}
}

// tortureReport writes the figures down.
func tortureReport(runs []*torture) string {
	var b strings.Builder
	b.WriteString("What `make torture` found last: operations against the lab while, at random, what is listed below goes wrong, and two clients act at once on the same device.\n\n| seed |")
	row := func(name string, of func(x *torture) string, all string) {
		fmt.Fprintf(&b, "\n| %s |", name)
		for _, x := range runs {
			b.WriteString(" " + of(x) + " |")
		}
		b.WriteString(" " + all + " |")
	}
	for _, x := range runs {
		two := ""
		if x.server != nil {
			two = ", two services"
		}
		fmt.Fprintf(&b, " %d%s |", x.seed, two)
	}
	b.WriteString(" all |\n|" + strings.Repeat(" --- |", len(runs)+2))
	var took time.Duration
	sum := func(of func(x *torture) int) (func(x *torture) string, string) {
		n := 0
		for _, x := range runs {
			n += of(x)
		}
		return func(x *torture) string { return strconv.Itoa(of(x)) }, strconv.Itoa(n)
	}
	count := func(name string, of func(x *torture) int) {
		each, all := sum(of)
		row(name, each, all)
	}
	for _, x := range runs {
		took += x.took
	}
	count("rounds", func(x *torture) int { return x.rounds })
	row("minutes", func(x *torture) string { return fmt.Sprintf("%.1f", x.took.Minutes()) }, fmt.Sprintf("%.1f", took.Minutes()))
	count("operations", func(x *torture) int { return x.ops })
	count("done", func(x *torture) int { return x.done })
	count("failed, and said so", func(x *torture) int { return x.failed })
	count("runs of a routine of two cycles", func(x *torture) int { return x.runs })
	for _, name := range troubles() {
		count(name, func(x *torture) int { return x.times[name] })
	}
	count("**violations**", func(x *torture) int { return len(x.violations) })
	b.WriteString(`

After each round it is checked, against what the simulated gear really did, that

- no outlet and no chassis is in a state that nobody asked for: what was cycled is on, what was switched off is off;
- nothing was cut, and nothing was reset, more often than that was asked for;
- what was reported as measured off was off;
- every run of a routine has ended, and has asked for no more than it says;
- what was asked for at a time at which nobody was there is missed, and was not done;
- every operation has an end, an outcome in words, and is in the journal as asked for and as ended exactly once;
- the chain of the journal holds;
- in the end, what is recorded as told has arrived, word for word, nothing of it more than twice, and nothing that is due waits.

A seed fixes what is asked for and what goes wrong, and when; how threads are scheduled meanwhile it does not. A small run, of two rounds, is part of ` + "`make test`" + `.
`)
	return b.String()
}

// troubles are the names of all that goes wrong, in the order of the report.
func troubles() []string {
	names := []string{killedAtFirst}
	for _, d := range disturbances {
		if !slices.Contains(names, d.name) {
			names = append(names, d.name)
		}
	}
	return append(names, missed)
}
