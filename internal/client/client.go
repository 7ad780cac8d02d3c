package client

import (
	"bufio"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"slices"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"plumbbob/internal/api/contract"
	"plumbbob/internal/version"
)

// The exit statuses of plumb.
const (
	ExitDone         = 0
	ExitFailed       = 1
	ExitUsage        = 2
	ExitRefused      = 3 // by an interlock
	ExitUnreachable  = 4 // service or gear
	ExitNotPermitted = 5
)

// An exitError ends plumb with a status.
type exitError struct {
	status int
	text   string
}

func (e *exitError) Error() string { return e.text }

func fail(status int, format string, args ...any) error {
	return &exitError{status, fmt.Sprintf(format, args...)}
}

// app is what every command works with.
type app struct {
	in     *bufio.Reader
	term   Terminal // nil: nobody can be asked
	inside *service // of a guest, who is logged in already; nil: the log-in is in a file
	out    io.Writer
	err    io.Writer
	output string // table, json, yaml or csv
	config string // path of the file with the log-in
	colour bool
	width  int // of the terminal; 0: nothing is cut or broken into lines
	height int
	utc    bool

	toTerminal bool // out is one
}

// Main runs plumb and returns its exit status.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	defer func(zone *time.Location) { time.Local = zone }(time.Local)
	a := &app{in: bufio.NewReader(in), out: out, err: errOut}
	if f, ok := in.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		a.term = &own{file: f, in: a.in, err: errOut}
	}
	if f, ok := out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		a.toTerminal = true
		a.colour = os.Getenv("NO_COLOR") == ""
		a.width, a.height = 80, 24
		if w, h, err := term.GetSize(int(f.Fd())); err == nil {
			a.width, a.height = max(40, w), h
		}
	}
	return a.run(ctx, args)
}

// run runs one command and returns its exit status.
func (a *app) run(ctx context.Context, args []string) int {
	written := &output{Writer: a.out}
	with := *a
	with.out = written
	root := with.command()
	root.SetArgs(args)
	root.SetOut(written)
	root.SetErr(a.err)
	err := cmp.Or(root.ExecuteContext(ctx), written.failed)
	if err == nil {
		return ExitDone
	}
	if ctx.Err() != nil {
		if errors.Is(err, errGivenUp) {
			fmt.Fprintln(a.err, "\nplumb: given up: nothing was done")
		}
		return ExitFailed // interrupted: there is nothing else to explain
	}
	fmt.Fprintln(a.err, "plumb: "+err.Error())
	var e *exitError
	switch {
	case errors.As(err, &e):
		return e.status
	case unknown(err):
		return ExitUsage
	}
	return ExitFailed
}

// output remembers that something could not be written, as to a full disk: what was
// not said in full is not done.
type output struct {
	io.Writer
	failed error
}

func (o *output) Write(p []byte) (int, error) {
	n, err := o.Writer.Write(p)
	if err != nil && o.failed == nil {
		o.failed = err
	}
	return n, err
}

func (a *app) command() *cobra.Command {
	root := &cobra.Command{
		Use: "plumb", Version: version.This().String(),
		Short: "See what remote gear is doing, and switch its power safely",
		Long: `plumb shows what Plumb Bob knows of servers and network gear, and asks it to
switch their power.

Exit status: 0 done, 1 failed, 2 wrong usage, 3 refused by an interlock,
4 service or gear unreachable, 5 not permitted.`,
		SilenceErrors: true, SilenceUsage: true,
		PersistentPreRunE: func(*cobra.Command, []string) error {
			if a.utc {
				time.Local = time.UTC // for all that this program says
			}
			switch a.output {
			case "table", "json", "yaml", "csv":
				return nil
			}
			return fail(ExitUsage, "--output: %q is not table, json, yaml or csv", a.output)
		},
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		if w := wrongValue(""); errors.As(err, &w) {
			return fail(ExitUsage, "%s", err)
		}
		return fail(ExitUsage, "%s: %s --help shows what there is", err, c.CommandPath())
	})
	if a.inside == nil { // a guest has no file, and the zone is that of the service
		root.PersistentFlags().StringVar(&a.config, "config", "", "the file that the log-in is kept in (default $PLUMB_CONFIG, or plumb/client.json in the user's configuration directory)")
		root.PersistentFlags().BoolVar(&a.utc, "utc", false, "times in UTC, and not in the zone of this machine")
	}
	root.PersistentFlags().StringVarP(&a.output, "output", "o", "table", "table, json, yaml or csv")
	root.AddCommand(a.loginCommand(), a.logoutCommand(), a.boardCommand(), a.showCommand(), a.lookCommand(), a.serialCommand(), a.screenCommand(), a.glyphCommand(), a.channelCommand(), a.serviceCallCommand(), a.tellingCommand(), a.routineCommand(), a.ladderCommand(), a.clockCommand(), a.readyCommand(), a.drillCommand(), a.keysCommand(), a.typeCommand(), a.sequenceCommand(), a.drawCommand(),
		a.historyCommand(), a.energyCommand(), a.powerCommand(), a.upsCommand(), a.outletCommand(), a.portsCommand(), a.cardCommand(),
		a.sensorsCommand(), a.eventsCommand(), a.sheetCommand(), a.profileCommand(), a.wiringCommand(),
		a.identifyCommand(), a.controllerCommand(), a.opCommand(), a.incidentCommand(), a.groupCommand(), a.windowCommand(), a.calendarCommand(), a.journalCommand(), a.estateCommand(), a.secretCommand(), a.accountCommand())
	root.AddCommand(a.operateCommands()...)
	root.AddCommand(a.waitCommand(), a.whoamiCommand(), a.deskCommand())
	if a.inside != nil {
		root.CompletionOptions.DisableDefaultCmd = true
		for _, c := range root.Commands() {
			if slices.Contains(elsewhere, c.Name()) {
				root.RemoveCommand(c)
			}
		}
	}
	root.InitDefaultVersionFlag() // so that it is known for a flag wherever it stands
	a.completes(root)
	return root
}

// args checks how many arguments there are, and says how to write it.
func args(least, most int, usage string) cobra.PositionalArgs {
	return func(_ *cobra.Command, given []string) error {
		if len(given) < least || len(given) > most {
			return fail(ExitUsage, "write: %s", usage)
		}
		if slices.Contains(given, "") {
			return fail(ExitUsage, "one of the names is empty: write: %s", usage)
		}
		return nil
	}
}

func (a *app) configPath() (string, error) {
	if a.config != "" {
		return a.config, nil
	}
	return ConfigPath()
}

// service is the way to the service, logged in.
type service struct {
	*contract.Client
	http   *http.Client
	config Config

	exact bool // texts stay as they are: they are for programs
}

const timeout = 30 * time.Second

func (a *app) service() (*service, error) {
	if a.inside != nil {
		s := *a.inside
		s.exact = a.output == "json" || a.output == "yaml"
		return &s, nil
	}
	path, err := a.configPath()
	if err != nil {
		return nil, err
	}
	c, err := ReadConfig(path)
	if err != nil {
		return nil, err
	}
	if c.URL == "" {
		return nil, fail(ExitNotPermitted, "not logged in: plumb login URL")
	}
	s, err := connect(c)
	if err == nil {
		s.exact = a.output == "json" || a.output == "yaml"
	}
	return s, err
}

// loggedIn is for commands that need the service.
func (a *app) loggedIn(run func(c *cobra.Command, given []string, s *service) error) func(*cobra.Command, []string) error {
	return func(c *cobra.Command, given []string) error {
		s, err := a.service()
		if err != nil {
			return err
		}
		return run(c, given, s)
	}
}

func connect(c Config) (*service, error) { return connectOver(c, transport(c.Fingerprint)) }

func connectOver(c Config, way *http.Transport) (*service, error) {
	h := &http.Client{Transport: way}
	api, err := contract.NewClient(c.URL+"/api/v1", contract.WithHTTPClient(h),
		contract.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			if c.Token != "" {
				r.Header.Set("Authorization", "Bearer "+c.Token)
			}
			r.Header.Set("Time-Zone", zoneName())
			return nil
		}))
	if err != nil {
		return nil, fail(ExitUsage, "%s: %s", c.URL, err)
	}
	return &service{Client: api, http: h, config: c}, nil
}

// transport trusts what the system trusts, or exactly the one certificate
// whose fingerprint was agreed to at log-in.
func transport(fingerprint string) *http.Transport {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.ResponseHeaderTimeout = timeout
	if fingerprint != "" {
		t.TLSClientConfig = &tls.Config{
			MinVersion:         tls.VersionTLS12,
			InsecureSkipVerify: true, //nolint:gosec // VerifyConnection pins it instead
			VerifyConnection: func(s tls.ConnectionState) error {
				if got := certFingerprint(s.PeerCertificates[0]); got != fingerprint {
					return fmt.Errorf("the certificate has changed: it is %s now; if that is right, log in again", got)
				}
				return nil
			},
		}
	}
	return t
}

func certFingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return hex.EncodeToString(sum[:])
}

// unreachable explains why the service could not be asked.
func (s *service) unreachable(err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return fail(ExitUnreachable, "%s does not answer (%s): is the service running?", s.config.URL, err)
}

const maxAnswer = 32 << 20

// ask judges the answer of a call: it returns the value that was hoped for, or
// the problem as an error with the right exit status. Use it as
// ask[contract.Board](s)(s.GetBoard(ctx)).
func ask[T any](s *service) func(*http.Response, error) (T, error) {
	return func(res *http.Response, err error) (value T, _ error) {
		if err != nil {
			return value, s.unreachable(err)
		}
		defer func() { _ = res.Body.Close() }()
		if err := s.refused(res); err != nil || res.StatusCode == http.StatusNoContent {
			return value, err
		}
		text, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
		if err == nil {
			err = json.Unmarshal(s.harmless(text), &value)
		}
		if err != nil {
			return value, fail(ExitFailed, "%s answered something that is not understood: %s", s.config.URL, err)
		}
		return value, nil
	}
}

// How often, and how far apart, something is asked for again whose answer was lost.
const (
	onceTries = 4
	onceAgain = time.Second
)

// once asks for something that must be done once only, until there is an answer: the
// key tells the service that it is the same.
func once(ctx context.Context, do func(key *string) (*http.Response, error)) (res *http.Response, err error) {
	key := rand.Text()
	for try := range onceTries {
		if try > 0 {
			select {
			case <-ctx.Done():
				return nil, err
			case <-time.After(onceAgain):
			}
		}
		if res, err = do(&key); err == nil || ctx.Err() != nil {
			return res, err
		}
	}
	return nil, err
}

// refused says what the service did not want, or nil.
func (s *service) refused(res *http.Response) error {
	if res.StatusCode < http.StatusBadRequest {
		return nil
	}
	var p contract.Problem
	if json.NewDecoder(io.LimitReader(res.Body, maxAnswer)).Decode(&p) != nil || p.Kind == "" {
		return fail(ExitFailed, "%s answered HTTP %d: is that Plumb Bob?", s.config.URL, res.StatusCode)
	}
	return &problemError{p}
}

// raw is an answer as it is.
func (s *service) raw(res *http.Response, err error) ([]byte, error) {
	if err != nil {
		return nil, s.unreachable(err)
	}
	defer func() { _ = res.Body.Close() }()
	if err := s.refused(res); err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(res.Body, maxAnswer))
}

// nothing is the value of a call that has none.
type nothing struct{}

// A problemError is what the service said was wrong.
type problemError struct{ contract.Problem }

func (e *problemError) Error() string {
	if e.Detail != nil && *e.Detail != "" {
		return *e.Detail
	}
	return e.Title
}

// As makes a problem an exitError with the status that fits.
func (e *problemError) As(target any) bool {
	x, ok := target.(**exitError)
	if !ok {
		return false
	}
	status := ExitFailed
	switch e.Kind {
	case contract.Usage, contract.NotFound, contract.FaultyFile:
		status = ExitUsage
	case contract.Refused, contract.PreviewChanged:
		status = ExitRefused
	case contract.GearUnreachable, contract.DatabaseAway, contract.Stopping:
		status = ExitUnreachable
	case contract.NotLoggedIn, contract.NotPermitted, contract.WrongPassword, contract.TooManyTries:
		status = ExitNotPermitted
	}
	*x = &exitError{status, e.Error()}
	return true
}

// terminal says whether somebody can be asked.
func (a *app) terminal() bool { return a.term != nil }

// errGivenUp: somebody has pressed Ctrl-C instead of answering.
var errGivenUp = errors.New("given up")

// answered waits for an answer, or for Ctrl-C.
func answered(ctx context.Context, read func() (string, error)) (string, error) {
	type answer struct {
		text string
		err  error
	}
	got := make(chan answer, 1)
	go func() {
		text, err := read()
		got <- answer{text, err}
	}()
	select {
	case x := <-got:
		return x.text, x.err
	case <-ctx.Done():
		return "", errGivenUp // the process ends, and with it who reads
	}
}

// line asks for one line of input.
func (a *app) line(ctx context.Context, prompt string) (string, error) {
	if a.term != nil {
		return a.term.Ask(ctx, prompt, false)
	}
	fmt.Fprint(a.err, prompt)
	return answered(ctx, func() (string, error) { return readLine(a.in) })
}

// hidden asks for a line that is not shown.
func (a *app) hidden(ctx context.Context, prompt string) (string, error) {
	if a.term == nil {
		return a.line(ctx, "")
	}
	return a.term.Ask(ctx, prompt, true)
}
