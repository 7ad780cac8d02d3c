// Package machine is what a made-up computer shows and does from power to log-in, as its
// serial line has it: firmware, a set-up menu, a boot menu, a loader, a kernel. It has no
// clock and no line of its own; the lab lends it both.
//
//	machine.go  the stages, and the texts between them
//	keys.go     which key was pressed
//	menu.go     the set-up menu and the boot menu, drawn with the cursor (ECMA-48)
package machine

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// What a machine can be started from, or into.
const (
	Disk    = "disk"
	Network = "network"
	Disc    = "disc"
	Setup   = "setup"
)

var sources = map[string]string{Disk: "Disk 1", Network: "Network", Disc: "Disc drive"}

type stage int

const (
	off stage = iota
	selfTest
	inSetup
	inMenu
	loading // the loader counts down
	stopped // somebody has stopped it
	starting
	stuck // there is no system
	running
	crashed
)

// A Machine is not shared between goroutines.
type Machine struct {
	Name  string
	Order []string // what it is started from; what somebody saves in set-up stays

	at     stage
	told   int    // lines of the script
	once   string // instead of the order, for this start
	row    int    // of a menu
	draft  []string
	dirty  bool
	keys   keys
	typed  string // at the loader
	anew   bool
	chosen string
}

// New returns a machine that is off.
func New(name string) *Machine { return &Machine{Name: name, Order: []string{Disk, Network, Disc}} }

// Begin is power. once is what this start is set to from outside, or nothing.
func (m *Machine) Begin(once string) string {
	*m = Machine{Name: m.Name, Order: m.Order, at: selfTest, once: once}
	return clearAll
}

// End is no power.
func (m *Machine) End() { *m = Machine{Name: m.Name, Order: m.Order} }

// Held says whether the start waits for somebody at the keyboard.
func (m *Machine) Held() bool {
	return m.at == inSetup || m.at == inMenu || m.at == stopped || m.at == stuck
}

// Running says whether the system has what is typed.
func (m *Machine) Running() bool { return m.at == running }

// Anew says, once, that the machine starts itself anew.
func (m *Machine) Anew() bool {
	was := m.anew
	m.anew = false
	return was
}

// Up is the system that is there; the machine says nothing from then on.
func (m *Machine) Up() { m.at = running }

// Crash is the end of the kernel, as it tells it.
func (m *Machine) Crash() string {
	if m.at == off || m.at == crashed {
		return ""
	}
	m.at = crashed
	return panicText
}

// When the lines of the script are told, in parts of a start.
var script = []struct {
	part float64
	text string
}{
	{0, "Firmware of %s, 2.37\n"},
	{0.04, "Processor and memory: tested, no fault\n"},
	{0.07, "Controllers: disk, network, disc drive\n\n"},
	{0.08, "Delete or F2 enters set-up, F12 the boot menu\n"},
	{windowEnds, ""},
	{loaderEnds, ""},
	{0.52, "[    0.000000] Kernel of %s, on disk 1\n"},
	{0.56, "[    0.004102] Memory: 15936 MB free of 16384 MB\n"},
	{0.62, "[    0.718423] disk 1: 4 partitions\n"},
	{0.68, "[    1.204771] file system on disk 1 part 2: clean, mounted\n"},
	{0.76, "[    2.916230] network: link is up, 1000 Mbit/s\n"},
	{0.84, "[    5.402518] services: starting\n"},
	{0.92, "[    9.870034] services: started\n"},
}

const (
	windowEnds = 0.35 // until then a key leads into the menus
	loaderEnds = 0.5
)

// Tick is time. part is how much of a start is over, without what it was held for.
func (m *Machine) Tick(now time.Time, part float64) (text string) {
	if key := m.keys.late(now); key != "" {
		text = m.pressed(key)
	}
	for (m.at == selfTest || m.at == loading || m.at == starting) && m.told < len(script) && part >= script[m.told].part {
		line := script[m.told]
		m.told++
		switch {
		case line.part == windowEnds:
			text += m.leaveFirmware()
		case line.part == loaderEnds:
			m.at = starting
			text += "\n"
		case strings.Contains(line.text, "%s"):
			text += fmt.Sprintf(line.text, m.Name)
		default:
			text += line.text
		}
	}
	return text
}

// leaveFirmware goes where this start is to lead.
func (m *Machine) leaveFirmware() string {
	if m.chosen != "" {
		return m.open(m.chosen)
	}
	order := m.Order
	switch m.once {
	case Setup:
		return m.open(Setup)
	case "":
	default:
		order = append([]string{m.once}, m.Order...)
	}
	return m.start(order)
}

// start tries what the machine may be started from.
func (m *Machine) start(order []string) (text string) {
	for _, from := range order {
		switch from {
		case Disk:
			m.at = loading
			return text + "Disk 1: a loader. Any key stops it.\n"
		case Network:
			text += "Network: no server answers.\n"
		case Disc:
			text += "Disc drive: empty.\n"
		}
	}
	m.at = stuck
	return text + "No system was found. Press a key to start anew.\n"
}

// Key takes one byte that was typed, and returns what that draws.
func (m *Machine) Key(b byte, now time.Time) (text string) {
	for _, key := range m.keys.add(b, now) {
		text += m.pressed(key)
	}
	return text
}

func (m *Machine) pressed(key string) string {
	switch m.at {
	case selfTest:
		switch key {
		case "delete", "f2":
			m.chosen = Setup
			return "Set-up is entered.\n"
		case "f12":
			m.chosen = "menu"
			return "The boot menu is entered.\n"
		}
	case inSetup:
		return m.setUp(key)
	case inMenu:
		return m.choose(key)
	case loading:
		m.at, m.typed = stopped, ""
		return "Stopped. boot goes on, reset starts anew.\nloader> "
	case stopped:
		return m.loader(key)
	case stuck:
		m.anew = true
	}
	return ""
}

// loader takes what is typed at a loader that was stopped.
func (m *Machine) loader(key string) string {
	switch {
	case key == "enter":
		line := strings.TrimSpace(m.typed)
		m.typed = ""
		switch line {
		case "boot":
			m.at = loading
			return "\n"
		case "reset":
			m.anew = true
			return "\n"
		case "":
			return "\nloader> "
		}
		return "\n" + line + ": not known here: boot, reset\nloader> "
	case key == "delete" || key == "backspace":
		if m.typed == "" {
			return ""
		}
		m.typed = m.typed[:len(m.typed)-1]
		return "\b \b"
	case len(key) == 1 && len(m.typed) < 64:
		m.typed += key
		return key
	}
	return ""
}

// first moves what is chosen to the beginning of an order.
func first(order []string, from string) []string {
	return append([]string{from}, slices.DeleteFunc(slices.Clone(order), func(x string) bool { return x == from })...)
}

const panicText = `
[ 8123.440917] BUG: unable to handle page fault for address: 00000000000000f8
[ 8123.440931] CPU: 1 PID: 2207 Comm: recorder Not tainted
[ 8123.440940] Call Trace:
[ 8123.440948]  frame_write+0x5c/0x1b0
[ 8123.440955]  ring_drain+0x81/0x240
[ 8123.440979] Kernel panic - not syncing: Fatal exception in interrupt
[ 8123.441002] ---[ end Kernel panic - not syncing: Fatal exception in interrupt ]---
`
