package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/report"
)

// A reckoning is what a process takes at one time.
type reckoning struct {
	at                      time.Duration
	rss, own, most, threads int // MiB: now, of which not shared with files, and ever; threads
	files                   int
	cpu                     time.Duration // since its start
}

// reckonOf reads what Linux says of a process (proc_pid_status(5), proc_pid_stat(5)).
func reckonOf(t *testing.T, pid int) (r reckoning) {
	dir := filepath.Join("/proc", strconv.Itoa(pid))
	text, err := os.ReadFile(filepath.Join(dir, "status"))
	require.NoError(t, err)
	for line := range strings.Lines(string(text)) {
		name, value, _ := strings.Cut(line, ":")
		n, _ := strconv.Atoi(strings.Fields(value + " x")[0])
		switch name {
		case "VmRSS":
			r.rss = n >> 10
		case "RssAnon":
			r.own = n >> 10
		case "VmHWM":
			r.most = n >> 10
		case "Threads":
			r.threads = n
		}
	}
	files, err := os.ReadDir(filepath.Join(dir, "fd"))
	require.NoError(t, err)
	r.files = len(files)
	stat, err := os.ReadFile(filepath.Join(dir, "stat"))
	require.NoError(t, err)
	fields := strings.Fields(string(stat[strings.LastIndexByte(string(stat), ')')+1:]))
	user, _ := strconv.Atoi(fields[11])
	system, _ := strconv.Atoi(fields[12])
	r.cpu = time.Duration(user+system) * 10 * time.Millisecond
	return r
}

// TestSoak runs the service on the lab with a fault every few seconds, people who come
// and go by the hundred, and an operation every now and then. Afterwards all is well,
// and it takes no more than it did once it had warmed up. make soak runs it for an hour.
func TestSoak(t *testing.T) {
	t.Parallel()
	lasts := 20 * time.Second
	if d, err := time.ParseDuration(os.Getenv("PLUMB_SOAK")); err == nil {
		lasts = d
	}
	w, p := apart(t)
	token := struct{ Token string }{}
	text, err := os.ReadFile(filepath.Join(w.dir, w.login))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &token))
	rng := rand.New(rand.NewPCG(1, 2))
	began := time.Now()
	faults, visits, asked := 0, 0, 0
	var took []reckoning
	fault, burst, act, look := time.NewTicker(max(lasts/200, time.Second)), time.NewTicker(max(lasts/360, 2*time.Second)), time.NewTicker(max(lasts/60, 5*time.Second)), time.NewTicker(lasts/20)
	end := time.After(lasts)
	for soaking := true; soaking; {
		select {
		case <-fault.C:
			w.ail(rng)
			faults++
		case <-burst.C:
			visits += visit(t, w.url, token.Token, 20)
		case <-act.C:
			(&torture{world: w}).asks(w.login, "cycle", victims()[rng.IntN(4)], "soak")
			asked++
		case <-look.C:
			r := reckonOf(t, p.Process.Pid)
			r.at = time.Since(began)
			took = append(took, r)
		case <-end:
			soaking = false
		}
	}
	require.NoError(t, w.lab.Heal(""))
	w.eventually(func() bool {
		for _, d := range reads[[]contract.DeviceSummary](w, "board") {
			if d.Verdict.State != contract.VerdictStateSteady && d.Verdict.State != contract.VerdictStateStrained {
				return false
			}
		}
		return true
	}, "all is well afterwards")
	require.Contains(t, w.flat(0, "", "journal", "verify"), "holds")
	require.GreaterOrEqual(t, len(took), 10)
	warm, last := took[len(took)/4], took[len(took)-1]
	t.Logf("%d faults, %d visits, %d operations; warm %+v, last %+v", faults, visits, asked, warm, last)
	require.LessOrEqual(t, last.files, warm.files+100, "files and connections")
	if lasts >= 10*time.Minute { // in less, it has only just warmed up
		require.Less(t, last.own, warm.own+warm.own/3+8, "MiB of memory")
		require.LessOrEqual(t, last.threads, warm.threads+8)
	}
	report.Section(t, "Soak", soaked(lasts, faults, visits, asked, took))
	p.stop(t)
}

// ail has something go wrong, or be mended.
func (w *world) ail(rng *rand.Rand) {
	k := []estate.Key{"skarvoe-router", "skarvoe-kiosk", "inch-kiosk", "ostrel-virt-1", "skarvoe-bridge"}[rng.IntN(5)]
	switch rng.IntN(4) {
	case 0:
		_ = w.lab.Hang(k)
	case 1:
		_ = w.lab.Lose("skarvoe-cell", 0.3*rng.Float64())
	default:
		_ = w.lab.Heal("")
	}
}

// visit has so many people open the stream, read its first event and go.
func visit(t *testing.T, url, token string, n int) int {
	var all sync.WaitGroup
	for range n {
		all.Go(func() {
			ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
			defer cancel()
			req, err := http.NewRequestWithContext(ctx, http.MethodGet, url+"/api/v1/events", nil)
			if err != nil {
				return
			}
			req.Header.Set("Authorization", "Bearer "+token)
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				return
			}
			defer func() { _ = res.Body.Close() }()
			_, _ = bufio.NewReader(res.Body).ReadString('\n')
		})
	}
	all.Wait()
	return n
}

func soaked(lasts time.Duration, faults, visits, asked int, took []reckoning) string {
	var b strings.Builder
	fmt.Fprintf(&b, "What `make soak` found last: the service on the lab for %s, with %d faults, %d people who opened the stream and left, and %d operations asked for; what plumbd took meanwhile.\n\n", lasts, faults, visits, asked)
	b.WriteString("| after | memory, MiB | of its own | files | threads | of one core |\n| --- | --- | --- | --- | --- | --- |\n")
	var was reckoning
	for _, r := range took {
		fmt.Fprintf(&b, "| %s | %d | %d | %d | %d | %.0f %% |\n", r.at.Round(time.Second), r.rss, r.own, r.files, r.threads, 100*(r.cpu-was.cpu).Seconds()/(r.at-was.at).Seconds())
		was = r
	}
	return b.String()
}
