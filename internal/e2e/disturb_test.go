package e2e

import (
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jmoiron/sqlx"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/bmc"
)

const (
	killedAtFirst = "kills of the service while it is first set up"
	missed        = "appointments at which nobody was there"
)

// disturbances are what goes wrong in a round; one that is there twice comes twice as often.
var disturbances = []struct {
	name string
	do   func(x *torture, v *victim) (done bool)
}{
	{"kills of the service", (*torture).kills},
	{"kills of the service", (*torture).kills},
	{"kills of the service", (*torture).kills},
	{"stops of the service, each waiting for power that is owed", (*torture).stops},
	{"kills of the database", func(x *torture, _ *victim) bool { return x.signal(syscall.SIGKILL) }},
	{"times that the database stood still", (*torture).hangs},
	{"times that the database took nothing", (*torture).readOnly},
	{"times that the disk was full", (*torture).full},
	{"times that all connections were cut", func(x *torture, _ *victim) bool { x.line.drop(); return true }},
	{"networks that lost packets", func(x *torture, _ *victim) bool {
		return x.lab.Lose(lossy[x.rng.IntN(len(lossy))], 0.1+0.3*x.rng.Float64()) == nil
	}},
	{"relays that welded", func(x *torture, v *victim) bool { return v.host == "" && x.lab.Weld(v.outlet) == nil }},
	{"controllers that forgot, were full or slow", (*torture).upset},
	{"cards that fell silent", func(x *torture, _ *victim) bool {
		return x.lab.Silence([]estate.Key{"skarvoe-pdu", "inch-strip", "ostrel-virt-1"}[x.rng.IntN(3)]) == nil
	}},
}

var lossy = []estate.Key{"skarvoe-cell", "skarvoe-bridge", "inch-cell", "ostrel-mgmt"}

// disturb has one thing go wrong.
func (x *torture) disturb(vs []*victim) {
	d := disturbances[x.rng.IntN(len(disturbances))]
	if d.do(x, vs[x.rng.IntN(len(vs))]) {
		x.times[d.name]++
	}
}

func (x *torture) pause(from, to int) {
	time.Sleep(time.Duration(from+x.rng.IntN(to-from)) * time.Millisecond)
}

func (x *torture) kills(*victim) bool {
	p := x.ps[x.rng.IntN(len(x.ps))]
	p.kill(x.T)
	x.pause(0, 1500)
	p.start(x.T, p.program)
	return true
}

// stops: it is told to stop, and pays back what it owes before it does.
func (x *torture) stops(*victim) bool {
	p := x.ps[x.rng.IntN(len(x.ps))]
	p.stop(x.T)
	if strings.Contains(p.out.String(), "STAYS OFF") {
		x.violated("power stayed off at a stop: %s", p.out)
	}
	p.start(x.T, p.program)
	return true
}

// signal sends one to the database server.
func (x *torture) signal(s syscall.Signal) bool {
	pid := 0
	if x.server != nil {
		pid = x.server.PID()
	} else if text, err := os.ReadFile(filepath.Join(x.ps[0].dir, "database", "pid")); err == nil {
		pid, _ = strconv.Atoi(strings.TrimSpace(string(text)))
	}
	return pid > 1 && syscall.Kill(pid, s) == nil
}

// hangs: the database takes connections, and answers nobody.
func (x *torture) hangs(*victim) bool {
	if !x.signal(syscall.SIGSTOP) {
		return false
	}
	x.pause(1000, 7000)
	return x.signal(syscall.SIGCONT)
}

// readOnly: the database is there, and takes nothing, as after a failover.
func (x *torture) readOnly(*victim) bool {
	db, err := sqlx.Connect("mysql", x.root().FormatDSN())
	if err != nil {
		return false // it is only just starting
	}
	defer func() { _ = db.Close() }()
	if _, err := db.Exec(`SET GLOBAL read_only = 1`); err != nil {
		return false
	}
	x.pause(1000, 7000)
	_, _ = db.Exec(`SET GLOBAL read_only = 0`) // or it has died, and does not know any more
	return true
}

// full: not a byte is left where the records are.
func (x *torture) full(*victim) bool {
	if x.disk == "" {
		return false
	}
	f, err := os.Create(filepath.Join(x.disk, "filler"))
	if err != nil {
		return false
	}
	_, err = io.Copy(f, zeros{})
	x.pause(1000, 6000)
	_ = f.Close()
	_ = os.Remove(f.Name())
	return err != nil
}

// zeros never end.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

func (x *torture) upset(v *victim) bool {
	return v.host != "" && x.lab.Upset(v.host, func(f *bmc.Faults) {
		switch x.rng.IntN(3) {
		case 0:
			f.Forgetful = true
		case 1:
			f.Full = true
		default:
			f.Slow = 1500 * time.Millisecond
		}
	}) == nil
}

// mend takes back what went wrong, and nothing that was switched.
func (x *torture) mend(vs []*victim) {
	for _, k := range lossy {
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
