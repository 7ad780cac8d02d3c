// Package lab is one small world of simulated gear that speaks the real
// protocols over real sockets. It ships with the product: the demo runs on it,
// and the tests do.
//
//	lab.go       starting and stopping it
//	scenario.go  what each box of the demo estate is like
//	world.go     the physics: power, boot times, who can be reached
//	fault.go     what can be made to go wrong
//	control.go   the same by command, while it runs
//	chassis.go   servers with management controllers (the controllers: package bmc)
//	pdu.go       a PDU, as the objects of its MIB
//	agent.go     an SNMP agent, v2c and v3
//	board.go     a board with leads to buttons and lights, over HTTP
//	shell.go     command lines, over SSH
//	screen.go    screens, at a KVM
//	tcp.go       ports that answer, or do not
//	echo.go      ICMP echo through a TUN interface
package lab

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"time"

	"golang.org/x/sync/errgroup"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/phone"
	"plumbbob/internal/lab/post"
)

// Options say how the lab runs.
type Options struct {
	Estate   *estate.Estate // how things are cabled, and at which addresses
	Speed    float64        // how many times faster gear starts up; 0 means 1
	Seed     uint64         // fixes every random choice
	NoEcho   bool           // do not try to answer ICMP
	Control  string         // path of the control socket; empty for none
	Frame    time.Duration  // how often screens are drawn; 0: 25 times a second
	Sea      bool           // the boat's link is slow, and drops every few minutes
	TrapPort uint16         // where controllers send their alerts; 0 means 162

	Mail       string // where its mail server listens, host:port; empty: nowhere
	SyslogPort uint16 // of this machine, where gear sends messages; 0: nowhere
	Log        *slog.Logger
}

// Lab is a running world.
type Lab struct {
	*World
	Echo bool // ICMP echo is answered

	Phone     *phone.Modem // of the service's machine
	ModemPath string       // of the serial port that it is at
	Post      *post.Server // nil: there is none

	view   *view
	ctx    context.Context //nolint:containedctx // that of its stand-ins
	o      Options
	ttys   map[estate.Key]*tty // made while it starts
	shown  map[estate.Key]*display
	cancel context.CancelFunc
	tasks  *errgroup.Group
}

// Start binds every socket and returns once all stand-ins answer. Close ends it.
func Start(o Options) (*Lab, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Speed == 0 {
		o.Speed = 1
	}
	if o.Frame == 0 {
		o.Frame = 40 * time.Millisecond
	}
	if o.TrapPort == 0 {
		o.TrapPort = 162
	}
	ctx, cancel := context.WithCancel(context.Background())
	tasks, ctx := errgroup.WithContext(ctx)
	l := &Lab{World: newWorld(o), ctx: ctx, o: o, ttys: map[estate.Key]*tty{}, shown: map[estate.Key]*display{}, cancel: cancel, tasks: tasks}
	l.view = l.outside
	if err := l.start(ctx); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	return l, nil
}

// Close stops all stand-ins and waits for them.
func (l *Lab) Close() error {
	l.cancel()
	if l.Post != nil {
		_ = l.Post.Close() // who is told, is told no more
	}
	if err := l.tasks.Wait(); err != nil && !errors.Is(err, context.Canceled) {
		return fmt.Errorf("lab: %w", err)
	}
	return nil
}

func (l *Lab) start(ctx context.Context) error {
	if err := l.serve(ctx); err != nil {
		return err
	}
	for i := range l.e.Devices {
		if d := &l.e.Devices[i]; d.Wake != nil {
			if err := l.listenWake(ctx, d); err != nil {
				return fmt.Errorf("lab: %s: %w", d.Key, err)
			}
		}
	}
	if err := l.startPhone(ctx); err != nil {
		return err
	}
	l.tasks.Go(func() error { return l.liveControllers(ctx) })
	l.tasks.Go(func() error { return l.liveSupplies(ctx) })
	if l.o.Sea {
		l.tasks.Go(func() error { return l.sail(ctx) })
	}
	if !l.o.NoEcho {
		if err := l.startEcho(ctx); err != nil {
			l.o.Log.Info("the lab answers no ICMP here", "because", err)
		}
	}
	if l.o.Mail != "" {
		var err error
		if l.Post, err = post.Start(post.Options{Address: l.o.Mail}); err != nil {
			return err
		}
	}
	if l.o.Control != "" {
		return l.serveControl(ctx)
	}
	return nil
}

// serve has what a view names answer there.
func (l *Lab) serve(ctx context.Context) error {
	for i := range l.view.e.Devices {
		d := &l.view.e.Devices[i]
		for n, p := range d.Questions() {
			side := ""
			if n >= len(d.Probes) {
				side = useSide
			}
			if err := l.answerProbe(ctx, d.Key, p, side); err != nil {
				return fmt.Errorf("lab: %s: %w", d.Key, err)
			}
		}
		for _, ep := range d.Endpoints {
			serve := l.serveAgent
			switch ep.Protocol {
			case estate.IPMI:
				serve = l.serveController
			case estate.SSH:
				serve = l.serveShell
			case estate.Telnet:
				serve = l.serveLine
			case estate.RFB:
				serve = l.serveScreen
			case estate.Camera:
				serve = l.serveCamera
			case estate.TTY, estate.Modem:
				continue // are at the service's machine
			case estate.HTTPAPI:
				serve = l.serveStrip
				switch {
				case ep.Profile == "lab-kvm":
					serve = l.serveChannel
				case len(d.Outlets) == 0:
					serve = l.serveBoard
				}
			}
			if err := serve(ctx, d, ep); err != nil {
				return fmt.Errorf("lab: %s %s: %w", d.Key, ep.Name, err)
			}
		}
	}
	return nil
}

func (l *Lab) answers(k estate.Key, endpoint string) (bool, time.Duration) {
	return l.view.answers(k, endpoint)
}

func (l *Lab) answerProbe(ctx context.Context, k estate.Key, p estate.Probe, side string) error {
	switch p.Kind {
	case estate.TCP:
		return l.listen(ctx, k, p.Target, side, false)
	case estate.HTTP:
		u, err := url.Parse(p.Target)
		if err != nil {
			return fmt.Errorf("probe: %w", err)
		}
		return l.listen(ctx, k, u.Host, side, true)
	case estate.ICMP:
	default:
		return fmt.Errorf("probe: the lab answers no %s", p.Kind)
	}
	addr, err := netip.ParseAddr(p.Target)
	if err != nil {
		return fmt.Errorf("probe: %w", err)
	}
	l.echo[addr] = k
	return nil
}

func (l *Lab) serveAgent(ctx context.Context, d *estate.Device, ep estate.Endpoint) error {
	for _, address := range ep.Addresses {
		a := newAgent(l.view, d, ep.Name)
		if err := a.listen(address); err != nil {
			return err
		}
		l.tasks.Go(func() error { return a.run(ctx) })
	}
	return nil
}

// scaled is a duration of the real world at the lab's speed.
func (w *World) scaled(d time.Duration) time.Duration {
	return time.Duration(float64(d) / w.speed)
}
