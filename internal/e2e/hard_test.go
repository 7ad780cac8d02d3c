package e2e

import (
	"bytes"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/client"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab"
)

// TestTwoPeopleClickAtOnce: one of them begins, the others are told that it is
// under way, and the outlet is switched once.
func TestTwoPeopleClickAtOnce(t *testing.T) {
	w := begin(t)
	end := estate.OutletEnd("skarvoe-pdu", 6)
	_, before := w.lab.Contact(end)
	const people = 6
	statuses := make([]int, people)
	var all sync.WaitGroup
	for i := range people {
		all.Go(func() {
			var out bytes.Buffer
			statuses[i] = client.Main([]string{"cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "2s", "--yes", "--config", filepath.Join(w.dir, w.login)}, strings.NewReader(""), &out, &out)
		})
	}
	all.Wait()
	begun := 0
	for _, s := range statuses {
		if s == client.ExitDone {
			begun++
		} else {
			require.Contains(t, []int{client.ExitRefused, client.ExitFailed}, s)
		}
	}
	require.Equal(t, 1, begun)
	w.eventually(func() bool { return w.newest().State == contract.OperationStateDone }, "it ends")
	_, after := w.lab.Contact(end)
	require.Equal(t, 2, after-before, "once off, once on")
}

// TestOverABadLink: with a fifth of all packets lost and the rest late, the
// story goes the same way, only slower.
func TestOverABadLink(t *testing.T) {
	w := begin(t)
	require.NoError(t, w.lab.Lose("skarvoe-cell", 0.1))
	require.NoError(t, w.lab.Delay("skarvoe-cell", 100*time.Millisecond))
	out := w.flat(0, "", "cycle", "skarvoe-router", "--hold", "3s", "--yes", "--follow")
	require.Regexp(t, `Cycled outlet 3 of skarvoe-pdu: 1\d\.\d W → 0\.0 W at`, out)
	require.True(t, w.closed(3))
}

// TestFollowingThroughARestart: plumb goes on following when the service is
// killed and comes back, and reports the end that came of it.
func TestFollowingThroughARestart(t *testing.T) {
	t.Parallel()
	w, p := apart(t)
	type ending struct {
		status int
		out    string
	}
	followed := make(chan ending, 1)
	go func() {
		var out bytes.Buffer
		status := client.Main([]string{"cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "4s", "--yes", "--follow", "--config", filepath.Join(w.dir, w.login)}, strings.NewReader(""), &out, &out)
		followed <- ending{status, out.String()}
	}()
	w.eventually(func() bool { return !w.closed(6) }, "it is off")
	p.kill(t)
	p.start(t, p.program)
	select {
	case e := <-followed:
		require.Zero(t, e.status, e.out)
		require.Contains(t, strings.Join(strings.Fields(e.out), " "), "Cycled outlet 6 of skarvoe-pdu")
	case <-time.After(2 * soon):
		t.Fatal("plumb does not come to an end")
	}
	p.stop(t)
}

// TestOverTLS: from elsewhere it is HTTPS only; the client pins the certificate
// at log-in, and does not go on when it has changed. And a forgotten password
// is set anew.
func TestOverTLS(t *testing.T) {
	t.Parallel()
	p := &process{owner: t, dir: filepath.Join(t.TempDir(), "data"), address: "0.0.0.0" + strings.TrimPrefix(freeAddress(t), "127.0.0.1")}
	program := plumbd(t)
	p.start(t, program)
	_, port, _ := strings.Cut(p.address, ":")
	w := &world{T: t, dir: t.TempDir(), login: "client.json", url: "https://127.0.0.1:" + port, password: p.password()}
	fingerprint := lineAfter(p.out.String(), "its SHA-256 fingerprint is")
	require.Len(t, fingerprint, 64)

	require.Contains(t, w.flat(2, w.password+"\n", "login", w.url), "name it with --fingerprint: "+fingerprint)
	wrong := strings.Repeat("0", 64)
	require.Contains(t, w.flat(4, w.password+"\n", "login", w.url, "--fingerprint", wrong), "the certificate has changed")
	w.says(0, w.password+"\n", "login", w.url, "--fingerprint", fingerprint)
	require.Contains(t, w.says(0, "", "board"), "There is no estate yet")
	res, err := http.Get("http://127.0.0.1:" + port + "/healthz")
	if err == nil {
		require.NoError(t, res.Body.Close())
		require.Equal(t, http.StatusBadRequest, res.StatusCode, "nothing is served in clear")
	}
	p.stop(t)

	set := func(password string) (string, error) {
		cmd := exec.Command(program, "password", "admin", "--data-dir", p.dir)
		cmd.Stdin = strings.NewReader(password + "\n")
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	out, err := set("short")
	require.Error(t, err)
	require.Contains(t, out, "needs at least 10")
	out, err = set("long enough now")
	require.NoError(t, err, out)
	p.start(t, program)
	require.Contains(t, w.flat(5, "", "board"), "log in first", "the old log-ins have ended")
	w.says(0, "long enough now\n", "login", w.url, "--fingerprint", fingerprint)
	w.says(0, "", "logout")
	require.Contains(t, w.says(5, "", "board"), "not logged in")
	require.NoError(t, os.Remove(filepath.Join(p.dir, "tls.pem")))
	p.stop(t)
}

func lineAfter(text, mark string) string {
	_, after, _ := strings.Cut(text, mark+"\n")
	line, _, _ := strings.Cut(after, "\n")
	return line
}

// TestSNMPv3: the same gear over v3, as the secret says.
func TestSNMPv3(t *testing.T) {
	w := begin(t)
	v3 := lab.V3Secret
	set := []string{"secret", "set", "skarvoe-pdu", "--v3-user", v3.User}
	w.says(0, v3.AuthPass+"\n"+v3.PrivPass+"\n", set...)
	require.Contains(t, w.says(0, "", "secret", "list"), "snmp-v3")
	out := w.flat(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "2s", "--yes", "--follow")
	require.Contains(t, out, "Cycled outlet 6 of skarvoe-pdu")

	require.Contains(t, w.says(2, "short\nshort\n", set...), "at least 8 characters (RFC 3414, section 11.2)")
	w.says(0, "quite another phrase\n"+v3.PrivPass+"\n", set...)
	w.eventually(func() bool {
		return strings.Contains(w.flat(0, "", "show", "skarvoe-pdu"), "answers, but not to this credential")
	}, "a wrong pass phrase is not silence")
	require.Contains(t, w.flat(3, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--yes"), "skarvoe-pdu refuses us")
}

// TestTheEstateChangesUnderWay: a device is renamed and keeps its history, one
// that an operation is working on cannot be taken out, and a removed one goes.
func TestTheEstateChangesUnderWay(t *testing.T) {
	w := begin(t)
	w.says(0, "", "cycle", "skarvoe-kiosk", "--means", "outlet", "--hold", "2s", "--yes", "--follow")
	text := w.says(0, "", "estate", "export")
	file := filepath.Join(w.dir, "next.yaml")
	write := func(s string) { require.NoError(t, os.WriteFile(file, []byte(s), 0o600)) }

	renamed := strings.Replace(text, "  skarvoe-kiosk:\n", "  skarvoe-tickets:\n    was: skarvoe-kiosk\n", 1)
	write(renamed)
	require.Contains(t, w.says(0, "", "estate", "diff", file), "device skarvoe-tickets renamed from skarvoe-kiosk")
	require.Contains(t, w.flat(2, "", "estate", "import", file), "nobody is there to agree")
	w.says(0, "", "estate", "import", "--yes", file)
	require.Contains(t, w.says(0, "", "estate", "diff", file), "Nothing changes.")
	w.eventually(func() bool { return w.verdict("skarvoe-tickets") == "steady" }, "it is watched under its new name")
	require.Contains(t, w.flat(0, "", "show", "skarvoe-tickets"), "Cycled outlet 6 of skarvoe-pdu", "its history has moved along")

	without, _, _ := strings.Cut(renamed, "  skarvoe-heater:")
	_, rest, _ := strings.Cut(renamed, "power: [skarvoe-pdu/8]\n")
	write(without + strings.TrimLeft(rest, "\n"))
	w.says(0, "", "cycle", "skarvoe-heater", "--hold", "4s", "--yes")
	require.Contains(t, w.flat(1, "", "estate", "import", "--yes", file), "which this file leaves out: wait until it has ended")
	w.eventually(func() bool { return w.newest().State == contract.OperationStateDone }, "it ends")
	w.says(0, "", "estate", "import", "--yes", file)
	require.Contains(t, w.flat(2, "", "show", "skarvoe-heater"), "there is no device")
	require.NotEmpty(t, reads[[]contract.JournalEntry](w, "journal", "--device", "skarvoe-heater"), "the record stays")
}
