package lab

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/gosnmp/gosnmp"

	"plumbbob/internal/core/estate"
	"plumbbob/internal/lab/bmc"
	"plumbbob/internal/secret"
	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// chassis is the part of a box that has a management controller: standby power
// is not the host's power.
type chassis struct {
	w       *World
	box     *box
	ctl     *bmc.Controller
	on      bool
	before  bool // it was on when power was lost
	since   time.Time
	restore ipmi.RestorePolicy
	asleep  bool
	open    bool
	hotter  float64 // °C above the room
	fans    []bool
	supply  []bool
	offs    int // counts how often it was switched off, by whom ever
	resets  int // and reset
	soft    int // counts requests to shut down, so that one that was overtaken does nothing
	stuck   bool
}

// What controllers and hosts take.
const (
	standbyWatts   = 7.5
	asleepWatts    = 4
	controllerBoot = 12 * time.Second // from standby power to its first answer
	softOffTime    = 14 * time.Second // of an operating system
	room           = 21.5             // °C
)

func newChassis(w *World, b *box, m bmc.Model, seed uint64) *chassis {
	c := &chassis{w: w, box: b, on: true, since: b.powered}
	n := 4
	if m.Rich {
		n = 6
	}
	if m.Small {
		n = 2
	}
	for range n {
		c.fans = append(c.fans, true)
	}
	for range max(1, len(b.d.Power)) {
		c.supply = append(c.supply, true)
	}
	c.ctl = bmc.New(m, c, seed, time.Now())
	return c
}

// State is how the box is, for its controller.
func (c *chassis) State(now time.Time) bmc.State {
	c.w.mu.Lock()
	defer c.w.mu.Unlock()
	load := c.w.busy(c.box, now)
	s := bmc.State{
		On: c.on && !c.box.powered.IsZero(), Asleep: c.asleep, Since: now.Sub(c.since), Load: load, Ambient: room + c.hotter,
		Watts: c.w.draw(c.box, now) * float64(max(1, c.w.liveFeeds(c.box.d))), Fans: append([]bool(nil), c.fans...), Supply: append([]bool(nil), c.supply...),
		Open: c.open, Crashed: c.box.crashed,
	}
	for _, cable := range c.box.d.Power {
		s.Feeds = append(s.Feeds, c.w.carries(cable, c.box.d.Site))
	}
	for len(s.Feeds) < len(s.Supply) {
		s.Feeds = append(s.Feeds, true)
	}
	return s
}

// SetRestore sets what happens when power comes back.
func (c *chassis) SetRestore(p ipmi.RestorePolicy) {
	c.w.mu.Lock()
	defer c.w.mu.Unlock()
	c.restore = p
}

// Restore returns it.
func (c *chassis) Restore() ipmi.RestorePolicy {
	c.w.mu.Lock()
	defer c.w.mu.Unlock()
	return c.restore
}

// Control does what a command says, in the time that it takes.
func (c *chassis) Control(do ipmi.ChassisControl, now time.Time) {
	c.w.mu.Lock()
	defer c.w.mu.Unlock()
	c.soft++
	switch do {
	case ipmi.PowerDown:
		c.set(false, now)
	case ipmi.PowerUp:
		c.set(true, now)
	case ipmi.HardReset:
		c.resets++
		c.start(now)
	case ipmi.PowerCycle:
		c.set(false, now)
		c.after(c.w.scaled(2*time.Second), func() { c.set(true, time.Now()) })
	case ipmi.SoftOff:
		if !c.box.hung && !c.stuck {
			c.after(c.w.scaled(softOffTime), func() { c.set(false, time.Now()) })
		}
	case ipmi.Diagnostic:
		c.box.crashed, c.box.hung = true, true
	}
}

// after does something later, unless another command has come by then.
func (c *chassis) after(d time.Duration, do func()) {
	n := c.soft
	time.AfterFunc(d, func() {
		c.w.mu.Lock()
		defer c.w.mu.Unlock()
		if c.soft == n {
			do()
		}
	})
}

// set switches the host on or off, with the world's lock held.
func (c *chassis) set(on bool, now time.Time) {
	if on && c.on && !c.asleep {
		return
	}
	c.on, c.asleep = on, false
	if on {
		c.start(now)
	} else {
		c.offs++
		c.box.hung, c.box.crashed = false, false
	}
}

// start starts the host from the beginning.
func (c *chassis) start(now time.Time) {
	c.since, c.box.hung, c.box.crashed, c.asleep = now, false, false, false
}

// lost is what happens when standby power goes, with the world's lock held.
func (c *chassis) lost() {
	c.before, c.on, c.asleep, c.box.crashed = c.on, false, false, false
	c.soft++
	go c.ctl.PowerLost() // the controller may be asking the world something
}

// returned is what happens when it comes back.
func (c *chassis) returned(now time.Time) {
	if c.restore == ipmi.AlwaysOn || c.restore == ipmi.AsBefore && c.before {
		c.on = true
		c.start(now)
	}
}

// busy is how much a host has to do, from 0 to 1: a slow wave of its own.
func (w *World) busy(b *box, now time.Time) float64 {
	if b.chassis == nil || !w.up(b, now) {
		return 0.05
	}
	return 0.28 + 0.16*wave(b.d.Key, now, 190)
}

// models of the demo's servers, each with something about it that is worth finding.
func modelOf(d *estate.Device, ep estate.Endpoint) bmc.Model {
	m := bmc.Model{
		Name: string(d.Key), User: ControllerSecret.User, Password: ControllerSecret.Password, Restore: ipmi.AlwaysOn, Suites: []rmcp.Suite{rmcp.Suite3, rmcp.Suite17},
		Firmware: ipmi.DeviceID{ID: 0x20, Revision: 1, HasSDRs: true, Major: 2, Minor: 37, IPMI: 0x20, Manufacturer: 32473, Product: 0x0107},
		FRU:      plate("Gannet Works", "Gannet 2U", "G2-208", d.Key),
	}
	if a, err := netip.ParseAddrPort(ep.Addresses[0]); err == nil {
		m.Address = a.Addr()
	}
	switch d.Key {
	case "ostrel-virt-2":
		m.Restore, m.Firmware.Minor = ipmi.StayOff, 31
	case "ostrel-store":
		m.Rich, m.FRU, m.Firmware.Minor = true, plate("Gannet Works", "Gannet 4U Drive", "G4-224", d.Key), 42
	case "ostrel-booking":
		m.Restore, m.FRU, m.Firmware.Major = ipmi.AsBefore, plate("Fulmar Systems", "Fulmar R1", "FR1-A", d.Key), 1
	case "skarvoe-recorder":
		m.Small, m.Extra = true, "recorder"
		m.FRU, m.Firmware.Major = plate("Skua Video", "Skua Keeper 8", "SK8", d.Key), 3
	}
	return m
}

// plate makes up a type plate.
func plate(maker, product, part string, k estate.Key) *ipmi.FRU {
	n := 0
	for _, c := range string(k) {
		n = (n*31 + int(c)) % 9973
	}
	serial := fmt.Sprintf("%s-%05d", part, n)
	return &ipmi.FRU{
		Chassis: &ipmi.ChassisInfo{Type: 0x17, Part: part + "-CH", Serial: fmt.Sprintf("CH%05d", n)},
		Board:   &ipmi.BoardInfo{Made: time.Date(2023, time.Month(1+n%12), 1+n%27, 8, 0, 0, 0, time.UTC), Maker: maker, Product: product + " board", Serial: fmt.Sprintf("MB%06d", n*7), Part: part + "-MB"},
		Product: &ipmi.ProductInfo{Maker: maker, Product: product, Part: part, Version: "C", Serial: serial, Asset: fmt.Sprintf("TSF-%04d", n%1000)},
	}
}

// ControllerSecret is the log-in of every controller in the lab.
var ControllerSecret = secret.Value{Kind: secret.IPMI, User: "plumb", Password: "mast-lantern-42"}

// Secrets are all that the demo estate names.
var Secrets = map[string]secret.Value{
	"skarvoe-pdu": WriteSecret, "ostrel-pdu": WriteSecret, "pier-pdus": V3Secret, "ups-cards": V3Secret, "switches": WriteSecret, "strips": StripSecret, "controllers": ControllerSecret,
	"boards": BoardSecret, "command-lines": ShellSecret, "screens": ScreenSecret,
}

// serveController starts the controller of a device.
func (l *Lab) serveController(ctx context.Context, d *estate.Device, ep estate.Endpoint) error {
	c := l.boxes[d.Key].chassis
	c.ctl.OnSerial(l.ttyOf(ctx, d.Key))
	for _, address := range ep.Addresses {
		addr, err := net.ResolveUDPAddr("udp", address)
		if err != nil {
			return fmt.Errorf("controller: %w", err)
		}
		conn, err := net.ListenUDP("udp", addr)
		if err != nil {
			return fmt.Errorf("controller: %w: is another lab running?", err)
		}
		l.tasks.Go(func() error {
			return c.ctl.Serve(ctx, conn, func() (copies int, delay time.Duration) {
				ok, delay := l.answers(d.Key, ep.Name)
				if ok {
					copies = 1
				}
				return copies, delay
			})
		})
	}
	c.ctl.OnAlert(func(to netip.Addr, community string, t ipmi.Trap) {
		if ok, _ := l.answers(d.Key, ep.Name); ok {
			if err := l.sendTrap(to, community, ep.Addresses[0], t); err != nil {
				l.o.Log.Warn("a trap could not be sent", "device", d.Key, "because", err)
			}
		}
	})
	return nil
}

// sendTrap sends a platform event trap, which is an SNMPv1 trap.
func (l *Lab) sendTrap(to netip.Addr, community, from string, t ipmi.Trap) error {
	host, _, _ := net.SplitHostPort(from)
	g := &gosnmp.GoSNMP{Target: to.String(), Port: l.o.TrapPort, Community: community, Version: gosnmp.Version1, Timeout: time.Second, Transport: "udp"}
	if err := g.Connect(); err != nil {
		return err
	}
	defer func() { _ = g.Conn.Close() }()
	const enterpriseSpecific = 6
	_, err := g.SendTrap(gosnmp.SnmpTrap{
		Enterprise: ipmi.TrapOID, AgentAddress: host, GenericTrap: enterpriseSpecific, SpecificTrap: int(t.Specific()),
		Variables: []gosnmp.SnmpPDU{{Name: ipmi.TrapOID + ".1", Type: gosnmp.OctetString, Value: t.Append(nil)}},
	})
	return err
}

// live has all controllers do what they do by themselves.
func (l *Lab) liveControllers(ctx context.Context) error {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case now := <-tick.C:
			for _, b := range l.boxes {
				if b.chassis != nil && l.standby(b, now) {
					b.chassis.ctl.Tick(now)
				}
			}
		}
	}
}

// standby says whether a controller has power and has started.
func (l *Lab) standby(b *box, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.awake(b, now)
}

// awake is standby with the lock held.
func (w *World) awake(b *box, now time.Time) bool {
	return !b.powered.IsZero() && now.Sub(b.powered) >= w.scaled(controllerBoot)
}
