// Package service puts the rooms together: it opens the records, starts
// watching and acting, and serves the API and the console.
package service

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
	"golang.org/x/sync/errgroup"

	"plumbbob/internal/act"
	"plumbbob/internal/api"
	"plumbbob/internal/broker"
	"plumbbob/internal/bus"
	"plumbbob/internal/core/estate"
	"plumbbob/internal/drill"
	"plumbbob/internal/gate"
	"plumbbob/internal/gear/garage"
	"plumbbob/internal/gear/sshgear"
	"plumbbob/internal/health"
	"plumbbob/internal/hint"
	"plumbbob/internal/incidents"
	"plumbbob/internal/keep"
	"plumbbob/internal/lease"
	"plumbbob/internal/localports"
	"plumbbob/internal/orders"
	"plumbbob/internal/people"
	"plumbbob/internal/screen"
	"plumbbob/internal/secret"
	"plumbbob/internal/store"
	"plumbbob/internal/store/mariadb"
	"plumbbob/internal/stream"
	"plumbbob/internal/tell"
	"plumbbob/internal/watch"
	"plumbbob/internal/wire/icmp"
	"plumbbob/internal/wire/names"
	"plumbbob/internal/wire/syslog"
)

// FirstAccount is the account that is made at the first start.
const FirstAccount = "admin"

// Options say how the service runs.
type Options struct {
	DataDir  string
	Database string // of another server; empty: a private one in DataDir
	Alone    bool   // no other service acts on that database
	Listen   string // host:port

	PublicURL string // where people find the console; empty: where it listens

	MetricsToken    string   // a file with what opens /metrics; empty: nothing does
	MetricsReadings []string // the sensors that are shown there, by their series: patterns of path.Match

	DatabasePassword string // a file with it; empty: as Database, or PLUMB_DATABASE_PASSWORD, says
	TLSCert          string // files in PEM; empty: self-signed where TLS is needed
	TLSKey           string
	Traps            string // host:port where SNMP traps are listened for; empty: nowhere
	GearSyslog       string // host:port where gear sends messages, over UDP and TCP; empty: nowhere
	GearSyslogTLS    string // likewise, over TLS
	Syslog           string // where a copy of the journal goes, as syslog.Parse takes it; empty: nowhere
	Gate             string // where the SSH gate listens; empty: nowhere
	ScreenGate       string // where viewers of RFB come in; empty: nowhere
	Ports            []localports.Config
	GateAt           []string      // of those, at which people come in
	Rings            int           // of a modem there, before it answers; 0: as Rings
	GateIdle         time.Duration // without a key there; 0: as GateIdle
	Console          fs.FS
	Log              *slog.Logger

	Retention store.Retention // zero: as store.DefaultRetention

	KeepJournal time.Duration // older entries go to files; 0: none do

	MissedAfter time.Duration // how late something may begin whose time was stated; 0: 5 min

	Hosts   []string       // names that the service answers to, beside localhost and that of this host
	Proxies []netip.Prefix // whose word counts for where a request comes from; they serve TLS

	Connect *names.Policy // where gear and what is probed may be; nil: anywhere

	Safe bool // watch nothing and act on nothing: to mend what brings a start down

	StopWithin time.Duration   // how long a stop waits for power that is owed; 0: not at all
	Hurry      <-chan struct{} // closed when a stop is to wait no longer; nil: never
	Notice     io.Writer       // where a stop says what it waits for; nil: nowhere but in the log
}

// Service is the running service.
type Service struct {
	URL string
	// FirstPassword is that of FirstAccount, once, at the very first start.
	FirstPassword string
	Fingerprint   string // SHA-256 of a self-signed certificate
	Store         *store.Store
	Sealer        *secret.Sealer

	o         Options
	private   *mariadb.Server
	last      *lastKnown    // from an earlier run; nil before the first
	lastAlive time.Time     // of that
	late      *mysql.Config // of a database that is away at the start; nil when it is there
	pinger    *icmp.Pinger
	traps     *hint.Listener // nil where that is not wanted, or not permitted
	messages  *hint.Messages // likewise
	garage    *garage.Garage
	people    *people.Desk
	keeper    *keep.Keeper
	watcher   *watch.Watcher
	broker    *broker.Room
	gate      *gate.Gate
	ports     *localports.Room
	lines     []gate.Line // at which people come in
	actor     *act.Actor

	incidents *incidents.Room
	outbox    *tell.Outbox
	orders    *orders.Room
	drill     *drill.Room
	health    *health.Book
	lease     *lease.Lease // nil with a database of our own

	archive *tell.JournalArchive
	changed <-chan bus.NewEntry
	learned chan struct{}     // a host key was seen for the first time
	copy    *tell.JournalCopy // nil where none is wanted
	api     *api.Server
	locked  *os.File
	ln      net.Listener
	secure  *tls.Config
	http    *http.Server
}

// Open opens the records and binds the address. Nothing is watched before Run.
func Open(ctx context.Context, o Options) (*Service, error) {
	s := &Service{o: o, learned: make(chan struct{}, 1)}
	if err := s.open(ctx); err != nil {
		return nil, errors.Join(err, s.Close())
	}
	return s, nil
}

func (s *Service) open(ctx context.Context) error {
	if err := os.MkdirAll(s.o.DataDir, 0o700); err != nil {
		return fmt.Errorf("data directory: %w", err)
	}
	if s.o.Connect != nil {
		names.Default.Allow(*s.o.Connect)
	}
	if err := s.lock(); err != nil {
		return err
	}
	if err := s.listen(); err != nil {
		return err
	}
	s.last = s.readLastKnown()
	if err := s.openStore(ctx); err != nil {
		return err
	}
	s.health = health.New(s.o.Log)
	s.Store.Health = s.health
	if s.Store.Misfit != nil {
		s.health.Grave("collation", s.Store.Misfit.Error())
	}
	if s.private == nil { // others may use that database as well
		s.lease = lease.New(s.Store, s.health, s.o.DataDir, s.o.Alone)
	}
	if err := s.openKey(ctx); err != nil {
		return err
	}
	s.private700()
	if err := s.firstAccount(ctx); err != nil {
		return err
	}
	return s.assemble(ctx)
}

func (s *Service) assemble(ctx context.Context) error {
	var err error
	if s.pinger, err = icmp.Listen(); err != nil {
		s.o.Log.Warn("ICMP probes are left out", "because", err)
	}
	hub := stream.NewHub()
	s.garage = garage.New()
	if s.ports, err = localports.New(s.o.Ports, s.health); err != nil {
		return err
	}
	s.garage.Local = s.ports
	if s.garage.Pins, err = s.hostKeys(ctx); err != nil {
		return err
	}
	b := &bus.Bus{}
	b.Broken.Listen(s.driverFailed)
	s.health.Listen(func() { b.Ailing.Publish(bus.Ailing{}) })
	s.changed, _ = b.Journal.Queue(1)
	s.keeper = keep.New(s.Store, s.o.Log, b)
	if s.o.KeepJournal != 0 && s.o.KeepJournal < leastJournal {
		return fmt.Errorf("--keep-journal: %s is too short: entries stay for %s at least, or 0 for ever", s.o.KeepJournal, leastJournal)
	}
	s.archive = &tell.JournalArchive{Store: s.Store, Health: s.health, Bus: b, Dir: filepath.Join(s.o.DataDir, "journal"), Keep: s.o.KeepJournal}
	if s.o.Syslog != "" {
		to, err := syslog.Parse(s.o.Syslog)
		if err != nil {
			return fmt.Errorf("--syslog: %w", err)
		}
		if s.copy, err = tell.NewJournalCopy(ctx, s.Store, to, s.o.Log, b); err != nil {
			return err
		}
	}
	if s.o.Retention == (store.Retention{}) {
		s.o.Retention = store.DefaultRetention
	}
	s.keeper.Retention, s.keeper.Health, s.keeper.Standby = s.o.Retention, s.health, s.lease.Other
	s.watcher = watch.New(watch.Sources{Pinger: s.pinger, Open: s.garage.Open, Garage: s.garage, Bus: b})
	if s.o.Traps != "" {
		if s.traps, err = hint.Listen(s.o.Traps, s.o.Log, s.watcher.Again); err != nil {
			s.o.Log.Warn("traps are not listened for", "because", err)
		}
	}
	if err := s.listenMessages(); err != nil {
		return err
	}
	s.people = people.New(people.Parts{Store: s.Store, Log: s.o.Log, Bus: b, DataDir: s.o.DataDir, Known: s.loggedIn(), Accounts: s.accounts()})
	s.actor, err = act.New(act.Parts{
		Store: s.Store, Keeper: s.keeper, Watcher: s.watcher, Garage: s.garage, Log: s.o.Log, Health: s.health, Lease: s.lease, Reload: s.reload,
		Ledger: filepath.Join(s.o.DataDir, "operations.ledger"),
		AtLine: func(k estate.Key, but string) []string { return s.broker.Words(k, but) },
		Screen: s.lineScreen, Picture: s.picture,
		Bus: b, Role: s.people.Role, MissedAfter: s.o.MissedAfter, LastAlive: s.lastAlive,
	})
	if err != nil {
		return err
	}
	s.broker = broker.New(broker.Parts{Estate: s.keeper.Estate, Paths: s.paths, Screens: s.garage.Screens, Record: s.keeper.Note, Bus: b, Records: s.Store, Health: s.health, Acts: s.acts, Pack: screen.PNG, ReadText: screenText})
	b.Judged.Listen(s.keepFilms())
	s.outbox = s.newOutbox(b)
	s.incidents = incidents.New(incidents.Parts{
		Store: s.Store, Keeper: s.keeper, Log: s.o.Log, Health: s.health, Standby: s.lease.Other, Bus: b, Tell: s.outbox.Next,
	})
	s.drill = drill.New(drill.Parts{
		Store: s.Store, World: s.actor.World, LookAt: func(ctx context.Context, devices []estate.Key) error { return s.watcher.Look(ctx, devices) },
		Written: func() { b.Journal.Publish(bus.NewEntry{}) },
	})
	s.orders = s.newOrders(b)
	s.gate = gate.New(gate.Parts{People: s.people, Log: s.o.Log, DataDir: s.o.DataDir})
	if s.o.Gate != "" {
		if err := s.gate.Listen(s.o.Gate); err != nil {
			return err
		}
	}
	if s.o.ScreenGate != "" {
		how, err := s.underTLS()
		if err != nil {
			return err
		}
		if err := s.gate.ListenScreens(s.o.ScreenGate, how, s.broker.View); err != nil {
			return err
		}
	}
	if s.lines, err = s.gateLines(); err != nil {
		return err
	}
	metrics, err := s.metrics()
	if err != nil {
		return err
	}
	s.api = api.New(api.Parts{
		Store: s.Store, Keeper: s.keeper, Actor: s.actor, Incidents: s.incidents, Outbox: s.outbox, Orders: s.orders, Drill: s.drill, Keyring: s.garage, Watcher: s.watcher, Sealer: s.Sealer,
		Hub: hub, Log: s.o.Log, Console: s.o.Console, Secure: s.secure != nil || len(s.o.Proxies) > 0, SetEstate: s.setEstate,
		Health: s.health, Retention: s.o.Retention, People: s.people, Bus: b, Broker: s.broker, MayConnect: s.mayConnect, Acts: s.acts, HasModem: s.hasModem, Metrics: metrics, Hosts: s.hosts(), Proxies: s.o.Proxies,
	})
	return nil
}

// leastJournal is how long entries stay in the journal at least: an archive is for what is
// old, and nothing to hide behind.
const leastJournal = 30 * 24 * time.Hour

// keepKeyWithin is how long it may take to keep a host key.
const keepKeyWithin = 5 * time.Second

// hostKeys are those that were seen first. One that cannot be kept is not
// trusted: an error of Learn ends the connection.
func (s *Service) hostKeys(ctx context.Context) (sshgear.Pins, error) {
	known, err := s.records().HostKeys(ctx)
	var mu sync.Mutex
	return sshgear.Pins{
		Known: func(address string) string {
			mu.Lock()
			defer mu.Unlock()
			return known[address]
		},
		Learn: func(address, pin string) error {
			ctx, cancel := context.WithTimeout(context.Background(), keepKeyWithin)
			defer cancel()
			if err := s.Store.LearnHostKey(ctx, address, pin, time.Now().UTC()); err != nil {
				return fmt.Errorf("its host key cannot be kept: %w", err)
			}
			mu.Lock()
			known[address] = pin
			mu.Unlock()
			select {
			case s.learned <- struct{}{}:
			default:
			}
			return nil
		},
	}, err
}

// paths are the ways to the line of a device.
func (s *Service) paths(k estate.Key) ([]broker.Path, error) {
	lines, err := s.garage.Lines(k)
	out := make([]broker.Path, len(lines))
	for i, l := range lines {
		out[i] = broker.Path{Name: l.Endpoint, Line: l.Line}
	}
	return out, err
}

// mayConnect says why gear may not be at a host. What a name stands for is looked at when
// it is connected to.
func (s *Service) mayConnect(host string) error {
	a, err := netip.ParseAddr(host)
	if err != nil || s.o.Connect == nil {
		return nil
	}
	return s.o.Connect.Check(a)
}

// hosts are the names that the service answers to.
func (s *Service) hosts() []string {
	var all []string
	if own, err := os.Hostname(); err == nil {
		short, _, _ := strings.Cut(own, ".")
		all = append(all, strings.ToLower(own), strings.ToLower(short))
	}
	for _, h := range s.o.Hosts {
		all = append(all, strings.ToLower(strings.TrimSuffix(h, ".")))
	}
	return all
}

// driverFailed: one driver has panicked. It is named, and everything else goes on.
func (s *Service) driverFailed(x bus.Broken) {
	s.o.Log.Error("a driver has failed", "endpoint", x.Endpoint.String(), "because", x.Why, "where", x.Where)
	s.health.Ails("driver "+x.Endpoint.String(), fmt.Sprintf("the driver for %s has failed, which is a fault of this program: %s", x.Endpoint, x.Why))
}

// setEstate tells every room what there is.
func (s *Service) setEstate(ctx context.Context, e *estate.Estate) {
	s.garage.SetEstate(e)
	s.keeper.SetEstate(e)
	if !s.o.Safe { // then nobody watches
		s.watcher.SetEstate(ctx, e)
	}
	if s.traps != nil {
		s.traps.SetEstate(e)
	}
	if s.messages != nil {
		s.messages.SetEstate(e)
	}
}

// Run watches, acts and serves until ctx ends. Then it stops in order: first nothing
// new is begun and power that is owed is waited for, then nobody may ask any more, then
// the records are closed.
func (s *Service) Run(ctx context.Context) error {
	ctx, ended := s.stoppable(ctx)
	defer ended()
	tasks, ctx := errgroup.WithContext(ctx)
	tasks.Go(func() error { return s.watchRoom(ctx) })
	tasks.Go(func() error { return s.watchClock(ctx) })
	tasks.Go(func() error { return s.people.Run(ctx) })
	tasks.Go(func() error { return s.keepKnown(ctx, s.changed) })
	if s.o.Safe {
		return s.runSafe(ctx, tasks)
	}
	tasks.Go(func() error { return s.watcher.Run(ctx) })
	tasks.Go(func() error { return s.keeper.Run(ctx) })
	tasks.Go(func() error { return s.broker.Run(ctx) })
	if s.lease != nil {
		tasks.Go(func() error { return s.lease.Run(ctx) })
	}
	if s.traps != nil {
		tasks.Go(func() error { return s.traps.Run(ctx) })
	}
	if s.messages != nil {
		tasks.Go(func() error { return s.messages.Run(ctx) })
	}
	if s.o.KeepJournal > 0 {
		tasks.Go(func() error { return s.archive.Run(ctx) })
	}
	if s.copy != nil {
		tasks.Go(func() error { return s.copy.Run(ctx) })
	}
	tasks.Go(func() error {
		if err := s.gear(ctx, tasks); err != nil {
			return err
		}
		return s.actor.Run(ctx) // what is owed comes first, and waits for nothing else
	})
	tasks.Go(func() error {
		if err := s.insist(ctx, "memory", s.remember); err != nil {
			return err
		}
		return s.incidents.Run(ctx)
	})
	tasks.Go(func() error { return s.outbox.Run(ctx) })
	tasks.Go(func() error { return s.orders.Run(ctx) })
	tasks.Go(func() error { return s.serve(ctx) })
	s.runGate(ctx, tasks)
	return s.ended(tasks)
}

func (s *Service) ended(tasks *errgroup.Group) error {
	err := tasks.Wait()
	if errors.Is(err, context.Canceled) {
		err = nil
	}
	return errors.Join(err, s.Close())
}

// runSafe serves, and neither watches nor acts: what brings a start down can be mended.
func (s *Service) runSafe(ctx context.Context, tasks *errgroup.Group) error {
	s.actor.Retire(act.ErrSafe)
	s.health.Grave("safe", "started with --safe: nothing is watched, nothing is switched, and power that is owed stays off. Mend what brought the service down, and start it without --safe")
	tasks.Go(func() error {
		if err := s.gear(ctx, tasks); err != nil {
			return err
		}
		<-ctx.Done()
		return context.Cause(ctx)
	})
	tasks.Go(func() error { return s.serve(ctx) })
	s.runGate(ctx, tasks)
	return s.ended(tasks)
}

const stopWithin = 5 * time.Second

func (s *Service) serve(ctx context.Context) error {
	handler, err := s.api.Handler()
	if err != nil {
		return err
	}
	s.http = &http.Server{
		Handler: handler, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: time.Minute,
		IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 32 << 10, TLSConfig: s.secure,
		ErrorLog:    slog.NewLogLogger(s.o.Log.Handler(), slog.LevelDebug),
		BaseContext: func(net.Listener) context.Context { return ctx }, // streams end with us
	}
	go func() { _ = s.http.Serve(s.gate.Inside) }() // ends with it
	stopped := make(chan error, 1)
	context.AfterFunc(ctx, func() {
		last, cancel := context.WithTimeout(context.Background(), stopWithin)
		defer cancel()
		stopped <- s.http.Shutdown(last)
	})
	ln := s.ln
	if s.secure != nil {
		ln = tls.NewListener(ln, s.secure)
	}
	if err := s.http.Serve(ln); !errors.Is(err, http.ErrServerClosed) {
		return fmt.Errorf("serve: %w", err)
	}
	if err := <-stopped; err != nil {
		return fmt.Errorf("serve: %w", err)
	}
	return context.Cause(ctx)
}

// Close releases everything that Open has taken. Run does so by itself.
func (s *Service) Close() error {
	var err error
	if s.ln != nil {
		_ = s.ln.Close() // mostly closed already
	}
	if s.gate != nil {
		err = errors.Join(err, s.gate.Close())
	}
	if s.garage != nil {
		err = errors.Join(err, s.garage.Close())
	}
	if s.ports != nil {
		s.ports.Close()
	}
	if s.pinger != nil {
		err = errors.Join(err, s.pinger.Close())
		s.pinger = nil
	}
	if s.traps != nil {
		err = errors.Join(err, s.traps.Close())
	}
	if s.messages != nil {
		err = errors.Join(err, s.messages.Close())
	}
	if s.Store != nil {
		s.lease.Give() // nothing of ours is under way any more
		err = errors.Join(err, s.Store.Close())
	}
	if s.private != nil {
		err = errors.Join(err, s.private.Close())
	}
	if s.locked != nil {
		_ = s.locked.Close() // lets go of the data directory; closed already when Close is called again
	}
	return err
}

// DatabasePID returns the process number of the private database server, or 0.
func (s *Service) DatabasePID() int {
	if s.private == nil {
		return 0
	}
	return s.private.PID()
}
