// Package bmc is a stand-in for a server's management controller: it speaks
// IPMI 2.0 over RMCP+ as the standard has it, accepts only what the standard
// allows, and answers with the standard's errors.
//
//	bmc.go       the controller, its faults, and the box it looks after
//	session.go   its four session slots, and who may do what
//	command.go   what it answers to which command
//	store.go     SDR repository, event log and inventory
//	settings.go  network, users, alerts, watchdog, boot, name, power limit
//	sensors.go   what it measures
//	sol.go       the serial port of the host
//	life.go      what it does by itself: events, alerts, the watchdog
//
// It keeps no time of its own: everything is told the time.
package bmc

import (
	"math/rand/v2"
	"net/netip"
	"sync"
	"time"

	"plumbbob/internal/wire/ipmi"
	"plumbbob/internal/wire/ipmi/rmcp"
)

// State is how a box is at one moment.
type State struct {
	On      bool
	Asleep  bool          // S3
	Since   time.Duration // since it was switched on
	Watts   float64
	Load    float64 // 0 to 1
	Ambient float64 // °C
	Feeds   []bool  // which power supplies have input
	Supply  []bool  // which power supplies work
	Fans    []bool  // which fans turn
	Open    bool    // its lid
	Crashed bool
}

// Box is the machine that a controller looks after.
type Box interface {
	State(now time.Time) State
	Control(do ipmi.ChassisControl, now time.Time)
	SetRestore(ipmi.RestorePolicy)
	Restore() ipmi.RestorePolicy
}

// Model is what a controller is like.
type Model struct {
	Name     string // of the host
	Firmware ipmi.DeviceID
	FRU      *ipmi.FRU
	Rich     bool // it has a sensor of every kind there is
	Small    bool // one power supply, two fans
	Legacy   bool // it speaks IPMI 1.5 only
	Suites   []rmcp.Suite
	User     string
	Password string
	Key      string // "Kg"; a console that logs in has to know it as well
	Address  netip.Addr
	Empty    bool   // it has a user without a name, and with no password
	Extra    string // a user whose password is its own name
	Restore  ipmi.RestorePolicy
}

// Faults are what is wrong with a controller itself.
type Faults struct {
	Garbage   bool          // it answers nonsense
	Slow      time.Duration // it takes this long
	Full      bool          // all its session slots are taken by others
	Clock     time.Duration // its clock is ahead by this
	Obedient  bool          // it says "done" and does nothing
	Updating  bool          // its firmware is being updated: it leaves the chassis alone
	Forgetful bool          // it drops its sessions now
	Mute      bool          // it answers nothing
	Once      bool          // a message of the handshake that it has answered is refused when it comes again
	HideKey   bool          // it does not tell that it has a key of its own
	SOLPort   uint16        // it says that its serial line is to be had at this port
	SOLTakes  int           // it takes no more characters than these at a time; 0: all
}

// Limits that controllers have.
const (
	Slots       = 4
	maxRead     = 20 // bytes of a record or an inventory at a time
	maxEntries  = 512
	sessionIdle = 60 * time.Second
)

// Controller is one simulated controller. It is safe for concurrent use.
type Controller struct {
	mu      sync.Mutex
	m       Model
	box     Box
	rng     *rand.Rand
	guid    [16]byte
	Faults  Faults
	slots   []*slot
	pending map[uint32]*pending
	old     map[uint32]*oldSession
	opened  map[openKey]uint32 // which Open Session made which session, while it is not open yet

	// What became of sessions.
	Opened, Closed, TimedOut int

	port   Port // of the host; nil: no line
	sol    *sol // nil while nobody has the line
	Breaks int  // that were sent to the host

	records     [][]byte
	sensors     []sensor
	sdrChanged  uint32
	reservation uint16
	sdrReserved uint16
	selReserved uint16
	log         eventLog
	fru         []byte

	lan      map[uint8][]byte
	dest     map[uint8]*destination
	pefTable pef
	users    []user
	boot     map[uint8][]byte
	watchdog watchdog
	limit    ipmi.PowerLimit
	name     []byte
	identify time.Time

	was    map[uint8]uint16 // states of sensors when last looked at
	alerts func(to netip.Addr, community string, t ipmi.Trap)
	trapNo uint16
}

// New returns a controller that looks after a box.
func New(m Model, box Box, seed uint64, now time.Time) *Controller {
	c := &Controller{m: m, box: box, rng: rand.New(rand.NewPCG(seed, 623)), pending: map[uint32]*pending{}, old: map[uint32]*oldSession{}, opened: map[openKey]uint32{}, was: map[uint8]uint16{}}
	for i := range c.guid {
		c.guid[i] = byte(c.rng.Uint32())
	}
	if len(c.m.Suites) == 0 {
		c.m.Suites = []rmcp.Suite{rmcp.Suite3, rmcp.Suite17}
	}
	c.sdrChanged = uint32(now.Add(-300 * 24 * time.Hour).Unix())
	c.sensors = sensorsOf(m)
	c.records = recordsOf(c.sensors, m)
	c.fru = m.FRU.Append(nil)
	c.fru = append(c.fru, make([]byte, 512-len(c.fru)%512)...)
	c.settings()
	c.startLog(now)
	c.box.SetRestore(m.Restore)
	return c
}

// OnAlert has platform event traps handed to send.
func (c *Controller) OnAlert(send func(to netip.Addr, community string, t ipmi.Trap)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.alerts = send
}

// Set changes the faults of the controller.
func (c *Controller) Set(f func(*Faults)) {
	c.mu.Lock()
	defer c.mu.Unlock()
	f(&c.Faults)
	if c.Faults.Forgetful {
		c.slots, c.pending, c.old = nil, map[uint32]*pending{}, map[uint32]*oldSession{}
		c.endSOL(false)
		c.Faults.Forgetful = false
	}
}

// Sessions is how many slots are taken.
func (c *Controller) Sessions() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.slots) + len(c.old)
}

// Counts is what became of sessions so far.
func (c *Controller) Counts() (opened, closed, timedOut, taken int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.expire(time.Now())
	return c.Opened, c.Closed, c.TimedOut, len(c.slots) + len(c.old)
}

// PowerLost forgets what does not survive without standby power.
func (c *Controller) PowerLost() {
	c.Set(func(f *Faults) { f.Forgetful = true })
	c.mu.Lock()
	defer c.mu.Unlock()
	c.watchdog = watchdog{}
	clear(c.was)
}

// Handle answers one packet, or nothing. The reply may be sent after delay.
func (c *Controller) Handle(packet []byte, now time.Time) (reply []byte, delay time.Duration) {
	return c.handle(packet, now, nil)
}

// handle is Handle, for a console that can be sent more than the reply.
func (c *Controller) handle(packet []byte, now time.Time, send func([]byte)) (reply []byte, delay time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	class, _, err := rmcp.ClassOf(packet)
	if err != nil || c.Faults.Mute {
		return nil, 0
	}
	if class == rmcp.ASF {
		if tag, err := rmcp.ParsePing(packet); err == nil {
			reply = rmcp.AppendPong(nil, rmcp.Pong{Tag: tag, OEM: 32473, IPMI: true})
		}
	} else {
		reply = c.ipmi(packet, now, send)
	}
	if c.Faults.Garbage && reply != nil {
		for i := 4; i < len(reply); i++ {
			reply[i] = byte(c.rng.Uint32())
		}
	}
	return reply, c.Faults.Slow
}

// clock is the time as the controller has it.
func (c *Controller) clock(now time.Time) time.Time { return now.Add(c.Faults.Clock) }
