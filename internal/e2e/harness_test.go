// Package e2e plays the stories of the README on the real service with the
// lab: through the client, through the console in a browser, and through crashes.
package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/demo"
	"plumbbob/internal/api/contract"
	"plumbbob/internal/client"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab"
	"plumbbob/internal/lab/labtest"
	"plumbbob/internal/localports"
	"plumbbob/internal/secret"
	"plumbbob/internal/service"
	"plumbbob/web"
)

const (
	soon  = time.Minute // for something to come about
	often = 50 * time.Millisecond
)

// world is the lab, the service on it, and a client that is logged in.
type world struct {
	*testing.T
	lab      *labtest.Lab
	service  *service.Service
	url      string
	password string
	dir      string
	login    string // the file of the client's log-in
}

// begin starts everything, and brings in the estate as a user would.
func begin(t *testing.T) *world { return beginAt(t, 40) }

// beginAt has gear start up so many times faster.
func beginAt(t *testing.T, speed float64) *world { return beginIn(t, labtest.Options{Speed: speed}) }

// beginIn starts it in a lab of its own kind.
func beginIn(t *testing.T, o labtest.Options) *world {
	t.Parallel()
	w := &world{T: t, lab: labtest.Start(t, o), dir: t.TempDir(), login: "client.json"}
	w.serve(service.Options{
		Gate: "127.0.0.1:0", ScreenGate: "127.0.0.1:0",
		Ports: []localports.Config{{Name: demo.Modem, Path: w.lab.ModemPath, Set: "115200 8N1", Modem: true}}, GateAt: []string{demo.Modem},
	})
	w.furnish(w.lab.File)
	return w
}

// beside is a second service in the same lab, at the pier.
func (w *world) beside() *world {
	p := &world{T: w.T, lab: w.lab, dir: w.TempDir(), login: "client.json"}
	p.serve(service.Options{})
	require.NoError(w, w.lab.Runs(demo.Post, p.url))
	require.NoError(w, w.lab.Runs(demo.Office, w.url))
	p.furnish(w.lab.PierFile)
	return p
}

// serve starts the service.
func (w *world) serve(o service.Options) {
	o.DataDir, o.Listen, o.Console, o.Log = filepath.Join(w.dir, "data"), "127.0.0.1:0", web.Console(), kept(w.T)
	var err error
	w.service, err = service.Open(w.Context(), o)
	require.NoError(w, err)
	w.url, w.password = w.service.URL, w.service.FirstPassword
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- w.service.Run(ctx) }()
	w.Cleanup(func() {
		stop()
		require.NoError(w, <-ended)
	})
}

// keptLog is how much of what a service logged last is shown when its test has failed, in bytes.
const keptLog = 16 << 10

// kept logs for the test alone, which shows it when it has failed.
func kept(t *testing.T) *slog.Logger {
	if os.Getenv("PLUMB_TEST_LOG") != "" {
		return slog.New(slog.NewTextHandler(os.Stderr, nil))
	}
	said := &output{}
	t.Cleanup(func() {
		if text := said.String(); t.Failed() {
			t.Logf("the service logged:\n%s", text[max(0, len(text)-keptLog):])
		}
	})
	return slog.New(slog.NewTextHandler(said, nil))
}

// furnish logs in and brings in estate and secret, through the client.
func (w *world) furnish(text string) {
	w.says(0, w.password+"\n", "login", w.url)
	file := filepath.Join(w.dir, "estate.yaml")
	text = strings.NewReplacer("every: 3s", "every: 1s", "every: 2s", "every: 1s", "every: 5s", "every: 1s", "every: 10s", "every: 2s").Replace(text)
	text = strings.ReplaceAll(text, "protocol: ipmi,", "protocol: ipmi, sensors: 2s,")
	require.NoError(w, os.WriteFile(file, []byte(text), 0o600))
	w.says(0, "", "estate", "check", file)
	require.Contains(w, w.says(0, "", "estate", "import", "--yes", file), "Secret skarvoe-pdu is not set yet")
	for name, v := range lab.Secrets {
		switch v.Kind {
		case secret.IPMI:
			w.says(0, v.Password+"\n", "secret", "set", name, "--ipmi-user", v.User)
		case secret.SNMPv3:
			w.says(0, v.AuthPass+"\n"+v.PrivPass+"\n", "secret", "set", name, "--v3-user", v.User)
		case secret.Login:
			w.says(0, v.Password+"\n", "secret", "set", name, "--login", v.User)
		case secret.Token:
			w.says(0, v.Password+"\n", "secret", "set", name, "--token")
		default:
			w.says(0, v.Community+"\n", "secret", "set", name)
		}
	}
	w.eventually(func() bool {
		for _, d := range reads[[]contract.DeviceSummary](w, "board") {
			if d.Verdict.State != contract.VerdictStateSteady {
				return false
			}
		}
		return true
	}, "all is well at first")
}

// says runs plumb, wants that exit status, and returns what it printed.
func (w *world) says(status int, in string, args ...string) string {
	w.Helper()
	var out bytes.Buffer
	got := client.Main(append(args, "--config", filepath.Join(w.dir, w.login)), strings.NewReader(in), &out, &out)
	require.Equal(w, status, got, "plumb %s:\n%s", strings.Join(args, " "), out.String())
	return out.String()
}

// flat is says with all white space made single: lines are wrapped to fit.
func (w *world) flat(status int, in string, args ...string) string {
	w.Helper()
	return strings.Join(strings.Fields(w.says(status, in, args...)), " ")
}

// reads runs plumb and decodes what it prints as JSON.
func reads[T any](w *world, args ...string) (v T) {
	w.Helper()
	require.NoError(w, json.Unmarshal([]byte(w.says(0, "", append(args, "--output", "json")...)), &v))
	return v
}

// write writes a file, and returns where it is.
func (w *world) write(name, text string) string {
	w.Helper()
	file := filepath.Join(w.dir, name)
	require.NoError(w, os.WriteFile(file, []byte(text), 0o600))
	return file
}

func (w *world) verdict(k estate.Key) string {
	for _, d := range reads[[]contract.DeviceSummary](w, "board") {
		if d.Key == string(k) {
			return string(d.Verdict.State)
		}
	}
	return ""
}

func (w *world) eventually(f func() bool, what string) {
	w.Helper()
	require.Eventually(w, f, soon, often, what)
}

// well says whether the service says so of itself.
func (w *world) well() bool {
	res, err := http.Get(w.url + "/healthz")
	if err != nil {
		return false
	}
	_ = res.Body.Close()
	return res.StatusCode == http.StatusOK
}

func (w *world) closed(n int) bool {
	closed, _ := w.lab.Contact(estate.OutletEnd("skarvoe-pdu", n))
	return closed
}

// newest returns the newest operation.
func (w *world) newest() contract.Operation {
	ops := reads[[]contract.Operation](w, "op", "list", "--limit", "1")
	require.NotEmpty(w, ops)
	return ops[0]
}

// recorded returns the only entry of a kind that the journal has about a device.
func (w *world) recorded(device, kind string) contract.JournalEntry {
	es := reads[[]contract.JournalEntry](w, "journal", "--device", device, "--kind", kind)
	require.Len(w, es, 1)
	return es[0]
}

// process is plumbd as a program of its own, so that it can be killed.
type process struct {
	*exec.Cmd
	owner        *testing.T // outlives the subtests that start it again
	program      string
	dir, address string
	flags        []string // beside those for them
	out          *output
}

// output is what a process has printed, for reading while it prints.
type output struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.Write(b)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}

// apart is begin with the service as a program of its own.
func apart(t *testing.T, flags ...string) (*world, *process) {
	p := &process{owner: t, program: plumbd(t), dir: filepath.Join(t.TempDir(), "data"), address: freeAddress(t), flags: flags}
	p.start(t, p.program)
	w := &world{T: t, lab: labtest.Start(t, labtest.Options{Speed: 40}), dir: t.TempDir(), login: "client.json", url: "http://" + p.address, password: p.password()}
	w.furnish(w.lab.File)
	return w, p
}

func freeAddress(t *testing.T) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer func() { require.NoError(t, ln.Close()) }()
	return ln.Addr().String()
}

// plumbd builds the service once for all tests.
func plumbd(t *testing.T) string {
	path := filepath.Join(t.TempDir(), "plumbd")
	out, err := exec.Command("go", "build", "-o", path, "plumbbob/cmd/plumbd").CombinedOutput()
	require.NoError(t, err, string(out))
	return path
}

// start runs plumbd serve and waits until it answers.
func (p *process) start(t *testing.T, program string) {
	p.program = program
	p.launch(t)
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", p.address)
		if err == nil {
			_ = c.Close()
		}
		return err == nil && strings.Contains(p.out.String(), "Plumb Bob is at")
	}, soon, often, "the service starts")
}

// launch runs plumbd serve.
func (p *process) launch(t *testing.T) {
	p.out = &output{}
	p.Cmd = exec.Command(p.program, append([]string{"serve", "--data-dir", p.dir, "--listen", p.address, "--loopback"}, p.flags...)...)
	p.Stdout, p.Stderr = p.out, p.out
	require.NoError(t, p.Start())
	running := p.Cmd
	out := p.out
	p.owner.Cleanup(func() { // a test that has failed leaves nothing behind either
		if p.owner.Failed() {
			p.owner.Log(tail(out.String()))
		}
		if running.ProcessState == nil {
			_ = running.Process.Kill()
			_ = running.Wait()
		}
	})
}

// tail is the end of a long text.
func tail(text string) string { return text[max(0, len(text)-8000):] }

func (p *process) kill(t *testing.T) {
	require.NoError(t, p.Process.Kill())
	_ = p.Wait() // says that it was killed
}

func (p *process) stop(t *testing.T) {
	require.NoError(t, p.Process.Signal(os.Interrupt))
	require.NoError(t, p.Wait(), p.out.String())
}

// password finds the first password in what plumbd printed.
func (p *process) password() string {
	_, after, _ := strings.Cut(p.out.String(), "with the password ")
	word, _, _ := strings.Cut(after, "\n")
	return word
}
