package client

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"plumbbob/internal/api/contract"
)

// fake is a service that answers from a table: "GET /board" → a value, a
// problem, or a function.
type fake struct {
	*testing.T
	answers map[string]any
	asked   []string
	config  string
}

func serve(t *testing.T, answers map[string]any) *fake {
	f := &fake{T: t, answers: answers, config: filepath.Join(t.TempDir(), "client.json")}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		what := r.Method + " " + strings.TrimPrefix(r.URL.Path, "/api/v1")
		f.asked = append(f.asked, what)
		a, ok := f.answers[what]
		if !ok {
			http.Error(w, "what?", http.StatusTeapot)
			return
		}
		if p, ok := a.(contract.Problem); ok {
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(p.Status)
		}
		_ = json.NewEncoder(w).Encode(a)
	}))
	t.Cleanup(s.Close)
	require.NoError(t, Config{URL: s.URL, Account: "admin", Token: "t"}.Write(f.config))
	return f
}

// run runs plumb with some input, and returns its status and what it printed.
func (f *fake) run(in string, args ...string) (int, string) {
	var out bytes.Buffer
	status := Main(append(args, "--config", f.config), strings.NewReader(in), &out, &out)
	return status, out.String()
}

func problem(status int, kind contract.ProblemKind, detail string) contract.Problem {
	return contract.Problem{Type: "about:blank", Title: "t", Status: status, Kind: kind, Detail: &detail}
}

var since = time.Now().Add(-4 * time.Minute)

func summary(key string, state contract.VerdictState, reasons ...contract.Reason) contract.DeviceSummary {
	return contract.DeviceSummary{Key: key, Site: "skarvoe", Words: "router", Verdict: contract.Verdict{State: state, Since: since, Reasons: reasons}}
}

var board = contract.Board{
	Estate: "Tern Sound Ferries", Event: "e-1",
	Sites: []contract.Site{{Key: "skarvoe", Zone: "UTC"}, {Key: "quay", Zone: "UTC"}},
	Devices: []contract.DeviceSummary{
		summary("calm", contract.VerdictStateSteady),
		summary("stuck", contract.VerdictStateHung,
			contract.Reason{Stance: contract.ReasonStanceFor, Text: "draws 11.2 W on pdu outlet 3"},
			contract.Reason{Stance: contract.ReasonStanceFor, Text: "has not answered", At: &since, Since: new(true)}),
		func() contract.DeviceSummary {
			d := summary("behind", contract.VerdictStateCutOff)
			d.Verdict.CutBy = new("stuck")
			d.W = new(38.4)
			return d
		}(),
	},
}

func TestBoard(t *testing.T) {
	f := serve(t, map[string]any{"GET /board": board})
	status, out := f.run("", "board")
	require.Zero(t, status)
	lines := strings.Split(strings.TrimRight(out, "\n"), "\n")
	require.Equal(t, "Tern Sound Ferries: 1 hung, 1 cut off, 1 steady", lines[0])
	require.Regexp(t, `^stuck\s+hung\s+4 min\s+has not answered since`, lines[3], "what is wrong comes first, the most telling reason first")
	require.Regexp(t, `^behind\s+cut off\s+4 min\s+38.4 W\s+cut off by stuck$`, lines[4])
	require.Regexp(t, `^calm\s+steady\s+4 min\s+router$`, lines[5])
	for _, l := range lines {
		require.NotContains(t, l, "…", "what goes into a pipe is not cut")
		require.NotContains(t, l, "\x1b", "colour only on a terminal")
	}

	_, out = f.run("", "board", "--verdict", "cut off", "-o", "csv")
	require.Regexp(t, `^device,verdict,for_seconds,draw_w,because,since,site
behind,cut off,24\d,38\.4,cut off by stuck,20\d\d-\d\d-\d\dT\d\d:\d\d:\d\dZ,skarvoe
$`, out, "for programs: units in the heading, RFC 3339 times")
	_, out = f.run("", "board", "--verdict", "hung", "-o", "yaml")
	require.Contains(t, out, "- acts: null\n  feeds: null\n")
	require.Contains(t, out, "    state: hung\n")
	status, out = f.run("", "board", "--site", "nowhere")
	require.Equal(t, ExitUsage, status)
	require.Contains(t, out, `there is no site "nowhere": there is skarvoe, quay`)
	_, out = f.run("", "board", "--site", "quay")
	require.Contains(t, out, "No device is like that.")
	status, out = f.run("", "board", "-o", "xml")
	require.Equal(t, ExitUsage, status)
	require.Contains(t, out, `"xml" is not table, json, yaml or csv`)
}

// TestExitStatus: each kind of problem has the status that scripts rely on, and
// its text reaches the user as it is.
func TestExitStatus(t *testing.T) {
	for kind, want := range map[contract.ProblemKind]int{
		contract.Usage: ExitUsage, contract.NotFound: ExitUsage, contract.FaultyFile: ExitUsage,
		contract.Refused: ExitRefused, contract.PreviewChanged: ExitRefused,
		contract.GearUnreachable: ExitUnreachable, contract.DatabaseAway: ExitUnreachable, contract.Stopping: ExitUnreachable,
		contract.NotLoggedIn: ExitNotPermitted, contract.NotPermitted: ExitNotPermitted, contract.TooManyTries: ExitNotPermitted,
		contract.Conflict: ExitFailed, contract.Internal: ExitFailed,
	} {
		f := serve(t, map[string]any{"GET /board": problem(499, kind, "this and that")})
		status, out := f.run("", "board")
		require.Equal(t, want, status, kind)
		require.Equal(t, "plumb: this and that\n", out)
	}
	f := serve(t, nil)
	status, out := f.run("", "board")
	require.Equal(t, ExitFailed, status)
	require.Contains(t, out, "answered HTTP 418: is that Plumb Bob?")
	require.NoError(t, Config{URL: "http://127.0.0.1:1"}.Write(f.config))
	status, out = f.run("", "board")
	require.Equal(t, ExitUnreachable, status)
	require.Contains(t, out, "is the service running?")
}

func preview(locks ...contract.Interlock) contract.Preview {
	return contract.Preview{
		Kind: contract.OperationKindCycle, Device: "stuck", Digest: "d1", Outlets: []contract.OutletNow{{Outlet: "pdu/3", Known: true, Fresh: true, On: new(true), W: new(11.2)}},
		Lines: []contract.PreviewLine{{Kind: "loses-power", Text: "Loses power: stuck, for about 10 s"}}, Interlocks: locks,
	}
}

func operation(state contract.OperationState, outcome string) contract.Operation {
	return contract.Operation{ID: "abc", Kind: contract.OperationKindCycle, Device: "stuck", Site: "skarvoe", State: state, Outcome: outcome, Outlets: []string{"pdu/3"}}
}

func TestOperate(t *testing.T) {
	own := contract.Interlock{Name: "own-path", Reason: "it would cut our own path", Lift: contract.InterlockLiftReason}
	name := contract.Interlock{Name: "guarded", Reason: "stuck is guarded", Lift: contract.InterlockLiftName, Devices: &[]string{"stuck"}}
	never := contract.Interlock{Name: "unswitched", Reason: "it is always on", Lift: contract.InterlockLiftNever}
	reach := contract.Interlock{Name: "out-of-reach", Reason: "the card is silent", Lift: contract.InterlockLiftNever}
	for _, c := range []struct {
		name   string
		locks  []contract.Interlock
		args   string
		status int
		want   string
		begun  bool
	}{
		{"with a yes", nil, "--yes", ExitDone, "operation abc is under way", true},
		{"nobody to agree", nil, "", ExitUsage, "nobody is there to agree", false},
		{"only looking", nil, "--preview", ExitDone, "Loses power: stuck, for about 10 s", false},
		{"looking at what is refused", []contract.Interlock{never}, "--preview", ExitRefused, "refused (unswitched): it is always on", false},
		{"never means never", []contract.Interlock{never}, "--yes --override unswitched --why x", ExitRefused, "refused (unswitched)", false},
		{"gear out of reach", []contract.Interlock{reach}, "--yes", ExitUnreachable, "the card is silent", false},
		{"our own path", []contract.Interlock{own}, "--yes", ExitRefused, "To go ahead all the same: --override own-path --why TEXT", false},
		{"our own path, without a reason", []contract.Interlock{own}, "--yes --override own-path", ExitUsage, "--override needs a reason", false},
		{"our own path, with one", []contract.Interlock{own}, "--yes --override own-path --why storm", ExitDone, "is under way", true},
		{"guarded", []contract.Interlock{name}, "--yes", ExitRefused, "Name it with --name stuck", false},
		{"guarded, and named", []contract.Interlock{name}, "--yes --name stuck", ExitDone, "is under way", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := serve(t, map[string]any{"POST /previews": preview(c.locks...), "POST /operations": operation(contract.OperationStateRunning, "Cycling outlet 3 of pdu")})
			status, out := f.run("", append([]string{"cycle", "stuck"}, strings.Fields(c.args)...)...)
			require.Equal(t, c.status, status, out)
			require.Contains(t, strings.Join(strings.Fields(out), " "), c.want)
			require.Equal(t, c.begun, slices.Contains(f.asked, "POST /operations"))
		})
	}
}

func TestFollowAnEndedOperation(t *testing.T) {
	failed := operation(contract.OperationStateFailed, "Did not complete the cycle of outlet 3 of pdu: still drawing 11.2 W")
	ended := since
	failed.Steps = []contract.Step{
		{Kind: contract.StepKindSwitchOff, State: contract.StepStateFailed, Text: "Switch outlet 3 off", Ended: &ended, After: &contract.MeasuredOutlet{W: new(11.2)}, Note: new("still drawing 11.2 W")},
		{Kind: contract.StepKindWait, State: contract.StepStateSkipped, Text: "Wait", Ended: &ended},
	}
	failed.Trouble = []string{"x fell silent"}
	f := serve(t, map[string]any{"GET /board": board, "GET /operations/abc": failed})
	status, out := f.run("", "op", "show", "abc", "--follow")
	require.Equal(t, ExitFailed, status)
	for _, want := range []string{"✕ Switch outlet 3 off: 11.2 W (still drawing 11.2 W)", "– Wait", "!  x fell silent", "plumb: failed: stuck"} {
		require.Contains(t, out, want)
	}
}

func TestJournalTable(t *testing.T) {
	entries := []contract.JournalEntry{
		{ID: 2, At: since, Who: "admin", Kind: "operation-ended", Device: "stuck", Text: "Cycled outlet 3 of pdu", Why: "hung", Result: "done", BeforeW: new(11.2), AfterW: new(10.9)},
		{ID: 1, At: since, Who: "somebody-with-a-long-name", Kind: "log-in", Text: "Logged in"},
	}
	f := serve(t, map[string]any{"GET /journal": entries})
	_, out := f.run("", "journal")
	require.Less(t, strings.Index(out, "Logged in"), strings.Index(out, "Cycled"), "the newest stands at the prompt")
	require.Contains(t, strings.Join(strings.Fields(out), " "), "Cycled outlet 3 of pdu — because hung")
	_, out = f.run("", "journal", "-o", "csv")
	require.Contains(t, out, ",admin,stuck,operation-ended,done,hung,11.2,10.9,Cycled outlet 3 of pdu\n")
}

// TestPlot: a series in a terminal, with its gap, and whole for programs.
// TestNoFormulas: a spreadsheet takes a text for one that begins like it.
func TestNoFormulas(t *testing.T) {
	for text, want := range map[string]string{
		"=HYPERLINK(\"http://x\",\"y\")": "'=HYPERLINK(\"http://x\",\"y\")", "@SUM(A1)": "'@SUM(A1)", "+1+1": "'+1+1", "-2+3": "'-2+3",
		"-12.5": "-12.5", "+3": "+3", "router": "router", "": "",
	} {
		require.Equal(t, want, row(text)[0].programs)
	}
}

func TestPlot(t *testing.T) {
	from := time.Date(2026, 3, 1, 14, 0, 0, 0, time.UTC)
	x := contract.HistorySeries{Name: "draw", Unit: "W", Words: "draw", Average: new(8.0), Peak: new(16.0), PeakAt: &from, Wh: new(1500.0), Measured: new(0.75)}
	for i, w := range []float64{8, 8, 16} {
		if i == 2 {
			i = 3 // nothing is known of the third stretch
		}
		x.At = append(x.At, from.Add(time.Duration(2*i)*time.Minute).UnixMilli())
		x.Min, x.Mean, x.Max = append(x.Min, w), append(x.Mean, w), append(x.Max, w)
	}
	h := contract.History{From: from, To: from.Add(8 * time.Minute), StretchSeconds: 120, Resolution: contract.N5Min, Series: []contract.HistorySeries{x}, Marks: []contract.HistoryMark{{At: from, Kind: "operation", Text: "cycle by admin"}}}
	require.Equal(t, 80-plotLabels-1, (&app{}).plotWidth(), "a pipe has room for the labels, too")
	columns := spread(h, x, 8)
	require.Equal(t, "█████ ██", strings.ReplaceAll(line(columns, 0, 0, 16), "████  ", "█████ "), "what is known is drawn, and a gap is a gap")
	require.Equal(t, "      ██", line(columns, 7, 0, 16))
	f := serve(t, map[string]any{"GET /devices/stuck/history": h, "GET /devices/stuck/series": []contract.Series{{Name: "draw", Unit: "W", Words: "draw"}}})
	_, out := f.run("", "draw", "stuck")
	require.Contains(t, out, "mean 8 W, peak 16 W")
	require.Contains(t, strings.Join(strings.Fields(out), " "), "1.50 kWh, known for 75 % of the time")
	require.Contains(t, out, "cycle by admin")
	_, out = f.run("", "history", "stuck", "draw", "-o", "csv")
	require.Equal(t, "series,at,min,mean,max,unit\ndraw,2026-03-01T14:00:00Z,8,8,8,W\ndraw,2026-03-01T14:02:00Z,8,8,8,W\ndraw,2026-03-01T14:06:00Z,16,16,16,W\n", out)
	_, out = f.run("", "history", "stuck")
	require.Contains(t, out, "draw    W     draw")
	for _, bad := range [][]string{{"--last", "-1h"}, {"--from", "yesterday"}, {"--from", "2026-03-02", "--to", "2026-03-01"}} {
		status, _ := f.run("", append([]string{"draw", "stuck"}, bad...)...)
		require.Equal(t, ExitUsage, status, "%v", bad)
	}
}

func TestWrap(t *testing.T) {
	a := &app{width: 40}
	require.Equal(t, "one two three four five\n    six seven eight nine ten eleven", a.wrap("one two three four five six seven eight nine ten eleven", 26, "    "), "an indent counts once")
	require.Equal(t, "one two three", (&app{}).wrap("one two\nthree", 26, "    "), "what goes into a pipe is not broken")
	require.Equal(t, "one…", cut("one two", 4))
	require.Equal(t, "12 s 4 min 3 h 24 days", strings.Join([]string{age(time.Now().Add(-12 * time.Second)), age(since), age(time.Now().Add(-3 * time.Hour)), age(time.Now().Add(-24 * 24 * time.Hour))}, " "))
}

func TestConfigIsForThisUserOnly(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep", "client.json")
	c, err := ReadConfig(path)
	require.NoError(t, err)
	require.Zero(t, c)
	require.NoError(t, Config{URL: "u", Token: "secret"}.Write(path))
	again, err := ReadConfig(path)
	require.NoError(t, err)
	require.Equal(t, "secret", again.Token)
	t.Setenv("PLUMB_CONFIG", path)
	got, err := ConfigPath()
	require.NoError(t, err)
	require.Equal(t, path, got)
}

// Nobody's texts reach the terminal of somebody else as anything but text.
func TestTextsOfOthersAreHarmless(t *testing.T) {
	evil := "red \x1b[31m, gone \x1b[2J\a, \u202eturned\u202c, \u009b31m; and\ta \\u001b of words \"so\""
	f := serve(t, map[string]any{"GET /journal": []contract.JournalEntry{{ID: 1, Who: "l.oduya", Text: evil, Why: evil}}})
	for _, form := range []string{"table", "csv"} {
		status, out := f.run("", "journal", "-o", form)
		require.Equal(t, ExitDone, status)
		require.NotContains(t, out, "\x1b", form)
		require.NotContains(t, out, "\a", form)
		require.NotContains(t, out, "\u202e", form)
		require.Contains(t, out, `\u001b of words`)
	}
	_, out := f.run("", "journal", "-o", "json")
	var back []contract.JournalEntry
	require.NoError(t, json.Unmarshal([]byte(out), &back))
	require.Equal(t, evil, back[0].Text, "programs get it as it is")
	require.NotContains(t, out, "\x1b")
}

// A log-in begins where somebody listens, and leaves nothing behind.
func TestLogInAndOut(t *testing.T) {
	f := serve(t, map[string]any{"DELETE /session": problem(http.StatusUnauthorized, contract.NotLoggedIn, "log in first")})
	cfg, err := ReadConfig(f.config)
	require.NoError(t, err)
	status, out := f.run("secret\n", "login", strings.TrimPrefix(cfg.URL, "http://"))
	require.Equal(t, ExitUnreachable, status)
	require.Contains(t, out, "does not speak TLS: a service on this machine may be at "+cfg.URL)
	status, out = f.run("", "login", "http://127.0.0.1:1")
	require.Equal(t, ExitUnreachable, status)
	require.NotContains(t, out, "Password", "nobody types it for nothing")
	status, out = f.run("", "logout")
	require.Equal(t, ExitDone, status, out)
	require.NoFileExists(t, f.config)

	require.NoError(t, Config{URL: "http://127.0.0.1:1", Account: "admin", Token: "t"}.Write(f.config))
	status, out = f.run("", "logout")
	require.Equal(t, ExitUnreachable, status)
	require.Contains(t, out, "forgotten here, but the service could not be told")
	require.NoFileExists(t, f.config)
}

// What cannot be written was not said.
func TestFullDisk(t *testing.T) {
	f := serve(t, map[string]any{"GET /board": board})
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	require.NoError(t, err)
	defer func() { _ = full.Close() }()
	var said bytes.Buffer
	require.Equal(t, ExitFailed, Main([]string{"board", "--config", f.config}, strings.NewReader(""), full, &said))
	require.Contains(t, said.String(), "no space left on device")
}

// Nobody agrees to ten thousand lines that ran by.
func TestManyChanges(t *testing.T) {
	all := contract.EstateChanges{}
	for i := range 100 {
		all.Changes = append(all.Changes, fmt.Sprintf("device d%02d added", i))
	}
	f := serve(t, map[string]any{"POST /estate/diff": all, "PUT /estate": all})
	file := filepath.Join(t.TempDir(), "estate.yaml")
	require.NoError(t, os.WriteFile(file, []byte("plumb-estate: 1\n"), 0o600))
	status, out := f.run("", "estate", "import", "--yes", file)
	require.Equal(t, ExitDone, status, out)
	require.Contains(t, out, "d29 added\n… and 70 more, 100 changes in all")
	_, out = f.run("", "estate", "diff", file)
	require.Contains(t, out, "d99 added\n100 changes\n")
}

// What programs and watchers rely on.
func TestForMonitoringAndScripts(t *testing.T) {
	hung := contract.DeviceSummary{Key: "stuck", Site: "pier", Verdict: contract.Verdict{State: contract.VerdictStateHung, Since: since}}
	calm := contract.DeviceSummary{Key: "calm", Site: "pier", Verdict: contract.Verdict{State: contract.VerdictStateSteady, Since: since}}
	b := contract.Board{Sites: []contract.Site{{Key: "pier", Zone: "UTC"}}, Devices: []contract.DeviceSummary{hung, calm}, Trouble: []contract.Trouble{{Device: "stuck", Verdict: hung.Verdict, SeenBy: new("l.oduya")}}}
	f := serve(t, map[string]any{
		"GET /board": b, "GET /devices/calm": contract.Device{Summary: calm, Zone: "UTC"}, "GET /devices/stuck": contract.Device{Summary: hung, Zone: "UTC"},
		"GET /session": contract.Session{Account: "k.oster", Role: "keeper", Expires: since}, "GET /version": contract.Version{Version: "1", Go: "go"},
		"GET /devices/calm/ports": contract.Ports{Ports: []contract.SwitchPort{}, Mismatches: []string{}},
	})
	for _, c := range []struct {
		status int
		says   string
		args   []string
	}{
		{ExitFailed, "plumb: stuck is hung", []string{"board", "--check"}},
		{ExitDone, "has not answered", []string{"board", "--verdict", "dark", "-o", "json"}},
		{ExitDone, "(l.oduya sees to it)", []string{"board"}},
		{ExitDone, "calm is steady, since ", []string{"wait", "calm"}},
		{ExitFailed, "stuck is hung after 1s, and not steady", []string{"wait", "stuck", "--timeout", "1s"}},
		{ExitUsage, `"well" is none of`, []string{"wait", "stuck", "--until", "well"}},
		{ExitDone, "k.oster, keeper, at ", []string{"whoami"}},
		{ExitDone, "plumb version 0.", []string{"--version"}},
		{ExitUsage, "switching is plumb off stuck", []string{"power", "off", "stuck"}},
		{ExitUsage, `"0s" for "--hold" flag: it cannot be less than`, []string{"cycle", "stuck", "--hold", "0s"}},
		{ExitUsage, "write a length of time such as 90s, 15m, 48h or 2d", []string{"history", "stuck", "--last", "2w"}},
		{ExitUsage, "write a number, 1 or more", []string{"off", "--site", "pier", "--parallel", "0"}},
		{ExitUsage, "one of the names is empty", []string{"show", ""}},
		{ExitUsage, "2931-01 has not begun yet", []string{"energy", "--month", "2931-01"}},
		{ExitDone, "No ports were read from calm", []string{"ports", "calm"}},
		{ExitUsage, "it is plumb controller restart stuck, or plumb card restart stuck, now", []string{"restart", "stuck"}},
	} {
		status, out := f.run("", c.args...)
		require.Equal(t, c.status, status, "%v: %s", c.args, out)
		if c.args[len(c.args)-1] == "json" {
			require.Equal(t, "[]\n", out, "a list stays a list")
			continue
		}
		require.Contains(t, out, c.says, c.args)
	}
	_, out := f.run("", "wait", "calm", "--utc")
	require.Contains(t, out, since.UTC().Format("15:04:05 UTC"))
	t.Setenv("PLUMB_CONFIG", f.config)
	for word, args := range map[string][]string{"stuck\t at pier\ncalm": {"show", ""}, "cut-off": {"wait", "calm", "--until", ""}, "pier": {"board", "--site", ""}} {
		var out bytes.Buffer
		require.Equal(t, ExitDone, Main(append([]string{"__complete"}, args...), strings.NewReader(""), &out, io.Discard))
		require.Contains(t, out.String(), word, args)
	}
	at := map[string]int{"stuck": 0, "calm": 1}
	s := &service{}
	for _, e := range []event{{kind: "device", data: []byte(`{"key":"stuck","verdict":{"state":"steady","since":"2026-03-01T14:00:00Z","reasons":[]},"w":7}`)}, {kind: "trouble", data: []byte("[]")}, {kind: "journal", data: []byte("{}")}, {kind: "device", data: []byte(`{"key":"stranger"}`)}} {
		_, err := s.takeIn(&b, at, e)
		require.NoError(t, err)
	}
	require.Equal(t, contract.VerdictStateSteady, b.Devices[0].Verdict.State)
	require.Equal(t, "pier", b.Devices[0].Site, "what has not changed stays")
	require.Empty(t, b.Trouble)
}
