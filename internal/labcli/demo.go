package labcli

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"plumbbob/demo"
	"plumbbob/internal/client"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/daemon"
	"plumbbob/internal/estatefile"
	"plumbbob/internal/lab"
	"plumbbob/internal/localports"
	"plumbbob/internal/orderfile"
	"plumbbob/internal/password"
	"plumbbob/internal/service"
	"plumbbob/internal/store"
	"plumbbob/internal/tell"
	"plumbbob/internal/wire/names"
	"plumbbob/web"
)

func demoCommand() *cobra.Command {
	var level string
	var f labFlags
	o := service.Options{DataDir: ".demo", Traps: fmt.Sprintf("127.0.0.1:%d", trapPort), Gate: demoGate, ScreenGate: demoScreenGate, GearSyslog: fmt.Sprintf("127.0.0.1:%d", syslogPort), Console: web.Console(), Connect: &names.Policy{Loopback: true}}
	c := &cobra.Command{
		Use: "demo", Short: "Run the lab, the service and the console with demo data",
		Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			return runDemo(c.Context(), c.OutOrStdout(), o, f, level)
		},
	}
	daemon.ServiceFlags(c, &o, &level)
	f.add(c)
	c.Flags().BoolVar(&f.pier, "pier", false, "run a second service, which stands at the pier Skarvoe and acts there")
	_ = c.Flags().Lookup("log").Value.Set("warn")
	return c
}

// runDemo runs the lab and the service until ctx ends.
func runDemo(ctx context.Context, out io.Writer, o service.Options, f labFlags, level string) (err error) {
	if o.Log, err = daemon.NewLog(os.Stderr, level); err != nil {
		return err
	}
	o.Hurry, o.Notice = daemon.Hurry(ctx), os.Stderr
	if o.Gate == demoGate && taken(demoGate) {
		o.Gate = "127.0.0.1:0" // a demo runs beside whatever is there
	}
	if o.ScreenGate == demoScreenGate && taken(demoScreenGate) {
		o.ScreenGate = "127.0.0.1:0"
	}
	l, text, err := f.start(o.Log)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, l.Close()) }()
	if f.file == "" {
		if err := l.Flip(estate.End{Device: demo.LightAt, Port: demo.LightPort}, false); err != nil {
			return err
		}
	}
	o.Ports, o.GateAt = append(o.Ports, localports.Config{Name: demo.Modem, Path: l.ModemPath, Set: "115200 8N1", Modem: true}), append(o.GateAt, demo.Modem)
	s, err := service.Open(ctx, o)
	if err != nil {
		return err
	}
	pass, hint, err := prepare(ctx, s, o, f, l, text)
	var second *service.Service
	if err == nil && f.pier {
		second, err = openPier(ctx, o, l, f.pierText, s.URL)
	}
	if err != nil {
		return errors.Join(err, s.Close())
	}
	fmt.Fprintf(out, `
Plumb Bob with the gear of Tern Sound Ferries, simulated.

  console    %s
  terminal   %s
  screens    a viewer of RFB at %s, as %s@skarvoe-kiosk
  log-in     %s
  password   %s
  others     i.marsh (steward), l.oduya (operator), desk (viewer): their
             passwords are in %s

In another terminal:
  %sbin/plumb board
  bin/plumb-lab fault hang skarvoe-router     and watch it being found out
  %sbin/plumb cycle skarvoe-router --follow
  bin/plumb-lab call                          calls the service's modem
  bin/plumb-lab mail                          what those were told who are told

Ctrl-C stops it all.
`, s.URL, byTerminal(s, service.FirstAccount), s.ScreenGate(), service.FirstAccount, service.FirstAccount, pass, filepath.Join(o.DataDir, staffFile), hint, hint)
	if !l.Echo {
		fmt.Fprintln(out, "\nNo ICMP here (it needs the right to make a TUN interface), so TCP and HTTP probes have to do.")
	}
	tasks, ctx := errgroup.WithContext(ctx)
	tasks.Go(func() error { return s.Run(ctx) })
	if second != nil {
		fmt.Fprintf(out, pierWords, second.URL, filepath.Join(o.DataDir, pierDir))
		tasks.Go(func() error { return second.Run(ctx) })
	}
	return tasks.Wait()
}

// prepare gives the demo's service what it works with, logs the client in, and returns the password and
// what stands before a command of the client.
func prepare(ctx context.Context, s *service.Service, o service.Options, f labFlags, l *lab.Lab, text string) (pass, hint string, err error) {
	if pass, err = furnish(ctx, s, o.DataDir, text); err != nil {
		return pass, "", err
	}
	if err := appoint(ctx, s.Store, l.Post.Address); err != nil {
		return pass, "", err
	}
	if f.file == "" {
		if err := order(ctx, s.Store, text); err != nil {
			return pass, "", err
		}
	}
	hint, err = logClientIn(ctx, s, o.DataDir)
	return pass, hint, err
}

// demoGate is where people come in by SSH, if nothing else is there.
const demoGate = "127.0.0.1:2222"

// demoScreenGate is likewise for viewers of screens.
const demoScreenGate = "127.0.0.1:5950"

func taken(address string) bool {
	ln, err := net.Listen("tcp", address)
	if err != nil {
		return true
	}
	_ = ln.Close()
	return false
}

// byTerminal is how somebody comes in who has nothing else.
func byTerminal(s *service.Service, account string) string {
	at, _ := s.Gate()
	host, port, err := net.SplitHostPort(at)
	if err != nil {
		return "closed: --gate opens it"
	}
	return fmt.Sprintf("ssh -p %s %s@%s", port, account, host)
}

// furnish gives a new demo its estate, its secrets, its people and its past, and
// returns the password, which the demo keeps.
func furnish(ctx context.Context, s *service.Service, dir, text string) (string, error) {
	pass, err := keepPassword(s, dir)
	if err != nil {
		return "", err
	}
	if err := giveSecrets(ctx, s); err != nil {
		return pass, err
	}
	v, err := s.Store.Estate(ctx)
	switch {
	case err == nil:
		return pass, renew(ctx, s.Store, v, dir, text)
	case !errors.Is(err, store.ErrNotFound):
		return pass, err
	}
	e, err := estatefile.Parse("demo", []byte(text))
	if err != nil {
		return "", err
	}
	if err := writeHistory(ctx, s.Store, e, time.Now().UTC()); err != nil {
		return "", err
	}
	hours := store.CalendarText{Name: "workshop-hours", Text: demo.WorkshopHours, SetAt: time.Now(), SetBy: service.FirstAccount}
	if err := s.Store.SetCalendar(ctx, hours); err != nil {
		return "", err
	}
	if d := e.Device(demo.Light); d != nil {
		off := store.Parked{Device: d.Key, Site: d.Site, Who: service.FirstAccount, Why: "nobody looks in", Since: time.Now().UTC()}
		if err := s.Store.Park(ctx, off); err != nil {
			return "", err
		}
	}
	return pass, errors.Join(employ(ctx, s.Store, filepath.Join(dir, staffFile)), importEstate(ctx, s.Store, 0, dir, text))
}

// keepPassword keeps the first password, which is told only once, and returns it.
func keepPassword(s *service.Service, dir string) (string, error) {
	file := filepath.Join(dir, "admin-password")
	if s.FirstPassword != "" {
		if err := os.WriteFile(file, []byte(s.FirstPassword+"\n"), 0o600); err != nil {
			return "", err
		}
	}
	kept, err := os.ReadFile(file)
	if err != nil {
		kept = []byte("(changed)")
	}
	return strings.TrimSpace(string(kept)), nil
}

// giveSecrets sets what the lab's gear lets somebody in with, as far as it is not set: a demo of
// before may have less gear.
func giveSecrets(ctx context.Context, s *service.Service) error {
	have, err := s.Store.Secrets(ctx)
	if err != nil {
		return err
	}
	for name, v := range lab.Secrets {
		if slices.ContainsFunc(have, func(x store.SealedSecret) bool { return x.Name == name }) {
			continue
		}
		sealed, err := s.Sealer.Seal(name, v)
		if err != nil {
			return err
		}
		if err := s.Store.SetSecret(ctx, store.SealedSecret{Name: name, Kind: v.Kind, Sealed: sealed, SetBy: service.FirstAccount}); err != nil {
			return err
		}
	}
	return nil
}

// appoint gives a demo the people who are told, and the way to them, unless there are some.
func appoint(ctx context.Context, db *store.Store, mailAt string) error {
	have, err := db.Channels(ctx)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(have, func(c store.ChannelRow) bool { return c.Name == demo.MailChannel })
	if at < 0 && len(have) > 0 {
		return nil // somebody has others
	}
	doc, err := json.Marshal(tell.Settings{Kind: tell.Mail, Server: mailAt, TLS: tell.NoTLS, From: "Plumb Bob <plumb@ternsound.example>"})
	if err != nil {
		return err
	}
	if at < 0 || have[at].Doc != string(doc) { // the mail server may be at another port now
		row := store.ChannelRow{Name: demo.MailChannel, Kind: tell.Mail, Doc: string(doc), SetAt: time.Now().UTC(), SetBy: service.FirstAccount}
		if err := db.SetChannel(ctx, row); err != nil {
			return err
		}
	}
	if _, err := db.Telling(ctx); !errors.Is(err, store.ErrNotFound) {
		return err
	}
	return db.SetTelling(ctx, store.TellingVersion{At: time.Now().UTC(), Who: service.FirstAccount, Text: demo.Telling})
}

// order gives a demo its routines, unless there are some, and its ladders likewise.
func order(ctx context.Context, db *store.Store, estateText string) error {
	have, err := db.Routines(ctx)
	if err != nil || len(have) > 0 {
		return err
	}
	e, err := estatefile.Parse(estateFile, []byte(estateText))
	if err != nil {
		return err
	}
	all, err := orderfile.Parse("routines.yaml", []byte(demo.Routines), orderfile.AroundOf(e))
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	var rows []store.RoutineRow
	for _, o := range all {
		rows = append(rows, store.RoutineRow{Name: o.Routine.Name, Text: o.Text, Off: o.Routine.Off, SetAt: now, SetBy: service.FirstAccount})
	}
	if err := db.SetRoutines(ctx, rows); err != nil {
		return err
	}
	return rehearse(ctx, db, e, demo.Ladders)
}

// rehearse gives a demo ladders, which are not armed, unless there are some.
func rehearse(ctx context.Context, db *store.Store, e *estate.Estate, text string) error {
	have, err := db.Ladders(ctx)
	if err != nil || len(have) > 0 {
		return err
	}
	all, err := orderfile.ParseLadders("ladders.yaml", []byte(text), orderfile.AroundOf(e))
	if err != nil {
		return err
	}
	var rows []store.LadderRow
	for _, o := range all {
		rows = append(rows, store.LadderRow{Name: o.Ladder.Name, Text: o.Text, SetAt: time.Now().UTC(), SetBy: service.FirstAccount})
	}
	return db.SetLadders(ctx, rows)
}

// estateFile is what the demo has imported itself.
const estateFile = "estate.yaml"

func importEstate(ctx context.Context, db *store.Store, over int, dir, text string) error {
	entry := store.Entry{At: time.Now(), Kind: store.EntryEstate, Who: service.FirstAccount, Text: "Estate imported: the demo estate", Result: "done"}
	if err := db.SaveEstate(ctx, over, service.FirstAccount, text, nil, entry); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, estateFile), []byte(text), 0o600)
}

// renew brings the estate of an older demo up to date, unless somebody has
// changed it.
func renew(ctx context.Context, db *store.Store, v store.EstateVersion, dir, text string) error {
	ours, err := os.ReadFile(filepath.Join(dir, estateFile))
	if err != nil || string(ours) != v.Text || v.Text == text {
		return nil
	}
	return importEstate(ctx, db, v.ID, dir, text)
}

// staff are the people of the demo beside the first account.
var staff = []struct{ name, role string }{{"i.marsh", "steward"}, {"l.oduya", "operator"}, {"desk", "viewer"}}

// staffFile has their passwords.
const staffFile = "staff-passwords"

// employ makes the accounts of the staff.
func employ(ctx context.Context, db *store.Store, file string) error {
	var list strings.Builder
	for _, p := range staff {
		pass := password.Generate()
		if err := db.CreateAccount(ctx, p.name, p.role, password.Hash(pass)); err != nil {
			return err
		}
		fmt.Fprintf(&list, "%-8s %-9s %s\n", p.name, p.role, pass)
	}
	return os.WriteFile(file, []byte(list.String()), 0o600)
}

// logClientIn logs the local user's client in, unless it is logged in
// somewhere else; then it says how to use a log-in of the demo's own.
func logClientIn(ctx context.Context, s *service.Service, dir string) (hint string, err error) {
	a, err := s.Store.Account(ctx, service.FirstAccount)
	if err != nil {
		return "", err
	}
	token := rand.Text() + rand.Text()
	if err := s.Store.CreateSession(ctx, token, a.ID, store.ClientSession, "demo", time.Now().Add(24*time.Hour)); err != nil {
		return "", err
	}
	c := client.Config{URL: s.URL, Account: a.Name, Token: token, Fingerprint: s.Fingerprint}
	path, err := client.ConfigPath()
	if err != nil {
		return "", err
	}
	if was, err := client.ReadConfig(path); err == nil && (was.URL == "" || was.URL == c.URL) {
		return "", c.Write(path)
	}
	path, err = filepath.Abs(filepath.Join(dir, "client.json"))
	if err != nil {
		return "", err
	}
	return "PLUMB_CONFIG=" + path + " ", c.Write(path)
}
