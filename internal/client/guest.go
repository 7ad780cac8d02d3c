package client

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"strings"
)

// A Guest runs the commands of plumb at a door of the service, on the service's own
// machine: without a file of theirs, without its environment, and logged in already.
type Guest struct {
	In       io.Reader
	Out, Err io.Writer
	Terminal *Far // nil: nobody can be asked
	Colour   bool

	// Dial connects to the service, whatever the address.
	Dial           func(ctx context.Context, network, address string) (net.Conn, error)
	Account, Token string
}

// insideURL is what the service is called from within.
const insideURL = "http://localhost"

// app is what the commands of a guest work with. leave gives back what it holds.
func (g Guest) app() (a *app, leave func(), err error) {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.Proxy = nil
	t.DialContext = g.Dial
	t.ResponseHeaderTimeout = timeout
	s, err := connectOver(Config{URL: insideURL, Account: g.Account, Token: g.Token}, t)
	if err != nil {
		return nil, nil, err
	}
	a = &app{in: bufio.NewReader(g.In), out: g.Out, err: g.Err, inside: s, colour: g.Colour}
	if g.Terminal != nil {
		a.term = g.Terminal
		a.toTerminal = true
		a.width, a.height = g.Terminal.Size()
		a.width = max(40, a.width)
	}
	return a, t.CloseIdleConnections, nil
}

// Run runs one command and returns its exit status.
func (g Guest) Run(ctx context.Context, args []string) int {
	a, leave, err := g.app()
	if err != nil {
		return ExitFailed
	}
	defer leave()
	if g.Terminal != nil {
		var cancel context.CancelFunc
		ctx, cancel = context.WithCancel(ctx)
		defer cancel()
		defer g.Terminal.stops(cancel)()
	}
	return a.run(ctx, args)
}

// Desk has somebody at a terminal type commands until they leave.
func (g Guest) Desk(ctx context.Context) int {
	a, leave, err := g.app()
	if err != nil || g.Terminal == nil {
		return ExitFailed
	}
	defer leave()
	d := desk{app: a, far: g.Terminal}
	return d.sit(ctx)
}

// errNoFiles: a guest has no files here.
var errNoFiles = errors.New("there are no files at this door: leave the file away to see it here, give - to read what is sent in, or use plumb on a machine of your own")

// open opens a file to be read; - is what comes in.
func (a *app) open(name string) (io.ReadCloser, error) {
	switch {
	case name == "-":
		return io.NopCloser(a.in), nil
	case a.inside != nil:
		return nil, fail(ExitUsage, "%s: %s", name, errNoFiles)
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, fail(ExitUsage, "%s", err)
	}
	return f, nil
}

// read reads a file whole; - is what comes in.
func (a *app) read(name string, most int64) ([]byte, error) {
	f, err := a.open(name)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	text, err := io.ReadAll(io.LimitReader(f, most+1))
	if err != nil {
		return nil, fail(ExitUsage, "%s: %s", name, err)
	}
	if int64(len(text)) > most {
		return nil, fail(ExitUsage, "%s is larger than %d KiB: that is not what is asked for", name, most>>10)
	}
	return text, nil
}

// create opens a file to be written, as os.OpenFile does, for its owner's eyes only.
func (a *app) create(name string, how int) (*os.File, error) {
	if a.inside != nil {
		return nil, fail(ExitUsage, "%s: %s", name, errNoFiles)
	}
	return os.OpenFile(name, how|os.O_CREATE|os.O_WRONLY, 0o600)
}

// variable is one of the environment, which a guest has none of.
func (a *app) variable(name string) (string, bool) {
	if a.inside != nil {
		return "", false
	}
	return os.LookupEnv(name)
}

// elsewhere are the commands that make no sense at a door of the service.
var elsewhere = []string{"login", "logout", "completion", "desk"}

// unknown says that a word is no command.
func unknown(err error) bool {
	return strings.HasPrefix(err.Error(), "unknown ") || strings.HasPrefix(err.Error(), "required flag")
}
